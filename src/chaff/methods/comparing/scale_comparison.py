"""Scales of columns and transforms of the target side by side, on the same folds, errors in the target's own units."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.arrays import Floats
from chaff.errors import UsageError
from chaff.evaluate.fitted import mean_loss, truth_of
from chaff.folds import Folds
from chaff.methods.comparing.scales import NormalScores, on_scale
from chaff.metrics import METRICS, Metric, parts_of_r2
from chaff.models.forms import learn_form
from chaff.models.protocols import Model
from chaff.results.plain import records
from chaff.results.score import corrected_error
from chaff.results.shown import frame_html, frame_text
from chaff.table.table import Table
from chaff.visible import Shown
from chaff.work import Work

if TYPE_CHECKING:
    import pandas as pd

TRANSFORMS = ("none", "log", "square root", "rank-normal")
SMEARED = 200  # residuals, evenly spaced in their order, over which a mean comes back from normal scores


@dataclass(frozen=True, repr=False)
class Preparations(Shown):
    """One row a preparation: a scale of the columns and a transform of the target.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=200).with_features(["protein_pct", "ash_pct", "harvest_rain_mm"])
    >>> found = chaff.try_scales(lots, chaff.Neighbours(20), scales=["standard", "none"], transforms=["none", "log"])
    >>> found.frame[["scale", "transform"]].values.tolist()[0]
    ['standard', 'none']
    """

    frame: pd.DataFrame
    """scale, transform; a column and its standard error for every metric that fits, in the target's own units; difference (to the first
    row, in the first metric, on the same folds) and difference_se."""
    model: str
    metrics: tuple[str, ...]
    notes: tuple[str, ...] = ()

    @property
    def headline(self) -> str:
        count = len(self.frame)
        return f"{count} preparation{'s' * (count != 1)} side by side, {self.model}"

    def __str__(self) -> str:
        return frame_text(self.headline, self.frame, ("transform",), self.notes)

    def _repr_html_(self) -> str:
        return frame_html(self.headline, self.frame, ("transform",), self.notes)

    def as_plain(self) -> dict[str, Any]:
        return {"model": self.model, "preparations": records(self.frame), "notes": list(self.notes)}


@dataclass(frozen=True)
class Prepared:
    """One split with one preparation."""

    table: Table
    folds: Folds
    metrics: tuple[Metric, ...]
    work: Work

    def __call__(self, unit: tuple[Model, str, int]) -> list[float]:
        """Every metric on the split's test rows, predictions back on the target's own scale, and mean losses for R² (of predictions, of
        nothing), which is a ratio over all splits."""
        model, transform, number = unit
        split = self.folds.splits[number]
        train, test = (self.table.take(rows) for rows in self.folds.rows(split))
        work = replace(self.work, seed=self.work.key("fit", split.repeat, split.test))
        scores = NormalScores.learn(train.targets[:, 0]) if transform == "rank-normal" else None
        bent = train if transform == "none" else replace(train, y_all=_forward(train.y_all, transform, scores))
        learns = learn_form(model.learns, bent, work, f"model {model.label}")
        reads = learns if model.reads == model.learns else learn_form(model.reads, bent, work, f"model {model.label}")
        fitted = model.fit(learns.apply(bent), work)
        predicted = fitted.predict(reads.apply(test))
        if transform != "none":
            off = bent.targets - fitted.predict(reads.apply(bent))
            predicted = back(predicted, off, transform, scores)
        truth = truth_of(train, test)
        nothing = np.broadcast_to(truth.train_means, truth.targets.shape)
        r2 = [mean_loss(METRICS["r2"].losses(truth, p)) for p in (predicted, nothing)]
        return [*(m.of_predictions(truth, predicted) for m in self.metrics), *r2]


def _forward(y: Floats, transform: str, scores: NormalScores | None) -> Floats:
    there = ~np.isnan(y)
    out = y.copy()
    out[there] = scores.forward(y[there]) if scores is not None else np.log(y[there]) if transform == "log" else np.sqrt(y[there])
    return out


def back(predicted: Floats, off: Floats, transform: str, scores: NormalScores | None = None) -> Floats:
    """Predictions on the target's own scale: the mean there, and not what the mean here comes back as, by the residuals of the training
    rows (Duan, 1983)."""
    if transform == "log":
        return np.asarray(np.exp(predicted) * np.exp(off).mean())
    if scores is not None:
        spread = np.quantile(off, (np.arange(SMEARED) + 0.5) / SMEARED)
        return np.asarray(scores.backward(predicted[..., None] + spread).mean(-1))
    return np.asarray(np.maximum(predicted, 0.0) ** 2 + (off**2).mean())


def preparations_of(
    table: Table, model: Model, scales: Sequence[str], transforms: Sequence[str], folds: Folds, work: Work
) -> Preparations:  # fmt: skip
    """Every scale with every transform on the same folds; scales that the model takes no notice of are one row."""
    import pandas as pd

    metrics = tuple(m for m in METRICS.values() if m.task in (table.target.task, "both") and m.needs in model.gives)
    two = len(table.target.classes) == 2
    metrics = tuple(m for m in metrics if two or not m.two_classes_only)
    notes = [f"{folds.how}; everything learned inside each training fold; errors in the target's own units"]
    scaled = {s: on_scale(model, s) for s in scales}
    models: dict[str, Model] = {s: m for s, m in scaled.items() if m is not None}
    if not models:
        notes.append(f"{model.label} takes no notice of scales: it is of trees, or standardises its columns itself")
        models = {"any": model}
    if any(t != "none" for t in transforms):
        notes.append("back from a transform by the residuals of the training rows, so that means are predicted (Duan, 1983)")
    requested = [(s, t) for s in models for t in transforms]
    units = [(models[s], t, k) for s, t in requested for k in range(folds.count)]
    done = np.array(work.each(Prepared(table, folds, metrics, work), units, "scales and transforms"))
    values = done.reshape(len(requested), folds.count, len(metrics) + 2)
    for j in (j for j, m in enumerate(metrics) if m.name == "r2"):
        values[:, :, j] = parts_of_r2(values[:, :, -2], values[0, :, -1])
    rows = []
    for k, (scale, transform) in enumerate(requested):
        row: dict[str, Any] = {"scale": scale, "transform": transform}
        for j, m in enumerate(metrics):
            row |= {m.name: float(values[k, :, j].mean()), f"{m.name}_se": corrected_error(values[k, :, j], folds.test_share)}
        gap = values[k, :, 0] - values[0, :, 0]
        row |= {"difference": float(gap.mean()), "difference_se": corrected_error(gap, folds.test_share) if k else float("nan")}
        rows.append(row)
    frame = pd.DataFrame(rows)
    frame.index = pd.Index(range(1, len(frame) + 1), name="row")
    return Preparations(frame, model.label, tuple(m.name for m in metrics), tuple(notes))


def check_transforms(table: Table, transforms: Sequence[str]) -> None:
    """Refuse transforms that the target has no place for."""
    if table.target.classes:
        raise UsageError(f"transforms are for number targets; {table.target.name} has classes")
    least = float(table.y.min())
    if "log" in transforms and not least > 0:
        raise UsageError(f"log needs a target above 0; the least {table.target.name} is {least:g}")
    if "square root" in transforms and least < 0:
        raise UsageError(f"square root needs a target of 0 or more; the least {table.target.name} is {least:g}")
