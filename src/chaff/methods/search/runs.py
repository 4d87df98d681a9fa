"""Several searches side by side, on the same folds, and what their sets share."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from itertools import combinations
from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.choices import plan_value
from chaff.errors import UsageError
from chaff.folds import same_folds
from chaff.methods.search.choice_rules import Chosen
from chaff.methods.search.search_result import SearchResult
from chaff.results.plain import plain, records
from chaff.results.shown import frame_html, frame_text
from chaff.visible import Shown

if TYPE_CHECKING:
    import pandas as pd


FIRST = ("model", "strategy", "size", "seen", "honest")


@dataclass(frozen=True, repr=False)
class Runs(Shown):
    """Searches that were compared.

    >>> import chaff
    >>> lots = chaff.demo.table(rows=200).with_features(["protein_pct", "ash_pct", "straw_pct", "lab_temp_c"])
    >>> one = chaff.search(lots, "ridge", "forward")
    >>> chaff.runs([one, chaff.search(lots, "ridge", "backward", after=one)]).frame["strategy"].tolist()
    ['forward', 'backward']
    """

    frame: pd.DataFrame
    """One row a search: model, strategy, settings, size, seen, seen_se (on the folds that all of them share), honest, honest_se,
    evaluations, saved, seconds, features."""
    shared: pd.DataFrame
    """One row a pair of searches: both, only_first, only_second (how many features), and alike, the share of all of them that both
    have."""
    chosen: tuple[Chosen, ...] = field(repr=False)
    notes: tuple[str, ...] = ()

    def features(self) -> pd.DataFrame:
        """One row a feature that some search took, a column a search: whether it is in; those in most first."""
        import pandas as pd

        names = dict.fromkeys(f for c in self.chosen for f in c.features)
        held = {k: [f in c.features for f in names] for k, c in zip(self.frame.index, self.chosen, strict=True)}
        frame = pd.DataFrame(held, index=pd.Index(names, name="feature"), dtype=bool)
        return frame.loc[frame.sum(axis=1).sort_values(ascending=False, kind="stable").index]

    def _title(self) -> str:
        return f"{len(self.frame)} searches on the same folds"

    def __str__(self) -> str:
        return frame_text(self._title(), self.frame.drop(columns="features"), FIRST, self.notes)

    def _repr_html_(self) -> str:
        return frame_html(self._title(), self.frame, FIRST, self.notes)

    def as_plain(self) -> dict[str, Any]:
        return {"runs": records(self.frame), "shared": records(self.shared), "notes": list(self.notes)}


def runs(trails: Sequence[SearchResult], rule: Any = "smallest") -> Runs:
    """Several searches side by side.

    Parameters
    ----------
    trails : list of SearchResult
        From `chaff.search`, on the same table, folds and metric; pass `after=` so that no set is scored twice.
    rule : str or dict
        Which set of each stands for it; see `SearchResult.choose`.

    Returns
    -------
    Runs

    Raises
    ------
    UsageError
        When they were not made on the same footing.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=200).with_features(["protein_pct", "ash_pct", "straw_pct", "lab_temp_c"])
    >>> found = chaff.runs([chaff.search(lots, m, "forward") for m in ("ridge", chaff.Tree(depth=3))])
    >>> found.shared[["first", "second"]].iloc[0].tolist()
    ['1', '2']
    """
    import pandas as pd

    subset = list(trails)
    if not subset or not all(isinstance(t, SearchResult) for t in subset):
        raise UsageError("runs takes a list of trails from chaff.search")
    _check_footing(subset)
    chosen = tuple(t.choose(rule) for t in subset)
    names = [str(k) for k in range(1, len(subset) + 1)]
    rows = [_row(t, c) for t, c in zip(subset, chosen, strict=True)]
    frame = pd.DataFrame(rows, index=pd.Index(names, name="run"))
    pairs = [_pair(names[i], names[j], set(chosen[i].features), set(chosen[j].features)) for i, j in combinations(range(len(subset)), 2)]
    shared = pd.DataFrame(pairs, columns=["first", "second", "both", "only_first", "only_second", "alike"])
    notes = (f"{subset[0].scorer.folds.how}, {subset[0].scorer.metric.label}; of each search {chosen[0].rule}",)
    return Runs(frame, shared, chosen, notes)


def _check_footing(trails: Sequence[SearchResult]) -> None:
    first = trails[0].scorer
    for k, trail in enumerate(trails[1:], 2):
        other = trail.scorer
        if other.metric.name != first.metric.name:
            raise UsageError(f"search 1 used the metric {first.metric.name}, search {k} {other.metric.name}: use one metric")
        same_rows = len(other.table) == len(first.table) and np.array_equal(other.table.targets, first.table.targets)
        if not same_rows or not same_folds(other.folds, first.folds):
            raise UsageError(f"searches 1 and {k} use different rows or folds: search the same table with the same folds and seed")


def _row(trail: SearchResult, chosen: Chosen) -> dict[str, Any]:
    settings = plan_value(trail.strategy, "name")
    named_settings = {k: v for k, v in settings.items() if k != "name"} if isinstance(settings, dict) else {}
    model = plan_value(trail.scorer.model, "label")
    out = {
        "model": trail.scorer.model.label if isinstance(model, str) else _in_words(model),
        "strategy": trail.strategy.name,
        "settings": _in_words(named_settings),
        "size": len(chosen.features),
        "seen": chosen.seen,
        "seen_se": chosen.seen_se,
        "honest": chosen.honest,
        "honest_se": chosen.honest_se,
    }
    if trail.scorer.prices:
        out["cost"] = chosen.cost
    return out | {
        "evaluations": trail.evaluations,
        "saved": trail.saved,
        "seconds": trail.seconds,
        "stopped": trail.stopped,
        "features": chosen.features,
    }


def _in_words(settings: dict[str, Any]) -> str:
    given = [
        f"{k} {v if isinstance(v, str | int | float) else getattr(v, 'name', None) or plain(v)}" for k, v in settings.items() if k != "name"
    ]
    return ", ".join([*([str(settings["name"])] if "name" in settings else []), *given])


def _pair(first: str, second: str, a: set[str], b: set[str]) -> dict[str, Any]:
    whole = len(a | b)
    sizes = {"both": len(a & b), "only_first": len(a - b), "only_second": len(b - a)}
    return {"first": first, "second": second, **sizes, "alike": len(a & b) / whole if whole else 1.0}
