"""Variance inflation: all VIFs at once, and elimination one at a time, on 50,000 rows x 300 columns (120 of them repeats).

    python benchmarks/inflation.py

The plain way regresses every column on the others and does it again after each removal; one regression is timed at some
sizes and added up. The middle way inverts the correlation matrix anew after each removal. The bare limits are one product
X'X and one inverse.
"""

from __future__ import annotations

import numpy as np
import scipy.linalg.blas as blas
from timing import compare, machine, once, ratio

import chaff
from chaff.methods.overlap.inflation import InflationColumns, inflation_columns
from chaff.stats.inflation import inflation, inverse_of, prune_inflation
from chaff.table.moments import table_moments

ROWS, BASE, REPEATS, LIMIT = 50_000, 180, 120, 5.0


def data(seed: int = 0):
    rng = np.random.default_rng(seed)
    Z = rng.normal(size=(ROWS, BASE))
    W = np.zeros((BASE, REPEATS))
    for k in range(REPEATS):
        picked = rng.choice(BASE, 3, replace=False)
        W[picked, k] = rng.normal(size=3) + np.sign(rng.normal(size=3))
    R = Z @ W + 0.1 * rng.normal(size=(ROWS, REPEATS))
    return np.ascontiguousarray(np.concatenate([Z, R], 1)[:, rng.permutation(BASE + REPEATS)] + 2.0)


def plain_vif(X, j, left):
    A = np.column_stack([np.ones(len(X)), X[:, [k for k in left if k != j]]])
    y = X[:, j]
    r = y - A @ np.linalg.lstsq(A, y, rcond=None)[0]
    return ((y - y.mean()) ** 2).sum() / (r @ r)


def inverse_each_round(C):
    left, order, values = np.arange(len(C)), [], []
    while True:
        v = np.diagonal(inverse_of(C[np.ix_(left, left)]))
        k = int(v.argmax())
        if v[k] <= LIMIT:
            return order, values, v
        order.append(int(left[k]))
        values.append(v[k])
        left = np.delete(left, k)


def all_vifs(table):
    found = columns_of(table)
    return inflation(found.C, found.starts, found.columns)


def columns_of(table: chaff.Table) -> InflationColumns:
    """What VIF is computed from; no cell is missing here, so nothing is filled."""
    moments = table_moments(table, table.features)
    return inflation_columns(moments, moments.correlations(), False, lambda used, first: first)


def main() -> None:
    machine()
    X = data()
    p = X.shape[1]
    table = chaff.open_arrays(X, X[:, 0] + np.random.default_rng(1).normal(size=ROWS))
    for f in table.features:
        table.column(f)
    found = columns_of(table)
    C, starts, columns = found.C, found.starts, found.columns
    key, free = np.arange(p), np.zeros(p, bool)
    done = prune_inflation(C, starts, columns, LIMIT, key, free)
    order, values, last = inverse_each_round(C)
    print(
        f"removed {done.went.size}; same order as an inverse each round: {done.went.tolist() == order}; "
        f"largest relative difference of a VIF when it went: {np.abs(done.vif / values - 1).max():.1e}, "
        f"of the final ones: {np.abs(done.kept_vif / last - 1).max():.1e}"
    )
    every = inflation(C, starts, columns)
    some = [0, 7, 150, 299]
    plain = [plain_vif(X, j, range(p)) for j in some]
    print(f"largest relative difference to plain regressions: {np.abs(every[some] / plain - 1).max():.1e}")
    sizes = (180, 240, 300)
    cost = [float(np.median([once(lambda s=s: plain_vif(X, 0, range(s))) for _ in range(3)])) for s in sizes]
    rounds = np.arange(p, p - done.went.size - 1, -1)
    plain_all = cost[-1] * p
    plain_elimination = float((np.interp(rounds, sizes, cost) * rounds).sum())
    print(f"plain regressions, added up: all VIFs {plain_all:.0f} s, elimination {plain_elimination / 3600:.1f} h")
    t = compare(
        {"one product X'X (bare limit)": lambda: blas.dsyrk(1.0, X.T, lower=1), "all VIFs, from the table": lambda: all_vifs(table)}
    )
    ratio("all VIFs : one product", t["all VIFs, from the table"] / t["one product X'X (bare limit)"], "<= 1.6")
    ratio("plain regressions : all VIFs", plain_all / t["all VIFs, from the table"], "")
    u = compare(
        {
            "one inverse (bare limit)": lambda: inverse_of(C),
            "elimination, given the correlations": lambda: prune_inflation(C, starts, columns, LIMIT, key, free),
            "elimination, an inverse each round": lambda: inverse_each_round(C),
        },
        15,
    )
    fast = u["elimination, given the correlations"]
    ratio("elimination : one inverse", fast / u["one inverse (bare limit)"], "<= 3")
    ratio("an inverse each round : elimination", u["elimination, an inverse each round"] / fast, ">= 25")
    ratio("plain regressions : elimination with its product", plain_elimination / (fast + t["all VIFs, from the table"]), "")


if __name__ == "__main__":
    main()
