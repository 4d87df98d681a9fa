"""Each closed form against SciPy's function for one column, or its own definition."""

import numpy as np
import pytest
import scipy.stats as ss
from hypothesis import given, settings
from hypothesis import strategies as st

from chaff.stats import correlation, group_differences, information, p_adjustment, ranks, tail_probabilities


def test_tails_match_scipy_down_to_tiny_p():
    t = np.array([0.0, 0.5, 3.0, 40.0, -25.0])
    np.testing.assert_allclose(tail_probabilities.t_two_sided(t, np.full(5, 200.0)), 2 * ss.t.sf(np.abs(t), 200), rtol=1e-10)
    f = np.array([0.2, 4.0, 300.0])
    np.testing.assert_allclose(tail_probabilities.f_upper(f, np.full(3, 4.0), np.full(3, 900.0)), ss.f.sf(f, 4, 900), rtol=1e-9)
    x = np.array([1.0, 50.0, 1300.0])
    np.testing.assert_allclose(tail_probabilities.chi_square_upper(x, np.full(3, 6.0)), ss.chi2.sf(x, 6), rtol=1e-9)
    assert tail_probabilities.f_upper(np.array([np.inf]), np.array([1.0]), np.array([5.0]))[0] == 0
    assert np.isnan(tail_probabilities.t_two_sided(np.array([1.0]), np.array([0.0]))[0])


@pytest.mark.parametrize("fn, method", [(p_adjustment.benjamini_hochberg, "bh")])
def test_false_discovery_adjustment_matches_scipy(fn, method):
    p = np.random.default_rng(0).uniform(size=40) ** 3
    np.testing.assert_allclose(fn(p), ss.false_discovery_control(p, method=method), rtol=1e-12)


def test_holm_by_definition_and_missing_p_does_not_count():
    p = np.array([0.04, np.nan, 0.01, 0.03])
    np.testing.assert_allclose(p_adjustment.holm(p), [0.06, np.nan, 0.03, 0.06])
    np.testing.assert_allclose(p_adjustment.benjamini_hochberg(p)[[0, 2, 3]], [0.04, 0.03, 0.04])


@settings(max_examples=40, deadline=None)
@given(st.integers(0, 10_000), st.integers(5, 60), st.sampled_from([1.0, 1e-6, 1e6]), st.floats(-1e5, 1e5))
def test_pearson_matches_scipy_with_any_scale_and_offset(seed, n, scale, offset):
    rng = np.random.default_rng(seed)
    x, y = rng.normal(size=n) * scale, rng.normal(size=n)
    shift = offset * scale
    z = np.stack([x, y], 1)
    N, S = np.full((2, 2), float(n)), np.repeat(z.sum(0)[:, None], 2, 1)
    r = correlation.correlation_from_products(N, S, np.repeat((z**2).sum(0)[:, None], 2, 1), z.T @ z)[0, 1]
    wanted = ss.pearsonr(x, y)
    assert r == pytest.approx(wanted.statistic, abs=1e-10)
    p = correlation.correlation_p(np.array([r]), np.array([float(n)]))[0]
    assert np.log(p) == pytest.approx(np.log(wanted.pvalue), abs=1e-7)
    low, high = correlation.fisher_interval(np.array([r]), np.array([float(n)]))
    interval = wanted.confidence_interval()
    np.testing.assert_allclose([low[0], high[0]], [interval.low, interval.high], atol=1e-9)
    assert np.isfinite(shift)


@settings(max_examples=40, deadline=None)
@given(st.integers(0, 10_000), st.integers(2, 5), st.sampled_from([1.0, 1e-5, 1e4]))
def test_one_way_matches_scipy(seed, k, scale):
    rng = np.random.default_rng(seed)
    parts = [rng.normal(rng.normal(), 1, rng.integers(2, 20)) * scale for _ in range(k)]
    counts = np.array([[len(p) for p in parts]], float)
    sums = np.array([[p.sum() for p in parts]])
    out = group_differences.one_way(counts, sums, counts, np.array([sum((p**2).sum() for p in parts)]))
    wanted = ss.f_oneway(*parts)
    assert out.f[0] == pytest.approx(wanted.statistic, rel=1e-9, abs=1e-9)
    assert out.p[0] == pytest.approx(wanted.pvalue, rel=1e-7)
    x = np.concatenate(parts)
    between = sum(len(p) * (p.mean() - x.mean()) ** 2 for p in parts)
    assert out.eta_squared[0] == pytest.approx(between / ((x - x.mean()) ** 2).sum(), rel=1e-9)


def test_one_way_edges_are_defined():
    counts = np.array([[3.0, 3.0], [3.0, 3.0], [6.0, 0.0]])
    sums = np.array([[3.0, 6.0], [3.0, 3.0], [6.0, 0.0]])
    square = np.array([15.0, 6.0, 7.0])  # nothing within; constant; one group only
    out = group_differences.one_way(counts, sums, counts, square)
    assert out.f[0] == np.inf and out.p[0] == 0
    assert np.isnan(out.f[1]) and np.isnan(out.f[2])


def test_chi_square_matches_scipy_and_v_is_bias_corrected():
    rng = np.random.default_rng(3)
    table = rng.integers(3, 30, (4, 3)).astype(float)
    padded = np.zeros((1, 6, 3))
    padded[0, :4] = table  # unused levels do not count
    out = information.chi_square(padded)
    wanted = ss.chi2_contingency(table, correction=False)
    assert out.chi_square[0] == pytest.approx(wanted.statistic, rel=1e-12)
    assert out.df[0] == wanted.dof and out.p[0] == pytest.approx(wanted.pvalue, rel=1e-9)
    noise = np.array([ss.contingency.crosstab(rng.integers(0, 40, 400), rng.integers(0, 2, 400)).count for _ in range(30)])
    assert information.chi_square(noise).cramers_v.mean() < 0.1  # plain V would be about 0.3


def test_mutual_information_of_known_tables():
    same = np.diag([25.0, 25.0, 50.0])[None]
    entropy = -(np.array([0.25, 0.25, 0.5]) * np.log([0.25, 0.25, 0.5])).sum()
    used = 3 - 3 - 3 + 1
    assert information.mutual_information(same)[0] == pytest.approx(entropy - used / 200)
    assert information.mutual_information(np.full((1, 3, 3), 10.0))[0] == 0
    rng = np.random.default_rng(0)
    noise = np.array([np.histogram2d(*rng.random((2, 500)), bins=10)[0] for _ in range(60)])
    assert information.mutual_information(noise).mean() < 0.02  # uncorrected it would be about 0.08


@settings(max_examples=30, deadline=None)
@given(st.integers(0, 10_000))
def test_rank_sum_matches_scipy_with_ties(seed):
    rng = np.random.default_rng(seed)
    y, flag = rng.integers(0, 12, 60).astype(float), rng.random(60) < 0.4
    out = ranks.rank_sum(y, flag[None])
    wanted = ss.mannwhitneyu(y[flag], y[~flag], method="asymptotic")
    assert out.p[0] == pytest.approx(wanted.pvalue, rel=1e-9)
    n1, n0 = flag.sum(), (~flag).sum()
    assert out.cliffs_delta[0] == pytest.approx(2 * wanted.statistic / (n1 * n0) - 1, abs=1e-12)
