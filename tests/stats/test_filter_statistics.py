"""Every rank, group and table statistic against SciPy's function for one column, or the formula written out."""

from __future__ import annotations

import mpmath
import numpy as np
import pytest
import scipy.stats as st
from hypothesis import given, settings
from hypothesis import strategies as some

from chaff.stats.distance import distance_correlation, spread_of
from chaff.stats.group_differences import curve, fisher_score, one_way, welch
from chaff.stats.information import exact_two_by_two, gains, likelihood_ratio, pool_rare
from chaff.stats.neighbours import between_number_and_levels, between_numbers, without_ties
from chaff.stats.p_adjustment import ADJUSTMENTS, adjust
from chaff.stats.ranks import kendall, rank_test, ranked, spearman
from chaff.stats.supervised_bins import description_length_cuts
from chaff.stats.tail_probabilities import chi_square_upper, cramers_v_interval, eta_squared_interval, f_upper

tied = some.lists(some.tuples(some.integers(-4, 4), some.integers(-4, 4)), min_size=3, max_size=60)
free = some.lists(some.tuples(some.floats(-1e6, 1e6), some.floats(-1e6, 1e6)), min_size=3, max_size=60)


@given(tied | free)
@settings(max_examples=150, deadline=None)
def test_spearman_and_kendall_equal_scipy(pairs):
    x, y = np.array(pairs, float).T
    if x.std() == 0 or y.std() == 0 or np.unique(x).size == 1 or np.unique(y).size == 1:
        assert np.isnan(kendall(ranked(x), ranked(y))[0]) or np.unique(x).size > 1
        return
    assert spearman(ranked(x), ranked(y)) == pytest.approx(st.spearmanr(x, y)[0], rel=1e-10, abs=1e-12)
    mine, theirs = kendall(ranked(x), ranked(y)), st.kendalltau(x, y, variant="b")
    assert mine[0] == pytest.approx(theirs.statistic, rel=1e-10, abs=1e-12)
    if x.size > 33 or np.unique(x).size < x.size or np.unique(y).size < y.size:
        theirs = st.kendalltau(x, y, method="asymptotic")
    assert np.log(mine[1]) == pytest.approx(np.log(theirs.pvalue), rel=1e-8, abs=1e-9)


def test_kendall_of_a_long_column_counts_every_inversion():
    rng = np.random.default_rng(0)
    x, y = rng.normal(size=3000), rng.integers(0, 40, 3000).astype(float)
    assert kendall(ranked(x), ranked(y))[0] == pytest.approx(st.kendalltau(x, y)[0], rel=1e-10)
    assert kendall(ranked(np.arange(5.0)), ranked(np.arange(5.0)))[1] == pytest.approx(2 / 120)  # one order of 5! is as extreme


@pytest.mark.long
@given(some.lists(some.tuples(some.integers(-3, 3), some.integers(0, 2)), min_size=4, max_size=80))
@settings(max_examples=150, deadline=None)
def test_rank_tests_between_classes_equal_scipy(rows):
    x, c = np.array(rows, float).T
    c = c.astype(np.int64)
    test = rank_test(x, c, 3)
    groups = [x[c == k] for k in range(3) if (c == k).any()]
    if len(groups) < 2 or np.unique(x).size == 1:
        assert np.isnan(test.h)
        return
    h, p = st.kruskal(*groups)
    assert test.h == pytest.approx(h, rel=1e-10, abs=1e-9) and test.p == pytest.approx(p, rel=1e-8, abs=1e-12)
    for k in range(3):
        own, rest = x[c == k], x[c != k]
        if not own.size or not rest.size:
            assert np.isnan(test.auc[k])
            continue
        brute = np.mean((own[:, None] > rest) + 0.5 * (own[:, None] == rest))
        assert test.auc[k] == pytest.approx(brute, rel=1e-10, abs=1e-12)
        theirs = st.mannwhitneyu(own, rest, use_continuity=False, method="asymptotic").pvalue
        assert test.auc_p[k] == pytest.approx(theirs, rel=1e-8, abs=1e-12)


def test_two_classes_ks_and_the_interval_of_auc():
    rng = np.random.default_rng(1)
    c = rng.integers(0, 2, 300)
    x = np.round(rng.normal(size=300) + 0.6 * c, 1)
    test = rank_test(x, c, 2)
    assert test.ks == pytest.approx(st.ks_2samp(x[c == 0], x[c == 1]).statistic, rel=1e-12)
    n = [(c == k).sum() for k in (0, 1)]
    assert test.ks_p == pytest.approx(st.kstwobign.sf(test.ks * np.sqrt(n[0] * n[1] / 300)), rel=1e-10)
    # DeLong's variance from its definition: components of every row
    own, rest = x[c == 1], x[c == 0]
    psi = (own[:, None] > rest) + 0.5 * (own[:, None] == rest)
    se = np.sqrt(psi.mean(1).var(ddof=1) / own.size + psi.mean(0).var(ddof=1) / rest.size)
    logit = np.log(psi.mean() / (1 - psi.mean()))
    half = st.norm.ppf(0.975) * se / (psi.mean() * (1 - psi.mean()))
    assert test.auc_low[1] == pytest.approx(1 / (1 + np.exp(half - logit)), rel=1e-10)
    assert test.auc_high[1] == pytest.approx(1 / (1 + np.exp(-half - logit)), rel=1e-10)


def test_weights_of_whole_numbers_equal_repeated_rows():
    rng = np.random.default_rng(2)
    c, w = rng.integers(0, 2, 80), rng.integers(1, 4, 80)
    x = np.round(rng.normal(size=80), 1)
    many = rank_test(np.repeat(x, w), np.repeat(c, w), 2)
    once = rank_test(x, c, 2, w.astype(float))
    assert once.auc == pytest.approx(many.auc) and once.ks == pytest.approx(many.ks)
    assert np.isnan(once.p) and np.isnan(once.ks_p)


def groups_of(x, c, k):
    counts = np.array([(c == g).sum() for g in range(k)], float)[None]
    sums = np.array([x[c == g].sum() for g in range(k)])[None]
    squares = np.array([(x[c == g] ** 2).sum() for g in range(k)])[None]
    return counts, sums, counts, squares


@pytest.mark.parametrize("scale", [1.0, 1e-8, 1e8])
def test_welch_equals_its_formula_and_scipy_for_two_groups(scale):
    rng = np.random.default_rng(3)
    c = rng.integers(0, 3, 90)
    x = scale * rng.normal(size=90) * (1 + c)
    w = welch(*groups_of(x, c, 3))
    parts = [x[c == g] for g in range(3)]
    load = np.array([g.size / g.var(ddof=1) for g in parts])
    mean = np.array([g.mean() for g in parts])
    centre = (load * mean).sum() / load.sum()
    lack = sum((1 - a / load.sum()) ** 2 / (g.size - 1) for a, g in zip(load, parts, strict=False))
    f = (load * (mean - centre) ** 2).sum() / 2 / (1 + 2 * (3 - 2) / (9 - 1) * lack)
    assert w.f[0] == pytest.approx(f, rel=1e-10) and w.df_within[0] == pytest.approx(8 / (3 * lack), rel=1e-10)
    two = c < 2
    t, p = st.ttest_ind(x[c == 0], x[c == 1], equal_var=False)
    w = welch(*groups_of(x[two], c[two], 2))
    assert w.f[0] == pytest.approx(t * t, rel=1e-10) and w.p[0] == pytest.approx(p, rel=1e-8)


def test_welch_where_it_is_not_defined():
    c = np.array([0, 0, 1, 1, 2])
    assert np.isnan(welch(*groups_of(np.arange(5.0), c, 3)).f[0])  # a group of one
    still = np.array([1.0, 1, 2, 2])
    assert np.isinf(welch(*groups_of(still, c[:4], 2)).f[0]) and welch(*groups_of(still, c[:4], 2)).p[0] == 0
    assert np.isnan(welch(*groups_of(np.array([1.0, 1, 2, 3]), c[:4], 2)).f[0])  # one group alone without spread
    assert np.isnan(welch(*groups_of(np.ones(4), c[:4], 2)).f[0])


def test_fisher_score_is_between_over_within():
    rng = np.random.default_rng(4)
    c = rng.integers(0, 3, 60)
    x = rng.normal(size=60) + c
    counts, sums, _, squares = groups_of(x, c, 3)
    eta = one_way(counts, sums, counts, squares.sum(1)).eta_squared
    between = sum((c == g).sum() * (x[c == g].mean() - x.mean()) ** 2 for g in range(3))
    within = sum((c == g).sum() * x[c == g].var() for g in range(3))
    assert fisher_score(eta)[0] == pytest.approx(between / within, rel=1e-10)
    assert np.isinf(fisher_score(np.array([1.0]))[0])


@given(some.lists(some.lists(some.integers(0, 30), min_size=3, max_size=3), min_size=2, max_size=5))
@settings(max_examples=100, deadline=None)
def test_likelihood_ratio_and_gains_equal_their_definitions(rows):
    t = np.array(rows, float)
    live = t[t.sum(1) > 0][:, t.sum(0) > 0]
    g, df, p = likelihood_ratio(t[None])
    if live.shape[0] < 2 or live.shape[1] < 2:
        assert np.isnan(g[0])
        return
    theirs = st.chi2_contingency(live, correction=False, lambda_="log-likelihood")
    assert (
        g[0] == pytest.approx(theirs.statistic, rel=1e-9, abs=1e-9)
        and df[0] == theirs.dof
        and p[0] == pytest.approx(theirs.pvalue, rel=1e-8)
    )
    mine = gains(t[None])
    bits = st.entropy(live.sum(0), base=2) - sum(r.sum() * st.entropy(r, base=2) for r in live) / live.sum()
    assert mine.information_gain[0] == pytest.approx(bits, abs=1e-12)
    assert mine.gain_ratio[0] == pytest.approx(bits / st.entropy(live.sum(1), base=2), abs=1e-12)
    gini = lambda r: 1 - ((r / r.sum()) ** 2).sum()  # noqa: E731
    assert mine.gini_gain[0] == pytest.approx(gini(live.sum(0)) - sum(r.sum() * gini(r) for r in live) / live.sum(), abs=1e-12)


@given(some.lists(some.integers(0, 40), min_size=4, max_size=4))
@settings(max_examples=80, deadline=None)
def test_the_exact_test_equals_scipy(cells):
    t = np.array(cells, float).reshape(2, 2)
    if (t.sum(0) == 0).any() or (t.sum(1) == 0).any():
        assert np.isnan(exact_two_by_two(t))
        return
    assert exact_two_by_two(t) == pytest.approx(st.fisher_exact(t)[1], rel=1e-6)


def test_rare_levels_are_pooled_into_one_row():
    t = np.array([[50.0, 60], [2, 1], [1, 3], [40, 20]])
    assert pool_rare(t).tolist() == [[50, 60], [43, 24]]  # two rare levels together are still too few, so the next joins
    assert pool_rare(t[[0, 1, 3]]).tolist() == [[50, 60], [42, 21]]  # one rare level alone joins the next rarest
    assert pool_rare(t[:2]).shape == (2, 2) and pool_rare(t[[0, 3]]).tolist() == t[[0, 3]].tolist()


@pytest.mark.parametrize("n", [4, 5, 16, 17, 33, 250])
@pytest.mark.parametrize("ties", [False, True])
def test_distance_correlation_equals_the_definition(n, ties):
    rng = np.random.default_rng(n)
    x = rng.normal(size=n)
    y = x**2 + 0.3 * rng.normal(size=n)
    if ties:
        x, y = np.round(x), np.round(y)

    def centred(v):
        d = np.abs(v[:, None] - v)
        return d - d.mean(0) - d.mean(1)[:, None] + d.mean(), d

    (a, da), (b, db) = centred(x), centred(y)
    mine = distance_correlation(spread_of(x), spread_of(y))
    if x.std() == 0 or y.std() == 0:
        assert np.isnan(mine.correlation)
        return
    assert mine.correlation == pytest.approx(np.sqrt((a * b).mean() / np.sqrt((a * a).mean() * (b * b).mean())), rel=1e-9)

    def unbiased(d, e):
        def u(m):
            out = m - m.sum(0) / (n - 2) - m.sum(1)[:, None] / (n - 2) + m.sum() / ((n - 1) * (n - 2))
            np.fill_diagonal(out, 0)
            return out

        return (u(d) * u(e)).sum() / (n * (n - 3))

    if unbiased(da, da) > 1e-12 and unbiased(db, db) > 1e-12:
        assert mine.corrected == pytest.approx(unbiased(da, db) / np.sqrt(unbiased(da, da) * unbiased(db, db)), rel=1e-8, abs=1e-10)


def test_distance_correlation_sees_a_curve_and_its_p_holds_on_noise():
    rng = np.random.default_rng(5)
    x = rng.normal(size=400)
    bent = distance_correlation(spread_of(x), spread_of(x**2))
    assert bent.p < 1e-10 and abs(np.corrcoef(x, x**2)[0, 1]) < 0.2
    p = np.array([distance_correlation(spread_of(rng.normal(size=60)), spread_of(rng.normal(size=60))).p for _ in range(400)])
    assert (p < 0.05).mean() < 0.08


def test_neighbour_information_of_a_normal_pair_and_of_classes():
    rng = np.random.default_rng(6)
    x = rng.normal(size=4000)
    y = 0.8 * x + 0.6 * rng.normal(size=4000)
    assert between_numbers(x, y) == pytest.approx(-0.5 * np.log(1 - 0.64), abs=0.05)
    assert between_numbers(x, rng.normal(size=4000)) < 0.03
    c = rng.integers(0, 2, 4000)
    far = between_number_and_levels(x + 40.0 * c, c)
    assert far == pytest.approx(np.log(2), abs=0.01)  # the class is known from x
    assert between_number_and_levels(x, c) < 0.03
    same = without_ties(np.zeros(50), np.zeros(50), rng.normal(size=50))
    assert np.unique(same).size == 50 or same.std() == 0


def test_curve_equals_regressions_on_bins():
    rng = np.random.default_rng(7)
    x, y = rng.normal(size=200), rng.normal(size=200)
    y = y + x**2
    b = np.digitize(x, [-1, 0, 1])
    w = np.bincount(b).astype(float)
    c = curve(w[None], np.bincount(b, x)[None], np.bincount(b, y)[None], np.array([y @ y]))
    means = (np.bincount(b, y) / w)[b]
    centres = (np.bincount(b, x) / w)[b]
    line = np.polyval(np.polyfit(centres, y, 1), centres)
    within = ((y - means) ** 2).sum()
    f = ((means - line) ** 2).sum() / 2 / (within / 196)
    assert c.f[0] == pytest.approx(f, rel=1e-9) and c.p[0] == pytest.approx(st.f.sf(f, 2, 196), rel=1e-8)
    assert c.correlation_ratio[0] == pytest.approx(np.sqrt(1 - within / ((y - y.mean()) ** 2).sum()), rel=1e-10)


def test_intervals_turn_the_noncentral_distributions_round():
    low, high = eta_squared_interval(np.array([5.0, 0.2, 900.0]), np.full(3, 3.0), np.full(3, 96.0))
    for k, f in enumerate((5.0, 0.2, 900.0)):
        for bound, chance in ((low[k], 0.975), (high[k], 0.025)):
            nc = bound * 100 / (1 - bound)
            if nc > 0:
                assert st.ncf.cdf(f, 3, 96, nc) == pytest.approx(chance, abs=1e-5)
    assert low[1] == 0
    low, high = cramers_v_interval(np.array([30.0]), np.array([2.0]), np.array([200.0]), np.array([1.0]))
    assert st.ncx2.cdf(30, 2, low[0] ** 2 * 200) == pytest.approx(0.975, abs=1e-8)
    assert st.ncx2.cdf(30, 2, high[0] ** 2 * 200) == pytest.approx(0.025, abs=1e-8)


@pytest.mark.parametrize(("f", "df", "within"), [(3000.0, 1, 1000), (250.0, 4, 100_000), (1400.0, 2, 50_000), (0.4, 3, 9)])
def test_tails_hold_their_digits_down_to_1e_300(f, df, within):
    with mpmath.workdps(60):
        x = mpmath.mpf(within) / (within + mpmath.mpf(df) * f)
        exact = mpmath.log(mpmath.betainc(mpmath.mpf(within) / 2, mpmath.mpf(df) / 2, 0, x, regularized=True))
    mine = float(f_upper(np.array(f), np.array(df), np.array(within)))
    if float(exact) > np.log(1e-300):
        assert np.log(mine) == pytest.approx(float(exact), rel=1e-8)
    with mpmath.workdps(60):
        exact = mpmath.log(mpmath.gammainc(mpmath.mpf(df) / 2, mpmath.mpf(f) / 2, mpmath.inf, regularized=True))
    if float(exact) > np.log(1e-300):
        assert np.log(float(chi_square_upper(np.array(f), np.array(df)))) == pytest.approx(float(exact), rel=1e-8)


def test_supervised_cuts_lie_where_the_classes_change_and_noise_gets_none():
    x = np.linspace(0, 10, 300)
    c = np.digitize(x, [3.0, 7.0]) % 2
    assert description_length_cuts(x, c, 2) == pytest.approx([3.0, 7.0], abs=0.05)
    rng = np.random.default_rng(8)
    assert description_length_cuts(rng.normal(size=300), rng.integers(0, 2, 300), 2).size == 0
    assert description_length_cuts(np.ones(20), rng.integers(0, 2, 20), 2).size == 0


def test_adjustments_on_a_family_with_gaps():
    p = np.array([0.001, np.nan, 0.02, 0.04, 0.5])
    known = p[~np.isnan(p)]
    assert adjust(p, "bonferroni")[[0, 2]].tolist() == [0.004, 0.08]
    harmonic = 1 + 1 / 2 + 1 / 3 + 1 / 4
    assert adjust(p, "benjamini_yekutieli")[0] == pytest.approx(0.004 * harmonic)
    assert adjust(p, "benjamini_hochberg")[~np.isnan(p)] == pytest.approx(st.false_discovery_control(known))
    for name in ADJUSTMENTS:
        assert np.isnan(adjust(p, name)[1]) and (adjust(p, name)[~np.isnan(p)] >= known).all()
    with pytest.raises(ValueError, match="unknown adjustment 'hom'.*holm"):
        adjust(p, "hom")
