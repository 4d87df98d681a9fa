"""Pooled: several models and ways on one scale."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar, Literal

import numpy as np

from chaff.arrays import Floats
from chaff.errors import ModelError, UsageError
from chaff.evaluate.setting import Setting
from chaff.methods.importance.way import as_way, importance_findings
from chaff.models.named import as_model
from chaff.models.protocols import Model
from chaff.results.findings import Findings
from chaff.table.table import Table

FEW = 3


@dataclass(frozen=True)
class Pooled:
    """Importance averaged over models and ways, each weighted by how well its model predicts.

    Parameters
    ----------
    models : sequence of models
        Besides the one that is asked for.
    ways : sequence of ways
        Each is tried with each model; those that do not fit together are left out, and said.
    scale : "ranks" or "shares"
        Places, 1 for the best and 0 for the last; or shares of the sum of what is above zero.

    Notes
    -----
    The weight of a model is the share of the loss of knowing nothing that it saves on held-out rows, 0 where it saves none.
    `spread` is the weighted standard deviation over the parts: large where they disagree.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=300).with_features(["protein_pct", "ash_pct", "lab_temp_c"])
    >>> found = chaff.importance(lots, "forest", by=chaff.Pooled(models=["ridge"]))
    >>> list(found.more["parts"].columns)
    ['forest, permutation', 'ridge, permutation']
    """

    models: Sequence[Any] = ("ridge",)
    ways: Sequence[Any] = ("permutation",)
    scale: Literal["ranks", "shares"] = "ranks"

    name: ClassVar[str] = "pooled"
    says: ClassVar[str] = "mean over several models and ways. The mean hides disagreement; see the range"

    def __post_init__(self) -> None:
        object.__setattr__(self, "models", tuple(as_model(m) for m in self.models))
        object.__setattr__(self, "ways", tuple(as_way(w) for w in self.ways))
        if self.scale not in ("ranks", "shares"):
            raise UsageError(f"pooled: scale must be 'ranks' or 'shares', not {self.scale!r}")
        if not self.ways or any(w.name == self.name for w in self.ways):
            raise UsageError("pooled: ways must be one at least, and not pooled themselves")

    def measure(self, table: Table, model: Model, setting: Setting) -> Findings:
        import pandas as pd

        parts: dict[str, Floats] = {}
        weights, notes, better = [], [], {}
        for m in dict.fromkeys([model, *(m for m in self.models if m.label != model.label)]):
            try:
                weight = skill(table, m, setting)
            except ModelError as error:
                notes.append(f"{m.label} was left out: {error}")
                continue
            for way in self.ways:
                try:
                    result = way.measure(table, m, setting)
                except ModelError as error:
                    notes.append(f"{way.name} was left out for {m.label}: {error}")
                    continue
                parts[f"{m.label}, {way.name}"] = result.more["by_fold"].to_numpy().T
                weights.append(max(0.0, weight))
                better[f"{m.label}, {way.name}"] = weight
        if not parts:
            raise ModelError("pooled: no model and way fit together; " + "; ".join(notes))
        w = np.array(weights)
        if not w.any():
            notes.append("no model predicts better than the baseline: all have the same weight, and the importances mean little")
            w = np.ones(len(w))
        w = w / w.sum()
        scaled = np.array([[on_scale(row, self.scale) for row in rows] for rows in parts.values()])
        by_fold = np.einsum("m,mkf->kf", w, scaled)
        by_part = scaled.mean(1)
        spread = np.sqrt(np.einsum("m,mf->f", w, (by_part - by_fold.mean(0)) ** 2))
        index = pd.Index(table.features, name="feature")
        frame = pd.DataFrame(dict(zip(parts, by_part, strict=True)), index=index)
        weight_frame = pd.DataFrame({"skill": list(better.values()), "weight": w}, index=pd.Index(list(parts), name="part"))
        apart = [str(f) for f in pd.Series(spread, index).sort_values(ascending=False, kind="stable").index[:FEW]]
        if len(parts) > 1:
            notes.append(f"they disagree most on {', '.join(apart)}")
        notes.append("weights: " + ", ".join(f"{k} {v:.2f}" for k, v in zip(parts, w, strict=True)))
        settings = {"by": self.name, "models": [m.label for m in self.models], "ways": [x.name for x in self.ways], "scale": self.scale}
        more = {"parts": frame, "weights": weight_frame}
        return importance_findings(self, by_fold, table, setting.folds, settings, notes, extra={"spread": spread}, more=more)


def skill(table: Table, model: Model, setting: Setting) -> float:
    """Share of the loss of knowing nothing that a model saves on held-out rows."""
    losses = setting.scorer(table, model).losses([table.features])[0]
    none = sum(float(r.weights @ r.none) for r in losses)
    return 1.0 - sum(float(r.weights @ r.loss) for r in losses) / none if none > 0 else 0.0


def on_scale(values: Floats, scale: str) -> Floats:
    """Places from 1 (best) to 0, ties sharing; or shares of what is above zero."""
    if scale == "shares":
        above = np.maximum(values, 0.0)
        return above / above.sum() if above.sum() > 0 else np.zeros_like(above)
    from chaff.stats.ranks import average_ranks

    return (average_ranks(values) - 1) / max(1, values.size - 1)
