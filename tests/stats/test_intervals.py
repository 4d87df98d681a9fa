"""Bounds from the influence of rows: against the definition, and how often they cover what is true."""

from __future__ import annotations

import numpy as np
import pytest
import scipy.stats as st

from chaff.stats import influence
from chaff.stats.ranks import average_ranks, few_rows_bounds, kendall, ranked, spearman, spearman_p

SHAPES = ("normal", "log-normal", "t3", "uneven spread", "tied")


def pair(shape: str, n: int, rng: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
    z = rng.normal(size=(2, n))
    x, y = z[0], 0.5 * z[0] + np.sqrt(0.75) * z[1]
    if shape == "log-normal":
        return np.exp(x), np.exp(y)
    if shape == "t3":
        scale = np.sqrt(3 / rng.chisquare(3, n))
        return x * scale, y * scale
    if shape == "uneven spread":
        return x, 0.5 * x + z[1] * np.exp(0.7 * x)
    return (np.round(x), np.round(y)) if shape == "tied" else (x, y)


@pytest.mark.parametrize("shape", SHAPES)
def test_influences_of_ranks_are_what_leaving_each_row_out_says(shape: str):
    rng = np.random.default_rng(0)
    x, y = pair(shape, 500, rng)
    X, Y = ranked(x), ranked(y)
    rho, tau = spearman(X, Y), kendall(X, Y)[0]
    some = range(40)
    for value, found, again in (
        (rho, influence.of_spearman(X, Y, rho), lambda a, b: spearman(ranked(a), ranked(b))),
        (tau, influence.of_kendall(X, Y, tau), lambda a, b: kendall(ranked(a), ranked(b))[0]),
    ):
        left_out = np.array([499 * (value - again(np.delete(x, i), np.delete(y, i))) for i in some])
        assert np.abs(found[:40] - left_out).max() < 0.05
        assert abs(found.mean()) < 1e-9


def test_influence_of_an_area_adds_up_to_delongs_variance():
    rng = np.random.default_rng(1)
    a, b = rng.normal(1, 1, 25), rng.normal(0, 2, 40)
    x, inside = np.r_[a, b], np.r_[np.ones(25, bool), np.zeros(40, bool)]
    beats = (a[:, None] > b).astype(float)
    expected = beats.mean(1).var() / 25 + beats.mean(0).var() / 40
    own = np.r_[average_ranks(a), average_ranks(b)]
    moved = influence.of_area(average_ranks(x), own, inside)
    assert (moved**2).mean() / 65 == pytest.approx(expected)


def test_bounds_of_r_are_the_same_by_leaving_out_and_by_fourth_moments_where_rows_are_many():
    rng = np.random.default_rng(2)
    x, y = pair("t3", influence.MANY, rng)
    r = float(np.corrcoef(x, y)[0, 1])
    by_moments = influence.pearson_bounds(x, y, r, 0.95)
    by_rows = influence.bounds(r, influence.of_pearson(x, y, r), None, 0.95)
    np.testing.assert_allclose(by_moments, by_rows, atol=1e-5)


@pytest.mark.long
@pytest.mark.parametrize("shape", SHAPES)
def test_bounds_cover_what_is_true(shape: str):
    rng = np.random.default_rng(3)
    x, y = pair(shape, 400_000, rng)
    true = (np.corrcoef(x, y)[0, 1], spearman(ranked(x), ranked(y)), kendall(ranked(x), ranked(y))[0])
    covered, times = np.zeros(3), 500
    for _ in range(times):
        x, y = pair(shape, 120, rng)
        X, Y = ranked(x), ranked(y)
        r, rho, tau = float(np.corrcoef(x, y)[0, 1]), spearman(X, Y), kendall(X, Y)[0]
        found = (
            influence.pearson_bounds(x, y, r, 0.95),
            influence.bounds(rho, influence.of_spearman(X, Y, rho), None, 0.95),
            influence.bounds(tau, influence.of_kendall(X, Y, tau), None, 0.95),
        )
        covered += [low <= t <= high for t, (low, high) in zip(true, found, strict=True)]
    assert (covered[1:] / times > 0.92).all() and (covered / times < 0.98).all()
    assert covered[0] / times > (0.88 if shape == "uneven spread" else 0.91)  # which r's own bounds do not quite reach


@pytest.mark.long
def test_an_area_from_few_rows_is_covered_up_to_a_perfect_one():
    rng = np.random.default_rng(4)
    gap = 2.2
    true = st.norm.cdf(gap / np.sqrt(2))
    times, hit = 1000, 0
    for _ in range(times):
        auc = (rng.normal(gap, 1, 8)[:, None] > rng.normal(0, 1, 12)).mean()
        low, high = few_rows_bounds(np.array([auc]), np.array([8.0]), np.array([12.0]), 0.95)
        hit += low[0] <= true <= high[0]
    assert 0.92 < hit / times < 0.99


@pytest.mark.parametrize("n", [4, 6, 9])
def test_spearman_of_few_rows_is_counted_out(n: int):
    from itertools import permutations

    rng = np.random.default_rng(5)
    for x, y in ((rng.random(n), rng.random(n)), (rng.integers(0, 3, n).astype(float), rng.random(n))):
        rho = spearman(ranked(x), ranked(y))
        if rho != rho or n == 9:
            continue
        all_orders = [abs(spearman(ranked(x), ranked(np.array(p)))) for p in permutations(y)]
        assert spearman_p(ranked(x), ranked(y), rho) == pytest.approx(np.mean(np.array(all_orders) >= abs(rho) - 1e-9))
    straight = np.arange(float(n))
    assert spearman_p(ranked(straight), ranked(straight), 1.0) == pytest.approx(2 / np.prod(np.arange(1.0, n + 1)))


def test_three_rows_say_nothing():
    x = ranked(np.arange(3.0))
    assert np.isnan(spearman_p(x, x, 1.0))


def test_bounds_of_many_rows_from_every_kth_row_are_those_of_all():
    rng = np.random.default_rng(6)
    x, y = pair("t3", 2 * influence.MANY + 5, rng)
    X, Y = ranked(x), ranked(y)
    rho = spearman(X, Y)
    some = influence.rank_bounds(rho, X, Y, influence.of_spearman, spearman, None, 0.95)
    whole = influence.bounds(rho, influence.of_spearman(X, Y, rho), None, 0.95)
    assert np.abs(np.subtract(some, whole)).max() < 0.05 * (whole[1] - whole[0])
