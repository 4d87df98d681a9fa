"""One effect scale: equal to |r| with one degree of freedom, alike for noise at any number, true to size where a relation is strong."""

from __future__ import annotations

import numpy as np
import pytest
import scipy.stats as st

from chaff.stats.tail_probabilities import of_counts, on_the_scale_of_r


def one(share: float, df: float, rows: float) -> float:
    return float(on_the_scale_of_r(np.array(share), np.array(df), np.array(rows)))


def test_with_one_degree_of_freedom_it_is_the_root():
    for share in (0.0, 0.01, 0.4, 1.0):
        assert one(share, 1, 50) == pytest.approx(np.sqrt(share))


def test_below_chance_it_is_the_r_with_the_same_p():
    rows, df, share = 120, 9, 0.09
    p = st.beta.sf(share, df / 2, (rows - df - 1) / 2)
    assert p > 0.05
    r = one(share, df, rows)
    t = r * np.sqrt((rows - 2) / (1 - r * r))
    assert 2 * st.t.sf(t, rows - 2) == pytest.approx(p, rel=1e-6)


def test_a_strong_relation_keeps_its_size_and_more_levels_never_make_it_larger():
    for share in (0.3, 0.6, 0.9):
        sizes = [one(share, df, 2000) for df in (1, 4, 19, 60)]
        assert sizes == sorted(sizes, reverse=True) and sizes[-1] > np.sqrt(share) - 0.04


def test_the_scale_rises_with_the_share():
    shares = np.linspace(0, 1, 201)
    for df, rows in ((4, 60), (19, 100), (40, 90)):
        sizes = on_the_scale_of_r(shares, np.full(201, df), np.full(201, rows))
        assert (np.diff(sizes) >= -1e-12).all() and sizes[0] == 0.0 and sizes[-1] == 1.0


@pytest.mark.parametrize("df", [2, 9, 30])
def test_noise_reaches_as_far_as_a_number_does(df: int):
    rng, rows = np.random.default_rng(df), 300
    number = np.sqrt(rng.beta(0.5, (rows - 2) / 2, 4000))
    levels = on_the_scale_of_r(rng.beta(df / 2, (rows - df - 1) / 2, 4000), np.full(4000, df), np.full(4000, rows))
    for point in (0.5, 0.9, 0.95):
        assert np.quantile(levels, point) == pytest.approx(np.quantile(number, point), rel=0.15)


def test_of_counts_is_cramers_v_for_a_table_of_two_by_two_and_fair_for_larger_ones():
    assert float(of_counts(np.array(12.0), np.array(1.0), np.array(300.0), np.array(1.0))) == pytest.approx(np.sqrt(12 / 300))
    rng = np.random.default_rng(0)
    small = of_counts(rng.chisquare(1, 4000), np.full(4000, 1.0), np.full(4000, 400.0), np.full(4000, 1.0))
    large = of_counts(rng.chisquare(24, 4000), np.full(4000, 24.0), np.full(4000, 400.0), np.full(4000, 2.0))
    assert np.quantile(large, 0.95) == pytest.approx(np.quantile(small, 0.95), rel=0.15)
    whole = of_counts(np.array(800.0), np.array(24.0), np.array(400.0), np.array(2.0))
    assert float(whole) == pytest.approx(1.0)


def test_what_cannot_be_judged_is_blank():
    assert np.isnan(one(0.5, 9, 10)) and np.isnan(one(float("nan"), 1, 50)) and np.isnan(one(0.5, 0, 50))
    assert np.isnan(float(of_counts(np.array(3.0), np.array(0.0), np.array(9.0), np.array(0.0))))
