"""The engine for any model: fitted on the training rows of every split, forms prepared once a split and sliced for each set."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from functools import cached_property
from itertools import product
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np

from chaff.arrays import Floats
from chaff.errors import ChaffError, ModelError
from chaff.folds import Folds
from chaff.metrics import Metric, RowLosses, Truth, parts_of_r2
from chaff.models.forms import learn_form
from chaff.models.protocols import Fitted, Model, Prepared, Sample, StartsWarm
from chaff.table.table import Table
from chaff.work import Work, task

if TYPE_CHECKING:
    from chaff.evaluate.walk import Walk


Set = frozenset[str]


class Engine(Protocol):
    """One table, one model, some folds."""

    metrics: tuple[Metric, ...]
    """The metric that decides, and others that come for free."""

    def prepare(self) -> None:
        """Do now what the first score would do."""
        ...

    def scores(self, sets: Sequence[Set], splits: Sequence[int], near: Set | None = None) -> Floats:
        """float64 (sets, splits, metrics). near : a set that all of them are near to, for models that can start from its fit."""
        ...

    def losses(self, sets: Sequence[Set], splits: Sequence[int]) -> list[list[RowLosses]]:
        """Per set and split, the loss of every test row under the first metric."""
        ...

    def walk(self, start: Set) -> Walk | None:
        """A walk that knows every single change without a refit; None where there is nothing cheaper than scoring each."""
        ...

    def inside(self, split: int) -> Engine | None:
        """The same on folds among one split's training rows; None when those are a single part."""
        ...


NEAR_PAYS = 3  # sets from which a fit to start from pays for itself


@dataclass(frozen=True)
class PreparedSplit:
    """Everything of one split that does not depend on the set."""

    number: int
    learns: Prepared
    train: Sample
    reads: Prepared
    test: Sample
    truth: Truth
    work: Work
    """Its seed is named by the split, so that every set meets the same draws."""


@dataclass(frozen=True)
class Prepare:
    """Split number → the split prepared."""

    table: Table
    model: Model
    folds: Folds
    work: Work

    def __call__(self, number: int) -> PreparedSplit:
        split = self.folds.splits[number]
        train, test = (self.table.take(rows) for rows in self.folds.rows(split))
        model, seed = self.model, replace(self.work, seed=self.work.key("fit", split.repeat, split.test))
        learns = learn_form(model.learns, train, self.work, f"model {model.label}")
        reads = learns if model.reads == model.learns else learn_form(model.reads, train, self.work, f"model {model.label}")
        return PreparedSplit(number, learns, learns.apply(train), reads, reads.apply(test), truth_of(train, test), seed)


@contextmanager
def named_failure(model: Model, split: PreparedSplit, names: Sequence[str]) -> Iterator[None]:
    """Whatever a user's own model raises, said with the model, the fold and the size."""
    try:
        yield
    except (ChaffError, KeyboardInterrupt):
        raise
    except Exception as error:
        few = ", ".join(names[:3]) + (", …" if len(names) > 3 else "")
        raise ModelError(f"model {model.label} failed on fold {split.number + 1} with {len(names)} features ({few}): {error}") from error


def checked_predictions(predicted: Any, rows: Sample) -> Floats:
    """What a model predicted, if it is a number for each row and column of the target."""
    out = np.asarray(predicted, float)
    if out.shape != rows.targets.shape:
        raise ValueError(f"it predicted an array of shape {out.shape}, not {rows.targets.shape}")
    if not np.isfinite(out).all():
        raise ValueError(f"{int((~np.isfinite(out)).sum())} of its predictions are missing or infinite")
    return out


@dataclass(frozen=True)
class FitAndPredict:
    """(features in the table's order, prepared split) → predictions (n, t)."""

    model: Model
    near: Mapping[int, Fitted] = field(default_factory=dict)
    """Split → a fit with nearly the same features, for models that can start from it."""

    def __call__(self, unit: tuple[tuple[str, ...], PreparedSplit]) -> Floats:
        names, split = unit
        if not names:
            return np.repeat(split.truth.train_means[None, :], len(split.truth.targets), 0)
        train, test = split.learns.select(split.train, names), split.reads.select(split.test, names)
        with named_failure(self.model, split, names):
            start = self.near.get(split.number)
            fitted = self.model.fit(train, split.work) if start is None else self.model.fit_from(train, start, split.work)  # type: ignore[attr-defined]
            return checked_predictions(fitted.predict(test), test)


@dataclass(frozen=True)
class FitAndScore:
    """(features, prepared split) → every metric; in place of R² the mean loss, for that is a ratio over all splits."""

    fit: FitAndPredict
    metrics: tuple[Metric, ...]

    def __call__(self, unit: tuple[tuple[str, ...], PreparedSplit]) -> list[float]:
        predicted = self.fit(unit)
        truth = unit[1].truth
        return [mean_loss(m.losses(truth, predicted)) if m.name == "r2" else m.of_predictions(truth, predicted) for m in self.metrics]


class FittedEngine:
    """See `chaff.evaluate.engine.Engine`."""

    def __init__(self, table: Table, model: Model, metrics: tuple[Metric, ...], folds: Folds, work: Work) -> None:
        self.table, self.model, self.metrics, self.folds, self.work = table, model, metrics, folds, work
        self._near: tuple[Any, dict[int, Fitted]] = (None, {})

    @cached_property
    def splits(self) -> list[PreparedSplit]:
        return self.work.each(Prepare(self.table, self.model, self.folds, self.work), range(self.folds.count))

    def prepare(self) -> None:
        _ = self.splits

    def _units(self, sets: Sequence[Set], splits: Sequence[int]) -> list[tuple[tuple[str, ...], PreparedSplit]]:
        prepared = self.splits
        ordered = [tuple(n for n in self.table.features if n in s) for s in sets]
        return [(names, prepared[k]) for names, k in product(ordered, splits)]

    def scores(self, sets: Sequence[Set], splits: Sequence[int], near: Set | None = None) -> Floats:
        fit = FitAndPredict(self.model, self._started(near, splits) if near and len(sets) > NEAR_PAYS else {})
        done = self.work.each(FitAndScore(fit, self.metrics), self._units(sets, splits))
        values = np.array(done).reshape(len(sets), len(splits), len(self.metrics))
        for k, m in enumerate(self.metrics):
            if m.name == "r2":
                none = self._nothing(m)
                values[:, :, k] = parts_of_r2(values[:, :, k], none[list(splits)], float(none.mean()))
        return values

    def _nothing(self, metric: Metric) -> Floats:
        """Mean loss of knowing nothing in each split."""
        losses = (metric.losses(s.truth, np.broadcast_to(s.truth.train_means, s.truth.targets.shape)) for s in self.splits)
        return np.array([mean_loss(rows) for rows in losses])

    def _started(self, near: Set, splits: Sequence[int]) -> dict[int, Fitted]:
        """A fit on the near set for each split, always begun from scratch, so that nothing depends on what was fitted before."""
        if not isinstance(self.model, StartsWarm):
            return {}
        requested = (near, tuple(splits))
        if self._near[0] == requested:
            return self._near[1]
        names = tuple(n for n in self.table.features if n in near)
        fits = self.work.each(task(_fit_whole, self.model, names), [self.splits[k] for k in splits])
        out = dict(zip([self.splits[k].number for k in splits], fits, strict=True))
        self._near = (requested, out)
        return out

    def losses(self, sets: Sequence[Set], splits: Sequence[int]) -> list[list[RowLosses]]:
        units = self._units(sets, splits)
        done = iter(self.work.each(FitAndPredict(self.model), units))
        return [[self.metrics[0].losses(self.splits[k].truth, next(done)) for k in splits] for _ in sets]

    def walk(self, start: Set) -> None:
        return None

    def inside(self, split: int) -> FittedEngine | None:
        inner = self.folds.inside(self.folds.splits[split])
        return FittedEngine(self.table, self.model, self.metrics, inner, self.work) if inner.splits else None


def mean_loss(rows: RowLosses) -> float:
    """Weighted mean over the test rows; plain where they weigh nothing."""
    return float(np.average(rows.loss, weights=rows.weights if rows.weights.sum() > 0 else None))


def _fit_whole(model: Model, names: tuple[str, ...], split: PreparedSplit) -> Fitted:
    with named_failure(model, split, names):
        return model.fit(split.learns.select(split.train, names), split.work)


def truth_of(train: Table, test: Table) -> Truth:
    """What predictions for the test rows are held against."""
    means = np.average(train.targets, axis=0, weights=train.weights)
    return Truth(test.targets, test.weights if test.weights is not None else np.ones(len(test)), means)
