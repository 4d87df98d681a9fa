"""Growing trees against the bare scatter-add of the same updates, on one thread and on two.

python benchmarks/forest.py
"""

from __future__ import annotations

import time

import numba
import numpy as np

from chaff.models.forest import Forest
from chaff.models.protocols import Sample
from chaff.table.bins import Bins
from chaff.work import Work

ROUNDS = 5


@numba.njit(nogil=True)
def bare(columns, v, rows, todo, h):
    """So many updates through a row list into float64 sums, and nothing else."""
    f = 0
    while todo > 0:
        c = columns[f]
        for i in range(rows.size):
            h[c[rows[i]]] += v[i]
        todo -= rows.size
        f = f + 1 if f + 1 < columns.shape[0] else 0


def made(n: int, p: int, codes: int, classes: int) -> Sample:
    rng = np.random.default_rng(0)
    c = rng.integers(1, codes, (p, n)).astype(np.uint8)
    z = c[0] / codes + 0.5 * c[1] / codes + 0.3 * rng.normal(size=n)
    y = np.digitize(z, np.quantile(z, np.linspace(0, 1, max(classes, 2) + 1)[1:-1]))
    targets = z[:, None] if not classes else y[:, None].astype(float) if classes == 2 else np.eye(classes)[y]
    names = tuple(f"c{j}" for j in range(p))
    return Sample(names, Bins(names, c, np.full(p, codes), np.zeros(p, bool)), targets, None, tuple(map(str, range(classes))))


def medians(calls: dict[str, object]) -> dict[str, float]:
    times: dict[str, list[float]] = {k: [] for k in calls}
    for call in calls.values():
        call()  # type: ignore[operator]
    for _ in range(ROUNDS):
        for name, call in calls.items():
            start = time.perf_counter()
            call()  # type: ignore[operator]
            times[name].append(time.perf_counter() - start)
    return {k: float(np.median(v)) for k, v in times.items()}


def updates_of(s: Sample, forest: Forest) -> int:
    """Histogram updates that a fit makes, asked of the kernel itself."""
    import chaff.models.tree_growth as room

    kept, real = [], room.grow_trees

    def counting(*given: object) -> int:
        kept.append(real(*given))
        return kept[-1]

    room.grow_trees = counting
    try:
        forest.fit(s, Work(0, 1))
    finally:
        room.grow_trees = real
    return int(sum(kept))


def main() -> None:
    n, p, want, trees = 10_000, 230, 15, 10
    print(f"{n:,} × {p}, {want} columns a split, full depth, {trees} trees, medians of {ROUNDS} turns")
    for codes in (65, 254):
        for classes in (2, 0, 5):
            s = made(n, p, codes, classes)
            forest = Forest(trees, want, 1)
            todo = updates_of(s, forest)
            rows = np.sort(np.random.default_rng(1).choice(n, int(n * 0.632), replace=False)).astype(np.int32)
            columns, v, h = np.ascontiguousarray(s.data.codes), np.random.default_rng(2).random(rows.size), np.zeros(256)
            two = Forest(2 * trees, want, 1)
            took = medians(
                {
                    "fit": lambda s=s, f=forest: f.fit(s, Work(0, 1)),
                    "bare": lambda c=columns, v=v, r=rows, t=todo, h=h: bare(c, v, r, t, h),
                    "alone": lambda s=s, f=two: f.fit(s, Work(0, 1)),
                    "both": lambda s=s, f=two: f.fit(s, Work(0, 2)),
                }
            )
            name = {0: "number", 2: "two classes", 5: "five classes"}[classes]
            print(
                f"  {codes:3d} codes, {name:12s} {took['fit'] / trees * 1e3:6.1f} ms a tree, {took['fit'] / took['bare']:4.1f} × bare "
                f"({took['fit'] / took['bare'] * 0.632:4.1f} × per draw), two threads {took['alone'] / took['both']:.2f} ×",
                flush=True,
            )


if __name__ == "__main__":
    main()
