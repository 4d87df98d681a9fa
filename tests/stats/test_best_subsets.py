"""Branch and bound against brute force; every set's cross-validated error against one at a time."""

from itertools import combinations

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.kernels.set_errors import errors_of_all, set_errors
from chaff.stats.best_subsets import best_subsets
from chaff.stats.tolerances import SINGULAR


def cross_products(rng, n, widths, targets, mixing=0.6):
    q = int(np.sum(widths)) + targets
    Z = rng.normal(size=(n, q)) @ (np.eye(q) + mixing * rng.normal(size=(q, q)))
    Z -= Z.mean(0)
    return Z.T @ Z, np.concatenate([[0], np.cumsum(widths)])


def error_of(A, starts, members, targets):
    columns = np.concatenate([np.arange(starts[f], starts[f + 1]) for f in members] + [np.empty(0, int)]).astype(int)
    t = np.arange(A.shape[0] - targets, A.shape[0])
    whole = np.trace(A[np.ix_(t, t)])
    if not columns.size:
        return whole
    B = A[np.ix_(columns, t)]
    return whole - (B * np.linalg.solve(A[np.ix_(columns, columns)], B)).sum()


@pytest.mark.long
@pytest.mark.parametrize("seed", range(24))
def test_the_best_of_each_size_are_those_of_brute_force(seed):
    """One target or several, single columns or blocks, plain or ridge, some features in every set."""
    rng = np.random.default_rng(seed)
    p, targets = 8, 1 + seed % 3
    widths = rng.integers(1, 4, p) if seed % 2 else np.ones(p, int)
    A, starts = cross_products(rng, 70, widths, targets)
    if seed % 4 == 3:
        A[np.arange(starts[-1]), np.arange(starts[-1])] *= 1.1
    fixed = np.array([2, 5] if seed % 5 == 0 else [], np.int64)
    free = np.array([f for f in range(p) if f not in fixed], np.int64)
    found = best_subsets(A, starts, fixed, free, targets, sets=3)
    for size in range(len(free) + 1):
        every = sorted((error_of(A, starts, [*fixed, *some], targets), some) for some in combinations(free.tolist(), size))
        mine = [(r, m) for s, r, m in zip(found.sizes, found.rss, found.members, strict=True) if s == size]
        assert len(mine) == min(3, len(every))
        np.testing.assert_allclose([r for r, _ in mine], [r for r, _ in every[:3]], rtol=1e-8)
        assert mine[0][1] == every[0][1]


def test_the_best_pair_need_not_be_inside_the_best_triple():
    """The classic shape: two columns whose sum is a third one's rival. Greedy steps from the best single end elsewhere."""
    rng = np.random.default_rng(1)
    a, b = rng.normal(size=(2, 400))
    c = a + b + 0.3 * rng.normal(size=400)  # alone and in company of none the best
    y = a + b + 0.1 * rng.normal(size=400)
    Z = np.column_stack([a, b, c, rng.normal(size=400), y])
    Z -= Z.mean(0)
    found = best_subsets(Z.T @ Z, np.arange(5), np.empty(0, np.int64), np.arange(4), 1)
    best = dict(zip(found.sizes.tolist(), found.members, strict=True))
    assert best[1] == (2,) and best[2] == (0, 1) and set(best[1]) - set(best[2])


def test_sizes_can_be_limited_and_a_combination_of_others_is_left_out():
    rng = np.random.default_rng(3)
    X = rng.normal(size=(50, 5))
    Z = np.column_stack([X, X[:, 0] + X[:, 1], X @ np.arange(5) + rng.normal(size=50)])
    Z -= Z.mean(0)
    A = Z.T @ Z
    found = best_subsets(A, np.arange(7), np.empty(0, np.int64), np.arange(6), 1, smallest=2, largest=3)
    assert found.sizes.tolist() == [2, 3] and all(5 not in m for m in found.members)
    none = best_subsets(A, np.arange(7), np.empty(0, np.int64), np.empty(0, np.int64), 1)
    assert none.members == ((),) and none.rss[0] == pytest.approx(A[-1, -1])


def test_it_can_be_ended_from_outside():
    rng = np.random.default_rng(0)
    A, starts = cross_products(rng, 60, np.ones(30, int), 1, mixing=2.0)

    class Enough(Exception):
        pass

    def stop():
        raise Enough

    with pytest.raises(Enough):
        best_subsets(A, starts, np.empty(0, np.int64), np.arange(30), 1, between=stop)


def table_with_levels(n=240):
    rng = np.random.default_rng(5)
    frame = pd.DataFrame(rng.normal(size=(n, 5)), columns=list("abcde"))
    frame["level"] = rng.choice(["x", "y", "z"], n)
    frame["copy"] = frame["a"]  # singular together with a
    frame["y"] = frame[list("abc")].sum(axis=1) + 2 * (frame["level"] == "x") + rng.normal(size=n)
    return chaff.open_table(frame, "y")


@pytest.mark.long
@pytest.mark.parametrize("target", ["number", "classes"])
def test_errors_of_every_set_are_those_of_each_by_itself(target):
    t = table_with_levels()
    if target == "classes":
        frame = t.source.arrow.to_pandas()
        frame["y"] = pd.cut(frame["y"], 3, labels=["low", "mid", "high"]).astype(str)
        t = chaff.open_table(frame, "y")
    scorer = chaff.SubsetScorer(t, chaff.Ridge(0.1), "r2", folds=4)
    engine, p = scorer.engine, len(t.features)
    for k, split in enumerate(engine.splits):
        out = np.full(2**p, np.inf)
        widths = np.diff(split.starts)
        errors_of_all(split.A, split.V, np.diagonal(split.A).copy(), widths, split.A.shape[0] - split.width, SINGULAR, out)
        sets = [frozenset(f for j, f in enumerate(t.features) if m >> j & 1) for m in range(2**p)]
        np.testing.assert_allclose(out, [split.error_of([engine.place[f] for f in s]) for s in sets], rtol=1e-9, err_msg=str(k))


def test_singular_sets_are_told_apart_and_get_the_pivoted_fit():
    t = table_with_levels()
    plain = chaff.SubsetScorer(t, chaff.LeastSquares(), folds=3)
    split, place = plain.engine.splits[0], plain.engine.place
    pair = np.array(sorted([place["a"], place["copy"]]), np.int64)
    out = np.empty(1)
    set_errors(split.A, split.V, split.starts, pair, np.array([2]), split.width, SINGULAR, out)
    assert np.isnan(out[0])
    np.testing.assert_allclose(plain(["a", "copy"]).values, plain(["a"]).values, rtol=1e-9)
    every = np.full(2 ** len(t.features), np.inf)
    errors_of_all(split.A, split.V, np.diagonal(split.A).copy(), np.diff(split.starts), 1, SINGULAR, every)
    assert np.isinf(every[(1 << place["a"]) | (1 << place["copy"])])


def test_many_sets_at_once_score_as_one_by_one_and_as_refits():
    t = table_with_levels()
    rng = np.random.default_rng(2)
    names = [f for f in t.features if f != "copy"]
    sets = [[f for f in names if rng.random() < 0.5] for _ in range(60)]
    scorer = chaff.SubsetScorer(t, chaff.Ridge(0.05), folds=4)
    together = np.array([s.values for s in scorer.many(sets)])
    alone = np.array([chaff.SubsetScorer(t, chaff.Ridge(0.05), folds=scorer.folds)(s).values for s in sets])
    np.testing.assert_allclose(together, alone, rtol=1e-12)
    from chaff.evaluate.fitted import FittedEngine

    engine = FittedEngine(t, chaff.Ridge(0.05), (scorer.metric,), scorer.folds, chaff.Work())
    refits = engine.scores([frozenset(s) for s in sets[:12]], range(scorer.folds.count))[:, :, 0]
    np.testing.assert_allclose(together[:12], refits, atol=1e-9)
