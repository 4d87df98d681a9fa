"""What models say and which set they choose, as single calls."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any, Literal

from chaff.decide.calls.judged import findings_of, judge, stage_of, with_verdicts
from chaff.errors import UsageError
from chaff.methods.importance.stage import Importance
from chaff.methods.linear.pruning import Pruning, Rule
from chaff.methods.overlap.ground import able
from chaff.methods.search.stage import Search, SearchTrail
from chaff.methods.search.strategy import Strategy
from chaff.models.protocols import Model
from chaff.results.findings import Findings, Way
from chaff.results.pin import Pin
from chaff.table.table import Table


def importance(
    table: Table,
    model: Model | str | Mapping[str, Any] = "forest",
    *,
    shuffles: int = 5,
    level: float = 0.05,
    cut: Mapping[str, float] | None = None,
    pins: Iterable[Pin] = (),
    features: Sequence[str] | None = None,
    folds: int = 5,
    seed: int = 0,
    workers: int | None = None,
) -> Findings:
    """How much worse a model predicts held-out rows when a feature's values are shuffled among them.

    Parameters
    ----------
    table : Table
    model : model, str or dict
        What is fitted: ``chaff.Forest(trees=200)``, "forest" or ``{"name": "forest", "trees": 200}``.
    shuffles : int
        Times each feature is shuffled in each fold.
    level : float
        A feature is beyond chance when its Holm-adjusted one-sided p is below this.
    cut : dict, optional
        Which features stay, by importance, such as ``{"top": 20}``.
    pins : iterable of Pin
        Features pinned out take no part, those pinned in stay whatever is found.
    features : list of str, optional
    folds, seed, workers : int

    Returns
    -------
    Findings
        One row a feature: importance (R² lost, or log loss gained), importance_sd over folds, p, q, beyond_chance, verdict.

    Raises
    ------
    UsageError, ModelError

    Notes
    -----
    Source: Breiman, 2001; on held-out rows: Strobl et al., 2007.

    Examples
    --------
    >>> import chaff
    >>> table = chaff.demo.table(rows=200).with_features(["protein_pct", "ash_pct", "lab_temp_c"])
    >>> chaff.importance(table, chaff.Forest(trees=20)).ranked().index[0]
    'protein_pct'
    """
    stage = stage_of(Importance, {"model": model, "shuffles": shuffles, "level": level, "cut": cut})
    return findings_of(judge(stage, table, pins=pins, features=features, folds=folds, seed=seed, workers=workers))


def search(
    table: Table,
    strategy: Strategy | str | Mapping[str, Any] | None = "both",
    model: Model | str | Mapping[str, Any] | None = "ridge",
    *,
    pins: Iterable[Pin] = (),
    features: Sequence[str] | None = None,
    folds: int = 5,
    seed: int = 0,
    workers: int | None = None,
    **settings: Any,
) -> Findings:
    """Walk through sets of features and choose the smallest that keeps up.

    Scores of a search choose; they promise nothing. `chaff.select` holds the chosen set against the full one.

    Parameters
    ----------
    table : Table
    strategy : strategy, str, dict or None
        ``chaff.Forward(size=10)``, "forward", "backward", "both" or ``{"name": "forward", "size": 10}``; None for what suits
        the model.
    model : model, str, dict or None
        ``chaff.Ridge(0.1)``, "ridge", "least squares", "logistic", "forest" …; None for two lenses, as `chaff.select` does.
    pins : iterable of Pin
        Features pinned out take no part, those pinned in are in every set.
    features : list of str, optional
    folds, seed, workers : int
    **settings
        Further fields of `chaff.Search`.

    Returns
    -------
    Findings
        One row a feature: worth (what the score loses without it when chosen, gains with it otherwise; linear models only),
        kept_share (of the folds), chosen, verdict. ``more["sizes"]``: honest scores by size, with what comes and goes;
        ``more["trail"]``: every move of the strategy on all rows, which chose nothing.

    Raises
    ------
    UsageError, DataError

    Examples
    --------
    >>> import chaff
    >>> table = chaff.demo.table(rows=200).with_features(["protein_pct", "protein_nir_pct", "ash_pct", "lab_temp_c"])
    >>> found = chaff.search(table, chaff.Forward(size=3))
    >>> found.more["trail"]["size"].tolist(), found.more["sizes"].index.tolist()
    ([1, 2, 3], [0, 1, 2, 3, 4])
    """
    import pandas as pd

    stage = stage_of(Search, {"strategy": strategy, "model": model, **settings})
    judged = judge(stage, table, pins=pins, features=features, folds=folds, seed=seed, workers=workers)
    trail = judged.result
    if not isinstance(trail, SearchTrail):
        raise UsageError("the search left no trail")
    chosen = {f: f in trail.chosen for f in trail.offered}
    worth = {f: -gain if chosen[f] else gain for f, gain in trail.worth.items()}  # the walk tells what its change would gain
    shares = {f: trail.promise.kept_share(f) for f in trail.offered}
    frame = pd.DataFrame({"kept_share": pd.Series(shares, dtype=float), "chosen": pd.Series(chosen, dtype=bool)})
    frame.insert(0, "worth", pd.Series(worth, dtype=float).reindex(frame.index))
    frame.index.name = "feature"
    better: dict[str, Way] = {"worth": "higher", "kept_share": "higher"}
    more = {"sizes": trail.decided.frame(trail.ground)}
    if trail.decided.trail is not None:
        more["trail"] = trail.decided.trail.frame
    by = "worth" if worth else "kept_share"
    found = Findings("search", frame, by, better, {}, trail.notes, more)
    return with_verdicts(found, judged.verdicts)


def prune_linear(
    table: Table,
    by: Rule = "p",
    *,
    direction: Literal["backward", "forward", "both"] = "backward",
    p_limit: float = 0.05,
    vif_limit: float = 10.0,
    splits: int = 50,
    pins: Iterable[Pin] = (),
    features: Sequence[str] | None = None,
    folds: int = 5,
    seed: int = 0,
    workers: int | None = None,
) -> Findings:
    """Take features out of a linear model (or put them in) one at a time by a rule, and show every move.

    Parameters
    ----------
    table : Table
        With a number target.
    by : "p", "vif", "both", "aic" or "bic"
        Largest p over `p_limit`; largest VIF over `vif_limit`; VIF first and then p, in turn; or the move that lowers AIC or
        BIC most.
    direction : "backward", "forward" or "both"
        "both" may take back what an earlier move did. VIF goes backward only.
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
    settings = {"by": by, "direction": direction, "p_limit": p_limit, "vif_limit": vif_limit, "splits": splits, "folds": folds}
    return findings_of(judge(stage_of(Pruning, settings), able(table, features), pins=pins, seed=seed, workers=workers))
