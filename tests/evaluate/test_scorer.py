"""The closed form against plain refits: with weights, gaps, groups, ordered folds, rare levels, classes, singular sets."""

import itertools

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import chaff
from chaff.evaluate.scorer import SubsetScorer
from chaff.folds import make_folds
from chaff.metrics import METRICS
from chaff.results.score import Score
from tests.conftest import make_mixed
from tests.oracles import parts_of_r2, plain_ridge_error

FEATURES = ["assay_0", "assay_1", "assay_2", "gap_a", "gap_b", "organic", "variety"]
SETS = [[], ["assay_0"], ["variety"], ["gap_b", "variety"], ["assay_0", "assay_2", "gap_a", "organic"], FEATURES]


def refit(frame, table, folds, features, penalty, y="y"):
    frame = frame.assign(_w=1.0 if table.weights is None else table.weights)
    out = []
    for split in folds.splits:
        train, test = folds.rows(split)
        error, around = plain_ridge_error(frame.iloc[train], frame.iloc[test], features, y, penalty)
        out.append((error, around, frame["_w"].iloc[test].sum()))
    return parts_of_r2(*np.array(out).T)


@pytest.mark.parametrize("penalty", [0.0, 0.01, 1.0])
@pytest.mark.parametrize(
    "roles",
    [{}, {"weights": "lot_weight"}, {"groups": "mill"}, {"order": "day"}, {"order": "day", "weights": "lot_weight"}],
    ids=["plain", "weights", "groups", "order", "order and weights"],
)
def test_scores_equal_plain_refits(mixed, roles, penalty):
    table = chaff.open_table(mixed, target="y", **roles).with_features(FEATURES)
    model = chaff.Ridge(penalty) if penalty else chaff.LeastSquares()
    scorer = SubsetScorer(table, model)
    assert scorer.closed
    for features in SETS:
        np.testing.assert_allclose(scorer(features).values, refit(mixed, table, scorer.folds, features, penalty), atol=1e-9)


def test_a_huge_cell_in_a_test_fold_changes_no_training_figure(mixed):
    table = chaff.open_table(mixed, target="y").with_features(FEATURES)
    folds = make_folds(table, 5)
    row = int(folds.rows(folds.splits[2])[1][4])
    spoilt = mixed.copy()
    spoilt.loc[row, "assay_1"] = 1e9
    other = chaff.open_table(spoilt, target="y").with_features(FEATURES)
    a, b = (SubsetScorer(t, chaff.LeastSquares(), folds=folds) for t in (table, other))
    # In split 2 the cell is tested on, in the others it is learned from: only there may anything differ.
    one, two = a.engine.splits[2].A, b.engine.splits[2].A
    np.testing.assert_allclose(two, one, rtol=1e-11, atol=1e-9)
    np.testing.assert_allclose(b(FEATURES).values, refit(spoilt, other, folds, FEATURES, 0.0), rtol=1e-6)


@settings(max_examples=15, deadline=None)
@given(st.integers(0, 10_000), st.lists(st.sampled_from(FEATURES), min_size=1, max_size=12))
def test_walks_agree_with_sets_whatever_the_way(seed, steps):
    frame = make_mixed(120, seed=seed)
    table = chaff.open_table(frame, target="y").with_features(FEATURES)
    scorer = SubsetScorer(table, chaff.Ridge(), folds=4)
    walk = scorer.walk(["assay_0", "variety"])
    for name in steps:
        expected = {n: scorer(walk.features ^ {n}).values for n in FEATURES}
        changes = walk.changes()
        for n in FEATURES:
            np.testing.assert_allclose(changes[n].values, expected[n], atol=1e-9)
        walk.toggle(name)
        np.testing.assert_allclose(walk.score.values, scorer(walk.features).values, atol=1e-9)


def test_three_hundred_removals_do_not_drift():
    rng = np.random.default_rng(0)
    X = rng.normal(size=(900, 20)) @ rng.normal(size=(20, 200)) * 0.4 + rng.normal(size=(900, 200))
    table = chaff.open_arrays(X, X[:, :9].sum(1) + rng.normal(size=900) * 4)
    scorer = SubsetScorer(table, chaff.LeastSquares())
    walk = scorer.walk(table.features)
    for name in table.features[:190]:
        walk.toggle(name)
    np.testing.assert_allclose(walk.score.values, scorer(walk.features).values, atol=1e-9)


def test_singular_sets_get_the_pivoted_fit_and_the_walk_agrees():
    rng = np.random.default_rng(1)
    frame = pd.DataFrame(rng.normal(size=(90, 3)), columns=list("abc"))
    frame["d"], frame["e"] = frame["a"] + frame["b"], 7.0
    frame["y"] = frame["a"] - frame["c"] + rng.normal(size=90)
    table = chaff.open_table(frame, target="y")
    scorer = SubsetScorer(table, chaff.LeastSquares())
    regular = scorer(["a", "b", "c"]).values
    np.testing.assert_allclose(scorer(list("abcde")).values, regular, atol=1e-9)
    walk = scorer.walk(["a", "b"])
    np.testing.assert_allclose(walk.changes(["d"])["d"].values, scorer(list("ab")).values, atol=1e-9)
    for name in ("d", "e", "c", "a"):
        walk.toggle(name)
        np.testing.assert_allclose(walk.score.values, scorer(walk.features).values, atol=1e-9)
        for n, s in walk.changes().items():
            np.testing.assert_allclose(s.values, scorer(walk.features ^ {n}).values, atol=1e-9)


@pytest.mark.parametrize("classes", [2, 3])
def test_classes_are_scored_on_their_indicators(classes):
    frame = make_mixed(200, classes=classes)
    table = chaff.open_table(frame, target="y").with_features(FEATURES)
    scorer = SubsetScorer(table, chaff.Ridge())
    assert scorer.metric.name == "r2"
    names = table.target.classes[1:] if classes == 2 else table.target.classes
    got = scorer(["assay_0", "variety", "gap_b"]).values
    work, sums = frame.assign(_w=1.0), []
    for split in scorer.folds.splits:
        train, test = scorer.folds.rows(split)
        parts = []
        for name in names:
            work["_t"] = (frame["y"] == name).astype(float)
            parts.append(plain_ridge_error(work.iloc[train], work.iloc[test], ["assay_0", "variety", "gap_b"], "_t", 0.01))
        sums.append((*np.sum(parts, axis=0), len(test)))
    np.testing.assert_allclose(got, parts_of_r2(*np.array(sums).T), atol=1e-9)


def test_closed_form_equals_fit_and_predict(mixed):
    table = chaff.open_table(mixed, target="y", weights="lot_weight").with_features(FEATURES)
    closed = SubsetScorer(table, chaff.Ridge(), "rmse")
    fitted = SubsetScorer(table, chaff.Ridge(), "mae")  # not a function of squared errors: fits and predicts
    assert closed.closed and not fitted.closed
    score = fitted(FEATURES)
    np.testing.assert_allclose(score.also["rmse"], closed(FEATURES).values, rtol=1e-9)
    assert (score.values < score.also["rmse"]).all()


def test_past_the_memory_limit_sets_are_built_one_by_one(mixed, monkeypatch):
    table = chaff.open_table(mixed, target="y").with_features(FEATURES)
    whole = SubsetScorer(table, chaff.Ridge())
    wanted = {tuple(s): whole(s).values for s in SETS}
    monkeypatch.setattr("chaff.evaluate.closed.CLOSED_FORM_BYTES", 100)
    piecewise = SubsetScorer(table, chaff.Ridge())
    for s in SETS:
        np.testing.assert_allclose(piecewise(s).values, wanted[tuple(s)], atol=1e-9)
    walk = piecewise.walk(["assay_0"])
    np.testing.assert_allclose(walk.changes(["variety"])["variety"].values, whole(["assay_0", "variety"]).values, atol=1e-9)


def test_each_set_is_computed_once_and_order_does_not_matter(mill_table, monkeypatch):
    table = mill_table.with_features(["protein_pct", "variety", "ash_pct"])
    scorer = SubsetScorer(table, chaff.Forest(trees=10))
    first = scorer.many([["protein_pct", "ash_pct"], ["ash_pct", "protein_pct"], ["variety"]])
    assert first[0] is first[1]
    monkeypatch.setattr(scorer, "engine", None)  # a second computation would fail
    assert scorer(["variety"]) is first[2]


def test_results_do_not_depend_on_workers(mill_table):
    table = mill_table.with_features(["protein_pct", "variety", "ash_pct", "mycotoxin_ppb"])
    for model in (chaff.Forest(trees=15), chaff.Ridge()):
        one, two = (SubsetScorer(table, model, work=chaff.Work(seed=4, workers=k))(table.features).values for k in (1, 2))
        np.testing.assert_allclose(one, two, rtol=0 if model.label == "forest" else 1e-12)


def test_inner_folds_never_hold_the_outer_test_rows(mixed):
    for roles in ({}, {"groups": "mill"}, {"order": "day"}):
        table = chaff.open_table(mixed, target="y", **roles).with_features(FEATURES)
        scorer = SubsetScorer(table, chaff.Ridge())
        for k, split in enumerate(scorer.folds.splits):
            inner = scorer.inside(k)
            outer_test = set(scorer.folds.rows(split)[1].tolist())
            if inner is None:
                assert len(split.train) == 1
                continue
            for s in inner.folds.splits:
                train, test = inner.folds.rows(s)
                assert not outer_test & set(train.tolist() + test.tolist()) and not set(train) & set(test)
            np.testing.assert_allclose(inner(["assay_0"]).values, refit(mixed, table, inner.folds, ["assay_0"], 0.01), atol=1e-9)
        np.testing.assert_allclose(
            [scorer.on_split(k, [frozenset(FEATURES)])[0] for k in range(scorer.folds.count)], scorer(FEATURES).values, atol=1e-12
        )


def test_unknown_features_and_unfit_metrics_are_refused(mixed):
    table = chaff.open_table(mixed, target="y").with_features(FEATURES)
    scorer = SubsetScorer(table, chaff.Ridge())
    with pytest.raises(chaff.UnknownColumn, match="Did you mean 'assay_0'"):
        scorer(["assay0"])
    for metric, words in (("auc", "does not fit a regression target"), ("r3", "unknown metric 'r3'")):
        with pytest.raises(chaff.UsageError, match=words):
            SubsetScorer(table, chaff.Ridge(), metric)
    classes = chaff.open_table(make_mixed(100, classes=3), target="y")
    with pytest.raises(chaff.UsageError, match="needs two classes"):
        SubsetScorer(classes, chaff.Forest(), "auc")
    with pytest.raises(chaff.UsageError, match="probabilities, which ridge does not provide"):
        SubsetScorer(classes, chaff.Ridge(), "log_loss")


def test_a_model_that_breaks_is_named(mill_table):
    class Broken:
        learns = reads = "bins"
        gives = frozenset({"values"})
        label = "broken"

        def fit(self, train, work):
            raise ZeroDivisionError("oops")

    with pytest.raises(chaff.ModelError, match=r"failed on fold 1 with 2 features \(protein_pct, ash_pct\): oops"):
        SubsetScorer(mill_table, Broken(), work=chaff.Work(workers=1))(["protein_pct", "ash_pct"])


def test_standard_error_does_not_vanish_with_repeats():
    values = np.tile([0.1, 0.2, 0.3, 0.4, 0.5], 40)
    score = Score(frozenset(), "r2", values, 0.25)
    assert score.se == pytest.approx(np.sqrt(values.var(ddof=1) * (1 / 200 + 0.25)))
    assert set(itertools.chain(METRICS)) >= {"r2", "rmse", "mae", "log_loss", "auc", "accuracy"}


def test_losses_of_a_set_that_is_named_twice_are_learned_once(mixed):
    table, fitted = chaff.open_table(mixed, target="y").with_features(FEATURES), []

    class Counted(chaff.Tree):
        def fit(self, train, work):
            fitted.append(train.features)
            return super().fit(train, work)

    scorer = SubsetScorer(table, Counted(), "r2", make_folds(table, 3, 1, chaff.Work()), chaff.Work(workers=1))
    one, two, again = scorer.losses([["assay_0"], ["assay_0", "gap_a"], ["assay_0"]])
    assert len(fitted) == 6 and [r.loss.tolist() for r in one] == [r.loss.tolist() for r in again]
    assert one[0].loss.tolist() != two[0].loss.tolist()


def test_r2_is_that_of_all_test_rows_whatever_three_of_them_say():
    """Few rows: a fold whose targets happen to lie close together has a ratio of its own of nearly anything."""
    rng = np.random.default_rng(2)
    x = rng.normal(size=30)
    table = chaff.open_arrays(x[:, None], x + rng.normal(size=30), names=["x"])
    folds = make_folds(table, 10)
    for model in (chaff.Ridge(), chaff.Forest(trees=10)):
        scorer = SubsetScorer(table, model, folds=folds)
        rows = scorer.losses([["x"]])[0]
        lost, none = (sum(float(getattr(r, k).sum()) for r in rows) for k in ("loss", "none"))
        own = [1 - r.loss.sum() / r.none.sum() for r in rows]
        score = scorer(["x"])
        assert score.mean == pytest.approx(1 - lost / none) and abs(np.mean(own) - score.mean) > 0.02
        # The stage of a run and a search by itself say the same of the same sets.
        trail = chaff.search(table, model, "forward", folds=folds, honest=False)
        assert trail.moves[-1].values.mean() == pytest.approx(score.mean)
        assert scorer(()).values.tolist() == [0.0] * 10
