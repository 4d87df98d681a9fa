"""What a search may spend, what sets cost, and the door that watches over both."""

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.evaluate.limits import Limits, Spent, Tally, used_rows
from chaff.folds import make_folds, same_folds
from chaff.table.set_costs import Prices
from tests.methods.search.test_strategies import table

TREE = chaff.Tree(depth=2)


@pytest.mark.parametrize("said", [{"seconds": 0}, {"seconds": -1.0}, {"evaluations": 0}, {"total_cost": -0.1}])
def test_limits_that_make_no_sense_are_refused(said):
    with pytest.raises(chaff.UsageError, match=f"{next(iter(said))} must be"):
        Limits(**said)


def test_several_wrong_limits_are_said_at_once():
    with pytest.raises(chaff.UsageError, match=r"seconds.*; evaluations"):
        Limits(seconds=0, evaluations=-3)
    assert Limits(total_cost=0).total_cost == 0  # only what is free


def test_a_tally_counts_and_ends():
    free = Tally()
    free.evaluations = 10**9
    free.check()
    assert free.left is None
    counted = Tally(Limits(evaluations=5))
    counted.evaluations, counted.from_journal = 2, 2
    counted.check()
    assert counted.met == 4 and counted.left == 1
    counted.from_journal = 3
    with pytest.raises(Spent, match="stopped after 5 scored sets"):
        counted.check()
    late = Tally(Limits(seconds=1e-9))
    with pytest.raises(Spent, match="stopped after 1e-09 s"):
        late.check()


def test_sets_that_are_known_cost_nothing_and_a_batch_ends_where_it_has_to():
    t = table(p=5)
    scorer = chaff.SubsetScorer(t, TREE, folds=3).limited(Limits(evaluations=3))
    scorer.many([["c0"], ["c1"]])
    scorer.many([["c0"], ["c1"], ["c0"]])
    assert (scorer.tally.evaluations, scorer.tally.saved) == (2, 2)
    with pytest.raises(Spent):
        scorer.many([["c2"], ["c3"], ["c0"]])
    assert frozenset({"c2"}) in scorer.known and frozenset({"c3"}) not in scorer.known
    assert scorer.many([["c0"], ["c2"]])[1].features == {"c2"}  # what is known is told all the same
    assert scorer.tally.scored == [frozenset({c}) for c in ("c0", "c1", "c2")]


def test_limits_of_one_search_are_not_those_of_the_one_before():
    lots = chaff.demo.table(rows=200, priced=True).with_features(["protein_pct", "ash_pct", "straw_pct", "lab_temp_c"])
    first = chaff.search(lots, "ridge", "forward", honest=False)
    before = dict(first.by_size)
    cheap = chaff.search(lots, "ridge", "forward", after=first, total_cost=9, evaluations=50, honest=False)
    again = chaff.search(lots, "ridge", "forward", after=cheap, honest=False)
    assert max(cheap.by_size) == 3 and first.best_by_size(first.scorer.affordable) == before
    assert max(again.by_size) == 4 and again.scorer.tally.limits == Limits()
    assert first.scorer.known.keys() <= again.scorer.known.keys()


def test_free_asks_on_without_a_limit_but_within_the_total():
    lots = chaff.demo.table(rows=150, priced=True).with_features(["protein_pct", "ash_pct", "straw_pct"])
    scorer = chaff.SubsetScorer(lots, TREE, folds=3).limited(Limits(total_cost=10, evaluations=1))
    scorer(["ash_pct"])
    with pytest.raises(Spent):
        scorer(["straw_pct"])
    assert scorer.free()(["straw_pct"]).features == {"straw_pct"}
    assert not scorer.free().affordable(["protein_pct"]) and scorer.free().affordable(["ash_pct", "straw_pct"])
    assert scorer.affordable_steps(frozenset({"ash_pct"}), ["protein_pct", "straw_pct"]) == ["straw_pct"]


def test_prices_by_hand():
    prices = Prices({"a": 3.0, "lab": 5.0, "p": 1.0}, {"lab": ("p", "q", "r")})
    assert prices and not Prices()
    for features, cost in (([], 0), (["a"], 3), (["q"], 5), (["q", "r"], 5), (["p"], 6), (["a", "p", "q"], 9), (["z"], 0)):
        assert prices.of_set(features) == cost, features
    assert prices.allow(["a", "q"], 8) and not prices.allow(["a", "q"], 7.99) and prices.allow(["a", "q"], None)
    tenths = Prices({f"c{k}": 0.1 for k in range(10)})
    assert tenths.allow([f"c{k}" for k in range(10)], 1.0)  # 0.1 ten times is not quite 1


def test_panels_go_through_a_plan_and_a_selection(tmp_path):
    file = tmp_path / "lots.csv"
    chaff.demo.lots(rows=200)[["mill", "protein_pct", "ash_pct", "gluten_wet_pct", "gluten_dry_pct", "loaf_volume"]].to_csv(
        file, index=False
    )
    plan = tmp_path / "plan.toml"
    plan.write_text(
        '[table]\ntarget = "loaf_volume"\ngroups = "mill"\ncosts = { protein_pct = 14, gluten = 12 }\n'
        'panels = { gluten = ["gluten_wet_pct", "gluten_dry_pct"] }\n[[stage]]\nuse = "search"\nmodel = "ridge"\nstrategy = "exhaustive"\n'
        "total_cost = 12\n"
    )
    read = chaff.read_plan(plan)
    assert read.table.panels == {"gluten": ("gluten_wet_pct", "gluten_dry_pct")} and read.stages[0].total_cost == 12
    terms = {"target": "loaf_volume", "groups": "mill", "costs": dict(read.table.costs), "panels": dict(read.table.panels)}
    run = chaff.select(chaff.open_table(file, **terms), plan, honest="quick", state=False)
    assert "protein_pct" not in run.features and Prices.of(run.table).of_set(run.features) <= 12
    run.selection.save(tmp_path / "selection.json")
    back = chaff.read_selection(tmp_path / "selection.json")
    assert back.terms.panels == read.table.panels and set(run.features) <= set(back.apply(file).columns)


@pytest.mark.parametrize("total", [0, 9, 20])
@pytest.mark.long
def test_the_stage_keeps_to_a_total_through_both_lenses(total):
    names = ["protein_pct", "protein_nir_pct", "ash_pct", "falling_number_s", "harvest_rain_mm", "straw_pct", "gluten_wet_pct"]
    lots = chaff.demo.table(rows=300, priced=True).with_features(names)
    run = chaff.select(lots, plan=chaff.Plan((chaff.Search(total_cost=total),)), honest="quick", holdout=0)
    assert Prices.of(lots).of_set(run.features) <= total
    trail = run.result("search")
    free = {c.sizes[k] for c in trail.curves for k, s in enumerate(c.sets) if Prices.of(lots).of_set(s) <= total}
    assert len(trail.decided.sets[trail.choice.place]) in free


@pytest.mark.long
def test_the_stage_ends_its_searches_and_says_so():
    lots = chaff.demo.table(rows=200).with_features(["protein_pct", "ash_pct", "straw_pct", "lab_temp_c"])
    plan = chaff.Plan((chaff.Search(TREE, "exhaustive", evaluations=4),))
    run = chaff.select(lots, plan=plan, honest="quick", holdout=0)
    assert any("stopped after 4 scored sets" in n for n in run.result("search").notes)
    with pytest.raises(chaff.UsageError, match="total_cost needs to know what features cost"):
        chaff.select(lots, plan=chaff.Plan((chaff.Search("ridge", total_cost=3),)))
    with pytest.raises(chaff.UsageError, match="evaluations must be over 0"):
        chaff.Search(evaluations=0)


def test_used_rows_are_those_of_the_training_fold():
    t = table(p=4)
    folds = make_folds(t, 4)
    same, kept = used_rows(t, folds)
    assert same is t and kept is folds
    split = folds.splits[2]
    some, inner = used_rows(t, folds.inside(split))
    train = folds.rows(split)[0]
    np.testing.assert_array_equal(some.targets, t.targets[train])
    for s in inner.splits:
        learn, test = inner.rows(s)
        assert not set(learn) & set(test) and learn.size + test.size == train.size


def test_folds_are_the_same_when_every_split_is():
    t = table(p=4)
    assert same_folds(make_folds(t, 4), make_folds(t, 4))
    assert not same_folds(make_folds(t, 4), make_folds(t, 5))
    assert not same_folds(make_folds(t, 4), make_folds(t, 4, work=chaff.Work(1)))
    assert not same_folds(make_folds(t, 4), make_folds(t, 4, 2))


def test_a_walk_in_closed_form_counts_what_it_sees():
    t = table(p=6)
    scorer = chaff.SubsetScorer(t, chaff.Ridge(), folds=3).limited(Limits(evaluations=10))
    walk = scorer.walk()
    walk.changes()
    assert scorer.tally.evaluations == 6
    walk.toggle("c1")
    walk.changes()
    with pytest.raises(Spent, match="stopped after 12 scored sets"):
        walk.changes()  # the step with which it reached the number was still whole
    assert walk.features == {"c1"} and scorer.known == {}


def test_repeats_and_other_folds_are_searched_as_they_are():
    t = table(p=5)
    twice = chaff.search(t, "ridge", "forward", folds=3, repeats=2)
    assert twice.moves[0].values.shape == (6,) and twice.honest.values.shape == (5, 6)
    own = chaff.search(t, "ridge", "forward", folds=make_folds(t, 3, 2, chaff.Work(9)))
    assert same_folds(own.scorer.folds, make_folds(t, 3, 2, chaff.Work(9)))
    two = chaff.search(t, "ridge", "forward", folds=2)
    assert two.honest is None and "honest" not in two.sizes  # one part to learn on leaves nothing to search inside


@pytest.mark.long
def test_seen_scores_are_too_good_and_honest_ones_are_not():
    """Thirty tables of noise: what the search saw of its best set is above nothing, the honest score of that size is not."""
    seen, honest = [], []
    for seed in range(30):
        rng = np.random.default_rng(seed)
        t = chaff.open_arrays(rng.normal(size=(80, 15)), rng.normal(size=80))
        best = chaff.search(t, "ridge", "forward", seed=seed).choose("best", by="seen")
        seen.append(best.seen)
        honest.append(best.honest)
    assert np.mean(seen) - 2 * np.std(seen) / np.sqrt(30) > 0.01 and np.mean(honest) < 0


def test_what_a_set_costs_stands_in_the_trail_by_hand():
    frame = pd.DataFrame(np.random.default_rng(0).normal(size=(60, 3)), columns=["a", "b", "y"])
    t = chaff.open_table(frame, "y", costs={"a": 2.0, "b": 0.5})
    trail = chaff.search(t, "ridge", "exhaustive", honest=False)
    for move, (_, row) in zip(trail.moves, trail.frame.iterrows(), strict=True):
        cost = sum({"a": 2.0, "b": 0.5}[f] for f in move.features)
        assert row["cost"] == cost and row["score_per_cost"] == pytest.approx((move.values.mean() - trail.nothing.mean) / cost)
    assert trail.choose({"cost": 1}).features == ("b",) and np.isnan(trail.choose({"cost": 1}).honest)
    with pytest.raises(chaff.UsageError, match="costs 0.1 or less; the cheapest costs 0.5"):
        trail.choose({"cost": 0.1})
