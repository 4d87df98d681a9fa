import numpy as np
import pytest

from chaff.kernels.fill import add_complements, gather_shifted, mark_missing


def test_gathered_block_is_shifted_weighted_and_zero_where_missing():
    rng = np.random.default_rng(0)
    columns = rng.normal(size=(11, 50))
    columns[3, 7] = columns[9, 20] = np.nan
    rows = np.array([7, 1, 20, 33])
    shift, root = rng.normal(size=11), rng.uniform(0.5, 2, 4)
    out = np.full((6, 11), 99.0)
    assert gather_shifted(columns, rows, shift, root, out)
    wanted = np.nan_to_num((columns[:, rows].T - shift) * root[:, None])
    np.testing.assert_allclose(out[:4], wanted, rtol=1e-15)
    assert (out[4:] == 99).all()
    assert not gather_shifted(columns, np.array([0, 2]), shift, np.empty(0), out)


@pytest.mark.parametrize("weighted", [False, True])
def test_complements_equal_dense_products(weighted):
    rng = np.random.default_rng(1)
    columns = rng.normal(size=(6, 40))
    columns[:3][rng.random((3, 40)) < 0.3] = np.nan
    gaps, rows = np.array([0, 1, 2]), np.arange(40)
    root = rng.uniform(0.5, 2, 40) if weighted else np.empty(0)
    Z, M = np.empty((40, 6)), np.empty((40, 3))
    gather_shifted(columns, rows, np.zeros(6), root, Z)
    assert mark_missing(columns, gaps, rows, M) == np.isnan(columns).sum()
    sums, squares, both = np.zeros((3, 6)), np.zeros((3, 6)), np.zeros((3, 3))
    add_complements(Z, M, root, sums, squares, both)
    w = root**2 if weighted else np.ones(40)
    X = np.nan_to_num(columns.T)
    np.testing.assert_allclose(sums, (M * w[:, None]).T @ X, atol=1e-12)
    np.testing.assert_allclose(squares, (M * w[:, None]).T @ X**2, atol=1e-12)
    np.testing.assert_allclose(both, (M * w[:, None]).T @ M, atol=1e-12)
