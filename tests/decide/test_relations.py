"""Relations that a selection stores, and rechecks without the old rows."""

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.decide.relations import changed_relations, relations_of


def rows(seed, n, factor=1.0, classes=False, mills=0):
    """Three columns that tell and a category; the second column's part is multiplied by `factor`."""
    rng = np.random.default_rng(seed)
    x = rng.normal(size=(n, 4))
    frame = pd.DataFrame(x, columns=list("abcd"))
    frame["w"] = rng.choice(["u", "v"], n)
    y = x[:, 0] + factor * x[:, 1] + 0.7 * x[:, 2] + 0.8 * (frame["w"] == "u") + 1.2 * rng.normal(size=n)
    if mills:
        g = np.arange(n) // (n // mills)
        shift = rng.normal(size=(g.max() + 1, 5))
        frame[list("abcd")] += shift[g, :4]
        y = frame["a"] + factor * frame["b"] + 0.7 * frame["c"] + shift[g, 4] + 1.2 * rng.normal(size=n)
        frame["mill"] = [f"{seed}-{k}" for k in g]
    frame["y"] = np.where(y > 0.4, "p", "n") if classes else y
    return frame


@pytest.fixture(scope="module", params=[False, True], ids=["number", "classes"])
def made(request):
    table = chaff.open_table(rows(0, 600, classes=request.param), target="y")
    model = "logistic" if request.param else "ridge"
    run = chaff.select(table, chaff.Plan((chaff.Search(model),)), holdout=0, state=False)
    return request.param, run.selection


@pytest.mark.parametrize(("factor", "found"), [(1.0, False), (-1.0, True), (0.0, True)])
@pytest.mark.long
def test_a_relation_turned_round_or_destroyed_is_seen_without_the_old_rows(made, factor, found, tmp_path):
    classes, selection = made
    selection.save(tmp_path / "s.json")
    again = chaff.read_selection(tmp_path / "s.json")
    told = [chaff.recheck(again, rows(seed, 300, factor, classes)) for seed in range(1, 6)]
    assert sum(any("the relation of b " in r for r in t.reasons) for t in told) >= (5 if found else 0)
    assert [t.verdict for t in told].count("stay") >= (0 if found else 5)


def test_means_and_errors_of_bins_are_those_of_the_rows():
    table = chaff.open_table(rows(3, 500), target="y")
    part = relations_of(table, ["a", "w"])["w"]
    ranks = table.y.argsort().argsort() + 1.0
    for level, mean, error in zip(part.levels, part.means, part.errors, strict=False):
        inside = np.array(table.column("w").levels)[table.column("w").values.astype(int)] == level
        assert mean[0] == pytest.approx((ranks[inside].mean() - ranks.mean()) / 501)
        rest = inside.mean()  # the difference to the mean of all is 1 - share times the difference of the two parts
        plain = (1 - rest) * np.hypot(ranks[inside].std() / np.sqrt(inside.sum()), ranks[~inside].std() / np.sqrt((~inside).sum())) / 501
        assert error[0] == pytest.approx(plain, rel=0.03)


def test_new_rows_without_change_raise_no_more_alarms_than_the_level_says():
    then = relations_of(chaff.open_table(rows(0, 600), target="y"), ["a", "b", "c", "w"])
    alarms = sum(bool(changed_relations(then, (), chaff.open_table(rows(s, 300), target="y"), 0.05)) for s in range(1, 101))
    assert alarms <= 12  # 0.05 of 100, and what the one old table happens to be off by


def test_a_missing_class_or_level_or_kind_is_no_mistake():
    then = relations_of(chaff.open_table(rows(0, 300, classes=True), target="y"), ["a", "w"])
    new = rows(1, 200, classes=True)
    new["w"] = "z"
    assert isinstance(changed_relations(then, ("n", "p"), chaff.open_table(new, target="y"), 0.01), dict)
    new["w"] = np.arange(200.0)
    assert "w" not in changed_relations(then, ("n", "p"), chaff.open_table(new, target="y"), 0.01)


@pytest.mark.long
def test_a_forest_does_not_know_the_mills_again():
    old, new = rows(0, 600, mills=40), rows(7, 300, mills=20)
    run = chaff.select(chaff.open_table(old, target="y", groups="mill"), chaff.Plan((chaff.Search("ridge"),)), holdout=0, state=False)
    found = chaff.recheck(run.selection, new, old=old)
    assert not any("a forest distinguishes old rows from new" in r for r in found.reasons)
