import itertools

import numpy as np
import pytest

from chaff.metrics import METRICS, Truth, beside, default_metric, find_metric

RNG = np.random.default_rng(0)


def truth(targets, weights=None, means=None):
    t = np.asarray(targets, float).reshape(len(targets), -1)
    w = np.ones(len(t)) if weights is None else np.asarray(weights, float)
    return Truth(t, w, t.mean(0) if means is None else np.asarray(means, float))


def test_r2_is_about_the_training_mean():
    t = truth([1.0, 2.0, 3.0], means=[10.0])
    assert METRICS["r2"].of_predictions(t, np.full((3, 1), 10.0)) == 0
    assert METRICS["r2"].of_predictions(t, np.full((3, 1), 2.0)) == pytest.approx(1 - 2 / (81 + 64 + 49))


def test_errors_are_in_the_targets_own_units_and_weighted():
    t = truth([0.0, 0.0, 0.0], weights=[1, 1, 2])
    p = np.array([[3.0], [0.0], [1.0]])
    assert METRICS["rmse"].of_predictions(t, p) == pytest.approx(np.sqrt(11 / 4))
    assert METRICS["mae"].of_predictions(t, p) == pytest.approx(5 / 4)


def test_auc_is_the_chance_of_the_right_order_with_ties_half():
    y = RNG.random(40) < 0.4
    s = RNG.integers(0, 6, 40) / 6
    pairs = [(a > b) + 0.5 * (a == b) for a, b in itertools.product(s[y], s[~y])]
    assert METRICS["auc"].of_predictions(truth(y), s[:, None]) == pytest.approx(np.mean(pairs))
    w = RNG.integers(1, 4, 40)
    again = METRICS["auc"].of_predictions(truth(np.repeat(y, w)), np.repeat(s, w)[:, None])
    assert METRICS["auc"].of_predictions(truth(y, w), s[:, None]) == pytest.approx(again)


def test_log_loss_and_accuracy_of_two_and_three_classes_agree():
    y = RNG.integers(0, 2, 30)
    p = RNG.uniform(0.05, 0.95, 30)
    wanted = -np.mean(np.where(y == 1, np.log(p), np.log(1 - p)))
    two = np.stack([1 - p, p], 1)
    for t, q in ((truth(y), p[:, None]), (truth(np.eye(2)[y]), two)):
        assert METRICS["log_loss"].of_predictions(t, q) == pytest.approx(wanted)
        assert METRICS["accuracy"].of_predictions(t, q) == pytest.approx(((p > 0.5) == y).mean())
    assert np.isfinite(METRICS["log_loss"].of_predictions(truth([1.0, 0.0]), np.array([[0.0], [1.0]])))


def test_defaults_and_refusals():
    assert default_metric("regression").name == "r2" and default_metric("classification").name == "log_loss"
    assert [beside("classification", k).name for k in (2, 3)] == ["auc", "accuracy"]
    with pytest.raises(ValueError, match="Did you mean 'rmse'"):
        find_metric("rmsee", "regression")
