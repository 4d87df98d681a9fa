"""Logistic regression against optimality conditions, a general optimiser and known cases."""

import numpy as np
import pytest
from scipy.optimize import minimize

import chaff
from chaff.models.forms import sample
from chaff.stats.logistic import fit_logistic, probabilities
from chaff.work import Work


def made(n, q, classes, seed=0):
    rng = np.random.default_rng(seed)
    X = rng.normal(size=(n, q))
    Z = X @ rng.normal(size=(q, classes))
    k = (
        np.exp(Z - Z.max(1, keepdims=True)).cumsum(1) / np.exp(Z - Z.max(1, keepdims=True)).sum(1, keepdims=True) < rng.random((n, 1))
    ).sum(1)
    X -= X.mean(0)
    return X, (k == 1).astype(float)[:, None] if classes == 2 else np.eye(classes)[k], rng.random(n) + 0.2


def objective(B, X, shares, w, penalty):
    Z = B[0] + X @ B[1:]
    if Z.shape[1] == 1:
        loss = np.logaddexp(0, Z[:, 0]) - shares[:, 0] * Z[:, 0]
    else:
        loss = np.log(np.exp(Z).sum(1)) - (shares * Z).sum(1)
    return w @ loss + 0.5 * penalty * w.sum() * (B[1:] ** 2).sum()


@pytest.mark.parametrize("classes", [2, 4])
@pytest.mark.parametrize("q", [3, 120])  # Newton steps, and more coefficients than they pay for
def test_the_fit_is_where_no_direction_lowers_the_objective(classes, q):
    X, shares, w = made(220, q, classes)
    fit = fit_logistic(X, shares, w, 0.02)
    assert fit.converged
    P = probabilities(fit.coefficients[0] + X @ fit.coefficients[1:])
    slope = X.T @ (w[:, None] * (P - shares)) + 0.02 * w.sum() * fit.coefficients[1:]
    assert np.abs(slope).max() < 2e-6 * w.sum() and abs((w @ (P - shares)).sum()) < 2e-6 * w.sum()
    if q == 3:
        other = minimize(lambda b: objective(b.reshape(fit.coefficients.shape), X, shares, w, 0.02), np.zeros(fit.coefficients.size))
        assert objective(fit.coefficients, X, shares, w, 0.02) <= other.fun + 1e-6


def test_a_weight_of_two_is_the_row_twice():
    X, shares, _ = made(80, 2, 2)
    w = np.where(np.arange(80) < 30, 2.0, 1.0)
    twice = np.r_[np.arange(80), np.arange(30)]
    a = fit_logistic(X, shares, w, 0.05).coefficients
    np.testing.assert_allclose(a, fit_logistic(X[twice], shares[twice], np.ones(110), 0.05).coefficients, atol=1e-6)


def test_without_a_column_the_shares_are_predicted():
    _, shares, w = made(90, 1, 3)
    fit = fit_logistic(np.empty((90, 0)), shares, w, 0.1)
    np.testing.assert_allclose(probabilities(fit.coefficients[:1]), (w @ shares / w.sum())[None, :], atol=1e-6)


def test_separation_is_seen_and_the_coefficients_stay_finite():
    x = np.linspace(-1, 1, 40)
    fit = fit_logistic(x[:, None], (x > 0).astype(float)[:, None], np.ones(40), 1e-4)
    assert fit.separated and np.isfinite(fit.coefficients).all()
    X, shares, w = made(200, 2, 2)
    assert not fit_logistic(X, shares, w, 1e-4).separated


def test_the_model_scales_fills_and_knows_levels():
    table = chaff.demo.table(rows=300, target="grade").with_features(["protein_pct", "seed_width_mm", "variety"])
    fitted = chaff.Logistic(0.01).fit(sample(table, "design"), Work())
    P = fitted.predict(sample(table, "design"))
    assert P.shape == (300, 3) and np.allclose(P.sum(1), 1) and fitted.importance().shape == (3,)
    assert fitted.importance().argmax() in (0, 2)
    with pytest.raises(chaff.ModelError, match="needs classes"):
        chaff.Logistic().fit(sample(chaff.demo.table(rows=60), "design"), Work())
    with pytest.raises(chaff.UsageError, match="over 0"):
        chaff.Logistic(0.0)
