"""`chaff.compare` against scoring every method's set of every size by a fit of its own, and against learning the methods alone.

python benchmarks/compare_speed.py [ROWS [COLUMNS]]
"""

from __future__ import annotations

import sys
import time

import chaff
from chaff.evaluate.scorer import SubsetScorer

METHODS = ["leading", "mrmr_difference", "lasso", "impurity", "forward"]


def measure(table: chaff.Table, model: object, label: str) -> None:
    began = time.perf_counter()
    found = chaff.compare(table, METHODS, model, sizes=SIZES)
    _ = found.frame, found.curves, found.kept()
    ours = time.perf_counter() - began
    learned = sum(j.seconds for m in METHODS for j in (*found.inside[m], found.whole[m]) if j is not None)
    scorer, began = found.scorer, time.perf_counter()
    for method in found.methods:
        for size in SIZES:
            for split in found.splits:  # every set by itself, as a loop over methods, sizes and folds would
                judged = found.inside[method][split]
                if judged is not None:
                    SubsetScorer(table, scorer.model, "r2", scorer.folds, scorer.work).on_split(split, [judged.at(size)])
    plain = time.perf_counter() - began + learned
    print(f"{label:<10}{ours:>9.1f}{learned:>14.1f}{plain:>10.1f}{plain / ours:>9.1f}{ours / max(learned, 1e-9):>9.2f}")


SIZES = [1, 2, 4, 8, 16, 24]

if __name__ == "__main__":
    rows, columns = (int(x) for x in (*sys.argv[1:], *(2000, 60)[len(sys.argv) - 1 :]))
    lots = chaff.demo.table(rows=rows, noise=max(columns - 26, 1))
    lots = lots.with_features([f for f in lots.features if lots.kind(f) == "number" and f not in ("crumb_score", "lot_no")])
    chaff.compare(lots.take(range(200)), METHODS, "ridge", sizes=[1])  # compiled
    print(f"{rows:,} rows, {len(lots.features)} columns, {len(METHODS)} methods, {len(SIZES)} sizes, 5 folds")
    print(f"{'model':<10}{'compare s':>9}{'learning s':>14}{'plain s':>10}{'plain/':>9}{'/learning':>9}")
    measure(lots, "ridge", "ridge")
