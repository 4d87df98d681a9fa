"""The stages as single calls, for looking at a table step by step."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from chaff.decide.pins import checked_pins
from chaff.decide.run import judge_stage
from chaff.errors import UsageError
from chaff.evaluate.setting import Pin, Setting, Stage
from chaff.methods.overlap.pair_cut import Correlation
from chaff.methods.relevance.stage import Relevance
from chaff.methods.screen.stage import Screen
from chaff.results.findings import Findings
from chaff.table.table import Table
from chaff.work import Work

if TYPE_CHECKING:
    from collections.abc import Sequence


def screen(table: Table, *, pins: Iterable[Pin] = (), folds: int = 5, seed: int = 0, workers: int | None = None, **limits: Any) -> Findings:
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
    'look'
    """
    return _judged(Screen(**_fields(Screen, limits)), table, pins, folds, seed, workers)


def relevance(
    table: Table,
    statistics: str | Sequence[str] = "fitting",
    *,
    by: str | None = None,
    cut: Any = None,
    seed: int = 0,
    workers: int | None = None,
    **settings: Any,
) -> Findings:
    """Score each feature against the target by the statistics that fit the two kinds.

    Parameters
    ----------
    table : Table
    statistics : "fitting", "leading", "all", or list of names
        See `chaff.Relevance`; names and sources stand in ``findings.more["statistics"]``.
    by : str, optional
        Column that ranks and cuts; effect_size when left out.
    cut : dict or Cut, optional
        Which features stay: ``{"top": 40}``, ``{"share": 0.25}`` (rounded up), ``{"above": 0.1}``, ``{"below": 0.05}``,
        ``{"times_mean": 1.5}``. Verdicts are then in the frame.
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
    from chaff.results.cuts import Cut

    if isinstance(cut, Cut):
        cut = {cut.rule: cut.value}
    stage = Relevance(statistics, by or "effect_size", cut, **_fields(Relevance, settings))
    return _judged(stage, table, (), 0, seed, workers, verdicts=cut is not None)


def prune_correlations(
    table: Table, limit: float = 0.95, *, pins: Iterable[Pin] = (), seed: int = 0, workers: int | None = None
) -> Findings:
    """Of each pair of number columns over the limit, drop the one with the weaker claim.

    The most relevant column first: it stays, and those that repeat it go; then the next that is left. So none goes for a
    partner that goes itself. Claims: pins, relevance, completeness, cost, order; between twins the choice is said to be
    arbitrary.

    Parameters
    ----------
    table : Table
    limit : float
        |Pearson r| over which a pair says the same.
    pins : iterable of Pin

    Returns
    -------
    Findings
        One row a feature: strongest_r, partner it went for, why, verdict.

    Raises
    ------
    UsageError

    Examples
    --------
    >>> import chaff
    >>> found = chaff.prune_correlations(chaff.demo.table(rows=300))
    >>> found.frame.loc["test_weight_lb_bu", "partner"]
    'test_weight_kg_hl'
    """
    return _judged(Correlation(limit), table, pins, 0, seed, workers)


def _judged(stage: Stage, table: Table, pins: Iterable[Pin], folds: int, seed: int, workers: int | None, verdicts: bool = True) -> Findings:
    """A stage's findings with its verdicts as columns."""
    work, pinned = Work(seed, workers), checked_pins(list(pins), table)
    setting = Setting.of(table, folds, work=work, pins=pinned) if folds else Setting.unfolded(table, work, pins=pinned)
    report = judge_stage(stage, table, setting)
    found = report.result
    assert isinstance(found, Findings)
    if not verdicts:
        return found
    frame = found.frame.copy()
    for name in ("verdict", "figure", "limit", "reason", "by"):
        frame[name] = [getattr(v, name) for v in report.verdicts]
    frame["stays"] = [v.stays for v in report.verdicts]
    return replace(found, frame=frame)


def _fields(stage: type, given: dict[str, Any]) -> dict[str, Any]:
    import dataclasses

    from chaff.errors import nearest

    known = [f.name for f in dataclasses.fields(stage)]
    for name in given:
        if name not in known:
            raise UsageError(f"{stage.__name__} has no setting '{name}'; it has {', '.join(known)}.{nearest(name, known)}")
    return given
