"""What models say and which set they choose, as single calls."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from typing import Any, Literal

from chaff.decide.calls.one_stage import findings_of, judge, stage_of
from chaff.methods.importance.stage import Importance
from chaff.methods.importance.way import Way as ImportanceWay
from chaff.methods.linear.pruning import Pruning, Rule
from chaff.methods.overlap.overlap_data import able
from chaff.models.named import as_model
from chaff.models.protocols import Model
from chaff.results.findings import Findings
from chaff.results.pin import Pin
from chaff.table.table import Table
from chaff.work import Workers


def importance(
    table: Table,
    model: Model | str | Mapping[str, Any] = "forest",
    by: ImportanceWay | str | Mapping[str, Any] = "given others",
    *,
    against: Model | str | Mapping[str, Any] | None = None,
    shuffles: int | None = None,
    alpha: float = 0.05,
    cut: Mapping[str, float] | None = None,
    pins: Iterable[Pin] = (),
    features: Sequence[str] | None = None,
    folds: int = 5,
    seed: int = 0,
    workers: Workers = None,
) -> Findings:
    """What a model uses, by the way you ask for.

    Parameters
    ----------
    table : Table
    model : model, str or dict
        What is fitted: ``chaff.Forest(trees=200)``, "lasso", ``{"name": "boosting", "rounds": 100}``, or a model of your own
        from ``chaff.models.adapt``.
    by : way, str or dict
        "given others" (trees: shuffled freely and given the others, with a test), "permutation" (every model), "coefficient"
        (linear models), "impurity" (trees), "split standing", "drop column" (every model), "shapley" (trees, linear models),
        "pooled" (several of them); or with settings, ``chaff.Permutation(together=0.9)``.
    against : model, optional
        The same for another model: ``more["against"]`` has both side by side, and which of the two kept sets a feature is in.
    shuffles : int, optional
        Times each feature is shuffled in each fold, for ways that shuffle.
    alpha : float
        A feature is beyond chance when its Holm-adjusted one-sided p is below this, for ways that test.
    cut : dict, optional
        Which features stay, by importance: ``{"top": 20}``, ``{"share": 0.3}``, ``{"above": 0.01}``, ``{"times_mean": 1}`` or
        ``{"significant": 0.05}``. `Findings.try_limits` tries several at once without computing anything again.
    pins : iterable of Pin
        Features pinned out take no part, those pinned in stay whatever is found.
    features : list of str, optional
    folds, seed, workers : int

    Returns
    -------
    Findings
        One row a feature: importance, importance_sd over folds, scaled (0 to 1), what the way has of its own, verdict.
        ``more["by_fold"]`` has the importance in each fold; the first note says what the way measures and when it misleads.

    Raises
    ------
    UsageError, ModelError

    Examples
    --------
    >>> import chaff
    >>> table = chaff.demo.table(rows=200).with_features(["protein_pct", "ash_pct", "lab_temp_c"])
    >>> chaff.importance(table, chaff.Forest(trees=20)).ranked().index[0]
    'protein_pct'
    >>> chaff.importance(table, "lasso", by="coefficient", cut={"top": 2}).frame["stays"].sum()
    np.int64(2)
    """
    given = {"by": by, "shuffles": shuffles, "alpha": alpha, "cut": cut}
    ground = {"pins": list(pins), "features": features, "folds": folds, "seed": seed, "workers": workers}
    result = findings_of(judge(stage_of(Importance, {"model": model, **given}), table, **ground))  # type: ignore[arg-type]
    if against is None:
        return result
    other = findings_of(judge(stage_of(Importance, {"model": against, **given}), table, **ground))  # type: ignore[arg-type]
    return side_by_side(result, other, _name_of(model), _name_of(against))


def _name_of(model: Any) -> str:
    return str(as_model(model).label)


def side_by_side(result: Findings, other: Findings, one: str, two: str) -> Findings:
    """The findings of one model with another's beside them, and which of the two kept sets each feature is in."""
    import pandas as pd

    if one == two:
        one, two = f"{one} (first)", f"{two} (second)"
    frame = pd.DataFrame({one: result.frame["importance"], two: other.frame["importance"]})
    frame[f"{one}, scaled"], frame[f"{two}, scaled"] = result.frame["scaled"], other.frame["scaled"]
    a, b = (f.frame["stays"].reindex(frame.index).fillna(False).astype(bool) for f in (result, other))
    frame["kept by"] = [(("both" if y else one) if x else (two if y else "neither")) for x, y in zip(a, b, strict=True)]
    both = result.rank().corr(other.rank())
    note = f"{one} and {two} rank the features with a correlation of {both:.2f}"
    if (~a).any() or (~b).any():
        note += f"; kept by both {int((a & b).sum())}, only by {one} {int((a & ~b).sum())}, only by {two} {int((b & ~a).sum())}"
    return replace(result, notes=(*result.notes, note), more={**result.more, "against": frame})


def prune_linear(
    table: Table,
    by: Rule = "p",
    *,
    direction: Literal["backward", "forward", "both"] = "backward",
    p_limit: float = 0.05,
    vif_limit: float = 10.0,
    order: Literal["loss", "largest"] = "loss",
    splits: int = 50,
    pins: Iterable[Pin] = (),
    features: Sequence[str] | None = None,
    folds: int = 5,
    seed: int = 0,
    workers: Workers = None,
) -> Findings:
    """Take features out of a linear model (or put them in) one at a time by a rule, and show every move.

    Parameters
    ----------
    table : Table
        With a number target.
    by : "p", "vif", "both", "aic" or "bic"
        Largest p over `p_limit`; a VIF over `vif_limit` (see `order`); VIF first and then p, in turn; or the move that lowers
        AIC or BIC most.
    direction : "backward", "forward" or "both"
        "both" may take back what an earlier move did. VIF goes backward only.
    order : "loss" or "largest"
        Of the columns that explain one another beyond `vif_limit` the one goes whose loss costs the adjusted R² least, or the
        one with the largest VIF, which may be the best of them.
    splits : int
        Half-splits for `p_split`; 0 leaves it out.
    pins : iterable of Pin
        Features pinned out take no part, those pinned in never leave.
    features : list of str, optional
    folds, seed, workers : int

    Returns
    -------
    Findings
        One row a feature: stays, p (at the end), vif, p_split, move at which it last went. ``more["trail"]``: one row a move
        with action, feature, its p and VIF then, and after it R², adjusted R², AIC, BIC, cross-validated R² and the features.

    Notes
    -----
    p_split: the elimination on one half, the test on the other, p = 1 for what was not chosen and times the number chosen
    otherwise, over many splits, twice the median, at most 1.  Source: Efroymson, 1960; Meinshausen, Meier and Bühlmann, 2009.

    Examples
    --------
    >>> import chaff
    >>> found = chaff.prune_linear(chaff.demo.table(), splits=0, features=["protein_pct", "ash_pct", "lab_temp_c"])
    >>> list(found.frame.index[found.frame["stays"]])
    ['protein_pct', 'ash_pct']
    """
    settings = {"by": by, "direction": direction, "p_limit": p_limit, "vif_limit": vif_limit, "order": order, "splits": splits}
    settings |= {"folds": folds}
    return findings_of(judge(stage_of(Pruning, settings), able(table, features), pins=pins, seed=seed, workers=workers))
