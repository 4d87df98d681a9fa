import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.models.forms import learn_form, sample
from chaff.models.protocols import ClosedForm
from tests.conftest import make_mixed

WORK = chaff.Work(seed=1)


def forest_predictions(table, train, test, model):
    bins = learn_form("bins", table.take(train), WORK)
    fitted = model.fit(bins.apply(table.take(train)), WORK)
    return fitted, fitted.predict(bins.apply(table.take(test)))


@pytest.mark.parametrize("weights", [None, "lot_weight"])
def test_least_squares_coefficients_equal_numpy(weights):
    frame = make_mixed()
    table = chaff.open_table(frame, target="y", weights=weights).with_features(["assay_0", "assay_1", "assay_2"])
    fitted = chaff.LeastSquares().fit(sample(table, "moments"), WORK)
    root = np.sqrt(table.weights if weights else np.ones(len(table)))[:, None]
    X = np.column_stack([np.ones(len(table)), frame[["assay_0", "assay_1", "assay_2"]]])
    beta = np.linalg.lstsq(X * root, table.y * root[:, 0], rcond=None)[0]
    np.testing.assert_allclose(fitted.coefficients[:, 0], beta[1:], rtol=1e-9)
    np.testing.assert_allclose(fitted.predict(sample(table, "design"))[:, 0], X @ beta, rtol=1e-9)
    assert isinstance(chaff.LeastSquares(), ClosedForm) and not isinstance(chaff.Forest(), ClosedForm)


def test_importance_of_a_category_is_that_of_its_whole_block():
    frame = make_mixed()
    table = chaff.open_table(frame, target="y").with_features(["variety", "assay_1"])
    fitted = chaff.Ridge().fit(sample(table, "moments"), WORK)
    assert fitted.importance().shape == (2,) and fitted.importance()[0] > fitted.importance()[1]
    with pytest.raises(chaff.UsageError, match="penalty"):
        chaff.Ridge(-1)


def test_forest_sees_plateaus_levels_and_interactions():
    rng = np.random.default_rng(0)
    frame = pd.DataFrame({"a": rng.normal(size=900), "b": rng.normal(size=900), "c": rng.choice(list("pqrstuv"), 900)})
    frame["y"] = 3 * np.minimum(frame["a"], 0) + 4 * frame["c"].isin(["p", "t"]) + 2 * (frame["a"] > 0) * (frame["b"] > 0)
    table = chaff.open_table(frame, target="y")
    fitted, out = forest_predictions(table, np.arange(700), np.arange(700, 900), chaff.Forest(trees=60, columns_per_split=3))
    truth = frame["y"].to_numpy()[700:]
    assert 1 - ((truth - out[:, 0]) ** 2).sum() / ((truth - truth.mean()) ** 2).sum() > 0.95
    assert fitted.importance().sum() == pytest.approx(1)


def test_forest_gives_class_shares():
    frame = make_mixed(300, classes=3)
    table = chaff.open_table(frame, target="y").with_features(["assay_0", "assay_2", "variety"])
    _, out = forest_predictions(table, np.arange(200), np.arange(200, 300), chaff.Forest(trees=40))
    np.testing.assert_allclose(out.sum(1), 1, atol=1e-12)
    assert out.min() > 0 and (out.argmax(1) == table.y[200:]).mean() > 0.5


def test_forest_weights_stand_for_repeated_rows():
    rng = np.random.default_rng(3)
    x = rng.normal(size=400)
    y = np.where(np.arange(400) < 200, x, -x)  # two worlds: weights decide which one is learned
    for which in (0, 1):
        w = np.where((np.arange(400) < 200) == (which == 0), 1.0, 1e-9)
        table = chaff.open_arrays(x[:, None], y, weights=w)
        _, out = forest_predictions(table, np.arange(400), np.arange(400), chaff.Forest(trees=30))
        assert np.corrcoef(out[:, 0], x)[0, 1] * (1 if which == 0 else -1) > 0.9


def test_forest_does_not_depend_on_workers_or_shift_of_the_target():
    table = chaff.demo.table(rows=300).with_features(["protein_pct", "variety", "mycotoxin_ppb"])
    train = sample(table, "bins")
    one, two = (chaff.Forest(trees=25).fit(train, chaff.Work(seed=2, workers=k)).predict(train) for k in (1, 2))
    np.testing.assert_array_equal(one, two)
    other = chaff.Forest(trees=25).fit(train, chaff.Work(seed=3)).predict(train)
    assert not np.array_equal(one, other)


def test_a_tree_draws_no_more_rows_than_asked():
    train = sample(chaff.demo.table(rows=400).with_features(["protein_pct", "ash_pct"]), "bins")
    few = chaff.Forest(trees=10, rows_per_tree=30).fit(train, WORK)
    whole = chaff.Forest(trees=10).fit(train, WORK)
    assert np.diff(few.first).max() <= 11  # at most 30 // 5 leaves
    assert np.diff(whole.first).min() > 60


def test_forest_settings_are_checked():
    for wrong in ({"trees": 0}, {"leaf_rows": 0}, {"depth": 0}, {"columns_per_split": 0}, {"rows_per_tree": 0}):
        with pytest.raises(chaff.UsageError):
            chaff.Forest(**wrong)
    f = chaff.Forest()
    assert f.drawn_columns(30, False) == 10 and f.drawn_columns(30, True) == 6
    assert chaff.Forest(columns_per_split=0.5).drawn_columns(9, False) == 5
    assert chaff.Forest(columns_per_split=99).drawn_columns(9, False) == 9
