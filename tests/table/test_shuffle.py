"""Shuffled targets follow the data: weights go along, whole groups swap where the target is theirs."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pandas as pd

import chaff
from chaff.table.shuffle import shuffled


def test_a_shuffle_deals_the_same_targets_out_anew():
    table = replace(chaff.demo.table(rows=200), groups_all=None)
    other = shuffled(table, np.random.default_rng(0))
    assert sorted(other.y) == sorted(table.y) and (other.y != table.y).mean() > 0.9
    assert (
        other.features == table.features
        and (other.column("ash_pct").values == table.column("ash_pct").values)[~table.column("ash_pct").missing].all()
    )
    again = shuffled(table, np.random.default_rng(0))
    assert (again.y == other.y).all()


def test_weights_move_with_their_target():
    rng = np.random.default_rng(1)
    weights = rng.random(60)
    table = chaff.open_arrays(rng.normal(size=(60, 2)), weights * 10 + 1, weights=weights)
    other = shuffled(table, rng)
    np.testing.assert_allclose(other.y, other.weights * 10 + 1)


def test_groups_swap_targets_whole_when_the_target_is_theirs():
    rng = np.random.default_rng(2)
    mill = np.repeat(np.arange(10), 7)
    frame = pd.DataFrame({"x": rng.normal(size=70), "mill": mill, "y": mill.astype(float) ** 2})
    table = chaff.open_table(frame, "y", groups="mill")
    other = shuffled(table, rng)
    assert all(np.unique(other.y[mill == k]).size == 1 for k in range(10))
    assert sorted(np.unique(other.y)) == sorted(np.unique(table.y))


def test_a_shuffle_keeps_together_what_a_group_shares():
    rng = np.random.default_rng(5)
    mill = np.repeat(np.arange(30), rng.integers(2, 9, 30))
    y = 10.0 * mill + rng.random(mill.size)
    table = chaff.open_table(pd.DataFrame({"x": rng.normal(size=mill.size), "mill": mill, "y": y}), "y", groups="mill")
    other = shuffled(table, rng)
    givers = [np.unique(other.y[mill == k] // 10) for k in range(30)]
    assert all(g.size == 1 for g in givers)  # every group has its targets from one other
    assert sorted(int(g[0]) for g in givers) == list(range(30))  # and each gives to one


def test_a_shuffle_in_time_turns_the_series_round_and_keeps_its_neighbours():
    rng = np.random.default_rng(6)
    day = rng.permutation(100)
    table = chaff.open_table(pd.DataFrame({"x": rng.normal(size=100), "day": day, "y": day.astype(float)}), "y", order="day")
    dealt = shuffled(table, rng).y[np.argsort(day)]
    steps = (np.diff(dealt) % 100).astype(int)
    assert (steps == 1).all() and 10 <= dealt[0] <= 90


def test_only_the_rows_in_view_are_dealt():
    table = replace(chaff.demo.table(rows=200), groups_all=None)
    half = table.take(np.arange(0, 200, 2))
    other = shuffled(half, np.random.default_rng(3))
    assert sorted(other.y) == sorted(half.y)
    outside = np.setdiff1d(np.arange(200), half.rows)
    assert (other.y_all[outside] == table.y_all[outside]).all()
