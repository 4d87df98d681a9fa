"""Forward search, 300 columns to 30, 5 folds, 20,000 rows: against plain refits and against the bare product.

    python benchmarks/forward_search.py

The plain way fits every candidate set on every fold; it is timed at some sizes and added up, since the whole of it takes
minutes. The bare limit is the five fold products X'X (BLAS, two threads) that no method can do without. Scores along the
path are compared with plain refits.
"""

from __future__ import annotations

import numpy as np
import scipy.linalg.blas as blas
from timing import compare, machine, once, ratio

import chaff
from chaff.evaluate.scorer import SubsetScorer
from chaff.folds import make_folds
from chaff.table.moments import part_moments

ROWS, COLUMNS, STEPS, FOLDS = 20_000, 300, 30, 5


def data(seed: int = 0):
    rng = np.random.default_rng(seed)
    common = rng.normal(size=(ROWS, 20))
    X = common @ rng.normal(size=(20, COLUMNS)) * 0.4 + rng.normal(size=(ROWS, COLUMNS)) + 1.5
    b = np.zeros(COLUMNS)
    b[rng.choice(COLUMNS, 40, replace=False)] = rng.normal(size=40)
    return X, X @ b + rng.normal(size=ROWS) * 4 + 7


def plain_score(X, y, columns, splits):
    """What a careful person writes: pick the columns, fit on each fold's training rows, R² about the training mean."""
    out = []
    A = X[:, columns]
    for train, test in splits:
        a, b = A[train], y[train]
        m, centre = a.mean(0), b.mean()
        beta = np.linalg.lstsq(a - m, b - centre, rcond=None)[0]
        r = y[test] - centre - (A[test] - m) @ beta
        out.append(1 - (r @ r) / ((y[test] - centre) ** 2).sum())
    return np.array(out)


def search(table, folds, model):
    """From the opened table to the last pick."""
    walk = SubsetScorer(table, model, folds=folds).prepare().walk()
    left, scores = list(table.features), []
    for _ in range(STEPS):
        changes = walk.changes(left)
        name = changes.best()
        scores.append(changes[name].values)
        walk.toggle(name)
        left.remove(name)
    return [f for f in table.features if f not in left], scores


def backward(table, folds):
    scorer = SubsetScorer(table, chaff.Ridge(), folds=folds).prepare()
    walk = scorer.walk(table.features)
    left = list(table.features)
    while len(left) > 1:
        name = walk.changes(left).best()
        walk.toggle(name)
        left.remove(name)


def main() -> None:
    machine()
    X, y = data()
    table = chaff.open_arrays(X, y)
    folds = make_folds(table, FOLDS)
    splits = [folds.rows(s) for s in folds.splits]
    for f in table.features:
        table.column(f)
    by_fold = [np.ascontiguousarray(X[test]) for _, test in splits]
    walk = SubsetScorer(table, chaff.LeastSquares(), folds=folds).walk()
    picks, path, left = [], [], list(table.features)
    for _ in range(STEPS):
        name = walk.changes(left).best()
        walk.toggle(name)
        left.remove(name)
        picks.append(table.features.index(name))
        path.append(walk.score.values)
    worst = max(np.abs(plain_score(X, y, picks[: s + 1], splits) - path[s]).max() for s in range(0, STEPS, 3))
    print(f"largest difference to plain refits along the path: {worst:.1e}")
    small = chaff.open_arrays(X[:2000, :40], y[:2000])
    few = make_folds(small, FOLDS)
    few_splits = [few.rows(s) for s in few.splits]
    chosen: list[int] = []
    w = SubsetScorer(small, chaff.LeastSquares(), folds=few).walk()
    same = True
    for _ in range(10):
        rest = [j for j in range(40) if j not in chosen]
        plain = max(rest, key=lambda j: plain_score(X[:2000], y[:2000], [*chosen, j], few_splits).mean())
        mine = w.changes([small.features[j] for j in rest]).best()
        same &= small.features[plain] == mine
        w.toggle(mine)
        chosen.append(plain)
    print(f"same ten picks as exhaustive refits on 2,000 x 40: {same}")
    sizes = (1, 5, 10, 15, 20, 25, 30)
    cost = [float(np.median([once(lambda s=s: plain_score(X, y, picks[:s], splits)) for _ in range(3)])) for s in sizes]
    every = np.arange(1, STEPS + 1)
    plain_total = float((np.interp(every, sizes, cost) * (COLUMNS - every + 1)).sum())
    print(f"plain refits, added up over {int((COLUMNS - every + 1).sum()):,} candidate sets: {plain_total:.0f} s")
    t = compare(
        {
            "five fold products alone (bare limit)": lambda: [blas.dsyrk(1.0, b.T, lower=1) for b in by_fold],
            "forward 300 to 30, least squares, from the table": lambda: search(table, folds, chaff.LeastSquares()),
            "forward 300 to 30, ridge, from the table": lambda: search(table, folds, chaff.Ridge()),
            "moments of the five parts, from the table": lambda: part_moments(table, table.features, folds.parts[0], 5, chaff.Work()),
            "backward 300 to 1, ridge, from the table": lambda: backward(table, folds),
        }
    )
    limit = t["five fold products alone (bare limit)"]
    forward = t["forward 300 to 30, least squares, from the table"]
    ratio("forward search : five fold products", forward / limit, "<= 3")
    ratio("plain refits : forward search", plain_total / forward, ">= 1,000")
    ratio("ridge forward : five fold products", t["forward 300 to 30, ridge, from the table"] / limit, "<= 3")
    ratio("moments of the parts : five fold products", t["moments of the five parts, from the table"] / limit, "<= 1.6")
    ratio("backward : five fold products", t["backward 300 to 1, ridge, from the table"] / limit, "<= 12")


if __name__ == "__main__":
    main()
