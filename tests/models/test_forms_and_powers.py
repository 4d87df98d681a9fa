"""What a model can do is asked by method, and the form that it asks for is the form that it gets."""

from dataclasses import dataclass

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.errors import ModelError, UsageError
from chaff.evaluate.closed import ClosedEngine
from chaff.evaluate.fitted import FittedEngine
from chaff.evaluate.scorer import SubsetScorer
from chaff.models.forms import FORMS, learn_form
from chaff.models.protocols import ClosedForm
from chaff.work import Work


@dataclass(frozen=True)
class Lasso:
    """A person's own model: it has a penalty, and it is no ridge."""

    penalty: float = 0.1
    form: str = "design"
    label = "lasso"

    @property
    def learns(self):
        return self.form

    @property
    def reads(self):
        return self.form

    gives = frozenset({"values"})

    def fit(self, train, work):
        raise ArithmeticError("this fit is called, and fails")


@dataclass(frozen=True)
class ByFrame:
    """Learns from a frame: the mean of the target by level of a category, and the slope of one number."""

    label = "by frame"
    learns = reads = "frame"
    gives = frozenset({"values"})

    def fit(self, train, work):
        frame = train.data
        assert isinstance(frame, pd.DataFrame)
        assert tuple(frame.columns) == train.features
        return _FrameFit(float(train.targets[:, 0].mean()), {c: str(frame[c].dtype) for c in frame})


@dataclass(frozen=True)
class _FrameFit:
    mean: float
    kinds: dict

    def predict(self, rows):
        assert {c: str(rows.data[c].dtype) for c in rows.data} == self.kinds
        return np.full((len(rows.data), 1), self.mean)


@pytest.fixture(scope="module")
def table(mixed):
    return chaff.open_table(mixed, target="y", ignore=["mill", "day", "lot_weight"])


def test_a_penalty_makes_no_ridge_and_a_failing_fit_is_told(table):
    scorer = SubsetScorer(table, Lasso())
    assert not isinstance(Lasso(), ClosedForm)
    assert isinstance(scorer.engine, FittedEngine)
    with pytest.raises(ModelError, match=r"(?s)lasso.*this fit is called, and fails"):
        scorer(["assay_0"])


def test_the_power_is_a_method_and_says_which_ridge_it_is(table):
    assert chaff.Ridge(0.3).ridge_equivalent() == 0.3
    assert chaff.LeastSquares().ridge_equivalent() == 0.0

    @dataclass(frozen=True)
    class Shrunk:
        label = "shrunk"
        learns = reads = "moments"
        gives = frozenset({"values"})

        def ridge_equivalent(self):
            return 0.3

        def fit(self, train, work):
            raise AssertionError("a closed form is scored without a fit")

    mine, theirs = SubsetScorer(table, Shrunk()), SubsetScorer(table, chaff.Ridge(0.3))
    assert isinstance(mine.engine, ClosedEngine)
    np.testing.assert_array_equal(mine(table.features).values, theirs(table.features).values)


def test_an_unknown_form_is_an_error_with_the_forms_there_are(table):
    with pytest.raises(ModelError, match=r"asks for the form 'dezign'; choose from moments, design, bins, frame\. Did you mean 'design'"):
        SubsetScorer(table, Lasso(form="dezign"))(["assay_0"])


def test_a_model_that_asks_for_a_frame_gets_one(table):
    score = SubsetScorer(table, ByFrame())(["assay_0", "variety", "gap_a"])
    assert abs(score.mean) < 0.1  # the training mean: R² about 0, not a failure


def test_the_frame_has_the_cells_of_the_table(table, mixed):
    frame = learn_form("frame", table, Work()).apply(table).data
    np.testing.assert_array_equal(frame["gap_a"], mixed["gap_a"])
    assert frame["variety"].astype(object).fillna("-").tolist() == mixed["variety"].fillna("-").tolist()


@pytest.mark.parametrize("form", sorted(FORMS))
def test_a_form_cut_down_is_the_form_of_fewer_features(table, form):
    some = ("gap_b", "variety", "assay_1")
    train, test = table.take(np.arange(0, 160)), table.take(np.arange(160, 240))
    whole = learn_form(form, train, Work())
    fresh = learn_form(form, train.with_features(some), Work())
    for rows in (train, test):
        got, want = whole.select(whole.apply(rows), some), fresh.apply(rows.with_features(some))
        assert got.features == want.features == some
        for a, b in zip(_plain(got.data), _plain(want.data), strict=True):
            np.testing.assert_allclose(a, b, rtol=1e-12, atol=1e-12)


def _plain(data):
    if isinstance(data, pd.DataFrame):
        return [data[c].cat.codes.to_numpy() if data[c].dtype == "category" else data[c].to_numpy() for c in data]
    if hasattr(data, "P"):
        return [data.P, data.sums, data.N, data.S, data.Q, data.means, data.correlations()]
    return [getattr(data, "X", getattr(data, "codes", None))]


def test_models_are_named_with_their_settings_and_all_mistakes_at_once():
    assert chaff.Search(model={"name": "ridge", "penalty": 0.1}).model == chaff.Ridge(0.1)
    assert chaff.Search(model="least squares").model == chaff.LeastSquares()
    with pytest.raises(UsageError, match="unknown model 'rigde'") as wrong:
        chaff.Search(model="rigde")
    assert "ridge" in str(wrong.value)
    with pytest.raises(UsageError, match=r"penalti.*tree"):
        chaff.Search(model={"name": "ridge", "penalti": 0.1, "trees": 3})
