"""Linear models with a penalty that can shut columns out: lasso, elastic net and group lasso, for numbers and for classes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import ClassVar, Literal

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.errors import ModelError, UsageError
from chaff.metrics import Need, log_loss
from chaff.models.forms import inner_splits
from chaff.models.logistic import Standard
from chaff.models.path_data import PathData, path_data_of
from chaff.models.penalty_path import Choose, PenaltyPath, default_penalties
from chaff.models.protocols import Form, Sample
from chaff.stats.logistic import probabilities
from chaff.stats.tolerances import OPTIMAL
from chaff.work import Work, task

StagesRun = tuple[Floats, Floats, Floats, Floats]
FOLD_TOLERANCE = 1e-4  # of the optimality conditions on inner folds: what only chooses need not be exact


@dataclass(frozen=True)
class FittedPenalised:
    """Coefficients per standard deviation of each design column; 0 for columns that are out or have no spread."""

    features: tuple[str, ...]
    standard: Standard
    intercepts: Floats
    """float64 (targets,), in the target's own units; of the log odds with classes."""
    coefficients: Floats
    """float64 (used columns, targets): change in the target (in its own units; log odds with classes) per standard deviation."""
    starts: Ints
    path: PenaltyPath
    classes: tuple[str, ...]
    separated: bool
    """With classes: whether the fit tells the training classes apart without a mistake, so that only the penalty holds it."""
    twins: tuple[tuple[str, ...], ...]
    """Design columns that are equal or opposite, by name."""

    @property
    def penalty(self) -> float:
        return float(self.path.penalties[self.path.chosen])

    @property
    def raw_coefficients(self) -> Floats:
        """The same per unit of the column."""
        return np.asarray(self.coefficients / self.standard.spread[self.standard.used][:, None])

    def predict(self, rows: Sample) -> Floats:
        out = self.intercepts + self.standard.apply(rows.data.X) @ self.coefficients
        return probabilities(out) if self.classes else np.asarray(out)

    def by_feature(self, coefficients: Floats) -> Floats:
        """float64 (features,): length of each feature's coefficients (used columns, targets)."""
        size = np.zeros(self.starts[-1])
        size[self.standard.used] = (coefficients**2).sum(1)
        return np.array([np.sqrt(size[a:b].sum()) for a, b in pairwise(self.starts)])

    def on_columns(self) -> tuple[Floats, Floats]:
        return self.standard.on_columns(self.coefficients)

    def importance(self) -> Floats:
        return self.by_feature(self.coefficients)

    def remarks(self) -> tuple[str, ...]:
        """What the user should know of the fit."""
        out = []
        edge = self.path.at_edge
        if edge == "low":
            out.append(f"the best penalty, {self.path.penalties[-1]:.3g}, is the smallest that was tried: a smaller one may do better")
        elif edge == "high":
            out.append("the best penalty is the largest that was tried: the empty model may do as well")
        if self.separated:
            out.append("the training classes are linearly separable: only the penalty keeps the coefficients finite")
        out += [f"{' and '.join(names)} are equal" for names in self.twins]
        return tuple(out)


@dataclass(frozen=True)
class Penalised:
    """What all penalised linear models share; see `Lasso`."""

    penalty: float | None = None
    penalties: Sequence[float] | None = None
    choose: Choose = "best"
    folds: int = 5
    adaptive: bool = False
    relaxed: bool = False
    twins: Literal["both", "one"] = "both"

    learns: ClassVar[Form] = "design"
    reads: ClassVar[Form] = "design"
    gives: ClassVar[frozenset[Need]] = frozenset({"values", "labels", "scores", "probabilities"})
    by_group: ClassVar[bool] = False

    def __post_init__(self) -> None:
        name = getattr(self, "label", "penalised")
        if self.penalty is not None and not self.penalty >= 0:
            raise UsageError(f"{name}: penalty must be 0 or more, not {self.penalty}")
        if self.penalty is not None and self.penalties is not None:
            raise UsageError(f"{name}: pass a penalty or penalties to choose from, not both")
        if self.penalties is not None:
            object.__setattr__(self, "penalties", tuple(float(p) for p in self.penalties))
            if not self.penalties or not all(p >= 0 for p in self.penalties):
                raise UsageError(f"{name}: penalties must be 0 or more, and one or more of them")
        if self.choose not in ("best", "one standard error") or self.twins not in ("both", "one") or self.folds < 2:
            raise UsageError(f"{name}: choose is 'best' or 'one standard error', twins 'both' or 'one', folds 2 or more")

    @property
    def length_share(self) -> float:
        """Share of the penalty that is charged on lengths; the rest is on their squares."""
        return 1.0

    def fit(self, train: Sample, work: Work) -> FittedPenalised:
        splits = inner_splits(train, self.folds, work) if self.penalty is None else []
        data, inner = path_data_of(self, train, splits)
        if self.penalty is not None:
            penalties = _down_to(self.penalty, data.highest)
        elif self.penalties is not None:
            penalties = np.sort(np.array(self.penalties))[::-1]
        else:
            penalties = default_penalties(data.highest, len(train.targets) > data.width and not train.classes)
        (stages_run, _), *by_fold = work.each(task(_walk, self, train, penalties), [(data, None), *zip(inner, splits, strict=True)])
        coefficients, intercepts, violations, separated = stages_run
        losses = np.array([loss for _, loss in by_fold])
        path = PenaltyPath(penalties, coefficients, violations, losses, penalties.size - 1)
        if losses.size:
            path = replace(path, chosen=path.best if self.choose == "best" else path.one_standard_error)
        elif self.penalty is None:
            path = replace(path, chosen=penalties.size // 2)
        return self._fitted(train, data, path, intercepts[path.chosen], bool(separated[path.chosen]))

    def _fitted(self, train: Sample, data: PathData, path: PenaltyPath, intercepts: Floats, separated: bool) -> FittedPenalised:
        B = path.coefficients[path.chosen]
        if not np.isfinite(B).all():
            raise ModelError("the penalised fit did not converge: scale the target, or use a larger penalty")
        names = train.data.layout.columns
        pairs = tuple(tuple(names[c] for c in data.standard.used[s]) for s in data.twins.sets)
        return FittedPenalised(
            train.features, data.standard, data.centre + intercepts * data.scale, B * data.scale, train.data.layout.starts, path,
            train.classes, separated, pairs,
        )  # fmt: skip


def _down_to(penalty: float, top: float) -> Floats:
    """A short way down to one penalty, so that each step begins near."""
    if not np.isfinite(penalty) or penalty >= top or top <= 0:
        return np.array([penalty])
    low = max(penalty, 1e-4 * top)
    steps = max(2, int(np.ceil(np.log(top / low) / np.log(1.3))))
    way = np.geomspace(top, low, steps)[:-1]
    return np.append(way, penalty)


def _walk(model: Penalised, train: Sample, penalties: Floats, unit: tuple[PathData, tuple[Ints, Ints] | None]) -> tuple[StagesRun, Floats]:
    """(the path, mean loss of each penalty on an inner fold); on all rows to the full tolerance, and no loss."""
    data, split = unit
    stages_run = data.walk(penalties, FOLD_TOLERANCE if train.classes and split is not None else OPTIMAL)
    return (stages_run, np.empty(0)) if split is None else (stages_run, _fold_losses(train, data, stages_run, split[1]))


def _fold_losses(train: Sample, data: PathData, stages_run: StagesRun, rows: Ints) -> Floats:
    B, intercepts, _, _ = stages_run
    Z, y = data.standard.apply(train.data.X[rows]), train.targets[rows]
    w = np.ones(rows.size) if train.weights is None else train.weights[rows]
    if not train.classes:
        off = (y - data.centre) / data.scale - Z @ B[:, :, 0].T - intercepts[:, 0]
        return np.asarray(np.average(off**2, axis=0, weights=w))
    return np.array([np.average(log_loss(y, probabilities(a + Z @ b)), weights=w) for a, b in zip(intercepts, B, strict=True)])


@dataclass(frozen=True)
class Lasso(Penalised):
    """Linear model with a penalty on the absolute coefficients: many are exactly zero.

    Least squares for a number target, logistic for classes.

    Parameters
    ----------
    penalty : float or None
        λ on columns of unit spread and, for numbers, a target of unit spread: a column whose correlation with what the others
        leave stays under it is out. 0 is the plain fit, infinity the empty one. None chooses by cross-validation.
    penalties : sequence of float or None
        What is chosen from; None for a hundred from where nothing is in downwards.
    choose : "best" or "one standard error"
        The lowest mean loss over inner folds, or the largest penalty within one standard error of it.
    folds : int
        Inner folds, made as the outer ones are (groups, order, classes).
    adaptive : bool
        Each column is charged by the inverse of its coefficient in a ridge fit (penalty by generalised cross-validation), so
        that strong columns are hardly shrunk.
    relaxed : bool
        What is in is refitted without the penalty.
    twins : "both" or "one"
        Equal columns share one coefficient evenly, or the first by name takes it.

    Notes
    -----
    A missing number counts as its training mean; every level of a category has a column of its own, past 50 levels the
    commonest. Each point of the path is
    held to the optimality conditions (1e-8). Source: Tibshirani, 1996; adaptive: Zou, 2006; relaxed: Meinshausen, 2007;
    choice: Friedman, Hastie and Tibshirani, 2010.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=300).with_features(["protein_pct", "ash_pct", "lab_temp_c", "line_voltage_v"])
    >>> fitted = chaff.models.fit(lots, chaff.Lasso(choose="one standard error"))
    >>> bool(fitted.importance()[0] > fitted.importance()[2])
    True
    """

    label: ClassVar[str] = "lasso"


@dataclass(frozen=True)
class ElasticNet(Penalised):
    """Linear model with a lasso and a ridge penalty: correlated features stay together.

    Parameters
    ----------
    share : float
        Share of the penalty on the sizes, in (0, 1]; 1 is the lasso.
    **others
        As of `Lasso`.

    Notes
    -----
    Source: Zou and Hastie, 2005.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=300).with_features(["protein_pct", "protein_nir_pct", "lab_temp_c"])
    >>> fitted = chaff.models.fit(lots, chaff.ElasticNet(share=0.2))
    >>> bool((fitted.importance()[:2] > 0).all())
    True
    """

    share: float = 0.5
    label: ClassVar[str] = "elastic net"

    def __post_init__(self) -> None:
        super().__post_init__()
        if not 0 < self.share <= 1:
            raise UsageError(f"elastic net: share must be in (0, 1], not {self.share}; for 0 use ridge")

    @property
    def length_share(self) -> float:
        return self.share


@dataclass(frozen=True)
class GroupLasso(Penalised):
    """Lasso that keeps or drops a category as a whole.

    Parameters
    ----------
    **all
        As of `Lasso`.

    Notes
    -----
    The columns of a feature are made uncorrelated first, so that the choice does not depend on how levels are coded, and are
    charged by their length times the root of how many they are. With several classes, for each class by itself. Source: Yuan
    and Lin, 2006; coded so: Simon and Tibshirani, 2012.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=300).with_features(["protein_pct", "variety", "lab_temp_c"])
    >>> chaff.models.fit(lots, chaff.GroupLasso()).importance().shape
    (3,)
    """

    by_group: ClassVar[bool] = True
    label: ClassVar[str] = "group lasso"
