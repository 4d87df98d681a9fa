"""A fitted model predicts frames, files and tables as it predicts the rows it was fitted on, and prints in a few lines."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import chaff

NAMES = ["protein_pct", "variety", "organic", "ash_pct", "falling_number_s"]
LOTS = chaff.demo.lots(rows=300)
TARGETS = ("loaf_volume", "accepted", "grade")


def table(target):
    return chaff.open_table(LOTS, target, features=NAMES)


@pytest.mark.long
@pytest.mark.parametrize("target", TARGETS)
@pytest.mark.parametrize("model", ["ridge", "lasso", "logistic", "forest", "boosting", "nearest neighbours", "naive Bayes"])
def test_a_frame_is_predicted_as_the_table_is(model, target):
    if target == "loaf_volume" and model in ("logistic", "naive Bayes"):
        pytest.skip("needs classes")
    here = table(target)
    fitted = chaff.models.fit(here, model)
    new = LOTS.tail(40)
    by_frame, by_table = fitted.predict(new), fitted.predict(here.take(np.arange(260, 300)))
    np.testing.assert_allclose(by_frame, by_table)
    assert by_frame.index.equals(new.index)
    if target == "grade":
        assert list(by_frame.columns) == list(here.target.classes)
        np.testing.assert_allclose(by_frame.sum(axis=1), 1.0, atol=1e-6)
    else:
        assert by_frame.name == ("loaf_volume" if target == "loaf_volume" else "probability of yes")
    np.testing.assert_array_equal(fitted.predict(new.drop(columns=[target])), by_frame)  # what it has to predict is not there
    backwards = fitted.predict(new[::-1])
    np.testing.assert_array_equal(backwards.loc[new.index], by_frame)


def test_files_gaps_and_levels_that_are_new(tmp_path):
    fitted = chaff.models.fit(table("loaf_volume"), "ridge")
    new = LOTS.tail(20).copy()
    expected = fitted.predict(new)
    new.to_csv(tmp_path / "new.csv", index=False)
    np.testing.assert_allclose(fitted.predict(tmp_path / "new.csv"), expected)
    new.loc[new.index[3], "variety"] = "Zara"
    new.loc[new.index[4], ["protein_pct", "organic"]] = None
    changed = fitted.predict(new)
    assert changed.notna().all() and np.flatnonzero(~np.isclose(changed, expected)).tolist() in ([3, 4], [4])
    one = fitted.predict(new.head(1))  # a single level in each column
    np.testing.assert_allclose(one, expected.head(1))


def test_levels_that_are_numbers_are_known_again():
    rng = np.random.default_rng(0)
    frame = pd.DataFrame({"code": rng.choice([1234567, 1234568], 120), "half": rng.choice([0.5, 2.0], 120), "x": rng.normal(size=120)})
    frame["y"] = frame["x"] + 3.0 * (frame["code"] == 1234567) + 2.0 * (frame["half"] == 0.5)
    fitted = chaff.models.fit(chaff.open_table(frame, "y", kinds={"half": "category"}), "ridge")
    np.testing.assert_allclose(fitted.predict(frame), frame["y"], atol=0.2)
    np.testing.assert_allclose(fitted.predict(frame.iloc[:1]), frame["y"].iloc[:1], atol=0.2)


def test_what_cannot_be_predicted_is_said():
    fitted = chaff.models.fit(table("loaf_volume"), "ridge")
    with pytest.raises(chaff.DataError, match="lacks 'ash_pct'"):
        fitted.predict(LOTS.drop(columns=["ash_pct"]))
    with pytest.raises(chaff.DataError, match="number"):
        fitted.predict(LOTS.assign(ash_pct="high"))


def test_derived_columns_and_flags_are_made_again():
    here = chaff.open_table(
        LOTS, "loaf_volume", features=["protein_pct", "falling_number_s", "delivered_on"], missing_flags=["falling_number_s"],
        derive={"delivered_on": ["age", "month"]},
    )  # fmt: skip
    usable = [f for f in here.features if f != "delivered_on"]
    fitted = chaff.models.fit(here.with_features(usable), "ridge")
    assert len(usable) == 5
    np.testing.assert_allclose(fitted.predict(LOTS.tail(30)), fitted.predict(here.take(np.arange(270, 300))))


def test_it_prints_in_a_few_lines_and_hands_on_what_the_fit_has():
    fitted = chaff.models.fit(table("loaf_volume"), "lasso")
    text = repr(fitted)
    assert len(text.splitlines()) <= 10 and "lasso on 300 rows, 5 features" in text and "protein_pct" in text and len(text) < 700
    assert fitted.importance().shape == (5,) and fitted.penalty > 0
    with pytest.raises(AttributeError):
        _ = fitted.nothing_like_it

    class Mean:
        def fit(self, X, y):
            self.mean = float(np.mean(y))
            return self

        def predict(self, X):
            return np.full(len(X), self.mean)

    assert chaff.models.fit(table("loaf_volume"), chaff.models.adapt(Mean)).predict(LOTS.head(3)).nunique() == 1


def test_the_frame_in_a_pipe_is_left_as_it_was():
    new = LOTS.head(5).copy()
    chaff.models.fit(table("grade"), "tree").predict(new)
    pd.testing.assert_frame_equal(new, LOTS.head(5))
