"""Names may hold anything, and the order of the columns decides nothing."""

import numpy as np
import pandas as pd
import pytest

import chaff


@pytest.fixture(scope="module")
def sieves():
    rng = np.random.default_rng(8)
    frame = pd.DataFrame(rng.uniform(10, 30, (300, 2)), columns=["sieve mid", "ratio = a"])
    frame["+ 3 rest - x"] = 100 - frame["sieve mid"] - 2 * frame["ratio = a"]
    frame["moisture"] = rng.normal(size=300)
    frame["y"] = frame["sieve mid"] + frame["moisture"] + rng.normal(size=300)
    return chaff.open_table(frame, target="y")


def test_equations_find_their_members_whatever_they_are_called(sieves):
    found = chaff.dependencies(sieves)
    assert len(found.more["equations"]) == 1
    assert set(found.more["equations"].loc[0, "members"]) == {"sieve mid", "ratio = a", "+ 3 rest - x"}
    said = found.frame["equation"]
    assert (said[["sieve mid", "ratio = a", "+ 3 rest - x"]] != "").all() and said["moisture"] == ""


def test_a_summary_takes_a_feature_with_an_equals_sign(sieves):
    frame = chaff.linear_summary(sieves, ["ratio = a", "moisture"]).frame
    assert list(frame.index) == ["(intercept)", "ratio = a", "moisture"]
    assert "ratio = a" in frame.loc["ratio = a", "in_words"]


def test_vif_is_better_lower_and_shown_highest_first(sieves):
    for found in (chaff.inflation(sieves), chaff.prune_inflation(sieves)):
        column = "vif" if "vif" in found.better else "vif_left"
        assert found.better[column] == "lower"
    found = chaff.inflation(sieves)
    assert found.shown()["vif"].fillna(-1).is_monotonic_decreasing
    assert found.ranked("vif")["vif"].dropna().is_monotonic_increasing  # best first
    corr = chaff.correlations(sieves)
    assert corr.shown()["strongest_r"].abs().is_monotonic_decreasing


@pytest.mark.parametrize("order", ["reversed", "shuffled"])
@pytest.mark.long
def test_the_order_of_the_columns_decides_nothing(order):
    frame = chaff.demo.lots(rows=300)
    names = [c for c in frame.columns if c != "loaf_volume"]
    other = names[::-1] if order == "reversed" else list(np.random.default_rng(2).permutation(names))
    roles = {"target": "loaf_volume", "ignore": ["accepted", "grade"], "groups": "mill"}
    a, b = (chaff.open_table(frame[[*n, "loaf_volume"]], **roles) for n in (names, other))
    numbers = [f for f in a.features if a.kind(f) in ("number", "binary") and not a.column(f).missing.all()]
    for call in (
        lambda t: chaff.screen(t),
        lambda t: chaff.prune_correlations(t, 0.9, features=numbers),
        lambda t: chaff.prune_inflation(t, features=numbers),
        lambda t: chaff.clusters(t, features=numbers),
    ):
        one, two = call(a).frame["verdict"], call(b).frame["verdict"]
        assert one.to_dict() == two[one.index].to_dict()


def test_a_forward_search_on_equal_columns_takes_the_first_by_name():
    rng = np.random.default_rng(4)
    x = rng.normal(size=200)
    frame = pd.DataFrame({"b": x, "a": x, "c": x, "y": x + rng.normal(size=200)})
    for names in (["b", "a", "c"], ["c", "b", "a"], ["a", "c", "b"]):
        found = chaff.search(chaff.open_table(frame[[*names, "y"]], target="y"), strategy="forward")
        assert found.frame["feature"].iloc[0] == "a"


def test_associations_of_many_columns_hold_what_they_held():
    rng = np.random.default_rng(9)
    frame = pd.DataFrame(rng.normal(size=(50, 60)), columns=[f"assay_{k}" for k in range(60)])
    frame["assay_60"] = frame["assay_3"] * -2 + 0.01 * rng.normal(size=50)
    frame["y"] = rng.normal(size=50)
    found = chaff.associations(chaff.open_table(frame, target="y"), limit=0.9)
    pair = found.more["pairs"].iloc[0]
    assert {pair["first"], pair["second"]} == {"assay_3", "assay_60"}
    assert (found.more["pairs"]["first"] < found.more["pairs"]["second"]).all() or len(found.more["pairs"]) == 1
