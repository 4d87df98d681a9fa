"""Scales of columns and transforms of the target side by side, on the same folds, errors in the target's own units.

Scales of columns, learned on training rows, and models that take them: what a penalty or a distance is measured in.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, ClassVar, Literal, get_args

import numpy as np
import scipy

from chaff.arrays import Floats
from chaff.errors import UsageError
from chaff.evaluate.fitted import mean_loss, truth_of
from chaff.folds import Folds
from chaff.metrics import METRICS, Metric, Need, parts_of_r2
from chaff.models.forms import learn_form
from chaff.models.least_squares import LeastSquares, Ridge
from chaff.models.neighbours import Neighbours
from chaff.models.protocols import Fitted, Form, Model, Sample
from chaff.results.plain import records
from chaff.results.score import corrected_error
from chaff.results.shown import frame_html, frame_text
from chaff.table.design import Design
from chaff.table.table import Table
from chaff.visible import Shown
from chaff.work import Work

if TYPE_CHECKING:
    import pandas as pd


Scale = Literal["standard", "min-max", "robust", "log", "rank-normal", "none"]
SCALES: tuple[str, ...] = get_args(Scale)
NORMAL_QUARTILES = 1.349  # standard deviations between the quartiles of a normal column


@dataclass(frozen=True)
class NormalScores:
    """Normal scores of the places of training values, and back (Blom, 1958)."""

    values: Floats
    """Distinct, ascending."""
    places: Floats
    """Of equal values the mean of their places, as shares within (0, 1)."""

    @classmethod
    def learn(cls, train: Floats) -> NormalScores:
        ascending = np.sort(train)
        n = ascending.size
        places = (np.arange(1, n + 1) - 0.375) / (n + 0.25)
        values, first = np.unique(ascending, return_index=True)
        last = np.append(first[1:], n) - 1
        return cls(values, (places[first] + places[last]) / 2)

    def forward(self, values: Floats) -> Floats:
        return np.asarray(scipy.special.ndtri(np.interp(values, self.values, self.places)))

    def backward(self, scores: Floats) -> Floats:
        return np.asarray(np.interp(scipy.special.ndtr(scores), self.places, self.values))


@dataclass(frozen=True)
class Scaler:
    """What training rows say of each column: its fill, what is taken off, and by what it is divided; or how it is bent."""

    fills: Floats
    centre: Floats
    divide: Floats
    log: bool = False
    """Logarithm of 1 + what is left after the least training value is taken off."""
    ranks: tuple[NormalScores, ...] = ()

    @classmethod
    def learn(cls, X: Floats, w: Floats, how: str) -> Scaler:
        """X : float64 (rows, columns), NaN where missing."""
        seen = ~np.isnan(X)
        total = np.where(w @ seen > 0, w @ seen, 1.0)
        means = (w @ np.nan_to_num(X)) / total
        filled = np.where(seen, X, means)
        if how == "none":
            return cls(means, np.zeros_like(means), np.ones_like(means))
        if how == "log":
            return cls(means, filled.min(0), np.ones_like(means), log=True)
        if how == "rank-normal":
            return cls(means, np.zeros_like(means), np.ones_like(means), ranks=tuple(NormalScores.learn(x) for x in filled.T))
        if how == "standard":
            centre, divide = means, np.sqrt(w @ (filled - means) ** 2 / max(w.sum(), 1e-300))
        elif how == "min-max":
            centre, divide = filled.min(0), np.ptp(filled, axis=0)
        else:
            low, centre, high = np.quantile(filled, [0.25, 0.5, 0.75], axis=0)
            spread = (high - low) / NORMAL_QUARTILES
            divide = np.where(spread > 0, spread, np.sqrt(((filled - means) ** 2).mean(0)))  # half of a flag is often one value
        return cls(means, centre, np.where(divide > 0, divide, 1.0))

    def apply(self, X: Floats) -> Floats:
        Z = (np.where(np.isnan(X), self.fills, X) - self.centre) / self.divide
        if self.log:  # below anything seen in training the logarithm has no end: it stops half a unit under the lowest
            return np.asarray(np.log(np.maximum(1.0 + Z, 0.5)))
        return np.column_stack([r.forward(z) for r, z in zip(self.ranks, Z.T, strict=True)]) if self.ranks else Z


def _scaled(rows: Sample, scaler: Scaler) -> Sample:
    return replace(rows, data=Design(rows.data.layout, scaler.apply(rows.data.X)))


def _weights(rows: Sample) -> Floats:
    return np.ones(len(rows.targets)) if rows.weights is None else np.asarray(rows.weights, float)


@dataclass(frozen=True)
class FittedOnScale:
    """Coefficients on scaled columns."""

    scaler: Scaler
    coefficients: Floats
    means: Floats
    targets: Floats

    def predict(self, rows: Sample) -> Floats:
        return np.asarray((self.scaler.apply(rows.data.X) - self.means) @ self.coefficients + self.targets)


@dataclass(frozen=True)
class _OnScale:
    """What models on scaled columns share."""

    how: str
    model: Any

    learns: ClassVar[Form] = "design"
    reads: ClassVar[Form] = "design"

    @property
    def gives(self) -> frozenset[Need]:
        given: frozenset[Need] = self.model.gives
        return given

    @property
    def label(self) -> str:
        return f"{self.model.label}, {self.how}"


class LinearOnScale(_OnScale):
    """Least squares, and ridge whose penalty is charged on columns as they are scaled: on standardised ones it is `Ridge`, every level
    with a column."""

    def fit(self, train: Sample, work: Work) -> Fitted:
        w = _weights(train)
        scaler = Scaler.learn(train.data.X, w, self.how)
        Z = scaler.apply(train.data.X)
        means, targets = w @ Z / w.sum(), w @ train.targets / w.sum()
        A = (Z - means).T * w @ (Z - means)
        A[np.diag_indices(len(A))] += self.model.ridge_equivalent() * w.sum() + 1e-10 * np.trace(A) / max(len(A), 1)
        return FittedOnScale(scaler, np.linalg.solve(A, (Z - means).T * w @ (train.targets - targets)), means, targets)


class NeighboursOnScale(_OnScale):
    """Nearest neighbours by distances between columns as they are scaled."""

    def fit(self, train: Sample, work: Work) -> Fitted:
        w = _weights(train)
        scaler = Scaler.learn(train.data.X, w, self.how)
        fitted: Any = self.model.fit(train, work)
        answer: Fitted = replace(fitted, standard=scaler, Z=scaler.apply(train.data.X[np.flatnonzero(w > 0)]))
        return answer


@dataclass(frozen=True)
class FittedScaled:
    """A user's own model, fitted on scaled columns."""

    scaler: Scaler
    inner: Fitted

    def predict(self, rows: Sample) -> Floats:
        return self.inner.predict(_scaled(rows, self.scaler))


class OwnOnScale(_OnScale):
    """A user's own model that is given scaled columns."""

    def fit(self, train: Sample, work: Work) -> Fitted:
        scaler = Scaler.learn(train.data.X, _weights(train), self.how)
        return FittedScaled(scaler, self.model.fit(_scaled(train, scaler), work))


def on_scale(model: Model, how: str) -> Model | None:
    """The model on columns of that scale; None where it takes no notice of scales, being of trees or standardising itself."""
    if isinstance(model, Ridge | LeastSquares):
        return LinearOnScale(how, model)
    if isinstance(model, Neighbours):
        return NeighboursOnScale(how, model)
    if getattr(model, "own", False) and model.learns == "design":
        return OwnOnScale(how, model)
    return None


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
