import numpy as np
import pytest

from chaff.kernels.row_blocks import add_complements, fill_columns, fill_levels, mark_missing
from chaff.table.moments import addresses_of


def test_filled_columns_are_shifted_weighted_and_zero_where_missing():
    rng = np.random.default_rng(0)
    columns = [rng.normal(size=50) for _ in range(11)]
    columns[3][7] = columns[9][20] = np.nan
    rows, places = np.array([7, 1, 20, 33]), np.arange(11)[::-1].copy()
    shift, root = rng.normal(size=11), rng.uniform(0.5, 2, 4)
    out, holes = np.full((12, 6), 99.0), np.zeros(11, np.int64)
    fill_columns(addresses_of(columns), 50, places, rows, shift, root, out, holes)
    wanted = np.nan_to_num((np.array(columns)[:, rows] - shift[:, None]) * root)
    np.testing.assert_allclose(out[:11, :4], wanted[::-1], rtol=1e-15)
    assert (out[:, 4:] == 99).all() and (out[11] == 99).all()
    assert holes.tolist() == [0, 0, 0, 1, 0, 0, 0, 0, 0, 1, 0]


def test_levels_have_a_line_each_and_missing_the_last():
    codes, rows = np.array([0.0, 2.0, np.nan, 1.0, 2.0]), np.array([4, 2, 0])
    lines = np.full((4, 5), 9.0)
    fill_levels(codes, rows, np.array([1.0, 2.0, 3.0]), lines)
    np.testing.assert_array_equal(lines[:, :3], [[0, 0, 3], [0, 0, 0], [1, 0, 0], [0, 2, 0]])
    assert (lines[:, 3:] == 9).all()


def test_only_contiguous_numbers_of_one_length_have_an_address():
    for wrong in ([np.zeros(4), np.zeros(5)], [np.zeros(4, np.float32)], [np.zeros((4, 2))[:, 0]]):
        with pytest.raises(ValueError, match="contiguous float64"):
            addresses_of(wrong)


@pytest.mark.parametrize("weighted", [False, True])
def test_complements_equal_dense_products(weighted):
    rng = np.random.default_rng(1)
    columns = rng.normal(size=(6, 40))
    columns[:3][rng.random((3, 40)) < 0.3] = np.nan
    rows = np.arange(40)
    root = rng.uniform(0.5, 2, 40) if weighted else np.empty(0)
    Z, M = np.empty((6, 40)), np.empty((3, 40))
    fill_columns(addresses_of(list(columns)), 40, np.arange(6), rows, np.zeros(6), root, Z, np.zeros(6, np.int64))
    for g in range(3):
        mark_missing(columns[g], rows, M[g])
    np.testing.assert_array_equal(M, np.isnan(columns[:3]))
    sums, squares, both = np.zeros((3, 6)), np.zeros((3, 6)), np.zeros((3, 3))
    add_complements(np.ascontiguousarray(Z.T), np.ascontiguousarray(M.T), root, sums, squares, both)
    M = M.T
    w = root**2 if weighted else np.ones(40)
    X = np.nan_to_num(columns.T)
    np.testing.assert_allclose(sums, (M * w[:, None]).T @ X, atol=1e-12)
    np.testing.assert_allclose(squares, (M * w[:, None]).T @ X**2, atol=1e-12)
    np.testing.assert_allclose(both, (M * w[:, None]).T @ M, atol=1e-12)
