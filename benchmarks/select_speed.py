"""How long the built-in plan takes, warm, on tables of four shapes. Seconds on this machine, and where they go.

python benchmarks/select_speed.py [NAME …]
"""

from __future__ import annotations

import sys
import time

import numpy as np
import pandas as pd

import chaff


def mill(rows: int) -> chaff.Table:
    return chaff.demo.table(rows=rows)


def grades(rows: int, columns: int, classes: int) -> chaff.Table:
    rng = np.random.default_rng(0)
    k = rng.integers(0, classes, rows)
    x = rng.normal(size=(rows, columns))
    x[:, :8] += (rng.normal(size=(classes, 8)) * 0.8)[k]
    frame = pd.DataFrame(x, columns=[f"assay_{j:02d}" for j in range(columns)])
    return chaff.open_table(frame.assign(grade=[f"grade {v}" for v in k]), target="grade")


def codes(rows: int, columns: int, classes: int) -> chaff.Table:
    rng = np.random.default_rng(0)
    k = rng.integers(0, classes, rows)
    out = {}
    for j in range(columns):
        levels = 3 + j % 6
        home = rng.integers(0, levels, classes)
        own = rng.random(rows) < (0.6 if j < 6 else 0.15)
        out[f"code_{j:02d}"] = [f"c{v}" for v in np.where(own, home[k], rng.integers(0, levels, rows))]
    return chaff.open_table(pd.DataFrame(out).assign(grade=[f"grade {v}" for v in k]), target="grade")


TABLES = {  # name: (table, seconds asked on two idle cores)
    "1,600 x 54, number": (lambda: mill(1600), 8),
    "2,000 x 36, six classes": (lambda: grades(2000, 36, 6), 40),
    "9,000 x 13 categories, nine classes": (lambda: codes(9000, 13, 9), 40),
    "100,000 x 54, number": (lambda: mill(100_000), 90),
}


def main() -> None:
    wanted = sys.argv[1:] or list(TABLES)
    for target in ("loaf_volume", "grade"):
        chaff.select(chaff.demo.table(rows=150, target=target), holdout=0)  # kernels are loaded
    for name in wanted:
        make, asked = TABLES[name]
        table, marks = make(), []
        start = time.perf_counter()
        run = chaff.select(table, holdout=0, watch=lambda stage, done, of, marks=marks: marks.append((time.perf_counter(), stage)))
        end = time.perf_counter()
        spent: dict[str, float] = {}
        for (a, stage), (b, _) in zip(marks, [*marks[1:], (end, "")], strict=True):
            spent[stage] = spent.get(stage, 0.0) + b - a
        parts = ", ".join(f"{k} {v:.1f}" for k, v in spent.items())
        print(f"{name:36s} {end - start:6.1f} s (asked: {asked}); kept {len(run.features)} of {len(table.features)}; {parts}", flush=True)


if __name__ == "__main__":
    main()
