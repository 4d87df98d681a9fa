"""Pieces of searches by themselves: mended sets, changes while it is hot, criteria against fits, progress, words, sets that cannot grow."""

import json

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.cli.options import parse_choice, parse_strategies
from chaff.evaluate.limits import Limits
from chaff.methods.search.alternatives import can_see_all
from chaff.methods.search.breeding import diversity, fronts
from chaff.methods.search.choice_rules import Rule, _trace, criteria
from chaff.methods.search.strategies.genetic import Brood, _further, _reached, _standing
from chaff.methods.search.strategy import Progress
from tests.methods.search.test_strategies import table


def brood(how, t=None, pinned=frozenset(), total=None):
    t = table(p=8) if t is None else t
    scorer = chaff.SubsetScorer(t, chaff.Ridge(), folds=3).limited(Limits(total_cost=total))
    free = tuple(sorted(set(t.features) - pinned))
    return Brood(how, scorer, pinned, free, chaff.Work(0))


def test_the_first_sets_are_as_full_as_was_said():
    for fullness in (0.2, 0.5):
        first = brood(chaff.Genetic(fullness=fullness, population=40), table(p=20)).first()
        assert first.shape == (40, 20) and first.sum(1).min() == 1
        assert first.mean() == pytest.approx(fullness, abs=0.05) and first.sum(1).max() == round(20 * min(2 * fullness, 1))


def test_mended_sets_keep_to_sizes_pins_and_the_total():
    rng = np.random.default_rng(0)
    sized = brood(chaff.Genetic(size=3, smallest=2))
    for _ in range(40):
        assert 2 <= sized._mended(rng.random(8) < rng.random(), rng).sum() <= 3
    pinned = brood(chaff.Genetic(size=4), pinned=frozenset({"c0", "c1"}))
    assert pinned.most == 2 and pinned.least == 0 and pinned.free == tuple(f"c{k}" for k in range(2, 8))
    lots = chaff.demo.table(rows=100, priced=True).with_features(["protein_pct", "ash_pct", "falling_number_s", "straw_pct"])
    cheap = brood(chaff.Genetic(), lots, total=15)
    for _ in range(40):
        row = cheap._mended(rng.random(4) < 0.8, rng)
        held = [f for f, here in zip(cheap.free, row, strict=True) if here]
        assert held and cheap.scorer.affordable(held)
    dear = brood(chaff.Genetic(), lots.with_features(["protein_pct", "ash_pct"]), total=9)
    assert dear._mended(np.array([False, True]), rng).tolist() == [True, False]  # nothing drawn fits: the cheapest one


def test_survivors_are_the_best_and_children_as_many_as_before():
    some = brood(chaff.Genetic(population=10, survivors=3))
    alive = some.first()
    aims = np.random.default_rng(1).normal(size=(10, 1))
    after = some.next(alive, aims, 1)
    best = np.argsort(-aims[:, 0])[:3]
    np.testing.assert_array_equal(after[:3], alive[best])
    assert after.shape == alive.shape
    np.testing.assert_array_equal(after, some.next(alive, aims, 1))  # the draws are named, not consumed
    still = brood(chaff.Genetic(population=10, survivors=0, crossover_share=0.0, mutations=0.0)).next(alive, aims, 2)
    assert {tuple(r) for r in still} <= {tuple(r) for r in alive}


def test_mutations_flip_as_many_columns_as_was_said():
    some = brood(chaff.Genetic(population=400, survivors=0, crossover_share=0.0, mutations=2.0), table(p=20))
    alive = np.tile(np.arange(20) < 10, (400, 1))
    flipped = (some.next(alive, np.zeros((400, 1)), 1) != alive).sum(1)
    assert flipped.mean() == pytest.approx(2.0, abs=0.25)


def test_who_is_ahead_with_two_aims():
    aims = np.array([[0.9, -5.0], [0.5, -1.0], [0.7, -3.0], [0.6, -4.0], [0.1, -5.0]])
    ahead = _standing(aims)
    assert fronts(aims).tolist() == [0, 0, 0, 1, 2] and ahead[3] < ahead[:3].min() and ahead[4] < ahead[3]
    assert ahead[2] < ahead[[0, 1]].min()  # of one front, the ends have more room
    reached = _reached(aims)
    assert len(reached) == 3 and not _further(reached, reached)
    assert _further(np.array([[0.95, -5.0]]), reached) and not _further(np.array([[0.65, -3.0]]), reached)
    assert diversity(np.array([[True, False], [False, True]])) == 1.0


def test_degrees_of_freedom_of_ridge_are_the_trace_of_its_fit():
    rng = np.random.default_rng(0)
    X = rng.normal(size=(50, 6)) @ rng.normal(size=(6, 6))
    X -= X.mean(0)
    G = X.T @ X
    for penalty in (0.0, 0.1, 3.0):
        A = G + penalty * np.diag(np.diagonal(G))
        assert _trace(A, penalty) == pytest.approx(np.trace(X @ np.linalg.solve(A, X.T)), rel=1e-6)


def test_criteria_by_hand_and_where_there_are_none():
    rng = np.random.default_rng(3)
    X = rng.normal(size=(60, 4))
    y = X[:, 0] + rng.normal(size=60)
    t = chaff.open_arrays(X, y, names=list("abcd"))
    found = criteria(chaff.SubsetScorer(t, chaff.LeastSquares(), folds=3), [frozenset("ab"), frozenset()])
    A = np.column_stack([np.ones(60), X[:, :2]])
    rss = np.linalg.lstsq(A, y, rcond=None)[1][0]
    deviance = 60 * (np.log(2 * np.pi * rss / 60) + 1)
    assert found[0].aic == pytest.approx(deviance + 2 * 4) and found[0].bic == pytest.approx(deviance + 4 * np.log(60))
    assert found[0].adjusted_r2 == pytest.approx(1 - rss / 57 / y.var(ddof=1)) and found[1].adjusted_r2 == pytest.approx(0, abs=1e-12)
    assert np.isnan(criteria(chaff.SubsetScorer(t, chaff.Tree(), folds=3), [frozenset("a")])[0].aic)
    three = chaff.open_arrays(X, np.repeat(["r", "s", "t"], 20), names=list("abcd"))
    for model in (chaff.Ridge(), chaff.Logistic()):
        assert np.isnan(criteria(chaff.SubsetScorer(three, model, folds=3), [frozenset("a")])[0].bic)


def test_rules_say_themselves():
    assert str(Rule.parse({"share": 0.9})) == "the smallest set with 90% of the best improvement over the baseline"
    assert str(Rule.parse({"cost": 12})) == "the best that costs at most 12" and str(Rule.parse({"size": 3})) == "3 features, set by hand"
    assert Rule.parse(Rule("knee")) == Rule("knee") and "2% to 10% of its improvement" in str(Rule.parse("smallest"))


def test_progress_in_words():
    one = Progress("genetic", 1200, 1, 0.1, 0.25, 12_000, 340, 10.0, None)
    assert str(one) == "genetic · move 1,200 · best 0.250 · 1 feature · 12,000 sets scored, 340 from cache"
    assert str(Progress("forward", 1, 2, 0.1, 0.25, 1, 0, 1.0, 0.4)).endswith("1 sets scored, 0 from cache")  # less than a second left


def test_choices_of_the_command_line():
    assert parse_choice("forward", "--x") == "forward" and parse_choice(None, "--x") is None
    assert parse_choice('{ name = "genetic", population = 9 }', "--x") == {"name": "genetic", "population": 9}
    made = parse_strategies(("forward", '{ name = "floating", patience = 2 }'), None, 0.5)
    assert made == [chaff.Forward(size=0.5), chaff.Floating(size=0.5, patience=2)]
    assert parse_strategies((), chaff.Swap(3), None) == [chaff.Swap(3)] and parse_strategies((), None, None) == [None]
    assert parse_strategies(("backward",), None, 4.0)[0].size == 4
    for parse, planned, words in (((), None, "--size needs"), (("recursive", "annealing"), None, None), (("random",), None, None)):
        if words:
            with pytest.raises(Exception, match=words):
                parse_strategies(parse, planned, 3)
        else:
            assert all(s.size == 3 for s in parse_strategies(parse, planned, 3))


def test_what_can_be_seen_whole():
    rng = np.random.default_rng(0)
    for p, model, whole in ((25, chaff.Ridge(), True), (26, chaff.Ridge(), False), (5, chaff.Tree(), False)):
        t = chaff.open_arrays(rng.normal(size=(80, p)), rng.normal(size=80))
        assert can_see_all(chaff.SubsetScorer(t, model, folds=3)) == whole


def test_alternatives_of_a_set_that_holds_everything():
    """More than 25 columns of which none can be exchanged, since all are in: nothing to look at, and nothing breaks."""
    rng = np.random.default_rng(1)
    X = rng.normal(size=(200, 27))
    t = chaff.open_arrays(X, X.sum(1) + 0.05 * rng.normal(size=200))
    trail = chaff.search(t, "ridge", "backward", honest=False)
    found = trail.alternatives(within=0.0)
    assert len(found.sets) == 1 and (found.frame["role"] == "in all").all()
    some = chaff.search(t, "ridge", "backward", pins=[chaff.pin_keep(f, because="x") for f in t.features], honest=False)
    assert (some.alternatives().frame["role"] == "in all").all()


@pytest.mark.parametrize("model", ["ridge", chaff.Tree(depth=2)])
def test_where_nothing_is_as_good_no_feature_is_needed(model):
    trails = []
    for seed in range(10):  # one column of noise: on some tables it scores below nothing
        rng = np.random.default_rng(seed)
        t = chaff.open_arrays(rng.normal(size=(60, 1)), rng.normal(size=60))
        trails.append(chaff.search(t, model, "forward", folds=3, honest=False))
    below = [trail for trail in trails if trail.means.max() < trail.nothing.mean]
    found = below[0].alternatives()
    assert len(found.sets) == 0 and (found.frame["role"] == "in none").all() and found.smallest == ()
    assert "The baseline is as good" in str(found) and found.as_plain()["sets"] == []
    with pytest.raises(chaff.UsageError, match="nothing to draw"):
        chaff.plots.alternatives_map(found)


@pytest.mark.long
def test_one_feature_and_pins_that_are_all_there_is():
    rng = np.random.default_rng(0)
    x = rng.normal(size=(40, 1))
    t = chaff.open_arrays(x, x[:, 0] + rng.normal(size=40), names=["only"])
    for strategy in (
        "forward",
        "backward",
        "both",
        "floating",
        "exhaustive",
        "genetic",
        "branch and bound",
        "annealing",
        "recursive",
        "random",
    ):
        trail = chaff.search(t, "ridge", strategy, folds=3)
        assert trail.choose().features == ("only",), strategy
        assert trail.alternatives().role("only") == "in all"
    frame = pd.DataFrame(rng.normal(size=(40, 3)), columns=["a", "b", "y"])
    pins = [chaff.pin_keep(f, because="asked for") for f in ("a", "b")]
    for strategy in ("forward", "backward", "floating", "genetic", "branch and bound", "annealing", "recursive"):
        trail = chaff.search(chaff.open_table(frame, "y"), "ridge", strategy, pins=pins, folds=3)
        assert {m.features for m in trail.moves} == {frozenset("ab")}, strategy


def test_columns_that_say_nothing_new_are_no_trouble():
    rng = np.random.default_rng(2)
    frame = pd.DataFrame(rng.normal(size=(80, 3)), columns=["a", "b", "y"])
    frame["copy"], frame["flat"], frame["sum"] = frame["a"], 1.0, frame["a"] + frame["b"]
    t = chaff.open_table(frame, "y")
    for model in ("least squares", "ridge"):
        for strategy in ("both", "floating", "branch and bound", "exhaustive", chaff.Genetic(population=8, generations=4)):
            trail = chaff.search(t, model, strategy, folds=3)
            assert np.isfinite(trail.means).all() and np.isfinite(trail.sizes["honest"]).all()
            assert json.dumps(trail.as_plain(), default=str)


def test_a_target_of_heavy_tails_and_gaps_everywhere():
    rng = np.random.default_rng(4)
    X = rng.standard_t(2, size=(150, 6))
    y = X[:, 0] + rng.standard_t(2, size=150)
    X[rng.random(X.shape) < 0.3] = np.nan
    t = chaff.open_arrays(X, y, names=list("abcdef"))
    for model in ("ridge", chaff.Tree(depth=3)):
        trail = chaff.search(t, model, chaff.Floating(size=3), metric="rmse")
        assert trail.moves[0].features == {"a"} and trail.choose("best").seen <= trail.nothing.mean
