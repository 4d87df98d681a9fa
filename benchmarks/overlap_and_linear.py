"""Correlations, stepping, one move by hand and Shapley shares at 300 columns, and a very wide table.

    python benchmarks/overlap_and_linear.py

The bare limit of a correlation is one product X'X (BLAS dsyrk); of stepping, one such product too, after which no row is read
again. The plain way of stepping refits every candidate of every move; one refit is timed at some sizes and added up.
"""

from __future__ import annotations

import resource
import time

import numpy as np
import pandas as pd
import scipy.linalg.blas as blas
from timing import compare, machine, once, ratio

import chaff
from chaff.methods.linear.linear_form import linear_form
from chaff.methods.linear.pruning import Pruning, run_rule
from chaff.methods.linear.swept_model import Swept
from chaff.stats.linear_model import least_squares
from chaff.table.moments import table_moments

ROWS, COLUMNS = 50_000, 300


def data(rows: int, columns: int, seed: int = 0):
    rng = np.random.default_rng(seed)
    X = rng.normal(size=(rows, columns)) + 0.3 * rng.normal(size=(rows, 1))
    return X, X[:, :30] @ np.linspace(1, 0.05, 30) + 5 * rng.normal(size=rows)


def correlation(table, X):
    print(f"correlation matrix, {ROWS:,} x {COLUMNS}")
    t = compare(
        {
            "the matrix from the table": lambda: table_moments(table, table.features).correlations(),
            "chaff.correlations, all of it": lambda: chaff.correlations(table),
            "pandas .corr(), 5,000 rows": lambda: pd.DataFrame(X[:5000]).corr(),
            "one product": lambda: blas.dsyrk(1.0, X.T, lower=1),
        },
        5,
    )
    ratio("matrix : one product", t["the matrix from the table"] / t["one product"], "<= 1.3")
    ratio("pairs, groups and limits too : one product", t["chaff.correlations, all of it"] / t["one product"], "")
    pandas = t["pandas .corr(), 5,000 rows"] * ROWS / 5000
    ratio("pandas (added up) : matrix", pandas / t["the matrix from the table"], ">= 60")


def stepping(table, X, y):
    print("backward elimination by p, all 300 columns")
    form = linear_form(table)
    product = once(lambda: Swept(form))

    def step() -> int:
        moves: list[str] = []
        run_rule(Swept(form), Pruning(splits=0), set(), lambda action, feature, why: moves.append(feature))
        return len(moves)

    moves = step()
    seconds = once(step)
    plain = sum(once(lambda m=m: least_squares(X[:, :m], y)) for m in (300, 150, 75)) / 3 * moves
    print(f"  {moves} moves in {seconds:.2f} s, of which the cross-products {product:.2f} s; one refit a move, added up: {plain:.0f} s")
    ratio("one refit a move : elimination", plain / seconds, "")


def by_hand(table):
    print("one move by hand at 300 columns")
    hand = chaff.by_hand(table)

    def add():
        hand.add(next(f for f in table.features if f not in hand.features))

    t = compare({"drop": lambda: hand.drop(hand.features[0]), "add": add}, 15)
    ratio("milliseconds of the slower", max(t.values()) * 1e3, "< 50")
    print(f"  the frame of every single removal: {once(lambda: hand.frame) * 1e3:.1f} ms")
    worth = {k: once(lambda k=k: chaff.column_worth(table, list(table.features[:k]))) for k in (15, 18, 100)}
    print("  Shapley shares: " + ", ".join(f"{k} features {s:.2f} s" for k, s in worth.items()))


def wide():
    print("5,000 columns x 20,000 rows")
    X, y = data(20_000, 5_000, 1)
    table = chaff.open_arrays(X, y)
    del X
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6
    for name, call in (("correlations", chaff.correlations), ("inflation", chaff.inflation)):
        start = time.perf_counter()
        found = call(table)
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6
        said = next((n for n in found.notes if n.startswith("needs")), "")
        print(f"  {name} {time.perf_counter() - start:.1f} s, peak {peak:.1f} GB (before {before:.1f}) {said}")


def main() -> None:
    machine()
    X, y = data(ROWS, COLUMNS)
    table = chaff.open_arrays(X, y)
    for f in table.features:
        table.column(f)
    correlation(table, X)
    stepping(table, X, y)
    by_hand(table)
    wide()


if __name__ == "__main__":
    main()
