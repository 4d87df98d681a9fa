"""Each kernel of the filter statistics against a few lines of NumPy."""

from __future__ import annotations

import numpy as np
import pytest
import scipy.stats as stats

from chaff.kernels.class_sums import class_sums, class_sums_of_eight, shape_where, sums_beside
from chaff.kernels.counts import codes_by_cuts, two_way_counts
from chaff.kernels.neighbours import add_differences, add_weighted_differences, rising_products
from chaff.kernels.ranks import class_walk, in_order_of, inversions, ranks_from_order

RNG = np.random.default_rng(0)


@pytest.mark.parametrize("cuts", [0, 1, 9, 24])
@pytest.mark.parametrize("rows", [1, 7, 4096, 9001])
def test_codes_count_the_cuts_below_and_mark_gaps(cuts, rows):
    values = RNG.normal(size=rows)
    values[::5] = np.nan
    edges = np.sort(RNG.normal(size=cuts))
    out = np.empty(rows, np.uint8)
    codes_by_cuts(values, edges, out)
    expected = np.where(np.isnan(values), 0, 1 + (values[:, None] > edges).sum(1))
    assert (out == expected).all()


def test_a_value_on_a_cut_belongs_below_it():
    out = np.empty(3, np.uint8)
    codes_by_cuts(np.array([0.9, 1.0, 1.1]), np.array([1.0]), out)
    assert out.tolist() == [1, 1, 2]


@pytest.mark.parametrize("rows", [1, 2, 3, 1001])
@pytest.mark.parametrize("weighted", [False, True])
def test_two_way_counts_equal_histograms(rows, weighted):
    codes = RNG.integers(0, 7, (3, rows)).astype(np.uint8)
    target = RNG.integers(0, 4, rows)
    weights = RNG.random(rows) if weighted else np.empty(0)
    out = np.zeros((3, 256, 4))
    two_way_counts(codes, target, weights, out)
    for f in range(3):
        expected = np.zeros((256, 4))
        np.add.at(expected, (codes[f], target), weights if weighted else 1.0)
        np.testing.assert_allclose(out[f], expected)
    two_way_counts(codes, target, weights, out)
    assert out.sum() == pytest.approx(2 * 3 * (weights.sum() if weighted else rows))  # adds, does not set


def test_eight_columns_at_once_equal_one_at_a_time():
    columns = RNG.normal(5, 2, size=(8, 501))
    classes = RNG.integers(0, 3, 501)
    shift = np.arange(8.0)
    out = np.zeros((3, 16))
    class_sums_of_eight(*columns, classes.astype(np.uint8), shift, out)
    for k in range(8):
        one = np.zeros((3, 4))
        class_sums(columns[k], classes, np.empty(0), shift[k], one)
        np.testing.assert_allclose(out[:, k], one[:, 2], rtol=1e-12)
        np.testing.assert_allclose(out[:, 8 + k], one[:, 3], rtol=1e-12)
        assert one[:, 0].tolist() == np.bincount(classes).tolist()


def test_class_sums_pass_over_gaps_and_negative_classes():
    values = np.array([1.0, np.nan, 3.0, 4.0])
    out = np.zeros((2, 4))
    class_sums(values, np.array([0, 0, -1, 1]), np.array([2.0, 1, 1, 3]), 0.5, out)
    assert out.tolist() == [[1, 2, 1.0, 0.5], [1, 3, 10.5, 36.75]]


def test_ranks_and_ties():
    values = np.array([3.0, 1, 3, 2, 3])
    order = np.argsort(values, kind="stable")
    ranks, dense = np.empty(5), np.empty(5, np.int32)
    twos, threes = ranks_from_order(values, order, ranks, dense)
    assert ranks.tolist() == [4, 1, 4, 2, 4] and dense.tolist() == [2, 0, 2, 1, 2]
    assert (twos, threes) == (6, 6)  # three tied values: 3·2 and 3·2·1


def test_the_class_walk_equals_comparing_every_pair():
    values = RNG.integers(0, 6, 60).astype(float)
    classes = RNG.integers(0, 3, 60)
    weights = RNG.random(60)
    out = np.zeros((3, 5))
    _, _, gap = class_walk(values, np.argsort(values), classes, weights, np.empty(3), np.empty(3), out)
    beats = (values[:, None] > values) + 0.5 * (values[:, None] == values)
    for k in range(3):
        own, rest = classes == k, classes != k
        pairs = beats[own][:, rest] * weights[own][:, None] * weights[rest]
        assert out[k, 0] == pytest.approx(weights[own].sum())
        assert out[k, 2] == pytest.approx(pairs.sum())
    grid = np.unique(values)
    share = [[(weights[(classes == k) & (values <= v)]).sum() / weights[classes == k].sum() for v in grid] for k in (0, 1)]
    assert gap == pytest.approx(np.abs(np.subtract(*share)).max())


@pytest.mark.parametrize("n", [1, 2, 8, 9, 100, 1000])
def test_inversions_equal_counting_pairs(n):
    a = RNG.integers(0, max(n // 2, 1), n).astype(np.int32)
    expected = int((np.triu(a[:, None] > a, 1)).sum())
    assert inversions(a.copy(), np.empty(n, np.int32)) == expected


def test_the_other_ranks_are_sorted_within_ties():
    values = np.array([2.0, 1, 2, 2])
    dense = np.array([3, 5, 1, 3], np.int32)
    out = np.empty(4, np.int32)
    joint, twos, threes = in_order_of(values, np.argsort(values, kind="stable"), dense, out)
    assert out.tolist() == [5, 1, 3, 3] and (joint, twos, threes) == (2, 6, 6)


@pytest.mark.parametrize("n", [1, 15, 16, 17, 40, 300])
@pytest.mark.parametrize("ties", [False, True])
def test_rising_products_equal_the_double_sum(n, ties):
    x, y = np.sort(RNG.normal(size=n)), RNG.normal(size=n)
    if ties:
        x, y = np.round(x), np.round(y)
    dx, dy = x[None] - x[:, None], y[None] - y[:, None]
    expected = np.triu(dx * dy * (dy >= 0), 1).sum()
    assert rising_products(x.copy(), y.copy(), np.empty(n), np.empty(n)) == pytest.approx(expected, abs=1e-9)


def test_differences_are_cut_at_one_and_levels_count_whole():
    columns = np.array([[0.0, 0.4, 3.0], [1.0, 1.0, 2.0]])
    category = np.array([False, True])
    out = np.zeros(3)
    add_differences(columns, category, 0, out)
    assert out.tolist() == [0, 0.4, 2.0]
    sums = np.zeros((2, 2))
    add_weighted_differences(columns, category, 0, np.array([1, 2]), np.array([[1.0, 0.5], [2.0, 0.0]]), sums)
    assert sums.tolist() == [[0.4 + 2.0, 0.2], [2.0, 0.0]]


@pytest.mark.parametrize("gaps", [0.0, 0.3, 1.0])
@pytest.mark.parametrize("scale", [1.0, 1e-120, 1e120])
def test_sums_and_shapes_of_the_rows_that_are_there(gaps, scale):
    rng = np.random.default_rng(3)
    x, y = scale * (rng.standard_normal(501) ** 3 + 40), rng.exponential(size=501) - 7
    x[rng.random(501) < gaps] = np.nan
    some = ~np.isnan(x)
    sums, of_x, of_y = np.empty(6), np.empty(3), np.empty(3)
    sums_beside(x, y, sums)
    shape_where(x, x, of_x)
    shape_where(y, x, of_y)
    if gaps == 1.0:
        assert not sums.any() and not of_x.any() and not of_y.any()
        return
    a, b = x[some] - x[some].mean(), y[some] - y[some].mean()
    assert sums[0] == of_x[0] == of_y[0] == some.sum()
    np.testing.assert_allclose(sums[[2, 4, 5]], [a @ a, b @ b, a @ b], rtol=1e-12)
    np.testing.assert_allclose(sums[[1, 3]] / [scale, 1.0], 0.0, atol=1e-9)
    for found, values in ((of_x, x[some] / scale), (of_y, y[some])):
        np.testing.assert_allclose(found[1:], [stats.skew(values), stats.kurtosis(values)], rtol=1e-10)


def test_what_does_not_vary_has_no_shape():
    out = np.empty(3)
    for values in (np.array([]), np.array([2.0]), np.full(9, 0.1)):
        shape_where(values, values, out)
        assert out[0] == values.size and out[1] == out[2] == 0


@pytest.mark.parametrize("count", [0, 1, 2, 3, 7, 64, 254])
def test_codes_by_cuts_equal_a_plain_search(count):
    from chaff.kernels.counts import codes_by_cuts

    rng = np.random.default_rng(count)
    cuts = np.sort(rng.normal(size=count))
    values = np.concatenate([rng.normal(size=500), cuts, [np.nan, np.inf, -np.inf]])
    out = np.empty(values.size, np.uint8)
    codes_by_cuts(values, cuts, out)
    want = np.where(np.isnan(values), 0, np.searchsorted(cuts, values, side="left") + 1)
    assert (out == want).all()
