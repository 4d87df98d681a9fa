"""Trees of two levels on three columns: lanes and the single target against a plain search, cut by cut."""

import numpy as np
import pytest

from chaff.methods.chance.standing import BinnedColumns, Targets, _alone, _in_lanes, draw_columns, fewer_levels, standing
from chaff.work import Work

LEAF = 5.0
WORK = Work(0, 1)


def plain(data, y, w, drawn):
    """What each column explains: best cut at the root, and in both children of the best column's cut, by going through all."""
    T = y[:, None].astype(float) if y.ndim == 1 else y
    out = np.zeros(data.columns.shape[0])

    def best(codes, category, rows):
        m, t = w[rows].sum(), (w[rows, None] * T[rows]).sum(0)
        if category:
            size = {b: w[rows][codes[rows] == b].sum() for b in np.unique(codes[rows])}
            some = [b for b in size if size[b] < LEAF * w.mean()]
            sets = [[b] for b in size if b not in some] + ([some] if some else [])
            share = {
                k: np.average(T[rows][np.isin(codes[rows], s), lead], weights=w[rows][np.isin(codes[rows], s)]) for k, s in enumerate(sets)
            }
            order = sorted(share, key=lambda k: (share[k], min(sets[k])))
            cuts = [np.isin(codes, np.concatenate([sets[k] for k in order[: i + 1]])) for i in range(len(order) - 1)]
        else:
            cuts = [codes <= b for b in range(int(codes.max()))]
        top, where = 0.0, None
        for left in cuts:
            c, s = w[rows & left].sum(), (w[rows & left, None] * T[rows & left]).sum(0)
            if c >= LEAF * w.mean() and m - c >= LEAF * w.mean():
                gain = ((s * m - t * c) ** 2 / (m * c * (m - c))).sum()
                if gain > top * (1 + 1e-12):
                    top, where = gain, left
        return top, where

    lead = int(T.sum(0).argmax())
    for columns in drawn:
        everyone = np.ones(len(w), bool)
        found = [best(data.columns[f], data.category[f], everyone) for f in columns]
        for f, (gain, _) in zip(columns, found, strict=True):
            out[f] += gain
        win = max(range(len(columns)), key=lambda k: (found[k][0], -k))
        if found[win][0] > 0:
            for side in (found[win][1], ~found[win][1]):
                for f in columns:
                    out[f] += best(data.columns[f], data.category[f], side)[0]
    return out


def made_rows(n, p, seed, category):
    rng = np.random.default_rng(seed)
    columns = rng.integers(0, 9, (p, n)).astype(np.uint8)
    flags = np.array([category and k % 2 == 0 for k in range(p)])
    for f in np.flatnonzero(flags):
        columns[f] = fewer_levels(columns[f], 3)
    counts = np.array([np.bincount(c, minlength=256) for c in columns], float)
    return BinnedColumns(columns, columns.max(1).astype(np.int64) + 1, flags, counts, np.arange(p), LEAF)


def targets_of(kind, columns, count, seed):
    rng = np.random.default_rng(seed)
    n = columns.shape[1]
    z = columns[0] / 4.0 + rng.normal(size=n)
    if kind == "number":
        y, classes = np.rint((z - z.min()) * 1000).astype(np.int64), 1
    else:
        classes = {"two": 2, "three": 3}[kind]
        y = np.digitize(z, np.quantile(z, np.linspace(0, 1, classes + 1)[1:-1] + 0.1)).astype(np.int64)
    return Targets(np.array([y] + [rng.permutation(y) for _ in range(count - 1)]), 1 if classes < 3 else classes, None, kind == "number")


@pytest.mark.long
@pytest.mark.parametrize("category", [False, True])
@pytest.mark.parametrize("kind", ["two", "three", "number"])
def test_lanes_and_the_single_target_are_the_plain_search(kind, category):
    data = made_rows(120, 5, 1, category)
    targets = targets_of(kind, data.columns, 4, 2)
    drawn = draw_columns(5, 7, np.random.default_rng(3))
    side_by_side = _in_lanes(data, targets, ([0, 1, 2, 3], 0, drawn))
    for t in range(4):
        one = _alone(data, targets, ([t], 0, drawn))[0]
        np.testing.assert_array_equal(side_by_side[t], one)  # whole numbers up to the division: to the last bit
        y = targets.y[t]
        said = plain(data, y if targets.classes == 1 else np.eye(targets.classes)[y], np.ones(120), drawn)
        np.testing.assert_allclose(one, said, rtol=1e-9)


@pytest.mark.parametrize("kind", ["two", "three", "number"])
def test_weights_count_as_copies_of_a_row(kind):
    data = made_rows(90, 4, 5, True)
    targets = targets_of(kind, data.columns, 1, 6)
    w = np.random.default_rng(7).integers(1, 4, 90)
    weighed = Targets(targets.y, targets.classes, w[None], targets.number)
    drawn = draw_columns(4, 9, np.random.default_rng(3))
    y = targets.y[0]
    said = plain(data, y if targets.classes == 1 else np.eye(targets.classes)[y], w.astype(float), drawn)
    np.testing.assert_allclose(_alone(data, weighed, ([0], 0, drawn))[0], said, rtol=1e-9)


def test_shares_add_up_by_seeds_and_do_not_ask_how_targets_are_batched():
    data = made_rows(200, 30, 8, True)
    targets = targets_of("three", data.columns, 30, 9)  # 21 fit into a batch of 64 lanes
    shares = standing(data, targets, 60, 3, WORK)
    fewer = standing(data, Targets(targets.y[[0, 25]], 3, None, False), 60, 3, WORK)
    np.testing.assert_array_equal(shares[[0, 25]], fewer)
    assert shares.shape == (30, 3, 30) and np.nanmax(shares) < 1
    np.testing.assert_array_equal(shares, standing(data, targets, 60, 3, Work(0, 2)))
    two = targets_of("two", data.columns, 3, 1)
    apart = standing(data, two, 60, 3, WORK, independent=True)
    assert np.corrcoef(np.nanmean(apart[0], 0), np.nanmean(standing(data, two, 60, 3, WORK)[0], 0))[0, 1] > 0.9


def test_trees_are_dealt_so_that_every_column_stands_about_equally_often():
    drawn = draw_columns(50, 300, np.random.default_rng(0))
    assert drawn.shape == (300, 3) and (np.diff(drawn, axis=1) > 0).all()
    assert np.ptp(np.bincount(drawn.ravel(), minlength=50)) <= 8
    assert len(draw_columns(6, 300, np.random.default_rng(0))) == 20  # every set of three once
    assert draw_columns(2, 10, np.random.default_rng(0)).tolist() == [[0, 1]]


def test_very_many_columns_all_stand():
    data = made_rows(40, 900, 1, False)
    shares = standing(data, targets_of("two", data.columns, 2, 1), 50, 2, WORK)
    assert np.isfinite(shares).all()


@pytest.mark.long
def test_more_rows_than_a_narrow_lane_can_count():
    data = made_rows(70_000, 3, 4, False)
    targets = targets_of("two", data.columns, 2, 3)
    drawn = draw_columns(3, 1, np.random.default_rng(0))
    np.testing.assert_array_equal(_in_lanes(data, targets, ([0, 1], 0, drawn))[1], _alone(data, targets, ([1], 0, drawn))[0])
