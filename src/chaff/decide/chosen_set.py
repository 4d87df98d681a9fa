"""A set that was chosen in another way than by a whole plan, as a selection: `apply`, `explain` and `recheck` go on from it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

from chaff.choices import plan_value
from chaff.decide.ledger import Ledger
from chaff.decide.plan import Plan, Scoring
from chaff.decide.record import record_of
from chaff.decide.selection import Selection
from chaff.errors import UsageError
from chaff.evaluate.stage import Stage
from chaff.methods.screen.stage import Screen
from chaff.methods.search.search_result import SearchResult
from chaff.models.named import as_model
from chaff.models.protocols import Model
from chaff.results.findings import Findings
from chaff.results.verdict import Verdict, drop, keep
from chaff.table.table import Table

BY_HAND = "chosen"  # the stage that a list of names goes by


def make_selection(
    table: Table,
    kept: Findings | SearchResult | Sequence[str],
    *,
    because: str = "",
    rule: Any = "smallest",
    model: Model | str | Mapping[str, Any] | None = None,
    seed: int = 0,
) -> Selection:
    """A selection from findings, a search, or a list of names, to apply, explain and recheck; it holds no honest score.

    Parameters
    ----------
    table : Table
        The table that they were chosen on.
    kept : Findings, SearchResult or list of str
        Findings with verdicts keep what stays; a search what `rule` chooses; a list what it names.
    because : str
        Why these, for a list of names.
    rule : str or dict
        Of a search; see `SearchResult.choose`.
    model : model, str or dict, optional
        The model that will be used, for `chaff.recheck`.
    seed : int

    Returns
    -------
    Selection

    Raises
    ------
    UsageError
        For findings that only measured, and for names that are no feature.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=200)
    >>> chosen = chaff.make_selection(lots, chaff.relevance(lots, ["pearson_r"], cut={"top": 3}))
    >>> len(chosen.kept), chosen.explain("ash_pct").columns[0].fate
    (8, 'drop')
    """
    if isinstance(kept, SearchResult):
        model = kept.scorer.model if model is None else model
        kept = kept.findings(rule)
    verdicts = verdicts_of(kept) if isinstance(kept, Findings) else listed_verdicts(table, list(kept), because)
    return selection_of_verdicts(table, table, verdicts, (Screen(),), model, seed)


def selection_of_verdicts(
    table: Table,
    train: Table,
    verdicts: Sequence[Verdict],
    stages: Sequence[Stage],
    model: Model | str | Mapping[str, Any] | None = None,
    seed: int = 0,
) -> Selection:
    """A selection of what stays by these verdicts.

    train : the rows they were given on.  stages : what runs where the whole plan is run again.
    """
    stays = {v.feature for v in verdicts if v.stays}
    kept = [f for f in table.features if f in stays]
    if not kept:
        raise UsageError("nothing stays: there is no set to make a selection of")
    used = None if model is None else as_model(model)
    plan = Plan(tuple(stages), Scoring(model=used), table=table.terms)
    ledger = Ledger(tuple(replace(v, reason=v.reason or "kept") if v.stays else v for v in verdicts))
    sets = {name: {"features": list(names), "scores": []} for name, names in (("full", table.features), ("kept", kept), ("none", ()))}
    model_part = None if used is None else plan_value(used, "label")
    return record_of(table, train, kept, ledger, plan, seed, (), model=model_part, scores=sets)


def verdicts_of(found: Findings) -> list[Verdict]:
    """The verdicts that stand in the frame.

    Raises
    ------
    UsageError
        Where nothing was decided.
    """
    frame = found.frame
    if "stays" not in frame or frame["stays"].all():
        raise UsageError(f"these findings of {found.method} drop nothing: give them a cut first, such as cut={{'top': 10}} (--top 10)")
    return [_verdict(str(f), r) for f, r in zip(frame.index, frame.to_dict("records"), strict=True)]


def _verdict(feature: str, row: Mapping[Any, Any]) -> Verdict:
    word: Any = row["verdict"] if row["verdict"] in ("drop", "review") else "keep"
    return Verdict(feature, word, bool(row["stays"]), str(row["figure"]), str(row["limit"]), str(row["reason"]), str(row["by"]))


def listed_verdicts(table: Table, names: Sequence[str], because: str) -> list[Verdict]:
    """A verdict for every feature of a table from a list of those that stay."""
    table.check_known(names)
    table.check_features(names)
    held, why = set(names), because or "named"
    return [keep(f, BY_HAND, "", "", why) if f in held else drop(f, BY_HAND, "", "", f"not in the list: {why}") for f in table.features]
