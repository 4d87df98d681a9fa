"""Measures on two-way tables of counts."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from chaff.stats.tails import Floats, chi_square_upper


def mutual_information(counts: Floats, rows: Floats | None = None) -> Floats:
    """Mutual information in nats of each table of counts, Miller-Madow corrected, cut at 0.

    Parameters
    ----------
    counts : float64 (m, a, b)
        Weighted counts.
    rows : float64 (m,), optional
        Rows behind each table, for the correction; the sum of the counts when left out.

    Notes
    -----
    The plug-in estimate is too high by about (cells - rows - columns + 1) / (2 n), counting those in use.
    Source: Miller, 1955.
    """
    n = counts.sum((1, 2))
    a, b = counts.sum(2), counts.sum(1)
    with np.errstate(all="ignore"):
        expected = a[:, :, None] * b[:, None, :] / n[:, None, None]
        terms = np.where(counts > 0, counts * np.log(counts / expected), 0.0)
        plain = terms.sum((1, 2)) / n
        used = (counts > 0).sum((1, 2)) - (a > 0).sum(1) - (b > 0).sum(1) + 1
        corrected = plain - used / (2.0 * (n if rows is None else rows))
    return np.where(n > 0, np.maximum(corrected, 0.0), np.nan)


@dataclass(frozen=True)
class ChiSquare:
    """Pearson's test of independence, one entry a table."""

    chi_square: Floats
    df: Floats
    p: Floats
    cramers_v: Floats
    """Bias-corrected; 0..1."""
    sparse_share: Floats
    """Share of the cells with an expected count below 5: past 0.2 the p-value is rough."""


def chi_square(counts: Floats) -> ChiSquare:
    """Pearson chi-square of each table of counts, with bias-corrected Cramer's V; empty rows and columns do not count.

    Parameters
    ----------
    counts : float64 (m, a, b)

    Notes
    -----
    Source: Pearson, 1900; V: Bergsma, 2013.
    """
    n = counts.sum((1, 2))
    a, b = counts.sum(2), counts.sum(1)
    with np.errstate(all="ignore"):
        expected = a[:, :, None] * b[:, None, :] / n[:, None, None]
        live = expected > 0
        x = np.where(live, (counts - expected) ** 2 / np.where(live, expected, 1.0), 0.0).sum((1, 2))
        r, c = (a > 0).sum(1).astype(float), (b > 0).sum(1).astype(float)
        df = (r - 1) * (c - 1)
        phi = np.maximum(0.0, x / n - df / (n - 1))
        r_hat, c_hat = r - (r - 1) ** 2 / (n - 1), c - (c - 1) ** 2 / (n - 1)
        v = np.sqrt(np.minimum(phi / np.minimum(r_hat - 1, c_hat - 1), 1.0))
        sparse = (live & (expected < 5)).sum((1, 2)) / np.maximum(live.sum((1, 2)), 1)
    fine = (df >= 1) & (n > 1)
    return ChiSquare(
        np.where(fine, x, np.nan), df, chi_square_upper(np.where(fine, x, np.nan), df), np.where(fine, v, np.nan), sparse
    )
