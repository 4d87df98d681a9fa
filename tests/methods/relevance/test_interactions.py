"""The pair screen against two-way least squares, on planted pairs, on noise, and its refusals."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.kernels import feature_pairs as kernels


def two_way(a, b, y):
    """(sum of squares beyond adding up, within, degrees of freedom) by plain least squares on dummies."""
    dummies = lambda codes: (codes[:, None] == np.unique(codes)).astype(float)  # noqa: E731
    additive = np.hstack([dummies(a), dummies(b)])
    full = dummies(a * 100 + b)
    rss = [((y - X @ np.linalg.lstsq(X, y, rcond=None)[0]) ** 2).sum() for X in (additive, full)]
    ranks = [np.linalg.matrix_rank(X) for X in (additive, full)]
    return rss[0] - rss[1], rss[1], ranks[1] - ranks[0], y.size - ranks[1]


@pytest.mark.parametrize("case", ["full", "sparse", "nested", "same"])
def test_a_pair_equals_two_way_least_squares(case):
    rng = np.random.default_rng(0)
    n = 400
    a = rng.integers(1, 6, n)
    b = {"full": rng.integers(1, 5, n), "sparse": rng.integers(1, 15, n), "nested": a * 2 + rng.integers(0, 2, n), "same": a}[case]
    y = (rng.normal(size=n) * 3 + a).round().clip(0, 15)
    counts, sums = np.zeros(256, np.int64), np.zeros(256, np.int64)
    kernels.add_cells(a.astype(np.uint8), (b * 16 + y.astype(int)).astype(np.uint8), np.zeros(4096, np.int32), counts, sums)
    out = np.empty((1, 2))
    cells = (sums - counts * y.mean())[:, None].astype(float)
    df = kernels.beyond_adding(
        counts.reshape(16, 16).astype(float),
        cells.reshape(16, 16, 1),
        np.array([((y - y.mean()) ** 2).sum()]),
        np.empty((16, 16)),
        np.empty((16, 1)),
        out,
    )
    beyond, within, df_beyond, df_within = two_way(a, b, y)
    assert out[0] == pytest.approx([beyond, within], rel=1e-9, abs=1e-7)
    assert df == (df_beyond, df_within)


def test_lanes_hold_what_single_targets_give():
    rng = np.random.default_rng(1)
    n = 9000  # more than two spans
    a, b = rng.integers(0, 16, n).astype(np.uint8), rng.integers(0, 16, n).astype(np.uint8)
    lanes = rng.integers(0, 16, (32, n)).astype(np.uint8)
    from chaff.methods.relevance.pairs import _packed

    counts, sums = np.zeros(256, np.int64), np.zeros((256, 32))
    kernels.add_step_lanes(a, b, _packed(lanes[None])[0], np.empty((256, 8), np.int64), counts, sums)
    cell = a.astype(int) * 16 + b
    assert (counts == np.bincount(cell, minlength=256)).all()
    for k in (0, 7, 31):
        assert (sums[:, k] == np.bincount(cell, lanes[k], 256)).all()


def test_a_pair_that_works_only_together_is_found_and_nothing_else():
    rng = np.random.default_rng(2)
    X = rng.normal(size=(1500, 8))
    for target in (X[:, 2] * X[:, 5] + X[:, 0] + rng.normal(size=1500), (X[:, 2] * X[:, 5] + rng.normal(size=1500) > 0).astype(int)):
        found = chaff.interactions(chaff.open_arrays(X, target))
        best = found.more["pairs"].iloc[0]
        assert {best["first"], best["second"]} == {"x3", "x6"} and best["significant"]
        assert found.frame["in_company"].sum() == 2 and found.frame.loc["x3", "partner"] == "x6"
        assert found.more["pairs"]["significant"].sum() == 1


def test_main_effects_and_repeats_alone_are_no_company():
    rng = np.random.default_rng(3)
    X = rng.normal(size=(1500, 5))
    X[:, 1] = X[:, 0] + 0.1 * rng.normal(size=1500)  # a strong repeat
    table = chaff.open_arrays(X, 3 * X[:, 0] + 2 * X[:, 2] + rng.normal(size=1500))
    assert not chaff.interactions(table).frame["in_company"].any()


def test_categories_gaps_and_classes_take_part():
    rng = np.random.default_rng(4)
    n = 1200
    word, x = rng.choice(["a", "b", "c"], n), rng.normal(size=n)
    y = np.where(word == "a", x, -x) + 0.3 * rng.normal(size=n)
    frame = pd.DataFrame(
        {"word": word, "x": np.where(rng.random(n) < 0.1, np.nan, x), "z": rng.normal(size=n), "g": np.digitize(y, [-0.5, 0.5])}
    )
    found = chaff.interactions(chaff.open_table(frame, "g", task="classification"))
    assert found.frame.loc[["word", "x"], "in_company"].all() and not found.frame.loc["z", "in_company"]


@pytest.mark.long
def test_on_noise_hardly_any_screen_flags_a_pair():
    flagged = 0
    for seed in range(20):
        rng = np.random.default_rng(100 + seed)
        flagged += (
            chaff.interactions(chaff.open_arrays(rng.normal(size=(250, 8)), rng.normal(size=250)), seed=seed).frame["in_company"].any()
        )
    assert flagged <= 4  # one in twenty on average; benchmarks/pair_noise.py counts more


@pytest.mark.long
def test_seed_and_workers():
    table = chaff.demo.table(rows=300)
    a, b = (chaff.interactions(table, workers=w) for w in (1, 2))
    pd.testing.assert_frame_equal(a.frame, b.frame)
    assert chaff.interactions(table, seed=1).settings["threshold"] != a.settings["threshold"]


def test_refusals():
    table = chaff.demo.table(rows=100)
    for settings in ({"alpha": 0.01}, {"bins": 1}, {"bins": 40}):
        with pytest.raises(chaff.UsageError):
            chaff.interactions(table, **settings)
    with pytest.raises(chaff.UsageError, match="two features"):
        chaff.interactions(table.with_features(["protein_pct"]))
    weighted = chaff.open_arrays(np.random.default_rng(0).normal(size=(30, 2)), np.arange(30.0), weights=np.ones(30))
    with pytest.raises(chaff.UsageError, match="row weights"):
        chaff.interactions(weighted)
