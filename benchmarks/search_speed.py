"""Searching subsets: against the fold products, in seconds where that was asked, and what a journal costs.

    python benchmarks/search_speed.py            (about four minutes; --quick leaves the forest out)

Forward and floating go from nothing to 30 of 300 columns on 20,000 rows in 5 folds, backward from 300 to one, ridge, from the opened
table; the bare limit is the five fold products X'X that no method can do without. Branch and bound runs on correlated designs; a line
for what all 2^p sets would take is beside it. Every result is checked in the same run: floating is never worse than forward, branch
and bound ends where forward and backward do not go below, the journal's search ends as the plain one does.
"""

from __future__ import annotations

import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import scipy.linalg.blas as blas
from forward_search import COLUMNS, FOLDS, STEPS, data
from timing import compare, machine, once, ratio

import chaff
from chaff.evaluate.scorer import SubsetScorer
from chaff.folds import make_folds
from chaff.methods.search.strategy import trail_of
from chaff.stats.best_subsets import best_subsets


def walked(table, folds, strategy):
    return trail_of(strategy, SubsetScorer(table, chaff.Ridge(), folds=folds).prepare(), frozenset(), chaff.Work())


def paths() -> None:
    X, y = data()
    table = chaff.open_arrays(X, y)
    folds = make_folds(table, FOLDS)
    for f in table.features:
        table.column(f)
    by_fold = [np.ascontiguousarray(X[folds.rows(s)[1]]) for s in folds.splits]
    t = compare(
        {
            "five fold products alone (bare limit)": lambda: [blas.dsyrk(1.0, b.T, lower=1) for b in by_fold],
            f"forward {COLUMNS} to {STEPS}": lambda: walked(table, folds, chaff.Forward(size=STEPS)),
            f"floating {COLUMNS} to {STEPS}": lambda: walked(table, folds, chaff.Floating(size=STEPS)),
            f"backward {COLUMNS} to 1": lambda: walked(table, folds, chaff.Backward()),
        },
        5,
    )
    limit = t["five fold products alone (bare limit)"]
    ratio("forward : five fold products", t[f"forward {COLUMNS} to {STEPS}"] / limit, "<= 3")
    ratio("floating : five fold products", t[f"floating {COLUMNS} to {STEPS}"] / limit, "<= 3.5")
    ratio("backward : five fold products", t[f"backward {COLUMNS} to 1"] / limit, "<= 12")
    plain, floating = walked(table, folds, chaff.Forward(size=STEPS)), walked(table, folds, chaff.Floating(size=STEPS))
    best, before = floating.best_by_size(), plain.best_by_size()
    print(
        f"  floating better than forward at {sum(floating.means[best[s]] > plain.means[k] + 1e-12 for s, k in before.items())} of 30 sizes"
    )


def design(p: int, share: float, rows: int, seed: int):
    """Columns that have four factors in common, to a share of their variance; two fifths of them matter."""
    rng = np.random.default_rng(seed)
    common = rng.normal(size=(rows, 4)) @ rng.normal(size=(4, p)) / 2
    X = np.sqrt(1 - share) * rng.normal(size=(rows, p)) + np.sqrt(share) * common
    y = X @ (rng.normal(size=p) * (rng.random(p) < 0.4)) + 3 * rng.normal(size=rows)
    Z = np.column_stack([X, y])
    Z -= Z.mean(0)
    return Z.T @ Z


def branch_and_bound() -> None:
    def best(A):
        return best_subsets(A, np.arange(A.shape[0]), np.empty(0, np.int64), np.arange(A.shape[0] - 1), 1)

    best(design(8, 0.3, 100, 0))
    for p, goal in ((30, 2), (40, 60)):
        for share, rows in ((0.0, 500), (0.3, 1000), (0.6, 500), (0.8, 200), (0.95, 100)):
            seconds = [once(lambda A=design(p, share, rows, k): best(A)) for k in range(3)]
            print(
                f"  {p} columns, {share:.0%} in common, {rows:,} rows: {max(seconds):.2f} s the slowest of three   (goal <= {goal} s)",
                flush=True,
            )


def every_set() -> None:
    for p in (20, 25):
        rng = np.random.default_rng(0)
        X = rng.normal(size=(2000, p))
        table = chaff.open_arrays(X, X[:, :5].sum(1) + 3 * rng.normal(size=2000))
        trail = chaff.search(table, "ridge", "forward", honest=False)
        seconds = once(trail.alternatives)
        print(f"  alternatives of all 2^{p} sets, 5 folds: {seconds:.1f} s, {seconds / 2**p / 5 * 1e9:.0f} ns a set and fold", flush=True)


def genetic() -> None:
    rng = np.random.default_rng(0)
    X = rng.normal(size=(2000, 200))
    table = chaff.open_arrays(X, X[:, :15].sum(1) + 4 * rng.normal(size=2000))
    how = chaff.Genetic(population=50, generations=60)
    trail = chaff.search(table, "ridge", how, honest=False)
    seconds = [once(lambda: chaff.search(table, "ridge", how, honest=False)) for _ in range(3)]
    print(f"  genetic 50 x 60 with ridge, 200 columns: {np.median(seconds):.1f} s, {trail.evaluations:,} sets   (goal <= 5 s)")


def journal() -> None:
    table = chaff.demo.table()
    table = table.with_features([f for f in table.features if f not in ("lot_no", "delivered_on", "farm_code", "line_id", "crumb_score")])

    def search(model, strategy, journal):
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "scores" if journal else None
            return chaff.search(table, model, strategy, journal=file, honest=False)

    for words, model, how in (
        ("genetic with ridge", chaff.Ridge(), chaff.Genetic(population=50, generations=60)),
        ("forward to 4 with a tree", chaff.Tree(depth=4), chaff.Forward(size=4)),
        ("forward to 3 with a forest of 30", chaff.Forest(trees=30), chaff.Forward(size=3)),
    ):
        t = compare(
            {f"{words}": lambda m=model, h=how: search(m, h, False), f"{words}, journal": lambda m=model, h=how: search(m, h, True)}, 5
        )
        ratio(f"a journal costs, {words}, %", 100 * (t[f"{words}, journal"] / t[words] - 1), "<= 5 %")


def floating_forest() -> None:
    table = chaff.demo.table()
    table = table.with_features([f for f in table.features if f not in ("lot_no", "delivered_on", "farm_code", "line_id", "crumb_score")])
    table = table.with_decoys(60 - len(table.features))
    for size in (6, 10):
        began = time.perf_counter()
        trail = chaff.search(table, chaff.Forest(trees=100), chaff.Floating(size=size), honest=False)
        seconds = time.perf_counter() - began
        print(
            f"  floating to {size} of 60 columns, forest of 100 trees, 1,600 rows: {seconds:.0f} s, {trail.evaluations:,} sets, "
            f"{trail.saved:,} saved by memory   (goal <= 60 s)", flush=True,
        )  # fmt: skip


def main() -> None:
    machine()
    paths()
    branch_and_bound()
    every_set()
    genetic()
    journal()
    if "--quick" not in sys.argv:
        floating_forest()


if __name__ == "__main__":
    main()
