"""No passengers: of columns that repeat one another one stays; and what a person names is obeyed."""

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.evaluate.setting import Setting
from chaff.methods.repeats import Priority, repeats_in, stand_for
from chaff.methods.search.model_lens import without_weakest
from chaff.methods.search.size_choice import Passenger
from chaff.results.verdict import Pin


def copies(n=300, seed=0, wave=False, classes=False):
    """Three columns that tell, each with a near copy (r 0.995), and five of noise."""
    rng = np.random.default_rng(seed)
    x = rng.normal(size=(n, 3))
    frame = pd.DataFrame(x, columns=["a", "b", "c"])
    for f in "abc":
        frame[f + "_too"] = frame[f] + 0.1 * rng.normal(size=n)
    for j in range(5):
        frame[f"n{j}"] = rng.normal(size=n)
    y = (np.sin(2 * x[:, 0]) * 2 if wave else x[:, 0]) + x[:, 1] + x[:, 2] * (x[:, 1] if wave else 1) + 0.8 * rng.normal(size=n)
    frame["y"] = np.where(y > 0, "up", "down") if classes else y
    return frame


@pytest.mark.parametrize("kind", [{}, {"wave": True}, {"classes": True}])
@pytest.mark.long
def test_of_near_copies_one_is_kept_whichever_lens_decides(kind):
    table = chaff.open_table(copies(400, 3, **kind), target="y")
    run = chaff.select(table, chaff.Plan((chaff.Search(),)), holdout=0, state=False)
    for f in "abc":
        assert len({f, f + "_too"} & set(run.features)) == 1, run.features
    gone = next(f for f in ("a", "a_too") if f not in run.features)
    reason = run.ledger.last(gone).reason
    assert f"near-duplicate of {'a' if gone != 'a' else 'a_too'}, which is kept; without it" in reason and "±" in reason
    assert run.honest.keep_up.answer != "worse"


def test_a_pin_then_gaps_then_costs_then_relevance_say_which_copy_stays():
    frame = copies(300, 1)
    table = chaff.open_table(frame, target="y")
    assert set(repeats_in(table, table.features, frozenset())) <= {"a", "a_too", "b", "b_too", "c", "c_too"}
    assert "a_too" not in repeats_in(table, table.features, frozenset({"a_too"}))
    frame.loc[:29, "a"] = np.nan
    table = chaff.open_table(frame, target="y", costs={"b": 5.0, "b_too": 1.0})
    found = repeats_in(table, table.features, frozenset())
    assert found["a"] == "a_too" and found["b"] == "b_too"
    strong = {f: Priority(False, rel, 0.0, 0.0, f) for f, rel in (("p", 0.5), ("q", 0.6), ("r", 0.4))}
    r = np.array([[1.0, 0.97, 0.2], [0.97, 1.0, 0.97], [0.2, 0.97, 1.0]])
    assert stand_for(r, list("pqr"), 0.95, strong) == {"p": "q", "r": "q"}


def test_words_and_very_many_columns_have_no_repeats():
    rng = np.random.default_rng(0)
    w = rng.choice(list("uvw"), 60)
    table = chaff.open_table(pd.DataFrame({"w": w, "w2": w, "x": rng.normal(size=60), "y": rng.normal(size=60)}), target="y")
    assert repeats_in(table, table.features, frozenset()) == {}
    wide = chaff.open_arrays(rng.normal(size=(20, 1001)), rng.normal(size=20))
    assert repeats_in(wide, wide.features, frozenset()) == {}


def test_repeats_go_first_and_count_among_those_that_go():
    names = [f"c{k:02d}" for k in range(20)]
    importance = {f: float(k) for k, f in enumerate(names)}
    left = without_weakest(names, (), importance, lambda some: dict.fromkeys(some, 0.0), repeats=("c19", "c18"))
    assert set(names) - set(left) == {"c19", "c18", "c00", "c01"}
    left = without_weakest(names, {"c19"}, importance, lambda some: dict.fromkeys(some, 0.0), repeats=names[8:])
    assert set(left) == {*names[:8], "c19"}


def test_passengers_say_what_is_lost():
    assert Passenger("a", 0.004, 0.002).words("R²") == "near-duplicate of a, which is kept; without it nothing is lost: R² +0.004 ± 0.002"
    assert "little is lost" in Passenger("a", -0.03, 0.002).words("R²")


def eight_of_forty(seed=5):
    rng = np.random.default_rng(seed)
    X = rng.normal(size=(300, 40))
    return chaff.open_arrays(X, X[:, :8].sum(1) + 2.5 * rng.normal(size=300)), {f"x{k}" for k in range(1, 9)}


def kept(table, **fields):
    scoring = fields.pop("scoring", chaff.Scoring())
    return chaff.select(table, chaff.Plan((chaff.Search("ridge", **fields),), scoring), holdout=0, state=False)


@pytest.mark.long
def test_a_size_in_a_strategy_is_a_bound_and_the_answer_says_what_it_costs():
    table, _ = eight_of_forty()
    run = kept(table, strategy=chaff.Forward(size=3))
    assert len(run.features) == 3 and run.honest.keep_up.answer in ("worse", "cannot tell")
    assert len(kept(table, strategy=chaff.Backward(size=20)).features) >= 20


@pytest.mark.parametrize("strategy", [chaff.Genetic(population=20, generations=8), chaff.RandomSets(sets=30), chaff.Annealing(steps=200)])
@pytest.mark.long
def test_strategies_that_leap_have_a_set_of_every_smaller_size(strategy):
    table, true = eight_of_forty()
    run = kept(table, strategy=strategy)
    assert len(run.features) <= 12 and len(true & set(run.features)) >= 7
    assert set(range(1, 9)) <= set(run.result("search").decided.sizes)


@pytest.mark.parametrize("model", [None, "ridge", "forest", "nearest neighbours"])
@pytest.mark.long
def test_a_size_by_hand_is_that_size_through_every_lens(model):
    table, _ = eight_of_forty()
    for size in (2, 14):
        run = chaff.select(table, chaff.Plan((chaff.Search(model, size=size),)), holdout=0, state=False, honest="quick")
        assert len(run.features) == size


def test_an_elimination_does_not_step_over_a_wanted_size():
    names = [f"c{k:02d}" for k in range(40)]
    importance = {f: float(k) for k, f in enumerate(names)}
    claims = lambda some: dict.fromkeys(some, 0.0)  # noqa: E731
    for repeats in ((), names[:20]):
        sizes, current = [], names
        while len(current) > 1:
            current = without_weakest(current, (), importance, claims, repeats if len(current) == 40 else (), 29)
            sizes.append(len(current))
        assert 29 in sizes and sizes[-1] == 1


@pytest.mark.long
def test_a_share_by_hand_rules_alone():
    table, _ = eight_of_forty()
    sizes = [len(kept(table, keep_share=s).features) for s in (0.5, 0.8, 0.98)]
    assert sizes[0] < sizes[1] < sizes[2]


def test_a_metric_without_row_losses_is_not_enlarged_by_another_one():
    rng = np.random.default_rng(1)
    X = rng.normal(size=(400, 19))
    frame = pd.DataFrame(X).add_prefix("c").assign(y=np.where(X[:, :3].sum(1) + 2 * rng.normal(size=400) > 0, "p", "n"))
    scoring = chaff.Scoring(metric="auc")
    run = chaff.select(chaff.open_table(frame, target="y"), chaff.Plan((chaff.Search("logistic"),), scoring), holdout=0, state=False)
    assert len(run.features) <= 6 and {"c0", "c1", "c2"} <= set(run.features)


@pytest.mark.long
def test_the_full_set_is_taken_at_its_best_lens_and_that_is_said():
    rng = np.random.default_rng(2)
    X = rng.normal(size=(60, 50))
    run = kept_both(chaff.open_arrays(X, 2 * X[:, 0] + rng.normal(size=60)))
    trail = run.result("search")
    full = [float(c.mean_losses[-1].mean()) for c in trail.curves]
    assert trail.full_curve == int(np.argmin(full)) and run.final_scores.full_model == trail.curves[trail.full_curve].model.label
    told = str(run)
    assert ("worse than the baseline" in told.replace("\n", " ")) == (run.honest.full[0] < run.final_scores.line("nothing").honest.mean)


def kept_both(table):
    return chaff.select(table, chaff.Plan((chaff.Search(),)), holdout=0, state=False)


def test_where_the_full_set_is_kept_it_does_not_keep_up_with_itself():
    rng = np.random.default_rng(0)
    X = rng.normal(size=(200, 4))
    run = kept(chaff.open_arrays(X, X.sum(1) + 0.3 * rng.normal(size=200)))
    assert len(run.features) == 4 and "no smaller set keeps up on these rows" in str(run).splitlines()[0]


@pytest.mark.long
def test_two_true_columns_of_a_drifting_series_are_found():
    from scipy.signal import lfilter

    def series(rng, columns):
        return lfilter([0.6], [1, -0.8], rng.normal(size=(800, columns)), axis=0)[200:]

    found = []
    for seed in range(5):
        rng = np.random.default_rng(seed)
        x, e = series(rng, 8), series(rng, 1)[:, 0]
        frame = pd.DataFrame(x).add_prefix("c").assign(y=np.sqrt(0.41 / 2) * (x[:, 0] + x[:, 1]) + np.sqrt(0.59) * e, day=np.arange(600))
        run = kept_both(chaff.open_table(frame, target="y", order="day"))
        found.append(set(run.features))
    assert sum({"c0", "c1"} <= f for f in found) >= 4 and sum(not f for f in found) == 0 and max(map(len, found)) < 8


def test_pins_are_no_passengers():
    frame = copies(200, 2)
    table = chaff.open_table(frame, target="y")
    stage = chaff.Search()
    trail = stage.judge(table, Setting.of(table, pins={"n0": Pin("n0", "keep", "asked for"), "a_too": Pin("a_too", "keep", "asked for")}))
    assert {"n0", "a_too"} <= set(trail.chosen) and "a" not in trail.chosen
