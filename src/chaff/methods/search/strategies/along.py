"""Along: down a ranking that somebody has already."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

from chaff.errors import UnknownColumn, UsageError, nearest
from chaff.evaluate.scorer import SubsetScorer
from chaff.methods.search.strategy import as_move, check_least_one, largest
from chaff.results.findings import Findings
from chaff.results.trail import Move
from chaff.work import Work

ORDER = 'order must be a list of features, the best first, such as ["protein_pct", "ash_pct"]'


@dataclass(frozen=True)
class Along:
    """The leading features of a given ranking, one more at each step.

    Parameters
    ----------
    order : Findings, or list of str
        What any call measured, taken in its ranking; or features, the best first. Those that are not on offer any more are left out.
    size : int, float or None
        Largest set to go to: a number, or a share of the features below 1; None for the whole ranking.

    Notes
    -----
    The ranking must not have seen the test rows: one that was made from the target on all rows makes the curve too good. Put the
    measuring stage with a cut before the search for an honest one.

    Examples
    --------
    >>> import chaff
    >>> table = chaff.demo.table(rows=200).with_features(["protein_pct", "ash_pct", "lab_temp_c"])
    >>> trail = chaff.search(table, "ridge", chaff.Along(["ash_pct", "protein_pct", "lab_temp_c"]))
    >>> trail.frame["feature"].tolist()
    ['ash_pct', 'protein_pct', 'lab_temp_c']
    >>> chaff.Along(chaff.relevance(table, ["pearson_r"])).order[0]
    'protein_pct'
    """

    order: Findings | Sequence[str] = ()
    size: int | float | None = None

    name: ClassVar[str] = "along"

    def __post_init__(self) -> None:
        given: Any = self.order
        names = [str(f) for f in given.ranked().index] if isinstance(given, Findings) else given
        if isinstance(names, str) or not all(isinstance(f, str) for f in names):
            raise UsageError(f"along: {ORDER}, not {names!r}")
        if len(set(names)) < len(names):
            raise UsageError("along: a feature is in the order twice")
        object.__setattr__(self, "order", tuple(names))
        check_least_one(size=self.size)

    @property
    def _names(self) -> tuple[str, ...]:
        assert isinstance(self.order, tuple)
        return self.order

    def moves(self, scorer: SubsetScorer, pinned: frozenset[str], work: Work) -> Iterator[Move]:
        if not self.order:
            raise UsageError(f"along: {ORDER}")
        known = [f for f in self._names if f in scorer.features and f not in pinned]
        if not known and not pinned:
            missing = self._names[0]
            raise UnknownColumn(
                f"along: no feature of the order is a candidate feature, not even '{missing}'.{nearest(missing, scorer.features)}"
            )
        current = pinned
        if pinned:
            yield as_move("start", "", scorer(current), "along")
        for f in known[: largest(self.size, len(scorer.features)) - len(pinned)]:
            if scorer.affordable(current | {f}):
                current = current | {f}
                yield as_move("add", f, scorer(current), "along")

    def notes(self, scorer: SubsetScorer) -> tuple[str, ...]:
        gone = [f for f in self._names if f not in scorer.features]
        return (
            (f"not candidate features, so not in the order: {', '.join(gone[:4])}{' and more' if len(gone) > 4 else ''}",) if gone else ()
        )
