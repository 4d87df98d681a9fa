"""SubsetScorer: every set of features is scored here, on the same folds with the same model and metric."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from chaff.arrays import Floats
from chaff.errors import ArgumentError, UnknownColumn, UsageError, nearest
from chaff.evaluate.closed import ClosedEngine
from chaff.evaluate.engine import Engine
from chaff.evaluate.fitted import FittedEngine
from chaff.evaluate.walk import PlainWalk, Walk
from chaff.folds import Folds, make_folds
from chaff.metrics import METRICS, Metric, RowLosses, beside, default_metric, find_metric
from chaff.models.protocols import ClosedForm, Model
from chaff.results.score import Score
from chaff.table.table import Table
from chaff.work import Work


class SubsetScorer:
    """Scores sets of features of one table.

    Parameters
    ----------
    table : Table
        Rows to cross-validate on; `table.features` are what sets are made of.
    model : Model
        For example ``chaff.Ridge()`` or ``chaff.Forest()``.
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

    def __init__(self, table: Table, model: Model, metric: str | None = None, folds: Folds | int = 5, work: Work | None = None) -> None:
        work = work or Work()
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
        self._memo: dict[frozenset[str], Score] = {}

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

    def many(self, sets: Sequence[Iterable[str]]) -> list[Score]:
        """The scores of several sets, in order; each is computed once."""
        wanted = self._checked(sets)
        new = [s for s in dict.fromkeys(wanted) if s not in self._memo]
        if new:
            for s, values in zip(new, self.engine.scores(new, range(self.folds.count)), strict=True):
                also = {m.name: values[:, k] for k, m in enumerate(self.engine.metrics)}
                self._memo[s] = Score(s, self.metric.name, values[:, 0], self.test_share, also)
        return [self._memo[s] for s in wanted]

    def losses(self, sets: Sequence[Iterable[str]], splits: Sequence[int] | None = None) -> list[list[RowLosses]]:
        """The loss of every test row, one list a set with an entry a split; rows stand as in `folds.rows(split)[1]`."""
        return self.engine.losses(self._checked(sets), list(range(self.folds.count)) if splits is None else list(splits))

    def walk(self, start: Iterable[str] = ()) -> Walk:
        """Stand on a set; see `Walk`."""
        at = self._checked([start])[0]
        return self.engine.walk(at) or PlainWalk(self, at)

    def inside(self, split: int) -> SubsetScorer | None:
        """A scorer on folds among one split's training rows, so that a search can be run anew without the test rows; None
        when those rows are a single part. What the engine has learned of the parts is shared, not learned again."""
        inner = self.folds.inside(self.folds.splits[split])
        engine = self.engine.inside(split)
        if engine is None:
            return None
        return SubsetScorer.on_engine(self.table, self.model, self.metric, inner, self.work, engine)

    def on_split(self, split: int, sets: Sequence[frozenset[str]]) -> Floats:
        """Scores of some sets on one split only, float64 (sets,)."""
        return self.engine.scores(sets, [split])[:, 0, 0]

    def prepare(self) -> SubsetScorer:
        """Do now what the first score would do: one pass over the rows."""
        self.engine.prepare()
        return self

    def _checked(self, sets: Sequence[Iterable[str]]) -> list[frozenset[str]]:
        wanted = [frozenset(s) for s in sets]
        for name in sorted(frozenset().union(*wanted) - set(self.features)):
            raise UnknownColumn(f"column '{name}' is not among the features on offer.{nearest(name, self.features)}")
        return wanted


def metric_for(table: Table, model: Model, name: str | None) -> Metric:
    """The metric of that name, checked against target and model; the default one the model can serve when left out."""
    target = table.target
    if name is None:
        metric = default_metric(target.task)
        return metric if metric.needs in model.gives else find_metric("r2", target.task)
    metric = find_metric(name, target.task, len(target.classes))
    if metric.needs not in model.gives:
        raise UsageError(f"metric '{name}' needs {metric.needs}, which {model.label} does not give")
    return metric
