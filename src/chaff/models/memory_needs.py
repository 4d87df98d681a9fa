"""How much memory fits over folds take, said before anything is built."""

from __future__ import annotations

import os

from chaff.errors import DataError
from chaff.memory import machine_bytes
from chaff.models.logistic import Logistic
from chaff.models.penalised import Penalised
from chaff.models.protocols import Model
from chaff.table.design import Layout
from chaff.table.table import Table

NOTE_FROM = 0.5e9  # bytes from which the user is told
MOST = 0.9  # of the machine
WIDEST_PLAY = 8  # columns a row that a path has in play at most, as far as anything is made for them
BASE = 2e7
ROW_BYTES = 200  # of a tree's own lists, a row and worker
COPIES = {"moments": 0.0, "design": 3.0, "bins": 1.0, "frame": 3.0}  # of the training rows that a fit makes, a worker


def bytes_needed(table: Table, model: Model, folds: int, workers: int | None = None) -> float:
    """Peak of preparing every fold and fitting on as many at once as there are workers.

    folds : splits, repeats counted.
    """
    n, at_once = len(table), min(workers or os.cpu_count() or 1, max(folds, 1))
    forms = {model.learns, model.reads}
    width = Layout.of(table, table.features).width if forms & {"moments", "design"} else 0
    total = 0.0
    for form in forms:
        row = {"moments": 0, "design": 8 * width, "bins": 2 * len(table.features), "frame": 8 * len(table.features)}[form]
        if table.source.spill is not None and (form == "bins" or (form == "design" and form != model.learns)):
            row = 0  # it lies in files: see `chaff.table.on_disk.arrays`
        total += folds * n * row + at_once * COPIES[form] * n * row
    if "moments" in forms:
        total += (folds + at_once) * 8.0 * width**2
    return total + at_once * (n * ROW_BYTES + _beside(model, n, width, bool(table.target.classes))) + BASE


def _beside(model: Model, n: int, width: int, classes: bool) -> float:
    """What one fit makes beside copies of its rows."""
    if isinstance(model, Penalised):  # every inner fold stands while its path is walked
        folds = model.folds + 1
        rows = (folds - 2) * n * 8 * width if classes or width >= n else 0
        return rows + 2.0 * folds * 8 * min(width, WIDEST_PLAY * n) ** 2
    return 3.0 * 8 * width**2 if isinstance(model, Logistic) else 0.0


def check_memory(table: Table, model: Model, folds: int, workers: int | None = None) -> str:
    """What the user should know beforehand, "" where it is little.

    Raises
    ------
    DataError
        Where the machine does not have it: says what would fit.
    """
    need, there = bytes_needed(table, model, folds, workers), machine_bytes()
    if need > MOST * there:
        fits = int(len(table.features) * MOST * there / need)
        raise DataError(
            f"{model.label} over {folds} folds needs about {need / 1e9:.1f} GB, the machine has {there / 1e9:.1f}: about {fits:,} features "
            f"of these would fit, or fewer folds, or a model of trees, whose cells are bytes"
        )
    return f"takes about {need / 1e9:.1f} GB of memory" if need > NOTE_FROM else ""


def learns_in_passes(model: Model) -> bool:
    """Whether a model learns from sums or from bytes, which need no rows side by side in memory."""
    return model.learns in ("moments", "bins")
