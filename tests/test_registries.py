"""What every registered model, strategy, way and statistic promises: a newcomer's file is held to it without a test of its own."""

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.methods.importance.way import WAYS
from chaff.methods.relevance.catalogue import STATISTICS
from chaff.methods.search.strategy import STRATEGIES, as_strategy, trail_of
from chaff.models.model_checks import made_table
from chaff.models.named import MODELS
from tests.methods.importance.test_ways import FITTING
from tests.methods.search.test_strategies import FEW as FEW_SETS
from tests.models.test_odd_tables import SMALL

FAST = ["signal", "noise", "ties", "gaps", "yes"]
ORDERED = ("along", "swap")  # strategies that a person gives an order or a size


def table(classes=0, **roles):
    return made_table(classes, **roles).with_features(FAST)


# ---- models


@pytest.mark.long
@pytest.mark.parametrize("name", MODELS.choices)
def test_a_model_keeps_what_models_promise(name):
    found = chaff.models.check(SMALL.get(name, name))
    assert found.passed, str(found)
    assert (found.frame["result"] == "passed").sum() >= 12


class Constant:
    def fit(self, X, y):
        self.value = float(np.mean(y))

    def predict(self, X):
        return np.full(len(X), self.value)


class LooksAround(Constant):
    def predict(self, X):
        return np.full(len(X), X[:, 0].mean())


class Improper(Constant):
    def fit(self, X, y):
        self.classes_ = sorted(set(y))

    def predict_proba(self, X):
        return np.full((len(X), len(self.classes_)), 1.0)


@pytest.mark.parametrize(
    ("model", "checks"),
    [
        (Constant, {"better than the baseline"}),
        (LooksAround, {"better than the baseline", "each row by itself", "units, weights and groups"}),
        (Improper, {"probabilities"}),
    ],
)
def test_a_model_of_ones_own_that_breaks_a_promise_is_told_which(model, checks):
    found = chaff.models.check(chaff.models.adapt(model, name="mine"))
    failed = set(found.frame.loc[found.frame["result"] == "failed", "check"])
    assert not found.passed and checks <= failed and all(name in str(found) for name in checks)


class NumbersOnly(Constant):
    def fit(self, X, y):
        self.mean, self.slope = np.mean(y), np.cov(X[:, 0], y)[0, 1] / np.var(X[:, 0])

    def predict(self, X):
        return self.mean + self.slope * X[:, 0]


def test_a_model_for_numbers_is_checked_on_numbers_alone():
    mine = chaff.models.adapt(NumbersOnly)
    found = chaff.models.check(mine, target="number")
    assert found.passed, str(found)
    assert set(found.frame["target"]) == {"a number"}
    every = str(chaff.models.check(mine)).splitlines()
    assert len(every) == 3, "one line for a target whose checks all fail for one reason"
    with pytest.raises(chaff.UsageError, match="target must be any, number or classes"):
        chaff.models.check(mine, target="counts")


# ---- strategies


def said(name):
    known = {"along": {"order": FAST[::-1]}, "swap": {"size": 2}}
    return {"name": name} | known.get(name, FEW_SETS.get(name, {}))


@pytest.mark.parametrize("classes", [0, 3])
@pytest.mark.parametrize("name", STRATEGIES.choices)
def test_a_strategy_keeps_what_strategies_promise(name, classes):
    t, model = table(classes), chaff.Logistic() if classes else chaff.Ridge()
    if name == "branch and bound" and classes:
        return
    scorer = chaff.SubsetScorer(t, model, folds=3)
    trail = trail_of(as_strategy(said(name)), scorer, frozenset({"ties"}), chaff.Work(0, 1))
    assert trail.moves and all("ties" in m.features for m in trail.moves), "pinned features are in every set"
    for move in trail.moves:
        np.testing.assert_allclose(move.values, scorer(move.features).values, atol=1e-9, err_msg="a score is that of its set")
    again = trail_of(as_strategy(said(name)), chaff.SubsetScorer(t, model, folds=3), frozenset({"ties"}), chaff.Work(0, 2))
    assert [m.features for m in again.moves] == [m.features for m in trail.moves], "any number of workers, twice"
    one = t.with_features(["signal", "ties"])
    few = {"name": name, "order": ["signal"]} if name == "along" else {"name": name, "size": 2} if name == "swap" else said(name)
    small = trail_of(as_strategy(few), chaff.SubsetScorer(one, model, folds=3), frozenset(), chaff.Work(0, 1))
    assert small.moves and {f for m in small.moves for f in m.features} <= {"signal", "ties"}, "two features"


# ---- ways of importance


@pytest.mark.long
@pytest.mark.parametrize("name", WAYS.choices)
def test_a_way_keeps_what_ways_promise(name):
    model = {"forest": chaff.Forest(trees=20), "boosting": chaff.Boosting(rounds=10)}.get(
        FITTING.get(name, "ridge"), FITTING.get(name, "ridge")
    )
    model = chaff.ExtremelyRandomForest(trees=20) if model == "extremely random forest" else model
    plain = chaff.importance(table(), model, name, folds=3)
    assert list(plain.frame.index) == FAST and plain.ranked().index[0] == "signal", "a row a feature; the signal leads"
    assert np.isfinite(plain.frame["importance"]).all()
    pd.testing.assert_frame_equal(plain.frame, chaff.importance(table(), model, name, folds=3, workers=2).frame)
    unit = chaff.importance(table(scale=1000.0, shift=5000.0), model, name, folds=3)
    assert unit.ranked().index[0] == "signal"
    np.testing.assert_allclose(unit.frame["scaled"], plain.frame["scaled"], atol=1e-3, err_msg="the unit of the target")
    alone = ["signal", "noise"] if name == "split standing" else ["signal"]  # it compares features
    for other in (table(2, weights="weight"), table(3, groups="mill"), made_table(0).with_features(alone)):
        found = chaff.importance(other, model, name, folds=3)
        assert np.isfinite(found.frame["importance"]).all() and found.ranked().index[0] == "signal", "weights, groups, one feature"


# ---- statistics


def values(name, given, **settings):
    """The statistic of every feature that it fits; None where it fits none."""
    try:
        return chaff.relevance(given, [name], **settings).frame
    except chaff.UsageError as error:
        assert any(words in str(error) for words in ("does not fit", "weights", "two classes")), error
        return None


@pytest.mark.parametrize("classes", [0, 2, 3])
@pytest.mark.parametrize("name", STATISTICS)
def test_a_statistic_keeps_what_statistics_promise(name, classes):
    plain = values(name, made_table(classes))
    if plain is None:
        return
    t = made_table(classes)
    column = name if name in plain else f"{name}_p"
    assert list(plain.index) == list(t.features) and plain[column].notna().any()
    present = {f: int((~t.column(f).missing).sum()) for f in t.features}
    counted = plain["rows"].dropna()
    assert all(counted[f] in (present[f], len(t)) for f in counted.index), "rows are those that were used"
    pd.testing.assert_frame_equal(plain, values(name, t, workers=2), obj="any number of workers")
    if not STATISTICS[name].by_request:
        turned = values(name, t.with_features(t.features[::-1]))
        pd.testing.assert_frame_equal(turned.loc[plain.index], plain, check_exact=False, rtol=1e-9, obj="the order of columns")
        alone = values(name, t.with_features(["signal"]))
        if alone is not None and plain.loc["signal", column] == plain.loc["signal", column]:
            assert alone.loc["signal", column] == pytest.approx(plain.loc["signal", column], rel=1e-9), "a column by itself"
    if not classes:
        unit = values(name, made_table(0, scale=1000.0, shift=5000.0))
        assert unit["effect_size"].to_numpy(float) == pytest.approx(plain["effect_size"].to_numpy(float), rel=1e-6, nan_ok=True)
    values(name, made_table(classes, weights="weight"))
    values(name, made_table(classes, groups="mill"))
