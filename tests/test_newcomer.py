"""A newcomer's three tasks, each in one new file: the rooms find it, and everything that lists choices lists it too.

The files are put beside the package's own by its search path, in a process of its own, so that nothing else sees them.
"""

import subprocess
import sys

import pytest

STATISTIC = '''
"""Difference of medians between two classes, over the interquartile range."""

import numpy as np

from chaff.methods.relevance.statistic import NC, Family, FilterStatistic


def median_gap(view, features, wanted):
    out = []
    for name in features:
        present, x = view.rest(view.table.column(name).values)
        y = view.classes if present is None else view.classes[present]
        low, high = np.percentile(x, [25, 75])
        out.append((np.median(x[y == 1]) - np.median(x[y == 0])) / (high - low))
    return {"rows": np.full(len(out), 7), "median_gap": np.array(out)}


STATISTICS = (
    FilterStatistic("median_gap", "gap of medians", (NC,), "magnitude", "Tukey, 1977", "in interquartile ranges.", two_classes=True, tests=False),
)
FAMILIES = (Family(median_gap, (NC,), ("median_gap",)),)
'''
STRATEGY = '''
"""Sets at random, as a yardstick for the others."""

from dataclasses import dataclass
from typing import ClassVar

from chaff.methods.search.strategy import as_move, check_least_one


@dataclass(frozen=True)
class AtRandom:
    """Add features in a random order."""

    size: int = 5
    name: ClassVar[str] = "at random"

    def __post_init__(self):
        check_least_one(size=self.size)

    def moves(self, scorer, pinned, work):
        left = [f for f in scorer.features if f not in pinned]
        walk = scorer.walk(pinned)
        for k in work.stream("at random").permutation(len(left))[: self.size]:
            walk.toggle(left[k])
            yield as_move("add", left[k], walk.score, "forward")

    def notes(self, scorer):
        return ("the order is drawn, not searched",)
'''
MODEL = '''
"""The mean of the rows on each side of every feature's median."""

from dataclasses import dataclass
from typing import ClassVar

import numpy as np


@dataclass(frozen=True)
class Halves:
    """Predicts by halves."""

    shrink: float = 1.0
    label: ClassVar[str] = "halves"
    learns: ClassVar[str] = "design"
    reads: ClassVar[str] = "design"
    gives: ClassVar[frozenset] = frozenset({"values"})

    def fit(self, train, work):
        X = np.nan_to_num(train.data.X)
        cut = np.median(X, axis=0)
        y = train.targets[:, 0] - train.targets[:, 0].mean()
        above = np.array([y[X[:, j] > cut[j]].mean() if (X[:, j] > cut[j]).any() else 0.0 for j in range(X.shape[1])])
        return Fit(cut, self.shrink * above / max(len(cut), 1), train.targets[:, 0].mean())


@dataclass(frozen=True)
class Fit:
    cut: np.ndarray
    above: np.ndarray
    mean: float

    def predict(self, rows):
        X = np.nan_to_num(rows.data.X)
        return (self.mean + np.where(X > self.cut, self.above, -self.above).sum(axis=1))[:, None]
'''
RUN = """
import sys
import chaff.methods.relevance.families as families, chaff.methods.search.strategies as strategies, chaff.models as models
for room, folder in zip((families, strategies, models), sys.argv[1:]):
    room.__path__.append(folder)
import chaff
"""


@pytest.fixture(scope="module")
def rooms(tmp_path_factory):
    folders = []
    for name, text in (("median_gap", STATISTIC), ("at_random", STRATEGY), ("halves", MODEL)):
        folder = tmp_path_factory.mktemp(name)
        (folder / f"{name}.py").write_text(text)
        folders.append(folder)
    return folders


def said(rooms, code):
    done = subprocess.run([sys.executable, "-c", RUN + code, *map(str, rooms)], capture_output=True, text=True, timeout=240)
    assert done.returncode == 0, done.stderr
    return done.stdout


@pytest.mark.long
def test_a_statistic_is_one_file(rooms):
    out = said(
        rooms,
        """
import numpy as np
table = chaff.demo.table(rows=300, target="accepted")
found = chaff.relevance(table, ["f", "median_gap"], by="median_gap")
column = "protein_pct"
frame = chaff.demo.lots(rows=300)
x, y = frame[column], table.y
want = x[y == 1].median() - x[y == 0].median()
assert np.isclose(abs(found.frame.loc[column, "median_gap"]), abs(want) / (x.quantile(0.75) - x.quantile(0.25)))
assert "median_gap" in chaff.relevance(table, "fitting").frame and found.better["median_gap"] == "magnitude"
from chaff.methods.relevance.catalogue import page_rows
print([row for row in page_rows() if "median_gap" in row])
""",
    )
    assert "gap of medians" in out and "Tukey, 1977" in out


@pytest.mark.long
def test_a_strategy_is_one_file(rooms):
    out = said(
        rooms,
        """
from chaff.decide.plan import plan_from
stage = {"use": "search", "strategy": {"name": "at random", "size": 3}}
plan = plan_from({"table": {"target": "loaf_volume", "ignore": ["accepted", "grade"]}, "stage": [{"use": "screen"}, stage]})
assert plan.stages[1].strategy == chaff.AtRandom(3)
run = chaff.select(chaff.demo.table(rows=300), plan=plan)
sizes = run.result("search").decided.sizes
assert sizes[:4] == (0, 1, 2, 3) and len(sizes) == 5, sizes  # and the full set, which is always on the curve
print(run.stages[-1].result.notes, plan.to_toml())
""",
    )
    assert "the order is drawn" in out and 'name = "at random"' in out


@pytest.mark.long
def test_a_model_is_one_file(rooms):
    out = said(
        rooms,
        """
table = chaff.demo.table(rows=300)
score = chaff.SubsetScorer(table, chaff.Halves(shrink=0.5))(["protein_pct", "ash_pct"])
assert score.mean > 0.05, score
found = chaff.search(table.with_features(["protein_pct", "ash_pct", "lab_temp_c"]), {"name": "halves", "shrink": 0.5}, "forward")
print(len(found.choose("best").features), chaff.Search(model="halves").model)
""",
    )
    assert "Halves(shrink=1.0)" in out


@pytest.mark.long
def test_a_file_that_declares_nothing_is_passed_over(tmp_path, rooms):
    (tmp_path / "notes.py").write_text('"""Nothing here yet."""\n')
    said([tmp_path, tmp_path, tmp_path], 'chaff.relevance(chaff.demo.table(rows=100)); chaff.Search(model="ridge")')


@pytest.mark.long
def test_a_statistic_whose_file_comes_first_leaves_the_rows_of_all_alone(tmp_path):
    (tmp_path / "aaa_gap.py").write_text(STATISTIC)
    said(
        [tmp_path, tmp_path, tmp_path],
        """
from chaff.methods.relevance.catalogue import FAMILIES
assert FAMILIES[0].statistics == ("median_gap",), FAMILIES[0]
table = chaff.demo.table(rows=300, target="accepted")
rows = chaff.relevance(table, ["f", "median_gap"]).frame["rows"]
frame = chaff.demo.lots(rows=300)
numbers = [f for f in table.features if table.kind(f) == "number"]
assert (rows[numbers] == frame[numbers].notna().sum()).all() and rows.max() == 300, rows
""",
    )
