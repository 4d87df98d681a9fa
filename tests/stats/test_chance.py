"""Real values against shuffled ones: standard scores, p, the maximum step by step, and its rate under no effect."""

from itertools import pairwise

import numpy as np
import pytest

from chaff.stats.p_adjustment import against_chance, left_out_scores, shuffles_to_adjust


def test_scores_leave_the_judged_one_out():
    values = np.random.default_rng(0).normal(size=(12, 4))
    for k in range(12):
        others = np.delete(values, k, 0)
        np.testing.assert_allclose(left_out_scores(values)[k], (values[k] - others.mean(0)) / others.std(0, ddof=1))
    flat = np.array([[1.0, 5.0], [1.0, 2.0], [1.0, 2.0], [1.0, 2.0]])
    assert left_out_scores(flat)[0].tolist() == [0.0, np.inf]


def test_p_counts_shuffles_that_reach_the_value_and_is_never_zero():
    shuffles = np.array([[0.1, 3.0], [0.2, 3.0], [0.3, 3.0], [0.4, 3.0]])
    found = against_chance(np.array([0.3, 9.0]), shuffles)
    assert found.p.tolist() == [3 / 5, 1 / 5] and found.largest.tolist() == [0.4, 3.0]
    assert found.mean[0] == pytest.approx(0.25) and found.sd[0] == pytest.approx(shuffles[:, 0].std(ddof=1))
    missing = against_chance(np.array([0.3, np.nan]), shuffles)
    assert np.isnan(missing.p[1]) and missing.p[0] == 3 / 5 and np.isnan(missing.chance_scores[:, 1]).all()


def step_down(score, chance):
    """Westfall and Young as they write it: the largest among this column and all that score less."""
    order = np.argsort(-score)
    p = np.empty(score.size)
    for place, j in enumerate(order):
        rest = order[place:]
        p[j] = (1 + (chance[:, rest].max(1) >= score[j]).sum()) / (1 + len(chance))
    for before, j in pairwise(order):
        p[j] = max(p[j], p[before])
    return p


def test_the_maximum_goes_step_by_step():
    rng = np.random.default_rng(1)
    real, shuffles = rng.normal(size=8) + np.array([4, 3, 0, 0, 0, 0, 0, 0.0]), rng.normal(size=(40, 8))
    found = against_chance(real, shuffles)
    every = left_out_scores(np.vstack([real, shuffles]))
    np.testing.assert_allclose(found.family_p, step_down(every[0], every[1:]))
    assert (found.family_p >= found.p - 1e-12).all()


def test_under_no_effect_the_family_error_is_kept_whatever_the_columns_look_like():
    rng = np.random.default_rng(2)
    wrong, beyond, said = 0, 0, 0.0
    for _ in range(400):  # skewed, of different spread, and hanging together
        z = rng.normal(size=(20, 1)) + rng.normal(size=(20, 15))
        values = np.exp(z * np.linspace(0.1, 1.5, 15))
        found = against_chance(values[0], values[1:])
        wrong += (found.family_p <= 0.05).any()
        beyond += (found.score > 2).sum()
        said += (found.chance_scores > 2).sum() / len(found.chance_scores)
    assert wrong / 400 <= 0.05 + 2 * np.sqrt(0.05 * 0.95 / 400)
    assert beyond == pytest.approx(said, rel=0.25)  # what the shuffles say of chance is what happens


def test_how_many_shuffles_an_adjustment_takes():
    assert shuffles_to_adjust(1, 0.05) == 19 and shuffles_to_adjust(200, 0.05) == 3999
