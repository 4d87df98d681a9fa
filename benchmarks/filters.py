"""Filter statistics on 100,000 rows x 500 columns against SciPy column by column and the bare pass.

    python benchmarks/filters.py [columns]

SciPy's single-column functions are timed on some columns and multiplied up. "Sum" is NumPy's sum over all cells on one
thread, "count" a bare compiled count of bytes, "sort" NumPy's sort of every column on one thread.
"""

from __future__ import annotations

import sys

import numba
import numpy as np
import scipy.stats as st
from timing import compare, machine, once, ratio

import chaff
from chaff.kernels.counts import two_way_counts
from chaff.methods.relevance.families import means, ranks
from chaff.methods.relevance.stage import Relevance
from chaff.stats.information import chi_square, mutual_information
from chaff.stats.ranks import kendall, ranked
from chaff.work import Work

ROWS, CLASSES, SOME = 100_000, 5, 10


@numba.njit(nogil=True)
def bare_count(codes, out):
    for j in range(codes.shape[0]):
        mine = codes[j]
        for i in range(mine.size):
            out[mine[i]] += 1


@numba.njit(nogil=True)
def bare_pair_count(a, b, out):
    for i in range(a.size):
        out[a[i] * 16 + b[i]] += 1


def tau_from_tables(tables):
    """tau-b of binned columns against ordered classes, straight from the tables of counts."""
    T = tables.astype(float)
    above = T[:, ::-1, ::-1].cumsum(1).cumsum(2)[:, ::-1, ::-1]
    concordant = (T[:, :-1, :-1] * above[:, 1:, 1:]).sum((1, 2))
    aside = T[:, ::-1, :].cumsum(1).cumsum(2)[:, ::-1, :]
    discordant = (T[:, :-1, 1:] * aside[:, 1:, :-1]).sum((1, 2))
    n, rows, columns = T.sum((1, 2)), T.sum(2), T.sum(1)
    pairs = n * (n - 1) / 2
    tied = [(m * (m - 1) / 2).sum(1) for m in (rows, columns)]
    return (concordant - discordant) / np.sqrt((pairs - tied[0]) * (pairs - tied[1]))


def main() -> None:
    machine()
    p = int(sys.argv[1]) if len(sys.argv) > 1 else 500
    rng = np.random.default_rng(0)
    y = rng.integers(0, CLASSES, ROWS)
    X = rng.normal(size=(ROWS, p)) + 0.05 * y[:, None]
    columns = np.ascontiguousarray(X.T)
    number = rng.normal(size=ROWS) + X[:, 0]
    names = [f"sensor_{k}" for k in range(p)]
    by_class = chaff.open_arrays(X, np.array(list("abcde"))[y], names)
    by_number = chaff.open_arrays(X, number, names)
    for table in (by_class, by_number):
        for name in names:
            table.column(name)
    work, times = Work(), p / SOME

    print("one-way and Welch's F, both")
    view, without = (Relevance(confidence=level).view(by_class, work) for level in (0.95, None))
    t = compare(
        {
            "ours": lambda: means.between_classes(without, names, {"f", "welch_f"}),
            "with the intervals of η²": lambda: means.between_classes(view, names, {"f", "welch_f"}),
            "sum of all cells": columns.sum,
        }
    )
    scipy = once(lambda: [st.f_oneway(*[c[y == k] for k in range(CLASSES)]) for c in columns[:SOME]]) * times
    ratio("ours : one sum", t["ours"] / t["sum of all cells"], "<= 1.5")
    ratio("SciPy per column : ours", scipy / t["ours"], ">= 40")

    print("chi-square, mutual information, tau-b of binned columns, all three")
    codes = rng.integers(0, 8, (p, ROWS)).astype(np.uint8)
    halves = np.array_split(np.arange(p), 8)

    def three():
        counts = np.zeros((p, 256, CLASSES))
        work.each(lambda h: two_way_counts(codes[h[0] : h[-1] + 1], y, np.empty(0), counts[h[0] : h[-1] + 1]), halves)
        counts = counts[:, :8]
        return chi_square(counts), mutual_information(counts), tau_from_tables(counts)

    def scipy_three(c):
        table = np.zeros((8, CLASSES))
        np.add.at(table, (c, y), 1)
        st.chi2_contingency(table, correction=False)
        share = np.histogram2d(c, y, bins=(8, CLASSES))[0] / ROWS
        (share * np.log(share / share.sum(1, keepdims=True) / share.sum(0, keepdims=True))).sum()

    t = compare({"ours": three, "bare count": lambda: bare_count(codes, np.zeros(256, np.int64))})
    ratio("ours : bare count", t["ours"] / t["bare count"], "<= 2.2")
    plain = once(lambda: [scipy_three(c) for c in codes[:SOME]]) * times
    ratio("SciPy and NumPy per column (two of the three) : ours", plain / t["ours"], ">= 60")

    print("Spearman, Kendall, distance correlation")
    view = Relevance().view(by_number, work)
    target = ranked(number)
    some = columns[:SOME]
    t = compare(
        {
            "Spearman, all columns": lambda: ranks.against_number(view, names, {"spearman_rho"}),
            "Kendall, all columns": lambda: ranks.against_number(view, names, {"kendall_tau"}),
            "distance correlation, all columns": lambda: ranks.against_number(view, names, {"distance_correlation"}),
            "sort of some columns": lambda: np.sort(some, axis=1),
            "Kendall of some columns, one thread": lambda: [kendall(ranked(c), target) for c in some],
            "SciPy spearmanr of some columns": lambda: [st.spearmanr(c, number) for c in some],
            "SciPy kendalltau of some columns": lambda: [st.kendalltau(c, number) for c in some],
        },
        3,
    )
    sort = t["sort of some columns"] * times
    ratio("Spearman (two threads) : sort", t["Spearman, all columns"] / sort, "<= 6 per thread")
    ratio("SciPy : Spearman (two threads)", t["SciPy spearmanr of some columns"] * times / t["Spearman, all columns"], ">= 6 per thread")
    ratio("SciPy : Kendall, one thread", t["SciPy kendalltau of some columns"] / t["Kendall of some columns, one thread"], ">= 2")
    ratio("SciPy : Kendall (two threads)", t["SciPy kendalltau of some columns"] * times / t["Kendall, all columns"], ">= 3")
    ratio("distance correlation (two threads) : sort", t["distance correlation, all columns"] / sort, "<= 12")

    print("pair screen, 200 columns, 15 bins and one for missing")
    few = by_number.with_features(names[:200])
    pairs = 200 * 199 // 2
    pair = rng.integers(0, 16, (200, ROWS)).astype(np.uint8)
    bare = np.zeros(256, np.int32)
    t = compare(
        {
            "ours": lambda: chaff.interactions(few, bins=15),
            "199 bare two-way counts": lambda: [bare_pair_count(pair[0], pair[k], bare) for k in range(1, 200)],
        },
        3,
    )
    ratio("ours : bare two-way counts of all pairs", t["ours"] / (t["199 bare two-way counts"] * pairs / 199), "<= 3")

    print("the whole fitting set")
    print(f"  number target: {once(lambda: chaff.relevance(by_number)):.1f} s, classes: {once(lambda: chaff.relevance(by_class)):.1f} s")


if __name__ == "__main__":
    main()
