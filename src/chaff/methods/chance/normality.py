"""How well columns fit the normal law that knockoff copies are drawn from, in words."""

from __future__ import annotations

import numpy as np

from chaff.arrays import Floats

SKEWED, HEAVY = 1.0, 3.0
FEW_VALUES = 10
APART = 4.0  # standard errors by which squares go together more than normal columns' would
BADLY, ROUGHLY = 0.3, 0.1  # shares of the columns, or of the pairs


def far_columns(Z: Floats) -> list[int]:
    """Columns that are skewed, heavy-tailed or of few values; Z standardised, float64 (n, p)."""
    out = []
    for j, z in enumerate(Z.T):
        skew, kurtosis = float((z**3).mean()), float((z**4).mean()) - 3
        if abs(skew) > SKEWED or kurtosis > HEAVY or np.unique(z).size < FEW_VALUES:
            out.append(j)
    return out


def strange_pairs(Z: Floats, C: Floats) -> float:
    """Share of pairs whose squares go together other than normal columns' with this correlation: theirs correlate by its square."""
    p = Z.shape[1]
    if p < 2:
        return 0.0
    S = Z**2 - (Z**2).mean(0)
    size = np.sqrt((S**2).sum(0))
    S = S / np.where(size > 1e-9, size, 1.0)
    Q = S.T @ S
    off = np.triu_indices(p, 1)
    return float((np.abs(Q[off] - C[off] ** 2) > APART / np.sqrt(len(Z))).mean())


def fit_in_words(Z: Floats, C: Floats, names: list[str]) -> str:
    far, strange = far_columns(Z), strange_pairs(Z, C)
    share = len(far) / max(1, len(names))
    word = "badly" if max(share, strange) > BADLY else "roughly" if max(share, strange) > ROUGHLY else "well"
    out = f"the normal law fits these columns {word}"
    if far:
        subset = ", ".join(names[j] for j in far[:3]) + (f" and {len(far) - 3} more" if len(far) > 3 else "")
        out += f": {subset} {'are' if len(far) > 1 else 'is'} skewed, heavy-tailed or of few values"
    if strange > ROUGHLY:
        out += f"; {strange:.0%} of the pairs bend together"
    return out + ("" if word == "well" else "; the rate is not promised then (marginals='normal scores' mends single columns)")
