"""Recursive elimination: a model says what it uses least, that goes, and it is asked again."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any, ClassVar

from chaff.evaluate.limits import used_rows
from chaff.evaluate.scorer import SubsetScorer
from chaff.evaluate.setting import Setting
from chaff.methods.importance.way import Way, as_order, as_way
from chaff.methods.search.model_lens import weakest
from chaff.methods.search.strategy import a_move, as_move, check_least_one, largest
from chaff.models.named import as_model
from chaff.models.protocols import Model
from chaff.results.trail import Move
from chaff.table.table import Table
from chaff.work import Work


@dataclass(frozen=True)
class Recursive:
    """Recursive elimination by importance.

    Parameters
    ----------
    by : way, str or dict
        How importance is measured: "coefficient", "impurity", "permutation", "pooled" (several models), …, or one with settings. By
        its name alone it is taken as cheaply as it comes: no half-samples, three shuffles.
    model : model, str, dict or None
        Whose importance; None for the model that the sets are scored with.
    step : int or float
        Features that go in a round: a number, or a share of those that are in (rounded down, one at least).
    size : int, float or None
        Smallest set to go to: a number, or a share of the features below 1; None for one feature, or the pins.

    Notes
    -----
    Importance is measured again in each round, on the rows that the search may see: inside a training fold where it is rerun there,
    so that the honest curve is honest. The trail keeps the order in which every column went (`trail.elimination`). Source: Guyon,
    Weston, Barnhill and Vapnik, 2002.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=200).with_features(["protein_pct", "ash_pct", "straw_pct", "lab_temp_c"])
    >>> trail = chaff.search(lots, "ridge", chaff.Recursive("coefficient", step=1), honest=False)
    >>> trail.elimination.index[-1], len(trail.elimination)
    ('protein_pct', 4)
    """

    by: Way | str | Mapping[str, Any] = "permutation"
    model: Model | str | Mapping[str, Any] | None = None
    step: int | float = 0.2
    size: int | float | None = None

    name: ClassVar[str] = "recursive"

    def __post_init__(self) -> None:
        check_least_one(step=self.step, size=self.size)
        object.__setattr__(self, "by", as_order(self.by))
        if self.model is not None:
            object.__setattr__(self, "model", as_model(self.model))

    def moves(self, scorer: SubsetScorer, pinned: frozenset[str], work: Work) -> Iterator[Move]:
        table, folds = used_rows(scorer.table, scorer.folds)
        setting = Setting(folds, scorer.model, scorer.metric.name, work=Work(work.seed, work.executor or work.workers))
        current = list(scorer.features)
        yield as_move("start", "", scorer(current), self.name)
        end = max(1, len(pinned), 0 if self.size is None else largest(self.size, len(current)))
        round_ = 0
        while len(current) > end and not pinned >= set(current):
            round_ += 1
            scorer.tally.check()
            importance = self._importance(table.with_features(tuple(current)), scorer.model, setting)
            count = min(a_move(self.step, len(current)), len(current) - end)
            going = weakest([f for f in current if f not in pinned], importance, count, scorer.single_scores)
            current = [f for f in current if f not in going]
            facts = {"round": round_, "importances": {f: importance[f] for f in going}, "left": {f: importance[f] for f in current}}
            yield as_move("remove", ", ".join(going), scorer(current), self.name, **facts)

    def most_evaluations(self, features: int, pinned: int) -> int:
        end = max(1, pinned, 0 if self.size is None else largest(self.size, features))
        rounds = 1
        while features > end:
            features -= min(a_move(self.step, features), features - end)
            rounds += 1
        return rounds

    def _importance(self, table: Table, model: Model, setting: Setting) -> dict[str, float]:
        requested = model if self.model is None else as_model(self.model)
        result = as_way(self.by).measure(table, requested, setting).frame["importance"].astype(float)
        return {str(f): v if v == v else 0.0 for f, v in result.items()}

    def notes(self, scorer: SubsetScorer) -> tuple[str, ...]:
        if self.model is None:
            return ()
        return (f"importance is that of {as_model(self.model).label}, scores are those of {scorer.model.label}",)
