"""Learners against the bare arithmetic that they cannot do without, in one run: penalised paths, boosting, neighbours, shuffling.

python benchmarks/models.py
"""

from __future__ import annotations

import time
from collections.abc import Callable

import numba
import numpy as np

import chaff
from chaff.models.forms import sample
from chaff.models.protocols import Sample
from chaff.table.bins import Bins
from chaff.work import Work

TURNS = 3


def table(n: int, q: int, signals: int, classes: bool = False) -> chaff.Table:
    rng = np.random.default_rng(n + q)
    X = rng.normal(size=(n, q))
    z = X[:, :signals] @ rng.normal(size=signals)
    z = z + z.std() * 0.7 * rng.normal(size=n)
    return chaff.open_arrays(X, np.where(z > 0, "good", "poor") if classes else z)


def seconds(call: Callable[[], object], turns: int = TURNS) -> float:
    call()
    taken = []
    for _ in range(turns):
        start = time.perf_counter()
        call()
        taken.append(time.perf_counter() - start)
    return float(np.median(taken))


def lasso_tall() -> float:
    s = sample(table(5_000, 1_000, 300), "design")
    X = s.data.X
    product = seconds(lambda: X.T @ X)
    model = chaff.Lasso()
    path = seconds(lambda: model.fit(s, Work(0)))
    fitted = model.fit(s, Work(0))
    inside = int((fitted.path.coefficients[-1] != 0).sum())
    print(f"lasso 5,000 × 1,000, 100 penalties × 5 folds: {path:.2f} s = {path / product:.0f} × one product ({product * 1e3:.0f} ms); "
          f"{inside} in at the end, violation {fitted.path.violations.max():.0e}")  # fmt: skip
    return path


def lasso_wide() -> None:
    s = sample(table(200, 5_000, 10), "design")
    XT, r = np.ascontiguousarray(s.data.X.T), np.random.default_rng(0).normal(size=200)
    gradients = seconds(lambda: [XT @ r for _ in range(500)])
    path = seconds(lambda: chaff.Lasso().fit(s, Work(0)))
    print(f"lasso 200 × 5,000, 100 penalties × 5 folds: {path:.2f} s = {path / gradients:.0f} × 500 gradients ({gradients * 1e3:.0f} ms)")


def logistic() -> None:
    numbers, classes = (sample(table(20_000, 200, 40, c), "design") for c in (False, True))
    least = seconds(lambda: chaff.Lasso().fit(numbers, Work(0)))
    path = seconds(lambda: chaff.Lasso().fit(classes, Work(0)), 1)
    print(f"logistic lasso 20,000 × 200, 100 × 5 folds: {path:.2f} s = {path / least:.0f} × the lasso path ({least:.2f} s)")


@numba.njit(nogil=True)
def bare(columns, rows, v, out):  # type: ignore[no-untyped-def]
    for j in range(columns.shape[0]):
        c, h = columns[j], out[j]
        for i in range(rows.size):
            h[c[rows[i]]] += v[i]


def boosting() -> None:
    n, p, rounds, depth = 100_000, 50, 200, 5
    rng = np.random.default_rng(0)
    codes = rng.integers(1, 255, (p, n)).astype(np.uint8)
    y = codes[0] / 255.0 + (codes[1] > 128) * (codes[2] > 128) + 0.3 * rng.normal(size=n)
    names = tuple(f"c{j}" for j in range(p))
    s = Sample(names, Bins(names, codes, np.full(p, 255), np.zeros(p, bool)), y[:, None], None)
    rows, v, out = np.arange(n, dtype=np.int32), rng.random(n), np.zeros((p, 256))
    once = seconds(lambda: bare(codes, rows, v, out))
    limit = once * rounds * depth  # every level of every tree reads every row of every column once
    start = time.perf_counter()
    chaff.Boosting(rounds=rounds, depth=depth).fit(s, Work(0, 1))
    taken = time.perf_counter() - start
    words = f"{taken:.1f} s = {taken / limit:.1f} × its bare updates ({limit:.1f} s)"
    print(f"boosting 100,000 × 50, 200 rounds of depth 5, one thread: {words}")


def neighbours() -> None:
    s = sample(table(10_000, 100, 10), "design")
    fitted = chaff.Neighbours().fit(s, Work(0))
    Z = fitted.Z
    product = seconds(lambda: [Z[i : i + 400] @ Z.T for i in range(0, len(Z), 400)])
    taken = seconds(lambda: fitted.predict(s))
    print(f"nearest neighbours 10,000 × 10,000, 100 columns: {taken:.2f} s = {taken / product:.1f} × its matrix products ({product:.2f} s)")


def permutation() -> None:
    n, p = 10_000, 230
    rng = np.random.default_rng(0)
    codes = rng.integers(1, 66, (p, n)).astype(np.uint8)
    y = (codes[0] + 0.5 * codes[1] + 8 * rng.normal(size=n) > 50).astype(float)
    names = tuple(f"c{j}" for j in range(p))
    s = Sample(names, Bins(names, codes, np.full(p, 66), np.zeros(p, bool)), y[:, None], None, ("0", "1"))
    forest = chaff.Forest(trees=100, columns_per_split=15, leaf_rows=1).fit(s, Work(0))
    walk = seconds(lambda: forest.predict(s))
    foreign = []
    for _ in range(10):
        shuffled = np.ascontiguousarray(codes[:, rng.permutation(n)])
        foreign.append(Sample(names, Bins(names, shuffled, s.data.counts, s.data.category), s.targets, None))
    taken = seconds(lambda: forest.shuffled(s, foreign, Work(0, 1)), 1)
    words = f"{taken:.1f} s = {taken / walk:.0f} walks of the forest ({walk:.2f} s) for 2,300 predictions"
    print(f"permutation, 230 columns × 10 shuffles, 10,000 rows, 100 full trees, one thread: {words}")


if __name__ == "__main__":
    lasso_tall()
    lasso_wide()
    logistic()
    boosting()
    neighbours()
    permutation()
