"""Shuffled targets against the bare loop over the same histogram updates, and a twin test by the clock.

python benchmarks/chance_speed.py
"""

from __future__ import annotations

import time

import numba
import numpy as np
from timing import compare, machine, ratio

import chaff
from chaff.methods.chance.standing import BinnedColumns, Targets, _alone, _in_lanes, draw_columns
from chaff.work import Work

ROWS, COLUMNS, TREES, TARGETS = 10_000, 200, 2_000, 51
UPDATES = 6  # a row and tree: three columns at the root, three in its children


@numba.njit(nogil=True)
def bare(columns, y, drawn, out):  # type: ignore[no-untyped-def]
    """Add a float64 to a bin: one row, one column, nothing else."""
    for t in range(drawn.shape[0]):
        for q in range(3):
            c = columns[drawn[t, q]]
            for i in range(y.size):
                out[c[i]] += y[i]


def main() -> None:
    machine()
    rng = np.random.default_rng(0)
    X = rng.normal(size=(ROWS, COLUMNS))
    z = X[:, 0] + 0.5 * X[:, 1] + rng.normal(size=ROWS)
    cases = {"two classes": np.where(z > 0.6, "a", "b"), "number": z, "three classes": np.array(list("abc"))[np.digitize(z, [-0.5, 0.8])]}
    drawn = draw_columns(COLUMNS, TREES, rng)
    out, some = np.zeros(256), drawn[:200]
    for name, y in cases.items():
        table = chaff.open_arrays(X, y)
        ground = BinnedColumns.of(table, Work(0))
        targets = Targets.of(table, [rng.permutation(ROWS) for _ in range(TARGETS - 1)])
        a_batch = 64 // targets.classes
        batches = [list(range(k, min(k + a_batch, TARGETS))) for k in range(0, TARGETS, a_batch)]
        print(f"{TARGETS} targets × {TREES:,} trees of two levels on {ROWS:,} × {COLUMNS}, {name}, one thread (a tenth of the trees)")
        taken = compare(
            {
                "bare loop, half of the updates, one target": lambda g=ground: bare(g.columns, z, some, out),
                "shared draws, all targets": lambda g=ground, t=targets, b=batches: [_in_lanes(g, t, (k, 0, some)) for k in b],
                "independent draws, one target": lambda g=ground, t=targets: _alone(g, t, ([0], 0, some)),
            },
            5,
        )
        limit = 2 * taken["bare loop, half of the updates, one target"]
        goal = "0.3" if name == "two classes" else "1.5"
        ratio("shared draws over the bare loop", taken["shared draws, all targets"] / (TARGETS * limit), goal)
        goal = "0.9" if name == "two classes" else "1.5"
        ratio("independent draws over the bare loop", taken["independent draws, one target"] / limit, goal)
    table = chaff.open_arrays(X, cases["two classes"])
    chaff.chance_baseline(table, trees=10)
    start = time.perf_counter()
    chaff.chance_baseline(table, trees=2_000)
    print(f"chaff.chance_baseline, two classes, {ROWS:,} × {COLUMNS}, 50 shuffles, 2,000 trees: {time.perf_counter() - start:.1f} s")
    for name in ("two classes", "number"):
        wide = chaff.open_arrays(X[:5_000, :40], cases[name][:5_000])
        start = time.perf_counter()
        found = chaff.twin_test(wide, rounds=250, alpha=1e-9, drop_share=1e-6)  # so that nothing is ever decided and no round is saved
        print(f"chaff.twin_test, {name}, 5,000 × 40, {found.settings['rounds']} rounds × 500 trees: {time.perf_counter() - start:.0f} s")
        start = time.perf_counter()
        found = chaff.twin_test(wide)
        print(f"  … decided as it goes: {found.settings['rounds']} rounds, {time.perf_counter() - start:.0f} s")


if __name__ == "__main__":
    main()
