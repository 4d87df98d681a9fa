"""The keep-up test and what it stands on: errors against their definitions, rates by simulation."""

import numpy as np
import pytest
import scipy.stats as ss

from chaff.metrics import METRICS
from chaff.stats.paired_loss import MeanDifference, Units, judge_keep_up, mean_difference, pooled, spread_at

RNG = np.random.default_rng(5)


def test_over_rows_it_is_the_t_test():
    d = RNG.normal(0.3, 1, 60)
    found, want = mean_difference(d), ss.ttest_1samp(d, 0.1, alternative="greater")
    assert found.p_above(0.1) == pytest.approx(want.pvalue) and found.df == 59
    low, high = ss.t.interval(0.9, 59, d.mean(), ss.sem(d))
    assert (found.lower(), found.upper()) == pytest.approx((low, high))


def test_over_groups_it_is_the_t_test_of_group_means_where_groups_are_alike():
    d = RNG.normal(size=(12, 7)) + RNG.normal(size=(12, 1))
    found = mean_difference(d.ravel(), groups=np.repeat(np.arange(12), 7))
    assert found.se == pytest.approx(ss.sem(d.mean(1))) and found.df == 11 and found.units == 12


def test_a_weight_of_zero_is_a_row_that_is_not_there():
    d, w = RNG.normal(size=50), np.r_[np.ones(30), np.zeros(20)]
    assert mean_difference(d, w).mean == pytest.approx(d[:30].mean())


def test_in_time_the_error_holds_what_a_series_of_known_memory_has():
    a, n, rates = 0.8, 600, []
    for seed in range(300):
        rng = np.random.default_rng(seed)
        e = rng.normal(size=n)
        for t in range(1, n):
            e[t] += a * e[t - 1]
        rates.append(mean_difference(e, order=np.arange(n)).p_above(0.0) < 0.05)
    assert np.mean(rates) < 0.05 + 2 * np.sqrt(0.05 * 0.95 / 300) + 0.01
    plain = [
        mean_difference(np.convolve(np.random.default_rng(s).normal(size=n + 9), np.ones(10), "valid")).p_above(0.0) < 0.05
        for s in range(200)
    ]
    assert np.mean(plain) > 0.15  # what ignoring the order would do


def test_three_answers():
    def of(mean, se):
        return judge_keep_up(MeanDifference(mean, se, 200.0, 201), 0.10, 201)

    assert of(0.01, 0.02).answer == "keeps up" and of(0.2, 0.02).answer == "worse" and of(0.05, 0.2).answer == "cannot tell"
    unsure = of(0.05, 0.05)
    assert unsure.answer == "cannot tell" and unsure.rows_to_tell == pytest.approx(201 * (1.6525 * 0.05 / 0.05) ** 2, rel=0.01)
    assert judge_keep_up(MeanDifference(0.0, 0.0, 50.0, 51), 0.0, 51).answer == "keeps up"  # the same set
    assert judge_keep_up(MeanDifference(float("nan"), float("nan"), 0.0, 0), 0.1, 0).answer == "cannot tell"


def test_a_lucky_sample_does_not_bring_its_own_small_error():
    """Squared errors of a line with and without a column whose loss is just the allowance."""
    share, n, honest, plain = 0.05, 200, 0, 0
    for seed in range(600):
        rng = np.random.default_rng(seed)
        x, e = rng.normal(size=n), rng.normal(size=n)
        slope = np.sqrt(share) + rng.normal() / np.sqrt(n)  # as a fit on other rows would have it
        d = (np.sqrt(share) * x + e) ** 2 - (np.sqrt(share) * x - slope * x + e) ** 2
        found = mean_difference(d)
        spread = spread_at(share, 4 * 1.0, n, 1.0)
        honest += judge_keep_up(found, share, n, spread).answer == "keeps up"
        plain += judge_keep_up(found, share, n).answer == "keeps up"
    assert honest / 600 < 0.05 + 2 * np.sqrt(0.05 * 0.95 / 600) + 0.01 < plain / 600


@pytest.mark.parametrize("metric", ["r2", "rmse", "log_loss"])
def test_a_pooled_score_has_the_error_that_resampling_gives(metric):
    rng = np.random.default_rng(2)
    loss, none = rng.gamma(2.0, 0.3, 400), rng.gamma(2.0, 0.6, 400)
    of = METRICS[metric].of_losses
    found = pooled(of, loss, none, Units())
    draws = rng.integers(0, 400, (3000, 400))
    again = [of(loss[d].sum(), none[d].sum(), 400.0) for d in draws]
    assert found.score == pytest.approx(of(loss.sum(), none.sum(), 400.0)) and found.se == pytest.approx(np.std(again), rel=0.08)
