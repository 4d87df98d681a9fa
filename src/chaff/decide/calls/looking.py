"""Looking at a table and scoring its features, as single calls."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

from chaff.decide.calls.one_stage import StageResult, findings_of, judge, stage_of, with_decoys_noted
from chaff.methods.relevance.stage import Relevance
from chaff.methods.screen.stage import Screen
from chaff.results.cuts import Cut
from chaff.results.findings import Findings
from chaff.results.pin import Pin
from chaff.table.table import Table
from chaff.work import Workers


def screen(table: Table, *, pins: Iterable[Pin] = (), folds: int = 5, seed: int = 0, workers: Workers = None, **limits: Any) -> Findings:
    """Look at the table first: what every column holds, and which cannot help, look like an id, or like a leak.

    Parameters
    ----------
    table : Table
    pins : iterable of Pin
        From `chaff.pin_keep` and `chaff.pin_drop`; they beat every check, and their reason is kept.
    folds, seed, workers : int
        For the cross-validated one-feature models behind the leak check.
    **limits
        Fields of `chaff.Screen`, such as ``missing_share=0.8``; None switches a check off.

    Returns
    -------
    Findings
        One row a column: kind, meaning, unit, rows present, missing_share, distinct, range, commonest value, spread, skew,
        outlying_share, single_r2, verdict with figure, limit and reason, and advice. ``more["rows"]`` says what the rows
        have: duplicates, contradictions, class balance, outlying targets.

    Raises
    ------
    UsageError

    Examples
    --------
    >>> import chaff
    >>> found = chaff.screen(chaff.demo.table(rows=200))
    >>> found.frame.loc["crumb_score", "verdict"]
    'review'
    """
    return findings_of(judge(stage_of(Screen, limits), table, pins=pins, folds=folds, seed=seed, workers=workers))


def relevance(
    table: Table,
    statistics: str | Sequence[str] = "fitting",
    *,
    by: str | None = None,
    cut: Any = None,
    pins: Iterable[Pin] = (),
    features: Sequence[str] | None = None,
    seed: int = 0,
    workers: Workers = None,
    **settings: Any,
) -> Findings:
    """Score each feature against the target by the statistics that fit the two kinds.

    Parameters
    ----------
    table : Table
    statistics : "fitting", "tests", "leading", "all", or list of names
        See `chaff.Relevance`; names and sources stand in ``findings.more["statistics"]``.
    by : str, optional
        Column that ranks and cuts; effect_size when left out.
    cut : dict or Cut, optional
        Which features stay: ``{"top": 40}``, ``{"share": 0.25}`` (rounded up), ``{"above": 0.1}``, ``{"below": 0.05}``,
        ``{"times_mean": 1.5}``. Verdicts are then in the frame.
    pins : iterable of Pin
    features : list of str, optional
    seed, workers : int
    **settings
        Fields of `chaff.Relevance`: adjust, level, bins, bin_kind, missing_level, pool_below, neighbours, sample_rows,
        places, shuffles.

    Returns
    -------
    Findings
        One row a feature: kind, rows used, leading statistic with p, q and effect size with its interval, then each
        statistic with what belongs to it. `ranked`, `rank`, `scaled`, `stays` and `try_limits` work on any column.

    Raises
    ------
    UsageError
        For a statistic that fits no column (it names those that do), or that row weights rule out.

    Examples
    --------
    >>> import chaff
    >>> table = chaff.demo.table(rows=300, target="accepted")
    >>> found = chaff.relevance(table, statistics=["auc", "cramers_v"], by="auc", cut={"top": 5})
    >>> int((found.frame["verdict"] == "keep").sum())
    5
    """
    if isinstance(cut, Cut):
        cut = {cut.rule: cut.value}
    stage = stage_of(Relevance, {"statistics": statistics, "by": by or "effect_size", "cut": cut, **settings})
    judged = judge(stage, table, pins=pins, features=features, seed=seed, workers=workers)
    if cut is None and not judged.setting.pins:
        return measured_by(judged)
    return findings_of(judged)


def measured_by(judged: StageResult) -> Findings:
    """What a stage measured, where it was asked for no verdict."""
    return with_decoys_noted(judged.result, judged.table.decoys) if isinstance(judged.result, Findings) else findings_of(judged)
