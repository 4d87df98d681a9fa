"""0/1 columns that are one category count as one wherever overlap is looked at, unless they are named or pinned."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import chaff
from tests.commands import run

RNG = np.random.default_rng(5)
N = 400


@pytest.fixture(scope="module")
def wide():
    kind = RNG.integers(0, 12, N)
    frame = pd.DataFrame({f"miller_{k:02d}": (kind == k).astype(int) for k in range(12)})
    frame["ash"] = RNG.normal(size=N) + 0.2 * kind
    frame["flour"] = frame["ash"] + 0.6 * RNG.normal(size=N)
    frame["y"] = frame["ash"] + RNG.normal(size=N)
    return frame, kind


def test_vif_is_that_of_the_category_itself(wide):
    frame, kind = wide
    found = chaff.inflation(chaff.open_table(frame, "y"))
    as_words = frame[["ash", "flour", "y"]].assign(miller=[f"m{k:02d}" for k in kind])
    told = chaff.inflation(chaff.open_table(as_words, "y"))
    joined = chaff.inflation(chaff.open_table(frame, "y", together={"miller": ["miller_*"]}))
    assert set(found.frame.index) == {"miller", "ash", "flour"} and found.frame.loc["miller", "df"] == 11
    for other in (told, joined):
        np.testing.assert_allclose(found.frame["vif"], other.frame.loc[found.frame.index, "vif"], rtol=1e-9)
    assert "12 columns of 0 and 1" in found.notes[-1] and "miller=miller_*" in found.notes[-1]


def test_equations_and_tables_are_not_drowned(wide):
    frame, _ = wide
    assert len(chaff.dependencies(chaff.open_table(frame, "y")).more["equations"]) == 0
    found = chaff.overlaps(chaff.open_table(frame, "y"), clusters=True)
    assert set(found.inflation.frame.index) == {"miller", "ash", "flour"} and len(found.elimination.more["trail"]) == 0
    assert found.clusters is not None and "miller" in found.clusters.frame.index
    assert "miller" in chaff.prune_inflation(chaff.open_table(frame, "y")).frame.index


def test_what_is_named_or_pinned_stays_as_it_is(wide):
    frame, _ = wide
    table = chaff.open_table(frame, "y")
    members = [f for f in table.features if f.startswith("miller")]
    assert np.isinf(chaff.inflation(table, features=members).frame["vif"]).all()
    assert np.isinf(chaff.inflation(chaff.open_table(frame, "y", features=["miller_*"])).frame["vif"]).all()
    pinned = chaff.prune_inflation(table, pins=[chaff.pin_keep("miller_03", because="ours")])
    assert "miller_03" in pinned.frame.index and "miller" not in pinned.frame.index  # eleven of twelve do not add up to one
    assert chaff.inflation(table).frame.equals(chaff.inflation(table.take(np.arange(N))).frame)


def test_the_command_line_says_so(wide, tmp_path):
    wide[0].to_csv(tmp_path / "w.csv", index=False)
    out = run("overlap", "w.csv", "--target", "y", cwd=tmp_path)
    assert "miller: 12 columns of 0 and 1" in out and "--together 'miller=miller_*'" in out and "miller_07" not in out
