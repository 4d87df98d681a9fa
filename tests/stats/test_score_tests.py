"""Score tests that count witnesses: against closed forms, and by simulation of what they promise."""

from __future__ import annotations

import numpy as np
import pytest
import scipy.stats as st

from chaff.stats.paired_loss import Units
from chaff.stats.score_test import score_p


def test_one_row_a_group_is_the_t_test_of_the_products():
    rng = np.random.default_rng(0)
    x, y = rng.normal(size=(2, 400))
    products = (x - x.mean()) * (y - y.mean())
    expected = st.ttest_1samp(products, 0.0).pvalue
    assert score_p(x[None], y[None], Units(groups=np.arange(400))) == pytest.approx(expected, rel=1e-9)


def test_few_groups_are_judged_by_all_their_signs():
    rng = np.random.default_rng(1)
    groups = np.repeat(np.arange(8), 5)
    x, y = rng.normal(size=(2, 40))
    sums = np.bincount(groups, (x - x.mean()) * (y - y.mean()))
    signs = np.array(np.meshgrid(*[[-1, 1]] * 8)).reshape(8, -1).T
    expected = ((signs @ sums) ** 2 >= sums.sum() ** 2 * 7 / 8 * (1 - 1e-9)).mean()
    assert score_p(x[None], y[None], Units(groups=groups)) == pytest.approx(expected)


def test_several_directions_do_not_depend_on_how_they_are_written():
    rng = np.random.default_rng(2)
    codes, y, groups = rng.integers(0, 4, 600), rng.normal(size=600), np.repeat(np.arange(100), 6)
    flags = (codes[None] == np.arange(1, 4)[:, None]).astype(float)
    turned = np.array([[1.0, 2.0, 0.0], [0.0, 1.0, -1.0], [3.0, 0.0, 1.0]]) @ flags
    a, b = (score_p(A, y[None], Units(groups=groups)) for A in (flags, turned))
    assert a == pytest.approx(b, rel=1e-8)


def drifting(rng: np.random.Generator, n: int, keep: float) -> np.ndarray:
    from scipy.signal import lfilter

    return np.asarray(lfilter([1.0], [1.0, -keep], rng.normal(size=n + 100))[100:])


NULLS = 400
LIMIT = 0.05 + 3 * np.sqrt(0.05 * 0.95 / NULLS)  # three standard errors: 0.083


def shared(rng: np.random.Generator, groups: np.ndarray, share: float) -> np.ndarray:
    of_group = rng.normal(size=groups.max() + 1)[groups]
    return np.sqrt(share) * of_group + np.sqrt(1 - share) * rng.normal(size=groups.size)


@pytest.mark.parametrize("count", [8, 30])
@pytest.mark.parametrize("share", [0.3, 1.0])
def test_nothing_is_found_between_columns_that_groups_share(count: int, share: float):
    rng = np.random.default_rng(3)
    groups = np.repeat(np.arange(count), 10)
    p = [score_p(shared(rng, groups, share)[None], shared(rng, groups, 0.3)[None], Units(groups=groups)) for _ in range(NULLS)]
    assert np.mean(np.array(p) < 0.05) < LIMIT


@pytest.mark.parametrize("keep", [0.0, 0.95, 1.0])
def test_nothing_is_found_between_series_that_drift(keep: float):
    rng = np.random.default_rng(4)
    order = np.arange(300.0)
    p = [score_p(drifting(rng, 300, keep)[None], drifting(rng, 300, keep)[None], Units(order=order)) for _ in range(NULLS)]
    assert np.mean(np.array(p) < 0.05) < LIMIT


def test_nothing_is_found_under_weights_of_very_different_size():
    rng = np.random.default_rng(5)
    p = [score_p(*rng.normal(size=(2, 1, 200)), Units(weights=np.exp(rng.normal(size=200)))) for _ in range(NULLS)]
    assert np.mean(np.array(p) < 0.05) < LIMIT


def test_a_real_relation_is_found_all_the_same():
    rng = np.random.default_rng(6)
    groups, order = np.repeat(np.arange(40), 10), np.arange(400.0)
    x = shared(rng, groups, 0.3)
    assert score_p(x[None], (x + rng.normal(size=400))[None], Units(groups=groups)) < 1e-6
    z = drifting(rng, 400, 0.95)
    assert score_p(z[None], (0.3 * z + drifting(rng, 400, 0.5))[None], Units(order=order)) < 0.01


def test_too_few_to_judge_is_blank():
    x = np.arange(5.0)[None]
    assert np.isnan(score_p(x, x, Units(groups=np.zeros(5, int))))
    assert np.isnan(score_p(x, x, Units(weights=np.ones(5))))
    assert np.isnan(score_p(np.ones((1, 5)), x, Units(groups=np.arange(5))))
