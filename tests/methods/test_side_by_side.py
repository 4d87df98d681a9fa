"""Scales, transforms of the target, and two models side by side."""

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.folds import make_folds
from chaff.methods.comparing.scale_comparison import NormalScores, Scaler, back, on_scale
from chaff.models.forms import learn_form
from chaff.work import Work
from tests.commands import run


@pytest.fixture(scope="module")
def numbers():
    rng = np.random.default_rng(0)
    frame = pd.DataFrame(rng.normal(size=(240, 4)) * [1, 50, 1e4, 0.01], columns=list("abcd"))
    frame.loc[:9, "a"] = np.nan
    frame["y"] = np.exp(0.4 * frame["a"].fillna(0) + 0.02 * frame["b"] + rng.normal(0, 0.5, 240))
    return chaff.open_table(frame, "y")


def test_a_standardised_ridge_is_the_ridge(numbers):
    found = chaff.try_scales(numbers, chaff.Ridge(0.1), scales=["standard", "none"])
    scorer = chaff.SubsetScorer(numbers, chaff.Ridge(0.1), "r2")
    assert found.frame.loc[1, "r2"] == pytest.approx(scorer(numbers.features).mean, abs=1e-6)
    assert abs(found.frame.loc[2, "r2"] - found.frame.loc[1, "r2"]) > 1e-4  # a penalty in raw units is another one


def test_scales_by_hand():
    X = np.array([[0.0, 1.0], [4.0, np.nan], [2.0, 3.0], [10.0, 3.0]])
    w = np.ones(4)
    ranged, robust, none = (Scaler.learn(X, w, how).apply(X) for how in ("min-max", "robust", "none"))
    np.testing.assert_allclose(ranged[:, 0], [0, 0.4, 0.2, 1])
    low, middle, high = np.quantile(X[:, 0], [0.25, 0.5, 0.75])
    np.testing.assert_allclose(robust[:, 0], (X[:, 0] - middle) / ((high - low) / 1.349))
    assert none[1, 1] == pytest.approx(7 / 3) and none[0].tolist() == [0, 1]
    flat = Scaler.learn(np.ones((5, 1)), np.ones(5), "standard").apply(np.ones((5, 1)))
    assert np.isfinite(flat).all()


def test_scales_are_learned_on_training_rows_only(numbers):
    model = on_scale(chaff.Neighbours(9), "min-max")
    rows = np.arange(200)
    train, spoilt = numbers.take(rows), numbers
    form = learn_form("design", train, Work())
    a = model.fit(form.apply(train), Work()).predict(form.apply(spoilt.take(np.arange(200, 220))))
    b = model.fit(form.apply(train), Work()).predict(form.apply(spoilt.take(np.arange(200, 240))))[:20]
    np.testing.assert_array_equal(a, b)


def test_a_log_target_comes_back_in_its_own_units_and_as_a_mean():
    rng = np.random.default_rng(1)
    off = rng.normal(0, 0.8, 20_000)
    assert back(np.array([[1.0]]), off[:, None], "log")[0, 0] == pytest.approx(np.exp(1.0 + 0.32), rel=0.03)
    assert back(np.array([[2.0]]), off[:, None], "square root")[0, 0] == pytest.approx(4 + 0.64, rel=0.03)


def test_the_log_helps_where_effects_multiply(numbers):
    found = chaff.try_scales(numbers, "ridge", scales=["standard"], transforms=["none", "log"])
    plain, logged = found.frame.loc[1], found.frame.loc[2]
    assert logged["rmse"] < plain["rmse"] and logged["difference"] > 0 and "Duan" in " ".join(found.notes)
    by_hand = [np.nan]
    folds = make_folds(numbers, 5, 1, Work())
    by_hand = []
    for split in folds.splits:
        train, test = (numbers.take(r) for r in folds.rows(split))
        X, Z = (
            np.column_stack([np.nan_to_num(t.column(f).values, nan=np.nanmean(train.column(f).values)) for f in numbers.features])
            for t in (train, test)
        )
        y = np.log(train.y)
        centre, sd = X.mean(0), X.std(0)
        A = (X - centre) / sd
        b = np.linalg.solve(A.T @ A + 0.01 * len(A) * np.eye(4), A.T @ (y - y.mean()))
        smear = np.exp(y - y.mean() - A @ b).mean()
        by_hand.append(np.sqrt(((np.exp((Z - centre) / sd @ b + y.mean()) * smear - test.y) ** 2).mean()))
    assert logged["rmse"] == pytest.approx(np.mean(by_hand), rel=1e-6)


def test_columns_and_targets_are_bent_by_training_rows():
    rng = np.random.default_rng(3)
    x = np.exp(rng.normal(size=400))
    table = chaff.open_arrays(np.column_stack([x, rng.normal(size=400)]), np.exp(0.5 * np.log(x) + 0.2 * rng.normal(size=400)))
    found = chaff.try_scales(table, "least squares", scales=["none", "standard", "log", "rank-normal"], transforms=["none", "rank-normal"])
    r2 = found.frame.set_index(["scale", "transform"])["r2"]
    assert (
        r2[("none", "none")] == pytest.approx(r2[("standard", "none")], abs=1e-8)
        and r2[("rank-normal", "rank-normal")] > r2[("none", "none")]
    )
    scores = NormalScores.learn(x[:200])
    np.testing.assert_allclose(scores.backward(scores.forward(x[:200])), x[:200], rtol=1e-9)
    assert np.isfinite(scores.forward(x[200:])).all()
    np.testing.assert_allclose(scores.forward(np.array([np.median(x[:200])])), 0, atol=0.02)
    near = back(np.zeros((1, 1)), rng.normal(0, 1, (4000, 1)), "rank-normal", scores)  # noise of one: the mean of all values
    assert near[0, 0] == pytest.approx(x[:200].mean(), rel=0.05)
    logged = Scaler.learn(np.array([[2.0], [5.0]]), np.ones(2), "log").apply(np.array([[2.0], [5.0], [-9.0]]))
    np.testing.assert_allclose(logged[:, 0], [0, np.log(4), np.log(0.5)])


def test_trees_take_no_notice_and_what_does_not_fit_is_refused(numbers):
    found = chaff.try_scales(numbers, chaff.Forest(20))
    assert found.frame["scale"].tolist() == ["any"] and "no notice" in found.notes[1]
    with pytest.raises(chaff.UsageError, match="Did you mean 'robust'"):
        chaff.try_scales(numbers, scales=["robus"])
    low = chaff.open_table(pd.DataFrame({"a": range(60), "y": [-1.0, *range(59)]}), "y")
    for transform in ("log", "square root"):
        with pytest.raises(chaff.UsageError, match="the least y is -1"):
            chaff.try_scales(low, transforms=[transform])
    classes = chaff.open_table(pd.DataFrame({"a": range(60), "y": ["u", "v"] * 30}), "y")
    with pytest.raises(chaff.UsageError, match="has classes"):
        chaff.try_scales(classes, transforms=["log"])
    assert "auc" in chaff.try_scales(classes, chaff.Neighbours(9)).metrics


def test_a_persons_own_model_is_given_scaled_columns(numbers):
    seen = []

    class Peek:
        def fit(self, X, y):
            seen.append((float(X.min()), float(X.max())))
            self.mean = float(np.mean(y))

        def predict(self, X):
            return np.full(len(X), self.mean)

    chaff.try_scales(numbers, chaff.models.adapt(Peek), scales=["min-max"])
    assert len(seen) == 5 and all(low == pytest.approx(0) and high == pytest.approx(1) for low, high in seen)


@pytest.mark.long
def test_two_models_share_and_lose_what_they_should():
    rng = np.random.default_rng(2)
    frame = pd.DataFrame(rng.normal(size=(400, 6)), columns=[f"assay_{k}" for k in range(6)])
    frame["y"] = frame["assay_0"] * 2 + np.sign(frame["assay_1"]) * np.sign(frame["assay_2"]) * 1.5 + rng.normal(0, 0.7, 400)
    found = chaff.two_models(chaff.open_table(frame, "y"), "ridge", chaff.Forest(60), folds=4)
    assert "assay_0" in found.shared and {"assay_1", "assay_2"} <= set(found.kept[1]) and not {"assay_1", "assay_2"} & set(found.only[0])
    forest = found.frame.loc["forest"]
    assert forest["loss"] > 3 * forest["loss_se"] > 0 and "loses" in found.words[1]
    assert found.frame.loc["ridge", "loss"] < 0.1 and forest["own"] == pytest.approx(forest["other"] + forest["loss"])


@pytest.mark.long
def test_on_the_command_line(tmp_path):
    chaff.demo.lots(rows=250)[["protein_pct", "ash_pct", "harvest_rain_mm", "loaf_volume"]].to_csv(tmp_path / "lots.csv", index=False)
    said = run(
        "compare", "lots.csv", "--target", "loaf_volume", "--method", "leading", "--method", "forward", "--sizes", "1,2", "--scales", "standard,none",
        "--transforms", "none,log", "--against", "tree", "--report", "r.html", cwd=tmp_path,
    )  # fmt: skip
    words = " ".join(said.split())
    assert "4 preparations side by side" in words and "kept by both" in words and (tmp_path / "r.html").stat().st_size > 20_000
    assert "unknown scale" in run(
        "compare", "lots.csv", "--target", "loaf_volume", "--method", "leading", "--scales", "odd", cwd=tmp_path, code=2
    )
