"""Penalised paths against their optimality conditions, closed forms and SciPy's minimiser."""

import itertools

import numpy as np
import pytest
from scipy.optimize import minimize

from chaff.models.penalty_path import equal_columns
from chaff.stats.margins import fit_margin
from chaff.stats.penalised import FromMoments, FromRows, Penalty, walk_path
from chaff.stats.penalised_logistic import start, walk_logistic


def design(n, q, seed, common=0.0):
    rng = np.random.default_rng(seed)
    X = rng.normal(size=(n, q)) + common * rng.normal(size=(n, 1))
    X = (X - X.mean(0)) / X.std(0)
    y = X[:, : min(q, 6)] @ rng.normal(size=min(q, 6)) + rng.normal(size=n)
    return X, (y - y.mean()) / y.std()


def plain_violation(X, y, b, first, second):
    """The optimality conditions of single columns, written down from the definition."""
    g = X.T @ (y - X @ b) / len(y) - second * b
    return np.where(b != 0, np.abs(g - first * np.sign(b)), np.maximum(0, np.abs(g) - first)).max()


@pytest.mark.parametrize(
    ("n", "q", "common", "share"), [(300, 40, 0, 1), (300, 40, 3, 0.5), (60, 300, 0, 1), (50, 200, 2, 0.3), (80, 80, 0, 1)]
)
def test_every_point_of_a_path_meets_the_optimality_conditions(n, q, common, share):
    X, y = design(n, q, n + q, common)
    penalty = Penalty(np.arange(q + 1), share, np.ones(q))
    source = FromMoments(X.T @ X / n, X.T @ y / n) if n > q else FromRows(X.T / np.sqrt(n), y / np.sqrt(n))
    penalties = penalty.highest(X.T @ y / n) * np.geomspace(1, 1e-2, 40)
    points = walk_path(source, penalty, penalties)
    worst = max(plain_violation(X, y, p.b, lam * share, lam * (1 - share)) for lam, p in zip(penalties, points, strict=True))
    assert worst < 1e-8 and np.abs(points[0].b).max() < 1e-12 and np.count_nonzero(points[-1].b) > 5
    spoiled = points[-1].b + 1e-3 * (points[-1].b != 0)
    assert plain_violation(X, y, spoiled, penalties[-1] * share, penalties[-1] * (1 - share)) > 1e-5  # the check itself can fail


def test_an_orthogonal_design_has_a_closed_form():
    rng = np.random.default_rng(0)
    Q = np.linalg.qr(rng.normal(size=(200, 12)))[0] * np.sqrt(200)
    y = rng.normal(size=200)
    c = Q.T @ y / 200
    for lam in (0.2, 0.05, 0.0):
        b = walk_path(FromMoments(Q.T @ Q / 200, c), Penalty(np.arange(13), 1.0, np.ones(12)), np.array([lam]))[0].b
        assert np.abs(b - np.sign(c) * np.maximum(np.abs(c) - lam, 0)).max() < 1e-9


def test_without_a_length_penalty_it_is_ridge():
    X, y = design(150, 20, 1, 1.0)
    penalty = Penalty(np.arange(21), 1e-9, np.ones(20))
    b = walk_path(FromMoments(X.T @ X / 150, X.T @ y / 150), penalty, np.array([0.3]))[0].b
    assert np.abs(b - np.linalg.solve(X.T @ X / 150 + 0.3 * np.eye(20), X.T @ y / 150)).max() < 1e-7


def test_blocks_come_and_go_as_a_whole_and_match_a_general_minimiser():
    X, y = design(250, 9, 3)
    starts = np.array([0, 3, 5, 6, 9])
    penalty = Penalty(starts, 1.0, np.sqrt(np.diff(starts)))
    G, c = X.T @ X / 250, X.T @ y / 250
    for point, lam in zip(walk_path(FromMoments(G, c), penalty, np.array([0.25, 0.1, 0.03])), (0.25, 0.1, 0.03), strict=True):
        blocks = [point.b[a:b] for a, b in itertools.pairwise(starts)]
        assert all((np.abs(b) > 0).all() or not b.any() for b in blocks)

        def target(b, lam=lam):
            return 0.5 * b @ G @ b - c @ b + lam * (penalty.factors @ penalty.lengths(b))

        assert target(point.b) <= minimize(target, point.b + 0.01, method="Powell", options={"xtol": 1e-10, "ftol": 1e-14}).fun + 1e-9


@pytest.mark.parametrize(("n", "q", "classes"), [(400, 12, 2), (300, 8, 3), (40, 120, 2), (60, 50, 4)])
def test_logistic_paths_match_scipys_minimiser(n, q, classes):
    rng = np.random.default_rng(n)
    X = rng.normal(size=(n, q))
    X = (X - X.mean(0)) / X.std(0)
    score = X[:, :4] @ rng.normal(size=(4, max(1, classes - (classes == 2)))) + rng.gumbel(size=(n, 1 if classes == 2 else classes))
    Y = (score > 0.5).astype(float) if classes == 2 else np.eye(classes)[score.argmax(1)]
    w, penalty, k = np.full(n, 1 / n), Penalty(np.arange(q + 1), 0.7, np.ones(q)), Y.shape[1]
    state = start(np.ascontiguousarray(X.T), Y, w, penalty)
    lam = 0.15 * state.penalty.highest(state.pull()[0])
    found = walk_logistic(np.ascontiguousarray(X.T), Y, w, penalty, np.array([3 * lam, lam]))[-1]
    assert found.violation < 1e-8

    def loss(a, B):
        eta = a + X @ B
        return (
            (np.logaddexp(0, eta[:, 0]) - Y[:, 0] * eta[:, 0]).mean() if k == 1 else (np.logaddexp.reduce(eta, 1) - (eta * Y).sum(1)).mean()
        )

    def target(flat):  # coefficients as the difference of two that are not negative, so that the length has a gradient
        a, P, N = flat[:k], flat[k : k + q * k].reshape(q, k), flat[k + q * k :].reshape(q, k)
        B = P - N
        eta = a + X @ B
        e = np.exp(eta - eta.max(1, keepdims=True))
        R = (1 / (1 + np.exp(-eta)) if k == 1 else e / e.sum(1, keepdims=True)) - Y
        G = X.T @ R / n + 0.3 * lam * B
        value = loss(a, B) + 0.7 * lam * (P + N).sum() + 0.15 * lam * (B**2).sum()
        return value, np.concatenate([R.mean(0), (G + 0.7 * lam).ravel(), (0.7 * lam - G).ravel()])

    bounds = [(None, None)] * k + [(0, None)] * (2 * q * k)
    options = {"ftol": 1e-15, "gtol": 1e-10, "maxiter": 20_000, "maxfun": 100_000}
    best = minimize(target, np.zeros(k + 2 * q * k), jac=True, method="L-BFGS-B", bounds=bounds, options=options)
    here = loss(found.intercepts, found.B) + 0.7 * lam * np.abs(found.B).sum() + 0.15 * lam * (found.B**2).sum()
    assert here <= best.fun + 1e-8
    assert np.abs(found.B - (best.x[k : k + q * k] - best.x[k + q * k :]).reshape(q, k)).max() < 2e-4


def test_the_margin_matches_scipys_minimiser_for_classes_and_numbers_and_wide_tables():
    for n, q, epsilon in ((200, 6, None), (200, 6, 0.1), (30, 90, None), (30, 90, 0.2)):
        X, y = design(n, q, n)
        y = np.sign(y) if epsilon is None else y
        w = np.full(n, 1 / n)

        def target(b, X=X, y=y, w=w, epsilon=epsilon):
            z = b[0] + X @ b[1:]
            past = np.maximum(0, 1 - y * z) if epsilon is None else np.maximum(0, np.abs(z - y) - epsilon)
            return 0.5 * w @ past**2 + 0.025 * b[1:] @ b[1:]

        fit = fit_margin(X, y, w, 0.05, epsilon)
        best = minimize(target, np.zeros(q + 1), method="L-BFGS-B", options={"ftol": 1e-15, "gtol": 1e-9, "maxfun": 10**6})
        assert fit.converged and target(np.append(fit.intercept, fit.b)) <= best.fun + 1e-8


def test_equal_and_opposite_columns_are_found_among_many():
    rng = np.random.default_rng(1)
    Z = rng.normal(size=(50, 400))
    Z[:, 30], Z[:, 350], Z[:, 7] = Z[:, 3], -Z[:, 3], Z[:, 200]
    assert sorted(map(list, equal_columns(Z))) == [[3, 30, 350], [7, 200]]
    assert equal_columns(rng.normal(size=(50, 400))) == []


@pytest.mark.parametrize("share", [1.0, 0.4, 0.0])
def test_compiled_and_plain_paths_agree(share, monkeypatch):
    """Near copies, a free column, a constant one: coefficients, gradients and violations of both walks."""
    from chaff.stats import penalised
    from chaff.stats.penalised import FromMoments, Penalty, walk_path

    rng = np.random.default_rng(4)
    Z = rng.normal(size=(80, 20))
    Z[:, 5] = Z[:, 4] + 1e-3 * rng.normal(size=80)
    Z[:, 6] = 0.0
    y = Z[:, 4] - 0.5 * Z[:, 9] + rng.normal(size=80)
    quadratic = FromMoments(Z.T @ Z / 80, Z.T @ y / 80)
    factors = np.ones(20)
    factors[9] = 0.0
    penalty, penalties = Penalty(np.arange(21), share, factors), np.geomspace(1.0, 1e-3, 40)
    compiled = walk_path(quadratic, penalty, penalties)
    monkeypatch.setattr(penalised, "WIDEST_COMPILED", 0)
    plain = walk_path(quadratic, penalty, penalties)
    assert any((one.b == 0).sum() not in (0, 20) for one in plain) or share == 0.0
    for one, two in zip(compiled, plain, strict=True):
        np.testing.assert_allclose(quadratic.G @ one.b, quadratic.G @ two.b, atol=1e-7)
        assert one.violation <= 1e-8 and two.violation <= 1e-8
        np.testing.assert_allclose(one.gradient, quadratic.gradient(one.b), atol=1e-12)
