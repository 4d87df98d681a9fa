"""Which features are in all good sets: against enumeration, by hand, and on what a search met."""

from itertools import combinations

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.methods.search.alternatives import irreducible, losses_of_all
from tests.methods.search.test_strategies import table


def good_by_hand(scorer, pinned=frozenset(), within=0.02):
    """Every set by itself, those within the allowance, and of these those that can spare no single feature."""
    free = [f for f in scorer.features if f not in pinned]
    sets = [pinned | frozenset(some) for k in range(len(free) + 1) for some in combinations(free, k)]
    score = {s: scorer(s).mean for s in sets}
    sign = 1 if scorer.metric.higher_is_better else -1
    best, nothing = max(sign * v for v in score.values()), sign * scorer(()).mean
    limit = best - within * (best - nothing)
    good = {s for s, v in score.items() if sign * v >= limit - 1e-9}
    return {s for s in good if s and not any(s - {f} in good for f in s - pinned)}, sign * limit


@pytest.mark.parametrize("metric", ["r2", "rmse"])
@pytest.mark.parametrize("seed", range(3))
@pytest.mark.long
def test_they_are_those_of_enumeration_at_twelve_columns(seed, metric):
    t = table(seed, p=12, n=90)
    trail = chaff.search(t, chaff.Ridge(0.05), "forward", metric=metric, folds=4, honest=False)
    found = trail.alternatives(within=0.05)
    scorer = chaff.SubsetScorer(t, chaff.Ridge(0.05), metric, folds=trail.scorer.folds)
    want, limit = good_by_hand(scorer, within=0.05)
    assert {frozenset(s) for s in found.sets["features"]} == want and found.every and found.looked_at == 2**12
    assert found.limit == pytest.approx(limit, rel=1e-5)
    for f in t.features:
        share = np.mean([f in s for s in want])
        assert found.frame.loc[f, "share"] == pytest.approx(share)
        assert found.role(f) == ("in all" if share == 1 else "in none" if share == 0 else "interchangeable")
    assert len(found.smallest) == min(map(len, want))
    for _, row in found.sets.iterrows():
        assert row["score"] == pytest.approx(scorer(row["features"]).mean)


def test_pins_are_in_every_good_set():
    t = table(1, p=8)
    pins = [chaff.pin_keep("c3", because="asked for")]
    trail = chaff.search(t, "ridge", "forward", pins=pins, honest=False)
    found = trail.alternatives(0.1)
    want, _ = good_by_hand(chaff.SubsetScorer(t, chaff.Ridge(), folds=trail.scorer.folds), frozenset({"c3"}), 0.1)
    assert {frozenset(s) for s in found.sets["features"]} == want and found.role("c3") == "in all"


def test_a_copy_is_interchangeable_with_its_original_and_noise_is_in_none():
    rng = np.random.default_rng(0)
    n = 400
    frame = pd.DataFrame(rng.normal(size=(n, 6)), columns=["needed", "one", "noise_a", "noise_b", "noise_c", "noise_d"])
    frame["two"] = frame["one"] + 0.02 * rng.normal(size=n)
    frame["y"] = 2 * frame["needed"] + frame["one"] + rng.normal(size=n)
    t = chaff.open_table(frame, "y", costs={"one": 5.0, "two": 1.0, "needed": 2.0})
    found = chaff.search(t, "ridge", "forward", honest=False).alternatives(now=["one", "noise_a"])
    assert found.role("needed") == "in all"
    assert (found.role("one"), found.frame.loc["one", "instead"]) == ("interchangeable", "two")
    assert found.frame.loc["two", "instead"] == "one" and all(found.role(f"noise_{k}") == "in none" for k in "abcd")
    assert set(found.cheapest) == {"needed", "two"} and set(found.nearest) == {"needed", "one"}
    assert (found.comes, found.goes) == (("needed",), ("noise_a",))
    assert "2 sets are within" in str(found) and found.as_plain()["every_set"] is True
    with pytest.raises(chaff.UnknownColumn, match="Did you mean 'one'"):
        chaff.search(t, "ridge", "forward", honest=False).alternatives(now=["onee"])
    with pytest.raises(chaff.UnknownColumn):
        found.role("nobody")
    with pytest.raises(chaff.UsageError, match="within must be"):
        chaff.search(t, "ridge", "forward", honest=False).alternatives(within=1.5)


def test_of_other_models_those_that_the_search_met():
    t = table(0, p=6, n=90)
    trail = chaff.search(t, chaff.Tree(depth=3), "exhaustive", honest=False)
    found = trail.alternatives(within=0.1)
    want, _ = good_by_hand(trail.scorer.free(), within=0.1)
    small = {s for s in want if not any(o < s for o in want)}
    assert not found.every and {frozenset(s) for s in found.sets["features"]} == small
    assert "sets that the search visited" in found.notes[0]


def test_of_many_columns_what_was_met_is_pared_down():
    rng = np.random.default_rng(2)
    X = rng.normal(size=(300, 30))
    t = chaff.open_arrays(X, X[:, :3].sum(1) + rng.normal(size=300), names=[f"c{k:02d}" for k in range(30)])
    trail = chaff.search(t, "ridge", chaff.RandomSets(60), honest=False)
    found = trail.alternatives(within=0.3)
    assert not found.every and "single swaps" in found.notes[0]
    for _, row in found.sets.iterrows():
        held = frozenset(row["features"])
        assert row["score"] >= found.limit - 1e-9
        for f in held:
            assert trail.scorer.free()(held - {f}).mean < found.limit + 1e-9


def test_what_all_sets_lose_is_in_the_metrics_own_form():
    t = table(4, p=6)
    scorer = chaff.SubsetScorer(t, chaff.Ridge(), "rmse", folds=4)
    losses = losses_of_all(scorer.engine, chaff.Work())
    for m in (0, 1, 5, 63):
        assert losses[m] == pytest.approx(scorer([f for k, f in enumerate(t.features) if m >> k & 1]).mean, rel=1e-5)


def test_a_total_cost_binds_the_good_sets_too():
    from chaff.methods.search.alternatives import costs_of_all
    from chaff.table.set_costs import Prices

    names = ["protein_pct", "ash_pct", "gluten_wet_pct", "gluten_dry_pct", "falling_number_s", "straw_pct"]
    t = chaff.demo.table(rows=300, priced=True).with_features(names)
    prices = Prices.of(t)
    every = costs_of_all(prices, t.features)
    for m in range(64):
        assert every[m] == prices.of_set([f for k, f in enumerate(t.features) if m >> k & 1])
    found = chaff.search(t, "ridge", "forward", total_cost=15, honest=False).alternatives(0.2)
    assert (found.sets["cost"] <= 15).all() and len(found.sets)
    best = max(s.mean for s in (chaff.SubsetScorer(t, chaff.Ridge())(f) for f in ([], ["protein_pct"], ["ash_pct", "falling_number_s"])))
    assert found.sets["score"].max() >= best - 1e-9


def test_irreducible_by_hand():
    good = np.zeros(8, bool)
    good[[3, 7, 5, 4]] = True  # {0,1}, {0,1,2}, {0,2}, {2}
    assert irreducible(good, [0, 1, 2]).tolist() == [3, 4]
    assert irreducible(good, [1]).tolist() == [3, 4, 5]
