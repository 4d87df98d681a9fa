"""Methods compared on equal footing: against loops by hand, planted leaks, pure noise, votes, failures, and what is refused."""

import json

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.decide.compare_calls import as_methods
from chaff.methods.comparing.method import FoldSets, MeanRank, Vote

NAMES = ["protein_pct", "protein_nir_pct", "ash_pct", "falling_number_s", "straw_pct", "lab_temp_c", "harvest_rain_mm"]


@pytest.fixture(scope="module")
def lots():
    return chaff.demo.table(rows=300).with_features(NAMES)


@pytest.fixture(scope="module")
def found(lots):
    methods = ["leading", "spearman_rho", "lasso", "forward", chaff.Importance(chaff.Forest(trees=20), "impurity", cut={"top": 2})]
    return chaff.compare(lots, methods, "ridge", folds=4, truth=["protein_pct", "ash_pct", "falling_number_s", "harvest_rain_mm"])


def test_a_filter_inside_the_folds_is_a_loop_by_hand(lots, found):
    scorer = chaff.SubsetScorer(lots, chaff.Ridge(), folds=found.scorer.folds)
    for k, split in enumerate(scorer.folds.splits):
        train = lots.take(scorer.folds.rows(split)[0])
        order = list(chaff.relevance(train, ["spearman_rho"], by="spearman_rho").ranked().index)
        for row, size in enumerate(found.sizes):
            want = scorer.on_split(k, [frozenset(order[:size])])[0]
            assert found.values["spearman_rho"][row, k] == pytest.approx(want)


def test_a_search_inside_the_folds_never_sees_the_rows_it_is_scored_on(lots, found):
    scorer = found.scorer
    for k, judged in enumerate(found.inside["forward"]):
        train = lots.take(scorer.folds.rows(scorer.folds.splits[k])[0])
        assert judged.at(1) <= set(lots.features) and len(judged.at(3)) == 3
        alone = {f: chaff.SubsetScorer(train, chaff.Ridge(), folds=5)([f]).mean for f in lots.features}
        assert alone[next(iter(judged.at(1)))] >= sorted(alone.values())[-2] - 0.05  # other inner folds, nearly the same order


def test_curves_yardsticks_and_any_other_size_without_learning_again(lots, found):
    curves = found.curves
    assert set(curves.index.get_level_values(0)) == {*found.methods, "random sets"} and found.sizes == tuple(range(1, 8))
    full = curves.xs(7, level="size")["score"]
    np.testing.assert_allclose(full.dropna(), found.yardsticks["all features"].mean())
    assert found.yardsticks["nothing"].mean() == pytest.approx(0.0)
    at = found.at(3)
    np.testing.assert_allclose(at["score"].to_dict()["lasso"], curves.loc[("lasso", 3), "score"])
    assert found.at(0.4)["kept"]["lasso"] == 3 and at["score"].is_monotonic_decreasing
    assert at["score"].drop("random sets").max() > at.loc["random sets", "score"]
    for wrong in (0, 8, 2.5):
        with pytest.raises(chaff.UsageError, match="size must be a whole number from 1 to 7"):
            found.at(wrong)


def test_the_row_of_a_method_says_what_its_curve_says(found):
    frame = found.frame
    assert list(frame.index) == ["leading", "spearman_rho", "lasso", "forward", "importance (impurity)", "vote", "mean rank"]
    for m, row in frame.iterrows():
        curve = found.curves.loc[m]
        assert row["best"] == pytest.approx(curve["score"].max()) and row["score"] == pytest.approx(curve.loc[row["smallest"], "score"])
        assert row["smallest"] <= row["best_size"] and row["true_positives"] + row["false_negatives"] == 4
        kept = found.kept()[m]
        assert kept.sum() == row["true_positives"] + row["false_positives"]
    own = frame.loc["importance (impurity)"]
    assert own["own"] == 2 and np.isfinite(own["own_score"]) and np.isnan(frame.loc["lasso", "own"])
    stable = found.curves.loc[("leading", 2), "stability"]
    sets = [found.inside["leading"][k].at(2) for k in range(4)]
    assert (stable == 1) == (len(set(sets)) == 1)


def test_agreement_matrix_and_scores(found):
    kept = found.kept(3)
    assert kept.sum(axis=1).is_monotonic_decreasing and (kept.drop(columns="vote").sum() == 3).all()
    pair = found.agreement.set_index(["first", "second"]).loc[("leading", "spearman_rho")]
    x, y = found.kept()["leading"], found.kept()["spearman_rho"]
    assert pair["both"] == (x & y).sum() and pair["only_first"] == (x & ~y).sum() and -1 <= pair["rank_correlation"] <= 1
    scores = found.scores
    assert set(scores.columns.get_level_values(1)) == {"raw", "scaled"} and list(scores.index) == NAMES
    assert scores[("spearman_rho", "scaled")].max() == 1 and scores[("spearman_rho", "scaled")].min() == 0
    assert json.dumps(found.as_plain(), default=str) and "5 methods and 2 combinations" in str(found) and "<table" in found._repr_html_()


def test_votes_and_pooled_places_by_hand():
    a, b, c = (FoldSets(tuple(o), {}) for o in ("wxyz", "xwzy", "zxwy"))
    pooled = MeanRank().of([a, b, c], frozenset())
    assert pooled.order == ("x", "w", "z", "y") and pooled.raw["x"] == pytest.approx(1 + 2 / 3)
    vote = Vote(2).of([a, b, c], frozenset())
    assert vote.at(1) == set() and vote.at(2) == {"w", "x"} and vote.at(3) == {"w", "x", "z"}
    assert Vote(3).of([a, b, c], frozenset({"y"})).at(2) == {"x", "y"}
    search = FoldSets(("w", "x"), {}, frozenset(), None, {1: frozenset("w"), 3: frozenset("wxy")})
    assert search.at(2) == {"w"} and search.at(9) == {"w", "x", "y"} and search.at(0) == set()


@pytest.mark.long
def test_pure_noise_rises_above_nothing_by_no_method():
    above = []
    for seed in range(12):
        rng = np.random.default_rng(seed)
        t = chaff.open_arrays(rng.normal(size=(120, 15)), rng.normal(size=120))
        c = chaff.compare(t, ["pearson_r", "forward", chaff.Genetic(population=10, generations=4)], sizes=[1, 3, 6], seed=seed)
        above.append([c.curves.loc[m, "score"].max() for m in c.methods])
    mean, error = np.mean(above, 0), np.std(above, 0) / np.sqrt(12)
    assert (mean - 2 * error < 0.0).all() and mean.max() < 0.01


@pytest.mark.long
def test_a_column_made_from_the_targets_of_the_test_rows_gains_nothing():
    """Planted leak: in each fold a method is handed the column that goes with the target on the test rows only."""
    rng = np.random.default_rng(0)
    n = 200
    X, y = rng.normal(size=(n, 8)), rng.normal(size=n)
    folds = chaff.SubsetScorer(chaff.open_arrays(X, y), chaff.Ridge(), folds=4).folds
    frame = pd.DataFrame(X, columns=[f"c{k}" for k in range(8)])
    for k, split in enumerate(folds.splits):
        test = folds.rows(split)[1]
        leak = rng.normal(size=n)
        leak[test] = y[test]
        frame[f"leak{k}"] = leak
    t = chaff.open_table(frame.assign(y=y), "y")
    c = chaff.compare(t, ["pearson_r", "forward", "lasso"], folds=folds, sizes=[1, 2])
    for m in ("pearson_r", "forward", "lasso"):
        assert (c.values[m].mean(1) < 0.03).all(), m
    seen_all = chaff.relevance(t, ["pearson_r"], by="pearson_r").ranked().index[:4]
    assert {str(f)[:4] for f in seen_all} == {"leak"}  # who looks at all rows falls for them


def test_a_method_that_fails_is_said_so_and_the_rest_goes_on(lots):
    class Breaks:
        def fit(self, X, y):
            raise RuntimeError("out of flour")

        def predict(self, X):
            return np.zeros(len(X))

    broken = chaff.Importance(chaff.models.adapt(Breaks, name="breaks"), "permutation")
    c = chaff.compare(lots, {"good": "pearson_r", "bad": broken}, folds=3, sizes=[1, 2])
    assert c.frame.loc["bad", "failed"] == 3 and np.isnan(c.frame.loc["bad", "score"]) and c.frame.loc["good", "failed"] == 0
    assert "bad failed in 3 of 3 folds" in c.notes[1] and "out of flour" in c.notes[1]
    assert "bad" not in c.kept().columns and "vote" in c.methods


def test_pins_are_in_every_set_and_out_of_every_one(lots):
    pins = [chaff.pin_keep("straw_pct", because="asked for"), chaff.pin_drop("protein_pct", because="broken")]
    c = chaff.compare(lots, ["leading", "forward"], sizes=[2, 3], pins=pins, folds=3)
    assert "protein_pct" not in c.scorer.features
    for m in c.methods:
        assert all("straw_pct" in j.at(s) for j in c.inside[m] for s in (1, 2, 3))


@pytest.mark.long
def test_every_kind_of_stage_takes_part_with_classes():
    t = chaff.demo.table(rows=200, target="accepted").with_features(["protein_pct", "ash_pct", "lab_temp_c", "straw_pct"])
    c = chaff.compare(
        t,
        [chaff.ChanceBaseline("auc", shuffles=20), {"use": "twins", "rounds": 43}, {"use": "search", "model": "ridge", "strategy": "forward"}, "auc"],
        "logistic", sizes=[1, 2], folds=3,
    )  # fmt: skip
    assert c.scorer.metric.name == "log_loss" and (c.frame["failed"] == 0).all(), c.notes
    assert c.frame["smallest"].between(1, 2).all() and c.frame.loc["auc", "score"] < c.yardsticks["nothing"].mean()


@pytest.mark.long
def test_the_order_of_methods_and_workers_decides_nothing(lots):
    one = chaff.compare(lots, ["leading", "lasso"], sizes=[2], folds=3, workers=1).curves
    two = chaff.compare(lots, ["lasso", "leading"], sizes=[2], folds=3).curves
    np.testing.assert_allclose(one.loc[("lasso", 2), "score"], two.loc[("lasso", 2), "score"])


@pytest.mark.parametrize(
    ("said", "words"),
    [
        ([], "compare needs a method"),
        (["pearsen_r"], "Did you mean 'pearson_r'"),
        (["forest"], "unknown method 'forest'"),
        ([3], "3 is no method"),
        ([{"use": "screen"}], "not a stage that measures"),
        ([{"use": "importance", "modle": "ridge"}], "modle"),
        ([{"name": "genetic", "population": 1}], "population must be 4"),
        (["pearson_r", "nonsense", "lassoo"], "nonsense.*lassoo"),
    ],
)
def test_what_is_no_method_is_refused_all_at_once(lots, said, words):
    with pytest.raises(chaff.UsageError, match=words):
        chaff.compare(lots, said)


def test_labels_are_told_apart_and_settings_checked(lots):
    assert [m.label for m in as_methods(["lasso", "lasso", chaff.Forward(), "forward"])] == ["lasso", "lasso 2", "forward", "forward 2"]
    with pytest.raises(chaff.UsageError, match="vote must be from 1 to the 2 methods"):
        chaff.compare(lots, ["lasso", "leading"], vote=3)
    with pytest.raises(chaff.UsageError, match="sizes must be whole numbers"):
        chaff.compare(lots, ["leading"], sizes=[0, 2])
    with pytest.raises(chaff.UnknownColumn, match="in truth"):
        chaff.compare(lots, ["leading"], truth=["protien_pct"])
    with pytest.raises(chaff.UsageError, match=r"compare would take about \d+ s, over the 0.01 allowed: leave"):
        chaff.compare(lots, ["leading", chaff.Importance(chaff.Forest(trees=50), "permutation")], seconds=0.01)
    alone = chaff.compare(lots, "leading", sizes=[1], folds=3)
    assert alone.methods == ("leading",)


def test_decoys_are_counted_among_as_many_leading_features():
    lots = (
        chaff.demo.table(rows=300)
        .with_features(["protein_pct", "ash_pct", "falling_number_s", "harvest_rain_mm", "variety"])
        .with_decoys(5)
    )
    found = chaff.compare(lots, ["leading", "forward"], sizes=[2, 5])
    for m in ("leading", "forward"):
        first = found.whole[m].at(5)
        assert found.frame.loc[m, "decoys"] == sum(f in lots.decoys for f in first) <= 2
    assert "decoys" not in chaff.compare(lots.with_features(lots.features[:3]), ["leading"], sizes=[1]).frame
