"""Trees against brute force, and shuffled predictions against predicting anew."""

import itertools

import numpy as np
import pytest

from chaff.kernels.forest import draw_bootstrap, draw_columns, grow_tree
from chaff.kernels.tree_walks import add_predictions, add_shuffle_changes


def grow(codes, y, category, leaf_rows=1, depth=500, times=None, want=None, seed=1):
    n, p = codes.shape
    times = np.ones(n) if times is None else times
    y = y.reshape(n, -1)
    most = 2 * n + 3
    f, left, right = (np.zeros(most, np.int64) for _ in range(3))
    mask, value, gains = np.zeros((most, 4), np.uint64), np.zeros((most, 1 + y.shape[1])), np.zeros(p)
    levels = codes.max(0).astype(np.int64) + 1
    nodes = grow_tree(
        codes,
        y,
        np.ones(n),
        times,
        levels,
        category,
        want or p,
        float(leaf_rows),
        depth,
        np.uint64(seed),
        f,
        left,
        right,
        mask,
        value,
        gains,
    )
    return f[:nodes], left[:nodes], right[:nodes], mask[:nodes], value[:nodes, 1:] / value[:nodes, :1], gains


def best_gain(codes, y, category, leaf_rows):
    """Every split of every column, by definition."""
    y = y.reshape(len(codes), -1)
    total = ((y - y.mean(0)) ** 2).sum()
    best = 0.0
    for j in range(codes.shape[1]):
        used = [int(u) for u in np.unique(codes[:, j])]
        if category[j]:
            subsets = (s for k in range(1, len(used)) for s in itertools.combinations(used, k))
        else:
            numbers = [u for u in used if u]
            heads = [tuple(numbers[:k]) for k in range(1, len(numbers) + 1)]
            subsets = [*heads] + [(0, *h) for h in heads] + ([(0,)] if 0 in used else [])
        for s in subsets:
            inside = np.isin(codes[:, j], s)
            if min(inside.sum(), (~inside).sum()) < leaf_rows:
                continue
            left = sum(((y[part] - y[part].mean(0)) ** 2).sum() for part in (inside, ~inside))
            best = max(best, total - left)
    return best


@pytest.mark.parametrize("rows", [12, 60])  # below and above the size at which nodes are sorted
@pytest.mark.parametrize("leaf_rows", [1, 4])
def test_root_split_is_the_best_of_all_splits(rows, leaf_rows):
    rng = np.random.default_rng(rows + leaf_rows)
    codes = rng.integers(1, 7, (rows, 3)).astype(np.uint8)
    category = np.array([False, True, False])
    y = rng.normal(size=rows) + (codes[:, 1] == 3) * 2.0
    gains = grow(codes, y, category, leaf_rows, depth=1)[-1]
    assert gains.sum() == pytest.approx(best_gain(codes, y, category, leaf_rows), rel=1e-10)


def test_missing_may_go_either_way():
    rng = np.random.default_rng(5)
    x = rng.integers(1, 9, 80).astype(np.uint8)
    x[rng.random(80) < 0.3] = 0
    y = np.where((x == 0) | (x >= 7), 5.0, 0.0) + 0.01 * rng.normal(size=80)  # missing behaves like large values
    codes = x[:, None]
    gains = grow(codes, y, np.array([False]), 1, depth=1)[-1]
    assert gains.sum() == pytest.approx(best_gain(codes, y, [False], 1), rel=1e-10)
    assert gains.sum() > 0.99 * ((y - y.mean()) ** 2).sum()


def test_full_tree_reproduces_its_rows_and_leaf_rows_holds():
    rng = np.random.default_rng(2)
    codes = np.stack([rng.permutation(90) + 1, rng.integers(1, 5, 90)], 1).astype(np.uint8)
    y = rng.normal(size=90)
    *tree, value, _ = grow(codes, y, np.array([False, True]))
    out = np.zeros((90, 1))
    add_predictions(codes, *tree, value, out)
    np.testing.assert_allclose(out[:, 0], y, atol=1e-12)
    *tree, value, _ = grow(codes, y, np.array([False, True]), leaf_rows=7)
    out[:] = 0
    add_predictions(codes, *tree, value, out)
    assert min(np.unique(out, return_counts=True)[1]) >= 7


def test_several_targets_split_like_their_sum_of_gains():
    rng = np.random.default_rng(4)
    codes = rng.integers(1, 6, (70, 2)).astype(np.uint8)
    y = np.eye(3)[rng.integers(0, 3, 70)]
    y[codes[:, 0] > 3] = [0, 0, 1]
    gains = grow(codes, y, np.array([False, False]), 3, depth=1)[-1]
    assert gains.sum() == pytest.approx(best_gain(codes, y, [False, False], 3), rel=1e-10)


def test_shuffle_changes_equal_predicting_anew():
    rng = np.random.default_rng(7)
    codes = rng.integers(0, 12, (150, 5)).astype(np.uint8)
    y = codes[:, 0] * 1.0 + codes[:, 1] * codes[:, 2] * 0.2 + rng.normal(size=150)
    *tree, value, _ = grow(codes, y, np.array([False, False, True, False, False]), leaf_rows=2)
    partner = np.array([rng.permutation(150) for _ in range(3)])
    out = np.zeros((3, 5, 150, 1))
    add_shuffle_changes(codes, *tree, value, partner, 0, 150, out)
    base = np.zeros((150, 1))
    add_predictions(codes, *tree, value, base)
    for s, j in itertools.product(range(3), range(5)):
        changed = codes.copy()
        changed[:, j] = codes[partner[s], j]
        anew = np.zeros((150, 1))
        add_predictions(changed, *tree, value, anew)
        np.testing.assert_allclose(base + out[s, j], anew, atol=1e-12)
    assert np.abs(out).max() > 0


def test_draws_are_uniform_and_repeatable():
    times = np.empty(1000)
    draw_bootstrap(np.uint64(5), 1000, times)
    again = np.empty(1000)
    draw_bootstrap(np.uint64(5), 1000, again)
    assert times.sum() == 1000 and (times == again).all()
    assert 0.60 < (times > 0).mean() < 0.66  # 1 - 1/e
    counts, state = np.zeros(10), np.uint64(1)
    for _ in range(2000):
        order = np.arange(10)
        state = np.uint64(draw_columns(order, 3, state))
        assert sorted(order) == list(range(10))
        counts[order[:3]] += 1
    assert np.abs(counts - 600).max() < 5 * np.sqrt(2000 * 0.3 * 0.7)
