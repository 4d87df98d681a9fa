"""How often the pair screen flags a pair where none works together, and how often it finds one that does.

    python benchmarks/pair_screen.py [TABLES]

Every table is made up here; each kind of it is one in which an earlier version, which took off a straight line only, was wrong.
"""

from __future__ import annotations

import sys
import time

import numpy as np
import pandas as pd

import chaff


def columns(rng: np.random.Generator, n: int) -> np.ndarray:
    X = rng.normal(size=(n, 8))
    X[:, 1] = 0.8 * X[:, 0] + 0.6 * X[:, 1]
    return X


def drift(rng: np.random.Generator, n: int, keep: float = 0.95) -> np.ndarray:
    from scipy.signal import lfilter

    return np.asarray(lfilter([1.0], [1.0, -keep], rng.normal(size=n + 100))[100:])


def made(kind: str, rng: np.random.Generator) -> chaff.Table:
    n = 2000 if "many" not in kind else 10_000
    X = columns(rng, n)
    curve = X[:, 0] ** 2 + np.sin(2 * X[:, 2])
    if kind in ("a square and a correlated partner", "the same, many rows"):
        return chaff.open_arrays(X, curve + rng.normal(size=n))
    if kind == "an additive logit":
        return chaff.open_arrays(X, (rng.random(n) < 1 / (1 + np.exp(-2 * X[:, 0] - 1.5 * X[:, 2]))).astype(int))
    if kind == "a curved logit, many rows":
        return chaff.open_arrays(X, (rng.random(n) < 1 / (1 + np.exp(1 - curve))).astype(int))
    if kind == "steps and uneven spread":
        return chaff.open_arrays(X, 2.0 * (X[:, 0] > 0.5) + np.exp(0.6 * X[:, 2]) * rng.normal(size=n))
    if kind == "groups share columns and target":
        group = np.repeat(np.arange(60), 20)
        X = np.column_stack([rng.normal(size=(60, 6))[group], rng.normal(size=(1200, 2))])
        y = rng.normal(size=60)[group] + rng.normal(size=1200)
        frame = pd.DataFrame(X, columns=[f"assay_{k}" for k in range(8)])
        return chaff.open_table(frame.assign(mill=group, y=y), "y", groups="mill")
    if kind == "series that drift":
        frame = pd.DataFrame({f"assay_{k}": drift(rng, 1000) for k in range(8)})
        return chaff.open_table(frame.assign(day=np.arange(1000), y=drift(rng, 1000)), "y", order="day")
    if kind == "a pair that works together":
        return chaff.open_arrays(X, X[:, 2] + 0.5 * X[:, 3] * X[:, 4] + rng.normal(size=n))
    if kind == "a pair, in classes":
        return chaff.open_arrays(X, (X[:, 3] * X[:, 4] + X[:, 0] + rng.normal(size=n) > 0).astype(int))
    return chaff.open_arrays(X, rng.normal(size=n))


KINDS = (
    "noise",
    "a square and a correlated partner",
    "the same, many rows",
    "an additive logit",
    "a curved logit, many rows",
    "steps and uneven spread",
    "groups share columns and target",
    "series that drift",
    "a pair that works together",
    "a pair, in classes",
)


def main() -> None:
    times = int(sys.argv[1]) if len(sys.argv) > 1 else 40
    for kind in KINDS:
        begun, flagged = time.perf_counter(), 0
        for k in range(times):
            found = chaff.interactions(made(kind, np.random.default_rng(9000 + k)), seed=k)
            flagged += bool(found.frame["in_company"].any())
        print(f"{kind:36} {flagged / times:5.2f} of {times} flagged  {(time.perf_counter() - begun) / times:5.2f} s a table", flush=True)


if __name__ == "__main__":
    main()
