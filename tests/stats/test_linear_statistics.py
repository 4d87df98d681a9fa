"""Least squares against exact rational arithmetic, logistic against its score equations, residual tests against SciPy, and the
linear relations, directions, components and Shapley shares against their definitions."""

from __future__ import annotations

from fractions import Fraction
from itertools import permutations

import numpy as np
import pytest
import scipy.stats as st

from chaff.stats.correlation_matrices import kendall_column, partial_correlations, pearson_matrix, shrinkage, spearman_matrix
from chaff.stats.dependence import components, directions, independent, relations, triangle
from chaff.stats.linear_model import constant_variance, lack_of_fit, least_squares, logistic, normality, t_interval
from chaff.stats.shapley import exact_shares, sampled_shares

RNG = np.random.default_rng(0)


def exact_solution(X, y):
    """Least squares with an intercept in rational numbers."""
    rows = [[Fraction(1), *map(Fraction, r)] for r in X.tolist()]
    t = [Fraction(v) for v in y.tolist()]
    q = len(rows[0])
    A = [[sum(r[i] * r[j] for r in rows) for j in range(q)] + [sum(r[i] * v for r, v in zip(rows, t, strict=False))] for i in range(q)]
    for i in range(q):
        p = next(k for k in range(i, q) if A[k][i])
        A[i], A[p] = A[p], A[i]
        A[i] = [v / A[i][i] for v in A[i]]
        for k in range(q):
            if k != i:
                A[k] = [a - A[k][i] * b for a, b in zip(A[k], A[i], strict=False)]
    return np.array([float(A[i][q]) for i in range(q)])


@pytest.mark.parametrize("kind", ["polynomial", "nearly equal", "far from zero"])
def test_nine_digits_on_ill_conditioned_whole_numbers(kind):
    x = np.arange(1.0, 22)
    X = {
        "polynomial": np.column_stack([x**k for k in range(1, 6)]),
        "nearly equal": np.column_stack([x * 1000, x * 1000 + (x % 3), x % 5]),
        "far from zero": np.column_stack([1e7 + x, 1e7 + x**2, x % 4]),
    }[kind]
    y = np.round(3 * x - 2 * (x % 7) + (x % 3) ** 2)
    fit, truth = least_squares(X, y), exact_solution(X, y)
    np.testing.assert_allclose(fit.coefficients, truth[1:], rtol=1e-9)
    assert fit.intercept == pytest.approx(truth[0], rel=1e-9)


def test_errors_p_intervals_and_criteria_equal_their_formulas():
    X, n = RNG.normal(size=(60, 3)), 60
    y = X @ [1.0, -2, 0] + RNG.normal(size=n)
    fit = least_squares(X, y)
    D = np.column_stack([np.ones(n), X])
    inverse = np.linalg.inv(D.T @ D)
    b = inverse @ D.T @ y
    e = y - D @ b
    s2 = e @ e / (n - 4)
    np.testing.assert_allclose([fit.intercept, *fit.coefficients], b)
    np.testing.assert_allclose([fit.intercept_error, *fit.errors], np.sqrt(np.diagonal(inverse) * s2))
    t, p, low, high = t_interval(fit.coefficients, fit.errors, fit.df, 0.9)
    np.testing.assert_allclose(p, 2 * st.t.sf(np.abs(t), n - 4))
    np.testing.assert_allclose(high - low, 2 * st.t.ppf(0.95, n - 4) * fit.errors)
    log_likelihood = st.norm.logpdf(e, scale=np.sqrt(e @ e / n)).sum()
    assert fit.log_likelihood == pytest.approx(log_likelihood) and fit.aic == pytest.approx(2 * 5 - 2 * log_likelihood)
    assert fit.bic == pytest.approx(np.log(n) * 5 - 2 * log_likelihood)
    r2 = 1 - e @ e / ((y - y.mean()) ** 2).sum()
    assert fit.r_squared == pytest.approx(r2) and fit.adjusted == pytest.approx(1 - (1 - r2) * (n - 1) / (n - 4))
    assert fit.f == pytest.approx(r2 / 3 / ((1 - r2) / (n - 4)))
    np.testing.assert_allclose(fit.leverage, np.einsum("ij,jk,ik->i", D, inverse, D))
    np.testing.assert_allclose(fit.vif, np.diagonal(np.linalg.inv(np.corrcoef(X.T))))
    meat = (D * (e / (1 - fit.leverage))[:, None]).T @ (D * (e / (1 - fit.leverage))[:, None])
    np.testing.assert_allclose(least_squares(X, y, errors="robust").errors, np.sqrt(np.diagonal(inverse @ meat @ inverse))[1:])
    g = np.arange(n) % 9
    sums = np.array([(D[g == k] * e[g == k, None]).sum(0) for k in range(9)])
    factor = 9 / 8 * (n - 1) / (n - 4)
    np.testing.assert_allclose(
        least_squares(X, y, errors="groups", groups=g).errors, np.sqrt(factor * np.diagonal(inverse @ sums.T @ sums @ inverse))[1:]
    )


def test_weights_equal_repeated_rows_and_no_intercept_is_about_zero():
    X, w = RNG.normal(size=(40, 2)), RNG.integers(1, 4, 40)
    y = X @ [1.0, 2] + RNG.normal(size=40) + 5
    many = least_squares(np.repeat(X, w, axis=0), np.repeat(y, w))
    once = least_squares(X, y, w.astype(float))
    np.testing.assert_allclose(once.coefficients, many.coefficients)
    assert once.r_squared == pytest.approx(many.r_squared)
    through = least_squares(X, y, intercept=False)
    assert through.intercept == 0 and through.r_squared == pytest.approx(1 - through.rss / (y @ y)) and through.df == 38


def test_combinations_of_earlier_columns_get_no_coefficient():
    X = RNG.normal(size=(30, 3))
    X = np.column_stack([X, X[:, 0] - 2 * X[:, 1], np.ones(30)])
    assert independent(triangle((X - X.mean(0)) / np.where(X.std(0) > 0, X.std(0) * np.sqrt(30), 1)), 1e-10).tolist() == [
        True,
        True,
        True,
        False,
        False,
    ]
    fit = least_squares(X, RNG.normal(size=30))
    assert np.isnan(fit.coefficients[3:]).all() and fit.rank == 3
    wide = least_squares(RNG.normal(size=(4, 6)), RNG.normal(size=4))
    assert wide.rank == 3 and wide.rss == pytest.approx(0, abs=1e-18)


def test_logistic_solves_its_score_equations_and_says_when_classes_part():
    X = RNG.normal(size=(300, 2)) * [1, 50] + [0, 1000]
    y = (RNG.random(300) < 1 / (1 + np.exp(-(X[:, 0] - 0.02 * (X[:, 1] - 1000))))).astype(float)
    fit = logistic(X, y)
    D = np.column_stack([np.ones(300), X])
    np.testing.assert_allclose(D.T @ (y - fit.probabilities), 0, atol=1e-4)
    W = fit.probabilities * (1 - fit.probabilities)
    np.testing.assert_allclose(fit.errors, np.sqrt(np.diagonal(np.linalg.inv((D * W[:, None]).T @ D))), rtol=1e-4)
    assert not fit.separated and fit.deviance < fit.null_deviance
    assert logistic(X[:, :1], (X[:, 0] > 0.3).astype(float)).separated
    flag = np.r_[np.ones(20), np.zeros(280)]
    assert logistic(np.column_stack([X[:, 0], flag]), np.where(flag == 1, 1.0, y)).separated  # one level has one class only


def test_residual_tests_equal_scipy_and_their_definitions():
    e = RNG.gamma(2, size=200)
    found, skew, kurtosis = normality(e)
    k2, p = st.normaltest(e)
    assert (
        found.statistic == pytest.approx(k2)
        and found.p == pytest.approx(p)
        and skew == pytest.approx(st.skew(e))
        and kurtosis == pytest.approx(st.kurtosis(e))
    )
    assert np.isnan(normality(e[:10])[0].p)
    X = RNG.normal(size=(300, 2))
    wide = X[:, 0] * RNG.normal(size=300)
    u = wide**2
    r2 = 1 - least_squares(X, u).rss / ((u - u.mean()) ** 2).sum()
    assert constant_variance(wide, X).statistic == pytest.approx(300 * r2)
    p = [constant_variance(RNG.normal(size=100), RNG.normal(size=(100, 2))).p for _ in range(300)]
    assert 0.02 < np.mean(np.array(p) < 0.05) < 0.09
    y = X[:, 0] + X[:, 0] ** 2 + 0.3 * RNG.normal(size=300)
    assert lack_of_fit(y, least_squares(X, y).fitted, X).p < 1e-10
    y = X[:, 0] + RNG.normal(size=300)
    assert lack_of_fit(y, least_squares(X, y).fitted, X).p > 1e-3


def test_planted_equations_are_found_and_sparse():
    X = RNG.normal(10, 3, size=(200, 8))
    X[:, 5] = 100 - X[:, 0] - X[:, 1]
    X[:, 7] = 0.25 * X[:, 2]
    X[:, 6] = X[:, 3] * 2 - X[:, 4] + 1e-4 * RNG.normal(size=200)
    found = {r.column: r for r in relations(X, 1e-3)}
    assert set(found) == {5, 6, 7}
    assert (
        found[5].others.tolist() == [0, 1]
        and found[5].coefficients.tolist() == [-1, -1]
        and found[5].intercept == 100
        and found[5].residual < 1e-12
    )
    assert found[7].coefficients.tolist() == [0.25] and found[7].intercept == 0
    assert (
        found[6].others.tolist() == [3, 4] and found[6].coefficients == pytest.approx([2, -1], abs=1e-3) and 1e-6 < found[6].residual < 1e-3
    )
    assert relations(RNG.normal(size=(50, 4)), 1e-3) == []
    assert len(relations(RNG.normal(size=(5, 9)), 1e-3)) == 9 - 4  # more columns than rows


def test_variance_proportions_add_up_and_point_at_the_pair():
    X = RNG.normal(size=(100, 4))
    X[:, 3] = X[:, 1] + 1e-3 * RNG.normal(size=100)
    d = directions(X, centred=True)
    np.testing.assert_allclose(d.proportions.sum(0), 1)
    assert d.indices[-1] > 100 and set(np.flatnonzero(d.proportions[-1] > 0.5)) == {1, 3}
    Z = X - X.mean(0)
    s = np.linalg.svd(Z / np.linalg.norm(Z, axis=0), compute_uv=False)
    np.testing.assert_allclose(d.indices, s[0] / s, rtol=1e-8)


def test_components_loadings_are_correlations():
    X = RNG.normal(size=(300, 4)) @ RNG.normal(size=(4, 4))
    Z = (X - X.mean(0)) / X.std(0)
    c = components(np.corrcoef(X.T))
    assert c.eigenvalues.sum() == pytest.approx(4)
    scores = Z @ (c.loadings / np.sqrt(c.eigenvalues))
    for k in range(4):
        assert np.corrcoef(Z[:, 1], scores[:, k])[0, 1] == pytest.approx(c.loadings[1, k], abs=1e-8)


def test_rank_matrices_equal_scipy_pair_by_pair():
    X = np.round(RNG.normal(size=(5, 80)), 1)
    X[3, ::7] = np.nan
    X[4, 1::9] = np.nan
    S = spearman_matrix(X)
    for i in range(5):
        column = kendall_column(X, i)
        for j in range(i + 1, 5):
            both = ~np.isnan(X[i]) & ~np.isnan(X[j])
            assert S[i, j] == pytest.approx(st.spearmanr(X[i][both], X[j][both])[0]) and column[j] == pytest.approx(
                st.kendalltau(X[i][both], X[j][both])[0]
            )
    assert np.isnan(pearson_matrix(np.vstack([np.full(80, 3.1), X[0]]))[0, 1])


def test_partial_correlation_is_that_of_residuals_and_shrinkage_lies_between():
    X = RNG.normal(size=(4, 200))
    X[1] += X[0]
    X[2] += X[0]
    P = partial_correlations(np.corrcoef(X))
    D = np.column_stack([np.ones(200), X[[0, 3]].T])
    e = [X[k] - D @ np.linalg.lstsq(D, X[k], rcond=None)[0] for k in (1, 2)]
    assert P[1, 2] == pytest.approx(np.corrcoef(e)[0, 1])
    assert shrinkage(RNG.normal(size=(40, 15))) > 0.7 and shrinkage(np.vstack([X[0], X[0] + 0.01 * X[1]])) < 0.05
    n = 30
    Y = RNG.normal(size=(3, n))
    Z = (Y - Y.mean(1, keepdims=True)) / Y.std(1, ddof=1, keepdims=True)
    var = size = 0.0
    for i in range(3):
        for j in range(3):
            if i != j:
                w = Z[i] * Z[j]
                var += n / (n - 1) ** 3 * ((w - w.mean()) ** 2).sum()
                size += (n / (n - 1) * w.mean()) ** 2
    assert shrinkage(Y) == pytest.approx(min(var / size, 1))


def test_shapley_shares_equal_the_average_over_all_orders():
    X = RNG.normal(size=(100, 5)) @ RNG.normal(size=(5, 5))
    y = X @ RNG.normal(size=5) + RNG.normal(size=100)
    C, r = np.corrcoef(X.T), np.array([np.corrcoef(x, y)[0, 1] for x in X.T])
    starts = np.array([0, 1, 3, 4, 5])  # the second feature has two columns

    def r2(cols):
        return float(r[cols] @ np.linalg.solve(C[np.ix_(cols, cols)], r[cols])) if cols else 0.0

    expected = np.zeros(4)
    for order in permutations(range(4)):
        cols: list[int] = []
        for f in order:
            more = [*cols, *range(starts[f], starts[f + 1])]
            expected[f] += (r2(more) - r2(cols)) / 24
            cols = more
    np.testing.assert_allclose(exact_shares(C, r, starts), expected, atol=1e-10)
    drawn, error = sampled_shares(C, r, starts, 400, np.random.default_rng(1))
    assert drawn.sum() == pytest.approx(expected.sum(), abs=1e-6) and (np.abs(drawn - expected) < 5 * error + 1e-6).all()


@pytest.mark.parametrize("weighted", [False, True])
def test_logistic_errors_z_and_p_are_those_of_the_solution_to_nine_digits(weighted):
    mpmath = pytest.importorskip("mpmath")
    rng = np.random.default_rng(5)
    X = rng.normal(size=(60, 2)) * [1, 30] + [0, 200]
    y = (rng.random(60) < 1 / (1 + np.exp(-(1.5 * X[:, 0] - 0.05 * (X[:, 1] - 200))))).astype(float)
    w = rng.random(60) + 0.5 if weighted else np.ones(60)
    w *= 60 / w.sum()
    fit = logistic(X, y, w if weighted else None)
    with mpmath.workdps(40):
        D = mpmath.matrix(np.column_stack([np.ones(60), X]).tolist())
        b = mpmath.matrix([[mpmath.mpf(v)] for v in fit.coefficients])
        for _ in range(6):  # Newton's method in forty digits, from where ours ended
            m = [1 / (1 + mpmath.exp(-z)) for z in D * b]
            H = D.T * mpmath.diag([mpmath.mpf(wi) * p * (1 - p) for wi, p in zip(w.tolist(), m, strict=True)]) * D
            b += mpmath.inverse(H) * (D.T * mpmath.matrix([[wi * (t - p)] for wi, t, p in zip(w.tolist(), y.tolist(), m, strict=True)]))
        cov = mpmath.inverse(H)
        errors = [float(mpmath.sqrt(cov[k, k])) for k in range(3)]
        z = [float(b[k] / mpmath.sqrt(cov[k, k])) for k in range(3)]
        p = [float(mpmath.erfc(abs(b[k] / mpmath.sqrt(cov[k, k])) / mpmath.sqrt(2))) for k in range(3)]
    np.testing.assert_allclose(fit.errors, errors, rtol=1e-9)
    np.testing.assert_allclose(fit.z, z, rtol=1e-9)
    np.testing.assert_allclose(fit.p, p, rtol=1e-9)
