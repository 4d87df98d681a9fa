"""A user's own model: anything with `fit` and `predict`, given what it can eat and held to what it promises."""

from __future__ import annotations

import copy
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any, ClassVar, Literal

import numpy as np

from chaff.arrays import Floats
from chaff.errors import ModelError, UsageError
from chaff.metrics import Need
from chaff.models.identity import NotToldApart, identity_of
from chaff.models.protocols import Fitted, Form, Sample
from chaff.work import Work

Columns = Literal["matrix", "frame"]
NEARLY = 1e-6  # by how much shares may miss their bounds and their sum
KINDS = {"c": "complex numbers", "M": "dates", "m": "spans of time", "U": "words", "S": "bytes", "V": "records"}


class OwnModelError(Exception):
    """What the user's model did that it may not do; told as a ModelError with the fold and the columns."""


@dataclass(frozen=True)
class FittedOwn:
    """A fresh copy of the person's model, fitted."""

    features: tuple[str, ...]
    object: Any
    fills: Floats
    """float64 (width,): what missing numbers of the matrix count as; empty for a frame."""
    starts: Any
    classes: tuple[str, ...]
    known: tuple[Any, ...]
    """Labels in the order in which the model's probabilities stand."""
    weigh: Callable[[Any], Any] | None
    columns: Columns

    def predict(self, rows: Sample) -> Floats:
        X, kept = _food(rows, self.fills, self.columns)
        n = len(rows.targets)
        if not self.classes:
            given = _numbers(_called(self.object.predict, X), n, "predict")
            _unchanged(X, kept, "predict")
            return given.reshape(n, 1)
        if callable(getattr(self.object, "predict_proba", None)):
            given = _numbers(_called(self.object.predict_proba, X), n, "predict_proba", many=True)
            _unchanged(X, kept, "predict_proba")
            if given.shape[1] == 1 and len(self.known) == 2:
                given = np.concatenate([1 - given, given], axis=1)
            if given.shape[1] != len(self.known):
                raise OwnModelError(f"predict_proba gave {given.shape[1]} columns for {len(self.known)} classes in its training rows")
            _check_probabilities(given)
            out = np.zeros((n, len(self.classes)))
            out[:, [self.classes.index(str(k)) for k in self.known]] = given
        else:
            labels = np.asarray(_called(self.object.predict, X)).reshape(-1)
            _unchanged(X, kept, "predict")
            if labels.size != n:
                raise OwnModelError(f"predict gave {labels.size} values for {n} rows")
            words = [str(v) for v in labels.tolist()]
            unseen = sorted(set(words) - set(self.classes))
            if unseen:
                raise OwnModelError(f"predict gave the label {unseen[0]!r}, which is none of the classes {', '.join(self.classes)}")
            out = np.zeros((n, len(self.classes)))
            out[np.arange(n), [self.classes.index(v) for v in words]] = 1.0
        return out[:, 1:] if rows.targets.shape[1] == 1 else out

    def importance(self) -> Floats:
        """What the person's callable says of each column, added up over the columns of a feature."""
        if self.weigh is None:
            raise OwnModelError("it has no importance of its own: pass adapt(…, importance=callable)")
        given = np.asarray(self.weigh(self.object), float).reshape(-1)
        width = int(self.starts[-1]) if self.columns == "matrix" else len(self.features)
        if given.size != width or not np.isfinite(given).all():
            raise OwnModelError(f"its importance gave {given.size} values for {width} columns, or some that are no numbers")
        if self.columns == "frame":
            answer: Floats = np.abs(given)
            return answer
        return np.array([np.abs(given[a:b]).sum() for a, b in zip(self.starts[:-1], self.starts[1:], strict=True)])


def _called(method: Callable[..., Any], *given: Any) -> Any:
    """Call the user's method; what it raises is told with its kind, since a message alone may say little."""
    try:
        return method(*given)
    except Exception as error:
        raise OwnModelError(f"{type(error).__name__} in {getattr(method, '__name__', 'it')}: {error}") from error


def _numbers(value: Any, n: int, what: str, many: bool = False) -> Floats:
    try:
        given = np.asarray(value)
        if given.dtype.kind not in "biufO":
            raise OwnModelError(f"{what} gave {KINDS.get(given.dtype.kind, given.dtype.name)}, not numbers")
        out = given.astype(float)
    except (TypeError, ValueError):
        raise OwnModelError(f"{what} gave something else than numbers") from None
    out = out.reshape(len(out), -1) if out.ndim and many else out.reshape(-1)
    if len(out) != n:
        raise OwnModelError(f"{what} gave {len(out)} values for {n} rows")
    if not np.isfinite(out).all():
        raise OwnModelError(f"{what} gave {int((~np.isfinite(out)).sum())} values that are missing or infinite")
    return out


def _check_probabilities(shares: Floats) -> None:
    """Each share from 0 to 1, and those of a row 1 in all."""
    outside = np.flatnonzero(((shares < -NEARLY) | (shares > 1 + NEARLY)).any(1))
    if outside.size:
        k = int(outside[0])
        raise OwnModelError(f"predict_proba gave {_shown(shares[k])} for row {k + 1} of the test rows: shares must be from 0 to 1")
    sums = shares.sum(1)
    off = np.flatnonzero(np.abs(sums - 1.0) > NEARLY)
    if off.size:
        k = int(off[0])
        raise OwnModelError(
            f"predict_proba gave {_shown(shares[k])} for row {k + 1} of the test rows, which add up to {sums[k]:.6g}, not to 1"
        )


def _shown(shares: Floats) -> str:
    return ", ".join(f"{v:.4g}" for v in shares[:4]) + (", …" if shares.size > 4 else "")


def _food(rows: Sample, fills: Floats, columns: Columns) -> tuple[Any, Any]:
    """What the model is given, a copy of its own, and what to hold it against afterwards."""
    if columns == "frame":
        return rows.data.copy(deep=True), rows.data
    filled = rows.data.filled(fills)
    return filled.copy(), filled


def _unchanged(given: Any, kept: Any, what: str) -> None:
    same = given.equals(kept) if hasattr(given, "equals") else given.shape == kept.shape and bool(np.array_equal(given, kept))
    if not same:
        raise OwnModelError(f"{what} changed the rows it was given: let it work on a copy")


@dataclass(frozen=True, eq=False)
class OwnModel:
    """A user's own model among Chaff's; made by `chaff.models.adapt`."""

    make: Callable[[], Any] = field(repr=False)
    columns: Columns
    weigh: Callable[[Any], Any] | None
    label: str
    gives: frozenset[Need]
    name: str = ""
    """What the person called it, who then changes the name with the model."""
    own: ClassVar[bool] = True

    def identity(self) -> str:
        """What tells it from other models of the same name, the same in every process.

        Raises
        ------
        NotToldApart
        """
        try:
            parts = identity_of([self.make, self.make(), self.weigh])
        except NotToldApart:
            if not self.name:
                raise
            parts = "by its name"
        return f"{self.label}: {self.columns} {parts}"

    @property
    def learns(self) -> Form:
        return "design" if self.columns == "matrix" else "frame"

    @property
    def reads(self) -> Form:
        return self.learns

    def fit(self, train: Sample, work: Work) -> Fitted:
        fills, starts = np.empty(0), None
        if self.columns == "matrix":
            w = np.ones(len(train.targets)) if train.weights is None else train.weights
            seen = ~np.isnan(train.data.X)
            total = w @ seen
            fills = (w @ np.nan_to_num(train.data.X)) / np.where(total > 0, total, 1.0)
            starts = train.data.layout.starts
        X, kept = _food(train, fills, self.columns)
        y: Any = train.targets[:, 0].copy()
        known: tuple[Any, ...] = ()
        if train.classes:
            codes = train.targets.argmax(1) if train.targets.shape[1] > 1 else train.targets[:, 0].astype(int)
            y = np.array(train.classes, dtype=object)[codes]
            known = tuple(sorted(set(y.tolist())))
        thing = _called(self.make)
        y_kept = y.copy()
        if train.weights is not None and _takes_weights(thing):
            done = _called(lambda: thing.fit(X, y, sample_weight=train.weights.copy()))  # type: ignore[union-attr]
        else:
            done = _called(thing.fit, X, y)
        _unchanged(X, kept, "fit")
        _unchanged(y, y_kept, "fit")
        fitted = done if callable(getattr(done, "predict", None)) else thing
        if train.classes and getattr(fitted, "classes_", None) is not None:
            known = tuple(np.asarray(fitted.classes_).tolist())
            twice = [k for k, times in Counter(map(str, known)).items() if times > 1]
            if twice:
                raise OwnModelError(f"its classes_ name {twice[0]!r} twice")
            strange = [k for k in known if str(k) not in train.classes]
            if strange:
                raise OwnModelError(f"its classes_ hold {strange[0]!r}, which is none of the classes {', '.join(train.classes)}")
        return FittedOwn(train.features, fitted, fills, starts, train.classes, known, self.weigh, self.columns)


def _takes_weights(thing: Any) -> bool:
    import inspect

    try:
        return "sample_weight" in inspect.signature(thing.fit).parameters
    except (TypeError, ValueError):
        return False


def adapt(
    model: Any,
    columns: Literal["matrix", "frame"] = "matrix",
    *,
    importance: Callable[[Any], Sequence[float]] | None = None,
    name: str = "",
) -> OwnModel:
    """Use a model of your own wherever Chaff takes a model: scorer, searches, importance, and in a plan by its name.

    Parameters
    ----------
    model : class, function without arguments that makes one, or object
        Whatever has ``fit(X, y)`` and ``predict(X)``; with ``predict_proba(X)`` it gives probabilities of classes, one column
        a class in the order of its ``classes_``, or else of the sorted labels it was given. An object is copied; a class or
        function is called: each fit gets a fresh one. ``fit`` is given ``sample_weight`` where the table has weights and it
        has such an argument.
    columns : "matrix" or "frame"
        A float64 matrix (a 0/1 column a level, missing numbers at their training mean), or the pandas frame as it is.
    importance : callable, optional
        Fitted model → a number for each column that it was given; makes ``by="impurity"`` and the like of its own possible.
    name : str
        What it goes by in results and plans; its class's name otherwise. A journal knows a model by its settings and code; of one
        that holds what cannot be looked into it asks for a name, which you then change whenever you change the model.

    Returns
    -------
    A model. For classes, `y` are the labels as text.

    Raises
    ------
    UsageError
        When it lacks `fit` or `predict`. ModelError later, with the fold and the columns: when it raises, gives missing values
        or too few, labels that are no classes, or changes its input.

    Examples
    --------
    >>> import chaff, numpy as np
    >>> class Middle:
    ...     def fit(self, X, y):
    ...         self.value = np.median(y)
    ...     def predict(self, X):
    ...         return np.full(len(X), self.value)
    >>> lots = chaff.demo.table(rows=200).with_features(["protein_pct"])
    >>> chaff.SubsetScorer(lots, chaff.models.adapt(Middle))(["protein_pct"]).mean < 0.1
    True
    """
    if columns not in ("matrix", "frame"):
        raise UsageError(f"adapt: columns must be 'matrix' or 'frame', not {columns!r}")
    if importance is not None and not callable(importance):
        raise UsageError("adapt: importance must be callable")
    made, title = model, name
    if isinstance(model, type) or (callable(model) and not hasattr(model, "fit")):
        try:
            made = model()
        except Exception as error:
            raise ModelError(f"adapt: {getattr(model, '__name__', model)!s}() failed: {error}") from error
        make: Callable[[], Any] = model
    else:
        make = _Copies(model)
    title = title or type(made).__name__
    missing = [m for m in ("fit", "predict") if not callable(getattr(made, m, None))]
    if missing:
        raise UsageError(f"adapt: {title} has no {' and no '.join(missing)}")
    gives: set[Need] = {"values", "labels", "scores"}
    if callable(getattr(made, "predict_proba", None)):
        gives.add("probabilities")
    return OwnModel(make, columns, importance, title, frozenset(gives), name)


@dataclass(frozen=True)
class _Copies:
    """A fresh copy of an object at each call."""

    original: Any

    def __call__(self) -> Any:
        return copy.deepcopy(self.original)
