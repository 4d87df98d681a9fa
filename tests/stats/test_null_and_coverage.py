"""Laws: p-values are uniform where nothing is, small where something is planted, and intervals cover what they promise."""

from __future__ import annotations

from itertools import permutations

import numpy as np
import pytest
import scipy.stats as st

from chaff.stats.correlation import correlation_p, fisher_interval
from chaff.stats.group_differences import curve, one_way, welch
from chaff.stats.information import chi_square, likelihood_ratio, mutual_information
from chaff.stats.linear_model import least_squares, t_interval
from chaff.stats.p_adjustment import ADJUSTMENTS, adjust
from chaff.stats.ranks import kendall, rank_test, ranked, spearman
from chaff.stats.tail_probabilities import cramers_v_interval, eta_squared_interval

TIMES = 600


def groups_of(x, c, k):
    counts = np.array([(c == g).sum() for g in range(k)], float)[None]
    sums = np.array([x[c == g].sum() for g in range(k)])[None]
    squares = np.array([(x[c == g] ** 2).sum() for g in range(k)])[None]
    return counts, sums, squares


def one_way_p(rng, shift):
    c = rng.integers(0, 3, 60)
    counts, sums, squares = groups_of(rng.normal(size=60) + shift * c, c, 3)
    return float(one_way(counts, sums, counts, squares.sum(1)).p[0])


def welch_p(rng, shift):
    c = rng.integers(0, 3, 90)
    counts, sums, squares = groups_of((1 + c) * rng.normal(size=90) + shift * c, c, 3)
    return float(welch(counts, sums, counts, squares).p[0])


def pearson_p(rng, shift):
    x = rng.normal(size=50)
    r = np.corrcoef(x, rng.normal(size=50) + shift * x)[0, 1]
    return float(correlation_p(np.array(r), np.array(50.0)))


def kendall_p(rng, shift):
    x = rng.normal(size=60)
    return kendall(ranked(x), ranked(rng.normal(size=60) + shift * x))[1]


def kruskal_p(rng, shift):
    c = rng.integers(0, 3, 90)
    return rank_test(rng.normal(size=90) + shift * c, c, 3).p


def auc_p(rng, shift):
    c = rng.integers(0, 2, 90)
    return float(rank_test(rng.normal(size=90) + shift * c, c, 2).auc_p[1])


def chi_square_p(rng, shift):
    a = rng.integers(0, 3, 300)
    b = (rng.random(300) < 0.4 + 0.1 * shift * a).astype(int)
    counts = np.zeros((3, 2))
    np.add.at(counts, (a, b), 1)
    return float(chi_square(counts[None]).p[0])


def likelihood_p(rng, shift):
    a = rng.integers(0, 3, 300)
    b = (rng.random(300) < 0.4 + 0.1 * shift * a).astype(int)
    counts = np.zeros((3, 2))
    np.add.at(counts, (a, b), 1)
    return float(likelihood_ratio(counts[None])[2][0])


def curve_p(rng, shift):
    # Bins of values that repeat: within a bin there is no slope left that a line would explain and the bins would not.
    x = rng.integers(0, 6, 200)
    y = x + rng.normal(size=200) + shift * (x - 2.5) ** 2
    w = np.bincount(x, minlength=6).astype(float)
    return float(curve(w[None], np.bincount(x, x)[None], np.bincount(x, y)[None], np.array([y @ y])).p[0])


def coefficient_p(rng, shift):
    X = rng.normal(size=(40, 3))
    fit = least_squares(X, X[:, 1] + shift * X[:, 0] + rng.normal(size=40))
    return float(t_interval(fit.coefficients, fit.errors, fit.df, 0.95)[1][0])


TESTS = {
    "one-way F": one_way_p,
    "Welch": welch_p,
    "Pearson": pearson_p,
    "Kendall": kendall_p,
    "Kruskal-Wallis": kruskal_p,
    "Mann-Whitney": auc_p,
    "chi-square": chi_square_p,
    "likelihood ratio": likelihood_p,
    "lack of linear fit": curve_p,
    "coefficient": coefficient_p,
}


@pytest.mark.long
@pytest.mark.parametrize("name", list(TESTS))
def test_p_is_uniform_without_an_effect_and_small_with_one(name):
    rng = np.random.default_rng(sum(map(ord, name)))
    null = np.array([TESTS[name](rng, 0.0) for _ in range(TIMES)])
    assert st.kstest(null, "uniform").pvalue > 1e-3
    assert 0.02 < (null < 0.05).mean() < 0.09
    planted = np.array([TESTS[name](rng, 1.0) for _ in range(40)])
    assert (planted < 0.05).mean() > 0.5


def covered(low, high, truth):
    return np.mean((np.array(low) <= truth) & (truth <= np.array(high)))


def test_fisher_s_interval_covers_the_correlation():
    rng = np.random.default_rng(1)
    x = rng.normal(size=(TIMES, 60))
    y = 0.6 * x + 0.8 * rng.normal(size=(TIMES, 60))
    r = np.array([np.corrcoef(a, b)[0, 1] for a, b in zip(x, y, strict=False)])
    assert 0.92 < covered(*fisher_interval(r, np.full(TIMES, 60.0)), 0.6) < 0.98


@pytest.mark.long
def test_delong_s_interval_covers_the_area():
    rng = np.random.default_rng(2)
    truth = st.norm.cdf(1 / np.sqrt(2))
    c = np.arange(80) % 2
    found = [rank_test(rng.normal(size=80) + c, c, 2) for _ in range(TIMES)]
    assert 0.92 < covered([t.auc_low[1] for t in found], [t.auc_high[1] for t in found], truth) < 0.985
    for t in found[:50]:
        assert t.auc_low[1] <= t.auc[1] <= t.auc_high[1] and t.auc[0] == pytest.approx(1 - t.auc[1])
        assert t.auc_low[0] == pytest.approx(1 - t.auc_high[1])  # the other class is the mirror


def test_the_interval_of_eta_squared_covers_it():
    rng = np.random.default_rng(3)
    c = np.repeat([0, 1, 2], 30)
    means = np.array([0.0, 0.4, 0.8])
    truth = means.var() / (means.var() + 1.0)
    found = []
    for _ in range(TIMES):
        counts, sums, squares = groups_of(rng.normal(size=90) + means[c], c, 3)
        found.append(one_way(counts, sums, counts, squares.sum(1)))
    f = np.array([o.f[0] for o in found])
    low, high = eta_squared_interval(f, np.full(TIMES, 2.0), np.full(TIMES, 87.0))
    assert 0.92 < covered(low, high, truth) < 0.98
    assert np.mean([o.omega_squared[0] for o in found]) == pytest.approx(truth, abs=0.02)  # eta squared runs higher
    assert np.mean([o.eta_squared[0] for o in found]) > truth + 0.01


def test_the_interval_of_cramers_v_covers_it():
    rng = np.random.default_rng(4)
    p = np.array([[0.2, 0.1], [0.1, 0.2], [0.2, 0.2]])
    expected = p.sum(1, keepdims=True) * p.sum(0, keepdims=True)
    truth = np.sqrt(((p - expected) ** 2 / expected).sum())
    drawn = rng.multinomial(300, p.ravel(), TIMES).reshape(-1, 3, 2).astype(float)
    x = chi_square(drawn)
    low, high = cramers_v_interval(x.chi_square, x.df, np.full(TIMES, 300.0), np.ones(TIMES))
    assert 0.92 < covered(low, high, truth) < 0.98


def test_mutual_information_is_near_zero_on_noise_thanks_to_its_correction():
    rng = np.random.default_rng(5)
    counts = rng.multinomial(400, np.full(50, 0.02), 300).reshape(-1, 10, 5).astype(float)
    plain = np.array([(c / 400 * np.log(c * 400 / np.outer(c.sum(1), c.sum(0)), where=c > 0, out=np.zeros_like(c))).sum() for c in counts])
    assert plain.mean() > 0.04 and mutual_information(counts).mean() < 0.01


@pytest.mark.parametrize("n", [4, 5, 6])
def test_kendall_s_exact_p_counts_all_orders(n):
    taus = np.array([kendall(ranked(np.arange(float(n))), ranked(np.array(o, float)))[0] for o in permutations(range(n))])
    for order in list(permutations(range(n)))[:: max(1, n * 3)]:
        tau, p = kendall(ranked(np.arange(float(n))), ranked(np.array(order, float)))
        assert p == pytest.approx(min(1.0, (np.abs(taus) >= abs(tau) - 1e-12).mean()), abs=1e-12) or p == 1.0


def test_rank_statistics_do_not_see_a_rising_transform():
    rng = np.random.default_rng(6)
    x, y = rng.normal(size=70), rng.normal(size=70)
    c = rng.integers(0, 2, 70)
    assert spearman(ranked(np.exp(x)), ranked(y)) == pytest.approx(spearman(ranked(x), ranked(y)))
    assert kendall(ranked(x**3), ranked(y)) == pytest.approx(kendall(ranked(x), ranked(y)))
    one, two = rank_test(x, c, 2), rank_test(np.arctan(x), c, 2)
    assert one.h == pytest.approx(two.h) and one.ks == pytest.approx(two.ks) and one.auc == pytest.approx(two.auc)
    assert kendall(ranked(x), ranked(y)) == pytest.approx(kendall(ranked(y), ranked(x)))


@pytest.mark.parametrize("method", list(ADJUSTMENTS))
def test_adjusted_families_keep_their_promise_on_noise(method):
    rng = np.random.default_rng(7)
    any_false = np.mean([(adjust(rng.random(30), method) < 0.05).any() for _ in range(TIMES)])
    assert any_false < 0.08
    p = rng.random(20)
    order = rng.permutation(20)
    np.testing.assert_allclose(adjust(p[order], method), adjust(p, method)[order])
    assert (np.diff(adjust(np.sort(p), method)) >= -1e-15).all()
