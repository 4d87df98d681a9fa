"""Learners against closed forms, plain loops and brute force, on tables of every kind."""

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.models.forms import sample
from chaff.work import Work

WORK = Work(0, 1)


def table(n=200, classes=0, seed=0, gaps=True, weights=False):
    rng = np.random.default_rng(seed)
    frame = pd.DataFrame(rng.normal(size=(n, 4)), columns=list("abcd"))
    frame["kind"] = rng.choice(["hard", "soft", "durum", "spelt"], n)
    z = 2 * frame["a"] + (frame["kind"] == "soft") - frame["b"] * (frame["c"] > 0) + 0.5 * rng.normal(size=n)
    if gaps:
        frame.loc[rng.random(n) < 0.1, "b"] = np.nan
    frame["y"] = z if not classes else np.array(["rye", "wheat", "oat"])[np.digitize(z, [0] if classes == 2 else [-1, 1])]
    if weights:
        frame["w"] = rng.integers(1, 4, n)
    return chaff.open_table(frame, target="y", weights="w" if weights else None)


FEW = (0.3, 0.1, 0.03)  # penalties, so that paths are short
EVERY = [
    chaff.Lasso(penalties=FEW), chaff.ElasticNet(penalties=FEW, share=0.5), chaff.GroupLasso(penalties=FEW),
    chaff.Lasso(penalties=FEW, adaptive=True), chaff.Lasso(penalties=FEW, relaxed=True), chaff.LinearMargin(),
    chaff.Neighbours(), chaff.Tree(), chaff.ExtremelyRandomForest(trees=40), chaff.Boosting(rounds=60), chaff.Boosting(rounds=80, stop_after=10),
    chaff.Boosting(rounds=60, row_share=0.5, columns_per_tree=0.6),
]  # fmt: skip


@pytest.mark.long
@pytest.mark.parametrize("model", EVERY, ids=lambda m: m.label)
def test_every_learner_learns_numbers_and_classes_and_is_the_same_with_any_workers(model):
    for classes in (0, 2, 3):
        t = table(classes=classes, weights=classes == 2)
        metric = None if classes == 0 or "probabilities" in model.gives else "accuracy"
        one, two = (chaff.SubsetScorer(t, model, metric, work=Work(0, workers))(t.features) for workers in (1, 2))
        assert one.values.tolist() == two.values.tolist()
        knowing_nothing = {"r2": 0.0, "log_loss": -0.69 if classes == 2 else -1.1, "accuracy": 0.45}[one.metric]
        assert (one.mean if one.metric != "log_loss" else -one.mean) > knowing_nothing + 0.05


def test_a_penalty_is_chosen_on_inner_folds_and_all_scores_are_kept():
    fitted = chaff.models.fit(table(300), chaff.Lasso())
    path = fitted.path
    assert path.losses.shape == (5, 100) and path.violations.max() < 1e-8
    mean = path.losses.mean(0)
    assert path.chosen == path.best == mean.argmin()
    near = mean <= mean.min() + path.losses[:, path.best].std(ddof=1) / np.sqrt(5)
    assert path.one_standard_error == np.flatnonzero(near)[0] <= path.best
    assert chaff.models.fit(table(300), chaff.Lasso(choose="one standard error")).path.chosen == path.one_standard_error


def test_scores_on_inner_folds_are_those_of_fits_on_their_training_rows():
    from chaff.models.forms import inner_splits

    t = table(160, gaps=False).with_features(list("abcd"))
    s = sample(t, "design")
    fitted = chaff.Lasso(penalties=(0.3, 0.05)).fit(s, WORK)
    for k, (train, test) in enumerate(inner_splits(s, 5, WORK)):
        again = chaff.Lasso(penalty=0.05).fit(sample(t.take(train), "design"), WORK)
        off = t.y[test] - again.predict(sample(t.take(test), "design"))[:, 0]
        assert fitted.path.losses[k, 1] == pytest.approx((off**2).mean() / t.y[train].var(), rel=1e-7)


def test_the_edge_of_the_grid_separation_and_twins_are_said():
    t = table(200, gaps=False)
    assert "smallest that was tried" in " ".join(chaff.models.fit(t, chaff.Lasso(penalties=(0.5, 0.3))).remarks())
    rng = np.random.default_rng(0)
    parted = chaff.open_arrays(np.c_[np.r_[np.zeros(40), np.ones(40)] + 0.1 * rng.random(80), rng.random(80)], np.repeat(["x", "y"], 40))
    assert "linearly separable" in " ".join(chaff.models.fit(parted, chaff.Lasso(penalty=1e-3)).remarks())
    X = rng.normal(size=(100, 3))
    same = chaff.open_arrays(np.c_[X, X[:, 0]], X[:, 0] + 0.1 * rng.normal(size=100), names=["p", "q", "r", "copy"])
    both, one = (chaff.models.fit(same, chaff.Lasso(penalty=0.01, twins=t)) for t in ("both", "one"))
    assert both.coefficients[0] == pytest.approx(both.coefficients[3]) and "p and copy are equal" in " ".join(both.remarks())
    assert (one.coefficients[:, 0] != 0).tolist() == [True, True, True, False] or not one.coefficients[3]
    assert both.predict(sample(same, "design")) == pytest.approx(one.predict(sample(same, "design")))


@pytest.mark.long
def test_penalties_of_nothing_and_of_infinity_one_feature_and_many_columns():
    t = table(120, gaps=False).with_features(list("abcd"))
    free = chaff.models.fit(t, chaff.Lasso(penalty=0))
    assert free.predict(sample(t, "design")) == pytest.approx(
        chaff.models.fit(t, chaff.LeastSquares()).predict(sample(t, "design")), abs=1e-6
    )
    assert not chaff.models.fit(t, chaff.Lasso(penalty=np.inf)).importance().any()
    assert chaff.models.fit(t.with_features(["a"]), chaff.Lasso()).importance()[0] > 0
    rng = np.random.default_rng(0)
    X = rng.normal(size=(80, 20_000))
    wide = chaff.models.fit(chaff.open_arrays(X, X[:, 5] * 3 + rng.normal(size=80)), chaff.Lasso())
    assert wide.importance().argmax() == 5 and wide.path.violations.max() < 1e-8


def test_penalties_are_said_in_a_plan_as_a_list():
    from chaff.models.named import as_model

    made = as_model({"name": "lasso", "penalties": [0.1, 0.05]})
    assert made == chaff.Lasso(penalties=(0.1, 0.05)) and hash(made) == hash(chaff.Lasso(penalties=(0.1, 0.05)))
    with pytest.raises(chaff.UsageError, match="not both"):
        chaff.Lasso(penalty=1.0, penalties=[1.0])


def test_a_category_comes_or_goes_as_a_whole_and_its_coding_does_not_matter():
    t = table(300)
    fitted = chaff.models.fit(t, chaff.GroupLasso())
    along = fitted.path.coefficients[:, fitted.starts[4] : fitted.starts[5], 0]
    assert set((along != 0).sum(1)) <= {0, 4}


def test_both_scales_of_coefficients_tell_the_same_prediction():
    t = table(150, gaps=False).with_features(list("abcd"))
    fitted = chaff.models.fit(t, chaff.Lasso(penalty=0.02))
    X = sample(t, "design").data.X
    standardised, raw = fitted.on_columns()
    assert raw == pytest.approx(standardised / X.std(0)[:, None])
    assert fitted.predict(sample(t, "design"))[:, 0] == pytest.approx(t.y.mean() + (X - X.mean(0)) @ raw[:, 0])


def test_neighbours_are_those_of_a_plain_loop_and_ties_share_their_place():
    t = table(90, gaps=False).with_features(["a", "b"])
    fitted = chaff.models.fit(t, chaff.Neighbours(7))
    Z = fitted.Z
    for i in (0, 11, 50):
        near = np.argsort(((Z - Z[i]) ** 2).sum(1), kind="stable")[:7]
        assert fitted.predict(sample(t, "design"))[i, 0] == pytest.approx(t.y[near].mean())
    tied = chaff.open_arrays(np.array([[0.0], [1], [1], [1], [5]]), np.array([0.0, 3, 6, 9, 50]))
    out = chaff.models.fit(tied, chaff.Neighbours(2)).predict(sample(tied, "design"))[0, 0]
    assert out == pytest.approx((0 + 6) / 2)  # the three that are equally near share the second place


def test_naive_bayes_is_the_product_of_normal_densities():
    from math import exp, pi, sqrt

    t = table(120, classes=2, gaps=False).with_features(["a", "b"])
    fitted, X = chaff.models.fit(t, chaff.NaiveBayes()), sample(t, "design").data.X
    share = [(t.y == k).sum() + 0.5 for k in (0, 1)]
    for i in (3, 40):
        dens = list(share)
        for k in (0, 1):
            for j in (0, 1):
                m, s = X[t.y == k, j].mean(), X[t.y == k, j].std()
                dens[k] *= exp(-0.5 * ((X[i, j] - m) / s) ** 2) / (s * sqrt(2 * pi))
        assert fitted.predict(sample(t, "design"))[i, 0] == pytest.approx(dens[1] / sum(dens))
    with pytest.raises(chaff.ModelError, match="needs classes"):
        chaff.models.fit(table(), chaff.NaiveBayes())


def test_a_tree_of_one_split_is_the_best_of_all_and_whole_weights_are_repeated_rows():
    t = table(80, gaps=False).with_features(list("abcd"))
    s = sample(t, "bins")
    stump = chaff.Tree(leaf_rows=1, depth=1).fit(s, WORK).predict(s)[:, 0]
    best = min(
        sum(((t.y[m] - t.y[m].mean()) ** 2).sum() for m in (c <= v, c > v)) for c in s.data.codes for v in np.unique(c)[:-1]
    )  # fmt: skip
    assert ((t.y - stump) ** 2).sum() == pytest.approx(best, rel=1e-6)
    frame = pd.DataFrame({"x": [1.0, 2, 3, 4, 5, 6], "y": [0.0, 1, 5, 4, 9, 7], "w": [1, 3, 1, 2, 1, 2]})
    weighed = chaff.open_table(frame, target="y", weights="w")
    again = chaff.open_table(frame.loc[frame.index.repeat(frame["w"]), ["x", "y"]].reset_index(drop=True), target="y")
    trees = [chaff.Tree(leaf_rows=1, depth=1).fit(sample(t, "bins"), WORK).predict(sample(weighed, "bins"))[:, 0] for t in (weighed, again)]
    assert trees[0] == pytest.approx(trees[1], rel=0.02)


def test_boosting_of_stumps_is_the_plain_loop():
    t = table(100, gaps=False).with_features(["a", "b", "c"])
    s = sample(t, "bins")
    fitted = chaff.Boosting(rounds=6, rate=0.3, depth=1, leaf_rows=1, leaf_penalty=0).fit(s, WORK)
    margin = np.full(100, t.y.mean())
    for _ in range(6):
        r, best = t.y - margin, (np.inf, None)
        for c in s.data.codes:
            for v in np.unique(c)[:-1]:
                step = np.where(c <= v, r[c <= v].mean(), r[c > v].mean())
                best = min(best, (((r - step) ** 2).sum(), tuple(step)))
        margin = margin + 0.3 * np.array(best[1])
    assert fitted.predict(s)[:, 0] == pytest.approx(margin, abs=1e-6)


def test_early_stopping_stops_on_inner_folds():
    rng = np.random.default_rng(0)
    noise = chaff.open_arrays(rng.normal(size=(150, 5)), rng.normal(size=150))
    fitted = chaff.models.fit(noise, chaff.Boosting(rounds=150, stop_after=8))
    assert fitted.rounds < 15 and fitted.inner_losses.argmin() == fitted.rounds
    never = chaff.Boosting(rounds=3, stop_after=1, rate=1.0, depth=9, leaf_rows=1)  # worse than nothing from the first round on
    for by in ("permutation", "impurity", "shapley", "given others"):
        assert not chaff.importance(noise, never, by).frame["importance"].any()
    assert chaff.models.fit(table(300), chaff.Boosting(rounds=80, stop_after=8)).rounds > 20


def test_out_of_bag_predictions_are_those_of_the_trees_that_have_not_seen_a_row():
    s = sample(table(70), "bins")
    forest = chaff.Forest(trees=15).grow(s, WORK, mark=np.arange(70))
    predicted, seen = forest.out_of_bag(s)
    for i in np.flatnonzero(seen)[:10]:
        values = []
        for t in np.flatnonzero(forest.in_bag[:, i] == 0):
            a, b = forest.first[t], forest.first[t + 1]
            one = type(forest)(forest.features, forest.node[a:b], np.array([0, b - a]), forest.pick[a:b], forest.sets, forest.value[a:b], forest.gains, forest.in_bag[t : t + 1])  # fmt: skip
            values.append(one.predict(s)[i, 0])
        assert predicted[i, 0] == pytest.approx(np.mean(values))


def test_random_cuts_are_cuts_and_differ_from_tree_to_tree():
    s = sample(table(200, gaps=False), "bins")
    forest = chaff.ExtremelyRandomForest(trees=30, depth=1, columns_per_split=1).fit(s, WORK)
    roots = {(int(forest.node[a]) >> 12 & 0xFFFFF, int(forest.node[a]) & 255) for a in forest.first[:-1]}
    assert len(roots) > 20


def test_many_levels_of_noise_do_not_carry_a_tree_away():
    rng = np.random.default_rng(0)
    x, y = rng.normal(size=600), rng.normal(size=600)
    frame = pd.DataFrame({"x": x, "code": rng.choice([f"c{k}" for k in range(200)], 600), "y": x + y})
    t = chaff.open_table(frame, target="y", kinds={"code": "category"})
    with_code, without = (chaff.SubsetScorer(t, chaff.Boosting(rounds=60))(f).mean for f in (["x", "code"], ["x"]))
    assert with_code > without - 0.08


@pytest.mark.parametrize(("cls", "bad"), [(chaff.Lasso, {"penalty": -1}), (chaff.Lasso, {"penalty": 1.0, "penalties": (1.0,)}), (chaff.ElasticNet, {"share": 0.0}), (chaff.Boosting, {"rate": 0.0}), (chaff.Tree, {"leaf_rows": 0}), (chaff.Neighbours, {"neighbours": 0}), (chaff.LinearMargin, {"penalty": 0.0})])  # fmt: skip
def test_settings_that_make_no_sense_are_refused(cls, bad):
    with pytest.raises(chaff.UsageError):
        cls(**bad)
