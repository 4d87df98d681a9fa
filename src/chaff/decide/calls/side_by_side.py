"""Preparations and models side by side, as single calls."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from chaff.decide.calls.one_stage import on_offer
from chaff.errors import UsageError, nearest
from chaff.folds import Folds, make_folds
from chaff.methods.comparing.learning import Learning
from chaff.methods.comparing.preparations import TRANSFORMS, Preparations, check_transforms, preparations_of
from chaff.methods.comparing.scales import SCALES
from chaff.methods.comparing.two_models import TwoModels
from chaff.methods.comparing.two_models import two_models as _two_models
from chaff.models.named import as_model
from chaff.models.protocols import Model
from chaff.results.pin import Pin
from chaff.table.table import Table
from chaff.work import Watch, Work, Workers


def try_scales(
    table: Table, model: Model | str | Mapping[str, Any] = "ridge", *, scales: Sequence[str] = SCALES,
    transforms: Sequence[str] = ("none",), folds: int | Folds = 5, repeats: int = 1, features: Sequence[str] | None = None, seed: int = 0,
    workers: Workers = None, watch: Watch | None = None,
) -> Preparations:  # fmt: skip
    """Scales of the columns and transforms of the target side by side, on the same folds, errors in the target's own units.

    Parameters
    ----------
    table : Table
    model : model, str or dict
        Ridge, nearest neighbours and your own models (``chaff.models.adapt``) take notice of scales; trees do not, and the others
        standardise their columns themselves.
    scales : list of "standard", "range", "robust", "none"
        Mean and standard deviation; least and largest value; median and quartiles; as they are. Learned on training rows.
    transforms : list of "none", "log", "square root"
        Of a number target; predictions come back to its own scale as means (Duan, 1983).
    folds : int or Folds
    repeats : int
    features : list of str, optional
    seed, workers, watch : as everywhere

    Returns
    -------
    Preparations

    Raises
    ------
    UsageError

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=200).with_features(["protein_pct", "ash_pct"])
    >>> chaff.try_scales(lots, "ridge", transforms=["none", "log"]).frame["transform"].tolist()[:2]
    ['none', 'log']
    """
    check_preparations(table, scales, transforms)
    offered, _, _ = on_offer(table, (), features)
    work = Work(seed, workers, watch)
    parts = folds if isinstance(folds, Folds) else make_folds(offered, folds, repeats, work)
    return preparations_of(offered, as_model(model), list(dict.fromkeys(scales)), list(dict.fromkeys(transforms)), parts, work)


def check_preparations(table: Table, scales: Sequence[str], transforms: Sequence[str]) -> None:
    """Refuse what there is not, and what does not fit the target, before any work.

    Raises
    ------
    UsageError
    """
    for given, known, what in ((scales, SCALES, "scale"), (transforms, tuple(TRANSFORMS), "transform")):
        wrong = [s for s in given if s not in known]
        if wrong or not given or isinstance(given, str):
            shown = f"unknown {what} '{wrong[0]}'" if wrong and not isinstance(given, str) else f"{what}s must be a list"
            raise UsageError(f"{shown}; choose from {', '.join(known)}.{nearest(str(wrong[0]), known) if wrong else ''}")
    if any(t != "none" for t in transforms):
        check_transforms(table, transforms)


def two_models(
    table: Table, first: Model | str | Mapping[str, Any] = "ridge", second: Model | str | Mapping[str, Any] = "forest", *,
    metric: str | None = None, folds: int | Folds = 5, pins: Iterable[Pin] = (), features: Sequence[str] | None = None, seed: int = 0,
    workers: Workers = None, watch: Watch | None = None,
) -> TwoModels:  # fmt: skip
    """Which features two models keep: shared, only here, and what each loses with the other's set.

    Parameters
    ----------
    table : Table
    first, second : model, str or dict
    metric : str, optional
    folds : int or Folds
        Inside every training fold each model's search is run anew, so that no set has seen the rows that it is scored on.
    pins : iterable of Pin
    features : list of str, optional
    seed, workers, watch : as everywhere

    Returns
    -------
    TwoModels
        ``shared``, ``only``, ``kept``, ``frame``.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=200).with_features(["protein_pct", "ash_pct", "straw_pct"])
    >>> chaff.two_models(lots, "ridge", "tree").frame.columns.tolist()
    ['own', 'other', 'all', 'nothing', 'loss', 'loss_se']
    """
    offered, _, pinned = on_offer(table, pins, features)
    work = Work(seed, workers, watch)
    parts = folds if isinstance(folds, Folds) else make_folds(offered, folds, 1, work)
    a, b = as_model(first), as_model(second)
    return _two_models(Learning(offered, a, metric, parts, pinned, work), (a, b))
