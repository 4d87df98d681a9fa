"""Ways of importance against predicting anew, enumeration, refits, and tables whose truth is known."""

import itertools
import math

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.evaluate.setting import Setting
from chaff.methods.importance.permutation import LEAST_ROWS, Strata, clusters, with_cells
from chaff.methods.importance.way import WAYS, fits
from chaff.models.forms import sample
from chaff.work import Work

WORK = Work(0, 1)


def made(n=300, seed=0, classes=0, copies=1, noise=2, groups=False):
    """A signal (perhaps several times, with a little noise of its own each), a category, and columns of noise."""
    rng = np.random.default_rng(seed)
    core = rng.normal(size=n)
    frame = pd.DataFrame({f"signal{k}": core + 0.03 * rng.normal(size=n) for k in range(copies)})
    frame["kind"] = rng.choice(["hard", "soft", "durum"], n)
    for k in range(noise):
        frame[f"noise{k}"] = rng.normal(size=n)
    z = 2 * core + (frame["kind"] == "soft") + 0.7 * rng.normal(size=n)
    frame["y"] = z if not classes else np.array(["a", "b", "c"])[np.digitize(z, [0] if classes == 2 else [-1, 1])]
    if groups:
        frame["mill"] = rng.integers(0, 12, n)
    return chaff.open_table(frame, target="y", groups="mill" if groups else None)


FITTING = {
    "given others": "forest", "permutation": "boosting", "impurity": "extremely random forest", "split standing": "forest",
    "drop column": "tree", "shapley": "forest", "pooled": "forest",
}  # fmt: skip


@pytest.mark.long
@pytest.mark.parametrize("by", sorted(WAYS.choices))
@pytest.mark.parametrize("classes", [0, 2, 3])
def test_every_way_finds_the_signal_and_gives_a_row_a_feature_with_its_spread(by, classes):
    table = made(classes=classes, groups=classes == 2)
    model = FITTING.get(by, "lasso" if classes == 0 else "logistic")
    found = chaff.importance(table, model, by)
    assert found.ranked().index[0] == "signal0" and list(found.frame.index) == list(table.features)
    assert (found.frame["importance_sd"] >= 0).all() and found.frame["scaled"].max() == 1
    assert found.more["by_fold"].shape == (len(table.features), 5)
    assert found.more["by_fold"].mean(axis=1).to_numpy() == pytest.approx(found.frame["importance"].to_numpy())
    again = chaff.importance(table, model, by, workers=1)
    pd.testing.assert_frame_equal(again.frame, found.frame)


def test_permutation_is_exactly_what_predicting_anew_loses():
    table = made(150)
    setting = Setting.of(table, 3, work=WORK)
    for model in (chaff.Forest(trees=10), chaff.Boosting(rounds=15), chaff.Ridge(), chaff.models.adapt(Mean, name="mean")):
        found = chaff.Permutation(shuffles=2).measure(table, model, setting)
        made_fits = fits(table, model, setting)
        around = np.mean([((f.split.test.targets[:, 0] - f.split.truth.train_means[0]) ** 2).mean() for f in made_fits])
        for k, fit in enumerate(made_fits):
            held = fit.split.test
            truth = held.targets[:, 0]
            base = (truth - fit.fitted.predict(held)[:, 0]) ** 2
            for f in table.features:
                rises = []
                for s in range(2):
                    order = fit.work.stream("shuffle", s).permutation(truth.size)
                    rises.append(((truth - fit.fitted.predict(with_cells(held, [f], order))[:, 0]) ** 2 - base).mean())
                assert found.more["by_fold"].loc[f].iloc[k] == pytest.approx(np.mean(rises) / around, abs=1e-10)


class Mean:
    def fit(self, X, y):
        self.w = np.linalg.lstsq(X - X.mean(0), y - y.mean(), rcond=1e-9)[0]
        self.a = y.mean() - X.mean(0) @ self.w

    def predict(self, X):
        return self.a + X @ self.w


def expected_value(tree, k, codes, known, sets_of):
    """The mean prediction below a node when only some columns are known, straight from the definition."""
    node, child = int(tree.node[k]), int(tree.node[k]) >> 32
    if child == k:
        return tree.value[k, 0], max(tree.pick[k], 1)
    f = (node >> 12) & 0xFFFFF
    left, right = (expected_value(tree, c, codes, known, sets_of) for c in (child, child + 1))
    if f in known:
        code = int(codes[f])
        goes = (
            bool((int(tree.sets[tree.pick[k], code >> 6]) >> (code & 63)) & 1)
            if node & 512
            else ((code - ((node >> 8) & 1)) & 255) <= (node & 255)
        )
        return (left if goes else right)[0], left[1] + right[1]
    return (left[0] * left[1] + right[0] * right[1]) / (left[1] + right[1]), left[1] + right[1]


def test_shapley_values_are_those_of_enumeration_and_add_up_to_the_prediction():
    table = made(120)
    rows = sample(table, "bins")
    tree = chaff.Tree(depth=4, leaf_rows=4).fit(rows, WORK)
    phi, p = tree.shapley(rows), len(table.features)
    for i in (0, 17, 90):
        codes = rows.data.codes[:, i]
        for f in range(p):
            total = 0.0
            for m in range(p):
                for known in itertools.combinations([g for g in range(p) if g != f], m):
                    gain = expected_value(tree, 0, codes, {*known, f}, None)[0] - expected_value(tree, 0, codes, set(known), None)[0]
                    total += math.factorial(m) * math.factorial(p - m - 1) / math.factorial(p) * gain
            assert phi[i, f, 0] == pytest.approx(total, abs=1e-10)
    for model, t in ((chaff.Forest(trees=9), made(120, classes=3)), (chaff.Tree(), table)):
        s = sample(t, "bins")
        fitted = model.fit(s, WORK)
        assert fitted.expected + fitted.shapley(s).sum(1) == pytest.approx(fitted.predict(s))
        assert fitted.expected + fitted.steps(s).sum(1) == pytest.approx(fitted.predict(s))


def test_drop_column_is_a_refit_and_the_closed_form_is_one_too():
    table = made(150)
    for model in (chaff.Ridge(0.05), chaff.Neighbours(9)):
        found = chaff.importance(table, model, "drop column")
        scorer = chaff.SubsetScorer(table, model)
        full = scorer(table.features).values
        for f in table.features:
            lost = full - scorer([g for g in table.features if g != f]).values
            assert found.more["by_fold"].loc[f].to_numpy() == pytest.approx(lost, abs=1e-9)


@pytest.mark.long
def test_impurity_likes_many_values_and_its_correction_does_not():
    raw, corrected = [], []
    for seed in range(100):
        rng = np.random.default_rng(seed)
        frame = pd.DataFrame({"few": rng.integers(0, 2, 120).astype(float), "many": rng.normal(size=120), "y": rng.normal(size=120)})
        found = chaff.importance(chaff.open_table(frame, target="y"), chaff.Forest(trees=15, leaf_rows=2), "impurity", workers=1)
        raw.append(found.frame["raw_share"])
        corrected.append(found.frame["importance"])
    raw, corrected = pd.DataFrame(raw), pd.DataFrame(corrected)
    assert raw["many"].mean() > 3 * raw["few"].mean()
    gap = corrected["many"] - corrected["few"]
    assert abs(gap.mean()) < 3 * gap.std() / 10 + 0.01 and abs(corrected["few"].mean()) < 0.02
    assert corrected["many"].mean() < 0.02


@pytest.mark.long
def test_two_copies_shuffled_together_have_what_either_had_alone():
    together, alone, apart = [], [], []
    for seed in range(4):
        two, one = made(400, seed, copies=2), made(400, seed, copies=1)
        way = chaff.Permutation(together=0.9)
        pair = chaff.importance(two, chaff.Forest(trees=60), way).frame
        assert pair.loc["signal0", "cluster"] == "signal0, signal1" and pair.loc["noise0", "cluster"] == ""
        together.append(pair.loc["signal0", "importance"])
        alone.append(chaff.importance(one, chaff.Forest(trees=60), way).frame.loc["signal0", "importance"])
        apart.append(chaff.importance(two, chaff.Forest(trees=60), "permutation").frame.loc["signal0", "importance"])
    assert np.mean(together) == pytest.approx(np.mean(alone), rel=0.12)
    assert np.mean(apart) < 0.6 * np.mean(alone)


def test_given_its_neighbours_a_proxy_has_next_to_nothing():
    rng = np.random.default_rng(0)
    core = rng.normal(size=600)
    frame = pd.DataFrame({"real": core, "proxy": core + 0.4 * rng.normal(size=600), "y": core + 0.4 * rng.normal(size=600)})
    table = chaff.open_table(frame, target="y")
    free, bound = (
        chaff.importance(table, chaff.Forest(trees=60), chaff.Permutation(given=g)).frame["importance"] for g in ("nothing", "neighbours")
    )
    assert bound["proxy"] < 0.35 * free["proxy"] and bound["real"] > 2 * bound["proxy"]


def test_strata_hold_enough_rows_and_cells_stay_within_them():
    table = made(500, copies=3)
    rows = sample(table, "bins")
    strata = Strata.learn(rows, rows, WORK)
    for f, label in enumerate(strata.labels):
        assert np.unique(label, return_counts=True)[1].min() >= LEAST_ROWS
        order = strata.deal(f, np.random.default_rng(0))
        assert sorted(order) == list(range(500)) and (label[order] == label).all()
    assert np.unique(strata.labels[0]).size > 3 and np.unique(strata.labels[-1]).size == 1
    assert sorted(map(len, clusters(rows.data, 0.9))) == [1, 1, 1, 3]


@pytest.mark.long
def test_coefficients_come_with_the_order_of_entering_half_samples_and_the_path():
    table = made(200)
    found = chaff.importance(table, chaff.Lasso(), chaff.Coefficient(resamples=8, beside=["ridge"]))
    frame = found.frame
    assert frame.loc["signal0", "enters"] == 1 and frame.loc["signal0", "selection_frequency"] == 1 and frame["kept"]["signal0"]
    assert frame["coefficient"]["signal0"] == pytest.approx(frame["raw"]["signal0"] * table.column("signal0").values.std())
    path, scored = found.more["path"], found.more["penalties"]
    assert path.shape == (100, 4) and scored["chosen"].sum() == 1 and not path.iloc[0].drop("signal0").any()
    assert ((path.loc[scored["chosen"].to_numpy()].iloc[0] != 0) == frame["kept"]).all()
    assert list(found.more["beside"].columns) == ["lasso", "ridge"]


@pytest.mark.long
def test_pooled_weighs_by_skill_names_where_it_disagrees_and_leaves_out_what_fails():
    class Fails(Mean):
        def predict(self, X):
            raise ValueError("out of flour")

    rng = np.random.default_rng(0)
    x = rng.normal(size=(300, 4))
    bent = chaff.open_arrays(x, x[:, 0] + 3 * np.abs(x[:, 1]) + 0.5 * rng.normal(size=300), names=["line", "bend", "n0", "n1"])
    found = chaff.importance(
        bent, "boosting", chaff.Pooled(models=["ridge", chaff.models.adapt(Fails)], ways=["permutation", "coefficient"])
    )
    weights = found.more["weights"]["weight"]
    assert weights["boosting, permutation"] > 2 * weights["ridge, permutation"] and weights.sum() == pytest.approx(1)
    said = " ".join(found.notes)
    assert "Fails was left out" in said and "coefficient was left out for boosting" in said
    assert found.frame["spread"].idxmax() == "bend" and "disagree most on bend" in said
    shares = chaff.importance(bent, "boosting", chaff.Pooled(models=["ridge"], scale="shares")).more["parts"]
    assert shares.sum().to_numpy() == pytest.approx(1, abs=1e-9)


def test_cuts_limits_and_another_model_beside():
    table = made(300)
    found = chaff.importance(table, "forest", "permutation", cut={"significant": 0.05}, against="ridge")
    assert found.frame.loc[found.frame["stays"]].index.tolist() == found.frame.index[found.frame["significant"]].tolist()
    assert list(found.more["against"].columns) == ["forest", "ridge", "forest, scaled", "ridge, scaled", "kept by"]
    assert found.more["against"].loc["signal0", "kept by"] == "both" and "rank the features" in found.notes[-1]
    assert found.try_limits([0.5, 1, 2, 3], rule="times_mean")["stay"].is_monotonic_decreasing
    with pytest.raises(chaff.UsageError, match="has no significance test"):
        chaff.importance(table, "forest", "impurity", cut={"significant": 0.05})


@pytest.mark.parametrize(("model", "by", "said"), [("forest", "coefficient", "cannot say its coefficients"), ("ridge", "impurity", "has no splits"), ("nearest neighbours", "shapley", "no Shapley values"), ("ridge", "given others", "lacks the method")])  # fmt: skip
def test_a_way_that_does_not_fit_the_model_says_which_do(model, by, said):
    with pytest.raises(chaff.ModelError, match=said):
        chaff.importance(made(80), model, by)


@pytest.mark.long
def test_nothing_is_beyond_chance_in_noise_more_often_than_promised():
    hits = {"permutation": 0, "drop column": 0}
    for seed in range(60):
        rng = np.random.default_rng(seed)
        table = chaff.open_arrays(rng.normal(size=(100, 5)), rng.normal(size=100))
        for by in hits:
            hits[by] += bool(chaff.importance(table, "ridge", by, workers=1, seed=seed).frame["significant"].any())
    assert all(h / 60 <= 0.05 + 2 * np.sqrt(0.05 * 0.95 / 60) for h in hits.values())


@pytest.mark.long
def test_the_mill_gives_up_its_kinds_of_signal_to_the_ways_that_should_see_them():
    lots = chaff.demo.table(rows=1600)
    lots = lots.with_features([f for f in lots.features if f not in ("crumb_score", "lot_no", "delivered_on", "farm_code", "line_id")])
    trees = chaff.importance(lots, chaff.Boosting(rounds=150), chaff.Permutation(shuffles=5)).rank()
    line = chaff.importance(lots, "lasso", chaff.Coefficient(resamples=0)).rank()
    for name in ("protein_pct", "falling_number_s", "harvest_rain_mm"):
        assert trees[name] <= 12 and line[name] <= 12
    pair = ["mixing_energy_wh_kg", "dough_temp_c"]  # they work together only
    assert trees[pair].max() <= 15 and line[pair].max() > 15
    assert trees["mycotoxin_ppb"] <= 5  # its absence tells
