"""Every set there is of up to 25 features of a linear model, with its cross-validated score, and which of them are good."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from chaff.arrays import Flags, Ints
from chaff.evaluate.closed import ClosedEngine
from chaff.evaluate.closed_split import ClosedSplit
from chaff.evaluate.scorer import SubsetScorer
from chaff.kernels.every_set import errors_of_all
from chaff.stats.tolerances import SINGULAR
from chaff.table.set_costs import Prices
from chaff.work import Work, task

MOST = 25


def can_see_all(scorer: SubsetScorer) -> bool:
    """Whether every set can be scored."""
    return isinstance(scorer.engine, ClosedEngine) and len(scorer.features) <= MOST


def losses_of_all(engine: ClosedEngine, work: Work) -> np.ndarray:
    """float32 (2 ** features,): what every set loses on average over the splits, in the metric's form where less is better
    (1 − R², or RMSE); infinite for singular sets. Bit k of a set's number is the k-th feature of the table."""
    root = engine.metrics[0].name != "r2"
    around, weight = engine.around
    total = np.zeros(1 << len(engine.table.features), np.float32)
    size = work.at_once
    none = float((around / np.where(weight > 0, weight, 1.0)).mean()) or 1.0  # see `chaff.metrics.parts_of_r2`
    units = [(s, (float(w) or 1.0) * (1.0 if root else none)) for s, w in zip(engine.splits, weight, strict=True)]
    for k in range(0, len(units), size):  # so many at a time, for the memory that each takes
        for subset in work.each(task(_losses, root), units[k : k + size]):
            total += subset
    return total / np.float32(len(units))


def costs_of_all(prices: Prices, names: Sequence[str]) -> np.ndarray:
    """float32 (2 ** features,): what every set costs, in the same order."""
    numbers, panel_of = np.arange(1 << len(names)), {f: p for p, members in prices.panels.items() for f in members}
    out = np.zeros(numbers.size, np.float32)
    for panel in prices.panels:
        bits = sum(1 << k for k, f in enumerate(names) if panel_of.get(f) == panel)
        out += np.where(numbers & bits, np.float32(prices.single.get(panel, 0.0)), np.float32(0.0))
    for k, f in enumerate(names):
        if prices.single.get(f, 0.0):
            out += np.where(numbers & (1 << k), np.float32(prices.single[f]), np.float32(0.0))
    return out


def _losses(root: bool, unit: tuple[ClosedSplit, float]) -> np.ndarray:
    split, scale = unit
    widths = np.diff(split.starts)
    out = np.full(1 << len(widths), np.inf, np.float32)
    errors_of_all(split.A, split.V, np.diagonal(split.A).copy(), widths, split.A.shape[0] - split.width, SINGULAR, out)
    np.divide(out, np.float32(scale), out=out)
    return np.sqrt(np.maximum(out, 0), out=out) if root else out


def irreducible(good: Flags, free: Sequence[int]) -> Ints:
    """Numbers of the good sets from which no single one of the free features can go; good : bool (2 ** features,)."""
    out = good.copy()
    for bit in free:
        block = out.reshape(-1, 2, 1 << bit)
        without = good.reshape(-1, 2, 1 << bit)[:, 0]
        np.logical_and(block[:, 1], ~without, out=block[:, 1])
    return np.flatnonzero(out)
