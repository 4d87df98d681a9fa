"""What a model is: a frozen dataclass that learns from one numeric form and predicts from another."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any, Literal, Protocol, runtime_checkable

from chaff.arrays import Floats, Ints
from chaff.metrics import Need
from chaff.table.bins import Binning
from chaff.table.design import Design
from chaff.table.moments import table_moments
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


@runtime_checkable
class Fitted(Protocol):
    def predict(self, rows: Sample) -> Floats:
        """(n, t): values, or class shares in the form of `Table.targets`."""
        ...

    def importance(self, by: str) -> Floats:
        """One number a feature."""
        ...


class Model(Protocol):
    """Fields are settings. `learns` and `reads` are the forms that fit and predict take; `gives` is what metrics may ask."""

    @property
    def learns(self) -> Form: ...
    @property
    def reads(self) -> Form: ...
    @property
    def gives(self) -> frozenset[Need]: ...
    @property
    def label(self) -> str: ...
    def fit(self, train: Sample, work: Work) -> Fitted: ...


@runtime_checkable
class Exact(Protocol):
    """The power of being scored in closed form from moments: least squares, plain or with this penalty."""

    @property
    def penalty(self) -> float: ...


def sample(table: Table, form: Form, binning: Binning | None = None) -> Sample:
    """The table's rows and features in one form; bins need the binning that training rows gave."""
    data: Any
    if form == "moments":
        data = table_moments(table, table.features)
    elif form == "design":
        data = Design.of(table, table.features)
    else:
        data = (binning or Binning.learn(table, table.features)).apply(table)
    return Sample(table.features, data, table.targets, table.weights, table.target.classes, table.groups, table.order)


def select_features(rows: Sample, features: tuple[str, ...]) -> Sample:
    """The same rows with fewer features; for bins only, since that is where it costs next to nothing."""
    return replace(rows, features=features, data=rows.data.select(features))
