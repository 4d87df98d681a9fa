"""Strategies against brute force, against each other, by hand; pins, shares, patience, and what is refused."""

from itertools import combinations

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.methods.search.strategy import STRATEGIES, a_move, as_strategy, largest, trail_of
from chaff.work import Work

WORK = Work(0, 1)
FEW = {
    "along": {"order": ["c1", "c0", "c2"]},
    "random": {"sets": 12},
    "genetic": {"population": 6, "generations": 3},
    "annealing": {"steps": 20},
    "swap": {"size": 3},
}


def table(seed=0, p=7, n=80):
    """Columns that go together, so that the best pair need not be inside the best triple."""
    rng = np.random.default_rng(seed)
    X = rng.normal(size=(n, p)) @ (np.eye(p) + 0.5 * rng.normal(size=(p, p)))
    return chaff.open_arrays(X, X @ rng.normal(size=p) + 2 * rng.normal(size=n), names=[f"c{j}" for j in range(p)])


def walked(strategy, t, pinned=frozenset(), model="ridge"):
    scorer = chaff.SubsetScorer(t, chaff.Ridge(0.1) if model == "ridge" else model, folds=4)
    return scorer, trail_of(strategy, scorer, frozenset(pinned), WORK)


def best_of(scorer, t, size, pinned=frozenset()):
    return max(scorer(pinned | set(s)).mean for s in combinations([f for f in t.features if f not in pinned], size - len(pinned)))


def test_exhaustive_is_every_set_and_its_best_of_each_size_brute_force():
    t = table()
    scorer, trail = walked(chaff.Exhaustive(), t)
    assert len(trail.moves) == 2**7 - 1 == len({m.features for m in trail.moves})
    for size, k in trail.best_by_size().items():
        assert trail.means[k] == pytest.approx(best_of(scorer, t, size))
    _, some = walked(chaff.Exhaustive(size=3), t, {"c2"})
    assert all("c2" in m.features and len(m.features) <= 3 for m in some.moves) and len(some.moves) == 1 + 6 + 15


@pytest.mark.parametrize("direction", ["forward", "backward"])
@pytest.mark.parametrize("seed", range(6))
def test_floating_is_never_worse_than_the_plain_path_and_each_score_is_that_of_its_set(seed, direction):
    t = table(seed)
    scorer, trail = walked(chaff.Floating(direction=direction), t)
    plain = walked(chaff.Forward() if direction == "forward" else chaff.Backward(), t)[1]
    best, before = trail.best_by_size(), plain.best_by_size()
    for size, k in before.items():
        assert trail.means[best[size]] >= plain.means[k] - 1e-12
    for move in trail.moves:
        np.testing.assert_allclose(move.values, scorer(move.features).values, atol=1e-9)
    floating = [m for m in trail.moves if m.direction == "floating"]
    assert floating and len(floating) < 200


def test_floating_steps_back_where_forward_was_misled():
    gained = 0
    for seed in range(25):
        t = table(seed, p=8, n=60)
        _, floating = walked(chaff.Floating(), t)
        _, plain = walked(chaff.Forward(), t)
        best, before = floating.best_by_size(), plain.best_by_size()
        gained += any(floating.means[best[s]] > plain.means[k] + 1e-9 for s, k in before.items())
    assert gained >= 3


def test_swap_ends_where_no_exchange_gains():
    for seed in range(6):
        t = table(seed)
        scorer, trail = walked(chaff.Swap(3), t)
        end = trail.moves[-1]
        for a in end.features:
            for b in set(t.features) - end.features:
                assert scorer(end.features - {a} | {b}).mean <= end.values.mean() + 1e-9
        exchanges = [m for m in trail.moves if m.action == "exchange"]
        assert all(len(m.features) == 3 and " → " in m.feature for m in exchanges)
    _, pinned = walked(chaff.Swap(3), table(), {"c0"})
    assert all("c0" in m.features for m in pinned.moves)
    with pytest.raises(chaff.UsageError, match="pinned in, more than"):
        walked(chaff.Swap(1), table(), {"c0", "c1"})
    assert len([m for m in walked(chaff.Swap(3, exchanges=1), table(2))[1].moves if m.action == "exchange"]) <= 1


def test_along_follows_its_order_and_says_what_is_gone():
    t = table()
    scorer, trail = walked(chaff.Along(["c3", "c1", "gone", "c0"]), t)
    assert [m.feature for m in trail.moves] == ["c3", "c1", "c0"] and "gone" in trail.notes[-1]
    assert trail.moves[1].values == pytest.approx(scorer(["c3", "c1"]).values)
    _, short = walked(chaff.Along(["c3", "c1", "c0"], size=2), t, {"c5"})
    assert [m.feature for m in short.moves] == ["", "c3"] and all("c5" in m.features for m in short.moves)
    with pytest.raises(chaff.UsageError, match="order must be a list"):
        walked(chaff.Along(), t)
    found = chaff.relevance(t, ["pearson_r"])
    _, down = walked(chaff.Along(found), t)
    assert [m.feature for m in down.moves] == list(found.ranked().index)
    with pytest.raises(chaff.UnknownColumn, match="no feature of the order is a candidate feature"):
        walked(chaff.Along(["x"]), t)


def test_random_sets_are_the_same_for_every_order_of_columns_and_a_yardstick():
    t = table(p=9)
    _, one = walked(chaff.RandomSets(60, size=4), t)
    back = t.with_features(t.features[::-1])
    _, two = walked(chaff.RandomSets(60, size=4), back)
    assert [m.features for m in one.moves] == [m.features for m in two.moves] and {len(m.features) for m in one.moves} == {1, 2, 3, 4}
    _, floating = walked(chaff.Floating(size=4), t)
    assert floating.means.max() >= one.means.max() - 1e-9
    assert all("c1" in m.features for m in walked(chaff.RandomSets(20), t, {"c1"})[1].moves)


def test_several_features_a_move_and_sizes_as_shares():
    assert [a_move(s, 10) for s in (1, 3, 0.25, 0.01)] == [1, 3, 2, 1]
    assert [largest(s, 10) for s in (None, 3, 30, 0.25, 0.3, 0.999)] == [10, 3, 10, 3, 3, 10]
    t = table()
    scorer, trail = walked(chaff.Forward(step=3), t)
    assert [len(m.features) for m in trail.moves] == [3, 6, 7] and trail.moves[0].feature.count(", ") == 2
    singles = sorted(t.features, key=lambda f: -scorer([f]).mean)[:3]
    assert trail.moves[0].features == set(singles)
    for move in trail.moves:
        np.testing.assert_allclose(move.values, scorer(move.features).values, atol=1e-9)
    _, down = walked(chaff.Backward(step=0.5, size=2), t)
    assert [len(m.features) for m in down.moves] == [7, 4, 2]
    assert max(len(m.features) for m in walked(chaff.Forward(size=0.5), t)[1].moves) == 4


def test_patience_stops_a_floating_search():
    rng = np.random.default_rng(0)
    X = rng.normal(size=(60, 10))
    t = chaff.open_arrays(X, X[:, 0] + 0.3 * rng.normal(size=60))
    full, short = (walked(chaff.Floating(patience=k), t)[1] for k in (None, 2))
    assert len(short.moves) < len(full.moves)


@pytest.mark.long
@pytest.mark.parametrize("name", sorted(STRATEGIES.choices))
def test_every_strategy_searches_with_any_model_and_decides_honestly(name):
    t = table(p=5, n=60)
    said = {"name": name} | FEW.get(name, {})
    pins = [chaff.pin_keep("c4", because="needed")]
    for model in ("ridge", chaff.Tree(depth=3)):
        if name == "branch and bound" and model != "ridge":
            with pytest.raises(chaff.UsageError, match="for least squares and ridge"):
                chaff.search(t, model, said, pins=pins)
            continue
        trail = chaff.search(t, model, said, pins=pins)
        assert trail.findings().frame.loc["c4", "stays"] and all("c4" in m.features for m in trail.moves)
        assert trail.honest is not None and trail.evaluations + trail.saved >= len({m.features for m in trail.moves}) > 0
        for move in trail.moves:
            np.testing.assert_allclose(move.values, trail.scorer.free()(move.features).values, atol=1e-9)
        plan = chaff.Plan((chaff.Search(model=model, strategy=said),))
        assert "c4" in chaff.select(t, plan=plan, pins=pins, honest="quick", holdout=0).features
    assert as_strategy(said).name == name and as_strategy(as_strategy(said)) == as_strategy(said)


@pytest.mark.parametrize(
    ("said", "words"),
    [
        ({"name": "floating", "direction": "up"}, "direction"),
        ({"name": "floating", "size": 0}, "size must be 1 or more"),
        ({"name": "forward", "step": 1.5}, "step must be 1 or more, or a share"),
        ({"name": "backward", "patience": 0}, "patience must be 1"),
        ({"name": "along", "order": "ab"}, "order must be"),
        ({"name": "along", "order": ["a", "a"]}, "twice"),
        ({"name": "floatin"}, "Did you mean 'floating'"),
        ({"name": "random", "sets": 0}, "sets must be 1"),
    ],
)
def test_wrong_settings_are_said(said, words):
    with pytest.raises(chaff.UsageError, match=words):
        as_strategy(said)


def test_too_many_sets_are_counted_and_refused():
    rng = np.random.default_rng(0)
    wide = chaff.open_arrays(rng.normal(size=(60, 40)), rng.normal(size=60))
    with pytest.raises(chaff.UsageError, match="1,099,511,627,776 sets of 40 features"):
        walked(chaff.Exhaustive(), wide)
    assert len(walked(chaff.Exhaustive(size=1), wide)[1].moves) == 40


def test_the_pair_that_works_only_together_is_found_by_backward_with_trees_and_missed_by_forward():
    rng = np.random.default_rng(3)
    X = pd.DataFrame(rng.normal(size=(500, 4)), columns=["one", "two", "other", "last"])
    t = chaff.open_table(X.assign(y=np.sign(X["one"] * X["two"]) + 0.2 * rng.normal(size=500)), "y")
    forest = chaff.Forest(trees=40)
    _, forward = walked(chaff.Forward(size=1), t, model=forest)
    _, backward = walked(chaff.Backward(size=2), t, model=forest)
    assert forward.means.max() < 0.2  # one alone says nothing
    assert backward.moves[-1].features == {"one", "two"} and backward.means[-1] > 0.5


@pytest.mark.long
def test_a_plan_names_them(tmp_path):
    file = tmp_path / "plan.toml"
    file.write_text('[[stage]]\nuse = "search"\nmodel = "ridge"\nstrategy = { name = "floating", size = 4, direction = "backward" }\n')
    plan = chaff.read_plan(file)
    assert plan.stages[0].strategy == chaff.Floating(4, "backward")
    run = chaff.select(table(p=6), plan=plan, honest="quick")
    assert run.features is not None
