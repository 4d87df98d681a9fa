import numpy as np
import pytest

from chaff.stats.linear_model import pivoted_solve


def test_regular_systems_equal_numpy():
    rng = np.random.default_rng(0)
    X, Y = rng.normal(size=(50, 7)) * 10.0 ** rng.integers(-4, 5, 7), rng.normal(size=(50, 2))
    np.testing.assert_allclose(pivoted_solve(X.T @ X, X.T @ Y), np.linalg.lstsq(X, Y, rcond=None)[0], rtol=1e-9)


def test_singular_systems_fit_as_well_as_the_independent_columns():
    rng = np.random.default_rng(1)
    X = rng.normal(size=(60, 5))
    X = np.column_stack([X, X[:, 0] + X[:, 1], np.zeros(60)])
    y = rng.normal(size=(60, 1))
    beta = pivoted_solve(X.T @ X, X.T @ y)
    assert (beta == 0).sum() == 2
    best = np.linalg.lstsq(X[:, :5], y, rcond=None)[0]
    np.testing.assert_allclose(X @ beta, X[:, :5] @ best, atol=1e-10)


def test_no_columns_at_all():
    assert pivoted_solve(np.empty((0, 0)), np.empty((0, 3))).shape == (0, 3)
    assert pivoted_solve(np.zeros((1, 1)), np.ones((1, 1))) == pytest.approx(0)
