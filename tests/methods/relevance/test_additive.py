"""What an additive model leaves of the target, and whether what two features tell together holds on other rows."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.methods.relevance.additive import MOST_LINES, WIDEST, Basis, _by_strength, left_over
from chaff.methods.relevance.stage import confirmed
from chaff.stats.paired_loss import Units
from chaff.work import Work


def parts(n: int) -> np.ndarray:
    return np.arange(n) % 5


def test_curves_and_steps_are_taken_off_and_a_product_is_not():
    rng = np.random.default_rng(0)
    X = rng.normal(size=(3000, 3))
    noise = rng.normal(size=3000)
    for truth, stays in ((X[:, 0] ** 2 + 2 * (X[:, 1] > 0.5), False), (2 * X[:, 0] * X[:, 1], True)):
        table = chaff.open_arrays(X, truth + noise)
        rest = left_over(table, table.features, parts(3000), Work())[0]
        assert bool(abs(np.corrcoef(rest, truth)[0, 1]) > 0.5) is stays
        assert bool(np.corrcoef(rest, noise)[0, 1] > 0.9) is not stays


def test_the_spread_of_what_is_left_is_evened_out():
    rng = np.random.default_rng(1)
    x = rng.normal(size=4000)
    table = chaff.open_arrays(np.c_[x, rng.normal(size=4000)], np.exp(x) * rng.normal(size=4000))
    rest = left_over(table, table.features, parts(4000), Work())[0]
    low, high = (rest[side].std() for side in (x < -0.7, x > 0.7))
    assert 0.6 < high / low < 1.6 < np.exp(x)[x > 0.7].mean() / np.exp(x)[x < -0.7].mean()


def test_classes_leave_pearson_residuals():
    rng = np.random.default_rng(2)
    x = rng.normal(size=(3000, 2))
    y = (rng.random(3000) < 1 / (1 + np.exp(-2 * x[:, 0]))).astype(int)
    table = chaff.open_arrays(x, y)
    rest = left_over(table, table.features, parts(3000), Work())
    assert rest.shape == (1, 3000) and rest.std() == pytest.approx(1.0, abs=0.15)
    assert abs(np.corrcoef(rest[0], x[:, 0])[0, 1]) < 0.15  # 0.62 before


def test_functions_of_a_column_know_nothing_of_the_target_and_count_gaps_apart():
    rng = np.random.default_rng(3)
    data = pd.DataFrame({"x": np.where(rng.random(400) < 0.2, np.nan, rng.normal(size=400)), "k": rng.choice(["a", "b", "c"], 400)})
    table = chaff.open_table(data.assign(y=rng.normal(size=400)), "y")
    curve = Basis.learn(table.column("x"), 400)
    values = curve.of(table.column("x").values)
    assert (values[0] == np.isnan(table.column("x").values)).all() and np.isfinite(values).all()
    assert curve.straight().of(table.column("x").values).shape[0] == 2
    levels = Basis.learn(table.column("k"), 400).of(table.column("k").values)
    assert levels.shape[0] == 3 and set(np.unique(levels)) <= {0.0, 1.0}


def test_of_many_columns_the_strongest_get_a_curve():
    rng = np.random.default_rng(4)
    X = rng.normal(size=(300, MOST_LINES + 50))
    table = chaff.open_arrays(X, 2 * X[:, 7] ** 2 + rng.normal(size=300))
    found = _by_strength(table, [Basis.learn(table.column(f), 300) for f in table.features], Work())
    assert len(found) == MOST_LINES and found[0].name == "x8"
    assert all(b.knots.size > 2 for b in found[:WIDEST]) and all(b.knots.size <= 2 for b in found[WIDEST:])


def cells(seed: int, together: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    rng = np.random.default_rng(seed)
    a, b = rng.integers(0, 5, (2, 1500)).astype(np.uint8)
    effect = rng.normal(size=(5, 5))
    effect -= effect.mean(0) + effect.mean(1)[:, None] - effect.mean()
    return a, b, (0.5 * a + together * effect[a, b] + rng.normal(size=1500))[None]


def test_what_holds_on_other_rows_is_confirmed_and_chance_is_not():
    assert all(confirmed(*cells(seed, 0.5), parts(1500), Units()) for seed in range(5))
    assert sum(confirmed(*cells(seed, 0.0), parts(1500), Units()) for seed in range(60)) <= 7


def test_what_only_a_few_groups_carry_is_not_confirmed_once_they_are_counted():
    rng = np.random.default_rng(5)
    group = np.repeat(np.arange(10), 150)
    hits = {True: 0, False: 0}
    for _ in range(40):
        a, b = rng.integers(0, 4, (2, 10)).astype(np.uint8)[:, group]
        rest = (rng.normal(size=10)[group] + rng.normal(size=1500))[None]
        fold = rng.permutation(10)[group] % 5
        for counted in hits:
            hits[counted] += confirmed(a, b, rest, fold, Units(groups=group) if counted else Units())
    assert hits[True] <= 6
