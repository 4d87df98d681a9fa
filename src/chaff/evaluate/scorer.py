"""SubsetScorer: every set of features is scored here, on the same folds with the same model and metric.

It is the door: names are checked, what is known is remembered (and written into a journal), what may be spent is watched over.
"""

from __future__ import annotations

import copy
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from chaff.arrays import Floats
from chaff.errors import ArgumentError, ModelError, UnknownColumn, UsageError, nearest
from chaff.evaluate.closed import ClosedEngine
from chaff.evaluate.fingerprint import ScoreKey
from chaff.evaluate.fitted import Engine, FittedEngine
from chaff.evaluate.journal import Journal, JournalPage
from chaff.evaluate.limits import Limits, Spent, Tally
from chaff.evaluate.walk import PlainWalk, StepScores, Walk
from chaff.folds import Folds, make_folds
from chaff.metrics import METRICS, Metric, RowLosses, beside, default_metric, find_metric
from chaff.models.named import as_model
from chaff.models.protocols import ClosedForm, Model, target_refusal
from chaff.results.score import Score
from chaff.table.set_costs import Prices
from chaff.table.table import Table
from chaff.work import Work

A_BATCH, A_CLOSED_BATCH = 8, 2000  # sets between which is looked at the clock and written into the journal


class SubsetScorer:
    """Scores sets of features of one table.

    Parameters
    ----------
    table : Table
        Rows to cross-validate on; `table.features` are what sets are made of.
    model : model, str or dict
        For example ``chaff.Ridge(0.1)`` or "forest".
    metric : str or None
        r2, rmse, mae, log_loss, auc or accuracy; None for r2 (numbers) or log_loss (classes), or r2 of the class
        indicators where the model gives no probabilities.
    folds : Folds or int
        The folds themselves, or how many.
    work : Work

    Notes
    -----
    Each fold is prepared once. Least squares and ridge under r2 or rmse are scored in closed form; other models are fitted
    with a seed that is named by the fold, so that every set meets the same draws. Scores are remembered by set.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=200)
    >>> scorer = chaff.SubsetScorer(lots, chaff.Ridge(), folds=4)
    >>> scorer(["protein_pct", "ash_pct"]).values.shape
    (4,)
    """

    def __init__(
        self, table: Table, model: Model | str | Mapping[str, Any], metric: str | None = None, folds: Folds | int = 5,
        work: Work | None = None,
    ) -> None:  # fmt: skip
        work, model = work or Work(), as_model(model)
        if isinstance(folds, bool) or not isinstance(folds, int | Folds):
            raise ArgumentError(f"SubsetScorer: folds must be a whole number or Folds, not {folds!r}")
        kept = make_folds(table, folds, 1, work) if isinstance(folds, int) else folds
        self._stand_on(table, model, metric_for(table, model, metric), kept, work, None)

    @classmethod
    def on_engine(cls, table: Table, model: Model, metric: Metric, folds: Folds, work: Work, engine: Engine) -> SubsetScorer:
        """A scorer with an engine that has been made already."""
        scorer = cls.__new__(cls)
        scorer._stand_on(table, model, metric, folds, work, engine)
        return scorer

    def _stand_on(self, table: Table, model: Model, metric: Metric, folds: Folds, work: Work, engine: Engine | None) -> None:
        self.table, self.model, self.metric, self.folds, self.work = table, model, metric, folds, work
        self.features, self.test_share = table.features, folds.test_share
        self.closed = isinstance(model, ClosedForm) and metric.of_errors is not None
        """Whether model and metric allow the closed form."""
        self.engine: Engine = engine or self._engine()
        self.prices = Prices.of(table)
        self.tally = Tally()
        self._memo: dict[frozenset[str], Score] = {}
        self._journal: Journal | None = None
        self._page: JournalPage | None = None
        self._inside: dict[int, SubsetScorer | None] = {}

    def limited(self, limits: Limits) -> SubsetScorer:
        """Another one that knows, and learns, what this one does, with these limits and a tally of its own."""
        out = copy.copy(self)
        out.tally = Tally(limits)
        return out

    def free(self) -> SubsetScorer:
        """The same without a limit in time or evaluations: for what is asked afterwards."""
        return self.limited(Limits(self.tally.limits.total_cost))

    def kept_in(self, journal: Journal | None) -> SubsetScorer:
        """Itself, reading what a journal knows and writing there what it scores."""
        self._journal = journal
        seed = 0 if self.closed else self.work.seed  # a closed form draws nothing
        self._page = (
            None if journal is None else journal.of(ScoreKey.of(self.model, self.engine.metrics, self.folds, seed), self.folds.count)
        )
        for inner in self._inside.values():
            if inner is not None:
                inner.kept_in(journal)
        return self

    def affordable(self, features: Iterable[str]) -> bool:
        """Whether a set may cost what it costs."""
        return self.prices.allow(features, self.tally.limits.total_cost)

    def affordable_steps(self, here: frozenset[str], names: Sequence[str]) -> list[str]:
        """Those of the names that the set can take in without costing too much."""
        if self.tally.limits.total_cost is None:
            return list(names)
        return [f for f in names if self.affordable(here | {f})]

    @property
    def known(self) -> dict[frozenset[str], Score]:
        """Every set that has been scored by itself so far."""
        return dict(self._memo)

    def _engine(self) -> Engine:
        return (ClosedEngine if self.closed else FittedEngine)(self.table, self.model, self._metrics(), self.folds, self.work)

    def _metrics(self) -> tuple[Metric, ...]:
        """The metric, and what is shown beside it where that comes for free."""
        target = self.table.target
        if self.closed:
            free = [m for m in METRICS.values() if m.of_errors is not None and m.task in (target.task, "both")]
        else:
            free = [m for m in (beside(target.task, len(target.classes)),) if m.needs in self.model.gives]
        return tuple(dict.fromkeys([self.metric, *free]))

    def __call__(self, features: Iterable[str]) -> Score:
        """The score of one set."""
        if not isinstance(features, Iterable):
            raise ArgumentError(f"SubsetScorer: features must be a list of names, not {features!r}")
        return self.many([features])[0]

    def many(self, sets: Sequence[Iterable[str]], near: frozenset[str] | None = None) -> list[Score]:
        """The scores of several sets, in order; each is computed once. `near` is a set that all of them are near to: models that can
        start from its fit do, which changes the last digits only."""
        wanted = self._checked(sets)
        requested = list(dict.fromkeys(wanted))
        new = self._not_known(requested)
        size = A_CLOSED_BATCH if self.closed else A_BATCH
        if not new and self.tally.limits.seconds is not None:
            self.tally.check()
        for k in range(0, len(new), size):
            self.tally.check()
            subset = new[k : k + size][: self.tally.left]
            values = self.engine.scores(subset, range(self.folds.count), near)
            for s, result in zip(subset, values, strict=True):
                self._remember(s, result)
            self.tally.evaluations += len(subset)
            self.tally.scored += subset
            if self._page is not None:
                self._page.add(subset, values)
        if any(s not in self._memo for s in requested):
            raise Spent(f"stopped after {self.tally.met:,} scored sets: the best so far")
        return [self._memo[s] for s in wanted]

    def single_scores(self, names: Sequence[str]) -> dict[str, float]:
        """What speaks for each of some features by itself, higher for more: its score alone."""
        sign = 1.0 if self.metric.higher_is_better else -1.0
        return {f: round(sign * s.mean, 12) for f, s in zip(names, self.many([[f] for f in names]), strict=True)}

    def _not_known(self, requested: Sequence[frozenset[str]]) -> list[frozenset[str]]:
        """Those that neither this scorer nor its journal knows. In their order, and no further than evaluations are left."""
        new: list[frozenset[str]] = []
        before = self.tally.met
        for s in requested:
            if s in self._memo:
                self.tally.saved += 1
                continue
            left = self.tally.limits.evaluations
            if left is not None and before + len(new) >= left:
                new.append(s)  # the door below is closed to it
            elif self._read(s):
                self.tally.saved += 1
                before += 1
            else:
                new.append(s)
        return new

    def _read(self, features: frozenset[str]) -> bool:
        """Whether the journal knows the set; it is then remembered."""
        result = self._page.known.get(features) if self._page is not None else None
        if result is None:
            return False
        self._remember(features, result.reshape(self.folds.count, -1))
        self.tally.from_journal += 1
        self.tally.scored.append(features)
        return True

    def _remember(self, features: frozenset[str], values: Floats) -> None:
        """values : float64 (splits, metrics)."""
        also = {m.name: values[:, k] for k, m in enumerate(self.engine.metrics)}
        self._memo[features] = Score(features, self.metric.name, values[:, 0], self.test_share, also)

    def losses(self, sets: Sequence[Iterable[str]], splits: Sequence[int] | None = None) -> list[list[RowLosses]]:
        """The loss of every test row, one list a set with an entry a split; rows stand as in `folds.rows(split)[1]`."""
        requested = self._checked(sets)
        once = list(dict.fromkeys(requested))  # what is called by two names is learned once
        result = self.engine.losses(once, list(range(self.folds.count)) if splits is None else list(splits))
        of = dict(zip(once, result, strict=True))
        return [of[s] for s in requested]

    def walk(self, start: Iterable[str] = ()) -> Walk:
        """Stand on a set; see `Walk`."""
        at = self._checked([start])[0]
        known = self.engine.walk(at)
        return PlainWalk(self, at) if known is None else WatchedWalk(known, self)

    def inside(self, split: int) -> SubsetScorer | None:
        """A scorer on folds among one split's training rows, so that a search can be rerun without the test rows; None
        when those rows are a single part. What the engine has learned of the parts is shared, not learned again; the scorer is
        the same one at each call, and keeps to the same journal."""
        if split not in self._inside:
            self._inside[split] = self._on_training_rows(split)
        return self._inside[split]

    def _on_training_rows(self, split: int) -> SubsetScorer | None:
        inner = self.folds.inside(self.folds.splits[split])
        engine = self.engine.inside(split)
        if engine is None:
            return None
        return SubsetScorer.on_engine(self.table, self.model, self.metric, inner, self.work, engine).kept_in(self._journal)

    def on_split(self, split: int, sets: Sequence[frozenset[str]]) -> Floats:
        """Scores of some sets on one split only, float64 (sets,)."""
        return self.engine.scores(sets, [split])[:, 0, 0]

    def prepare(self) -> SubsetScorer:
        """Do now what the first score would do: one pass over the rows."""
        self.engine.prepare()
        return self

    def note(self, features: frozenset[str]) -> None:
        """A set that a walk stands on goes into the journal, if there is one; what the walk saw from there is computed again
        faster than it could be read."""
        if self._page is not None:
            self.many([features])

    def _checked(self, sets: Sequence[Iterable[str]]) -> list[frozenset[str]]:
        wanted = [frozenset(s) for s in sets]
        for name in sorted(frozenset().union(*wanted) - set(self.features)):
            raise UnknownColumn(f"column '{name}' is not a candidate feature.{nearest(name, self.features)}")
        return wanted


class WatchedWalk:
    """A walk whose changes count as evaluations, and which ends when nothing may be spent any more."""

    def __init__(self, walk: Walk, scorer: SubsetScorer) -> None:
        self.walk, self.scorer, self.features = walk, scorer, walk.features

    @property
    def score(self) -> Score:
        return self.walk.score

    def changes(self, names: Sequence[str] | None = None) -> StepScores:
        self.scorer.tally.check()
        result = self.walk.changes(names)
        self.scorer.tally.evaluations += len(result)
        return result

    def toggle(self, name: str) -> None:
        self.walk.toggle(name)
        self.features = self.walk.features
        self.scorer.note(self.features)


def metric_for(table: Table, model: Model, name: str | None) -> Metric:
    """The metric of that name, checked against target and model; the default one the model can serve when left out."""
    target, refusal = table.target, target_refusal(model, table)
    if refusal:
        raise ModelError(refusal)
    if name is None:
        metric = default_metric(target.task)
        return metric if metric.needs in model.gives else find_metric("r2", target.task)
    metric = find_metric(name, target.task, len(target.classes))
    if metric.needs not in model.gives:
        raise UsageError(f"metric '{name}' needs {metric.needs}, which {model.label} does not provide")
    return metric
