"""Shuffled targets follow the data: weights go along, whole groups swap where the target is theirs."""

from __future__ import annotations

import numpy as np
import pandas as pd

import chaff
from chaff.table.shuffle import shuffled


def test_a_shuffle_deals_the_same_targets_out_anew():
    table = chaff.demo.table(rows=200)
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
    free = chaff.open_table(frame.assign(y=rng.normal(size=70)), "y", groups="mill")
    assert np.unique(shuffled(free, rng).y[mill == 0]).size == 7


def test_only_the_rows_in_view_are_dealt():
    table = chaff.demo.table(rows=200)
    half = table.take(np.arange(0, 200, 2))
    other = shuffled(half, np.random.default_rng(3))
    assert sorted(other.y) == sorted(half.y)
    outside = np.setdiff1d(np.arange(200), half.rows)
    assert (other.y_all[outside] == table.y_all[outside]).all()
