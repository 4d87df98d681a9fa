"""What a model is: a frozen dataclass that learns from one numeric form and predicts from another.

What more it can do (be scored in closed form, weigh its features, be shuffled) is a power, and a power is asked for by a
method of its own, never guessed from a field: a lasso has a `penalty` too.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal, Protocol, runtime_checkable

from chaff.arrays import Floats, Ints
from chaff.metrics import Need
from chaff.table.table import Table
from chaff.work import Work

Form = Literal["moments", "design", "bins", "frame"]


@dataclass(frozen=True)
class Sample:
    """Rows x features in one form, with what belongs to the rows."""

    features: tuple[str, ...]
    data: Any
    """Moments, Design, Bins, or a pandas frame, by the form that the model asks for."""
    targets: Floats
    """float64 (n, t): see `Table.targets`."""
    weights: Floats | None
    classes: tuple[str, ...] = ()
    groups: Ints | None = None
    order: Floats | None = None
    table: Table | None = None
    """Where the rows come from, for models that make folds of their own; None where that is not known."""


def target_refusal(model: Any, table: Table) -> str:
    """Why a model does not take the target of a table; "" where it does."""
    kind = "classes" if table.target.classes else "number"
    takes: frozenset[str] = getattr(model, "targets", frozenset({"number", "classes"}))
    if kind in takes:
        return ""
    return f"{model.label} needs {' or '.join(sorted(takes))}; the target is {'a number' if kind == 'number' else 'classes'}"


class Fitted(Protocol):
    """A model that has learned."""

    def predict(self, rows: Sample) -> Floats:
        """(n, t): values, or class shares in the form of `Table.targets`."""
        ...


class Model(Protocol):
    """Fields are settings. `learns` and `reads` are the forms that fit and predict take; `gives` is what metrics may ask.

    A model for classes only says so: ``targets: ClassVar = frozenset({"classes"})``; without it, it takes numbers too.
    """

    @property
    def learns(self) -> Form: ...
    @property
    def reads(self) -> Form: ...
    @property
    def gives(self) -> frozenset[Need]: ...
    @property
    def label(self) -> str: ...
    def fit(self, train: Sample, work: Work) -> Fitted: ...


class Prepared(Protocol):
    """One numeric form, learned on training rows once a split; applied to rows, and cut down to fewer features."""

    def apply(self, rows: Table) -> Sample: ...
    def select(self, rows: Sample, features: Sequence[str]) -> Sample: ...


@runtime_checkable
class ClosedForm(Protocol):
    """A model's power of being scored from moments without a fit."""

    def ridge_equivalent(self) -> float:
        """The λ of the ridge that it is; 0 for least squares."""
        ...


@runtime_checkable
class HasImportance(Protocol):
    """A fitted model's power of saying how much it uses each feature."""

    def importance(self) -> Floats:
        """float64 (features,)."""
        ...


@runtime_checkable
class HasCoefficients(Protocol):
    """A fitted linear model's power of telling its coefficients."""

    def on_columns(self) -> tuple[Floats, Floats]:
        """float64 (design columns, t), twice: per standard deviation of the column, and per unit of it."""
        ...


@runtime_checkable
class HasRemarks(Protocol):
    """A fitted model's power of saying what the user should know of the fit."""

    def remarks(self) -> tuple[str, ...]: ...


@runtime_checkable
class StartsWarm(Protocol):
    """A model's power of starting from a fit on the same rows with slightly other features, and ending where it would have."""

    def fit_from(self, train: Sample, near: Any, work: Work) -> Fitted: ...


@runtime_checkable
class Shuffles(Protocol):
    """A fitted model's power of predicting cheaply what other cells in one feature would change."""

    def shuffled(self, rows: Sample, foreign: Sequence[Sample], work: Work) -> tuple[Floats, list[tuple[slice, Floats]]]:
        """Predictions (n, t), and blocks of (rows, changes (shuffles, features, rows, t)); each of `foreign` holds the cells
        that the same rows would take, one feature at a time."""
        ...
