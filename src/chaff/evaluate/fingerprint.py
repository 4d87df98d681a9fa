"""What makes two scores comparable: the same rows, the same cells, the same model, metric and folds. Each as a short hash."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from chaff.errors import ModelError
from chaff.folds import Folds
from chaff.metrics import Metric
from chaff.models.identity import NotToldApart, identity_of
from chaff.models.own_model import OwnModel
from chaff.models.protocols import Model
from chaff.table.table import Table
from chaff.version import __version__

LETTERS = 20
ADDRESS = re.compile(r" at 0x[0-9a-f]+")


@dataclass(frozen=True)
class DataKey:
    """Which data scores belong to: rows and target, and each column by itself."""

    rows: int
    target: str
    """Its name and task."""
    target_hash: str
    """Its values, with the weights of the rows."""
    columns: tuple[tuple[str, str], ...]
    """(feature, hash of its kind, levels and cells)."""

    @classmethod
    def of(cls, table: Table) -> DataKey:
        """Of the rows in view and the features on offer."""
        t = table.target
        weights = table.weights if table.weights is not None else np.empty(0)
        target = digest(t.task, *t.classes, table.targets, weights)
        return cls(len(table), f"{t.name} ({t.task})", target, tuple((f, hash_of_column(table, f)) for f in table.features))


def hash_of_column(table: Table, name: str) -> str:
    """Of its kind, levels and cells."""
    column = table.column(name)
    return digest(column.kind, *column.levels, column.values)


@dataclass(frozen=True)
class ScoreKey:
    """What scores of one data are made with."""

    model: str
    metrics: str
    folds: str
    how: str
    """The folds in words."""
    version: str = __version__

    @classmethod
    def of(cls, model: Model, metrics: Sequence[Metric], folds: Folds, seed: int) -> ScoreKey:
        how = "R² over all test rows"  # scores that were made otherwise are not read
        splits = [f"{s.repeat}:{s.test}:{s.train}" for s in folds.splits]
        return cls(model_words(model), " ".join(m.name for m in metrics), digest(how, str(seed), *splits, *folds.parts), folds.how)


def model_words(model: Any) -> str:
    """A model with its settings, and a user's own with its code.

    Raises
    ------
    ModelError
        When one of a user's own cannot be told from others.
    """
    try:
        if isinstance(model, OwnModel):
            return model.identity()
        ours = type(model).__module__.partition(".")[0] == "chaff"
        return repr(model) if ours else f"{model.label}: {ADDRESS.sub('', repr(model))} {identity_of(model)}"
    except NotToldApart as error:
        raise ModelError(
            f"journal: model {model.label} cannot be told from others of that name: {error}. Name it, "
            "chaff.models.adapt(…, name='mine 1'), and change the name whenever you change the model"
        ) from error


def digest(*parts: Any) -> str:
    """Words and arrays → a short hash; a missing cell is the same whatever its bits."""
    whole = hashlib.sha256()
    for part in parts:
        if isinstance(part, np.ndarray):
            subset = np.where(np.isnan(part), np.nan, part + 0.0) if part.dtype.kind == "f" else part
            whole.update(f"{subset.dtype.str}{subset.shape}".encode())
            whole.update(np.ascontiguousarray(subset).tobytes())
        else:
            whole.update(f"\x1f{part}".encode("utf-8", "surrogatepass"))
    return whole.hexdigest()[:LETTERS]
