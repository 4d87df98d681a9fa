"""SubsetScorer: every set of features is scored here, on the same folds with the same model and metric."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace
from functools import cached_property

import numpy as np

from chaff.arrays import Floats
from chaff.errors import ChaffError, ModelError, UnknownColumn, UsageError, nearest
from chaff.evaluate.closed import ClosedSplit, bytes_needed, close_splits, part_sums
from chaff.evaluate.walk import ClosedWalk, PlainWalk, Walk
from chaff.folds import Folds, make_folds
from chaff.metrics import Metric, Truth, beside, default_metric, find_metric
from chaff.models.protocols import Exact, Model, Sample, sample, select_features
from chaff.results.score import Score
from chaff.table.bins import Binning
from chaff.table.layout import Layout
from chaff.table.moments import Moments
from chaff.table.table import Table
from chaff.work import Work

CLOSED_FORM_BYTES = 6 << 30  # past this the closed form is built for each set by itself


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
        self.table, self.model, self.work = table, model, work or Work()
        self.features = table.features
        self.folds = make_folds(table, folds, 1, self.work) if isinstance(folds, int) else folds
        self.metric = _metric_for(table, model, metric)
        self.test_share = self.folds.test_share
        self._memo: dict[frozenset[str], Score] = {}

    def __call__(self, features: Iterable[str]) -> Score:
        """The score of one set."""
        return self.many([features])[0]

    def many(self, sets: Sequence[Iterable[str]]) -> list[Score]:
        """The scores of several sets, in order; each is computed once."""
        wanted = [frozenset(s) for s in sets]
        self._check_known(frozenset().union(*wanted))
        new = [s for s in dict.fromkeys(wanted) if s not in self._memo]
        if new and self.closed:
            for s, score in zip(new, self.work.each(self._closed_score, new), strict=True):
                self._memo[s] = score
        elif new:
            self._score_by_fitting(new)
        return [self._memo[s] for s in wanted]

    def walk(self, start: Iterable[str] = ()) -> Walk:
        """Stand on a set; see `Walk`."""
        at = frozenset(start)
        self._check_known(at)
        if self.closed and self._fits_whole:
            return ClosedWalk(self, self._splits, at)
        return PlainWalk(self, at)

    def inside(self, split: int) -> SubsetScorer | None:
        """A scorer on folds among one split's training rows, so that a search can be run anew without the test rows; None
        when those rows are a single part. Moments of the parts are shared, not learned again."""
        inner = self.folds.inside(self.folds.splits[split])
        if not inner.splits:
            return None
        scorer = SubsetScorer(self.table, self.model, self.metric.name, inner, self.work)
        if self.closed and self._fits_whole:
            scorer.__dict__["_parts"] = self._parts
        return scorer

    def on_split(self, split: int, sets: Sequence[frozenset[str]]) -> Floats:
        """Scores of some sets on one split only, float64 (sets,)."""
        if self.closed and self._fits_whole:
            where = [[self._place[n] for n in s] for s in sets]
            around, weight = (x[split] for x in self._around)
            of_errors = self.metric.of_errors
            assert of_errors is not None
            return np.array([of_errors(self._splits[split].error_of(w), around, weight) for w in where])
        metrics = self._metrics
        if self.model.learns == "bins":
            _ = self._samples
        at = [m.name for m in metrics].index(self.metric.name)
        return np.array(self.work.each(lambda s: self._fit_one(s, split, metrics)[at], sets))

    def _check_known(self, names: frozenset[str]) -> None:
        for name in sorted(names - set(self.features)):
            raise UnknownColumn(f"column '{name}' is not among the features on offer.{nearest(name, self.features)}")

    # --- closed form -------------------------------------------------------------------------------------------------

    @property
    def closed(self) -> bool:
        """Whether model and metric allow the closed form."""
        return isinstance(self.model, Exact) and self.metric.of_errors is not None

    @cached_property
    def bytes_needed(self) -> int:
        """Memory that the closed form of all features would take at its peak."""
        layout = Layout.of(self.table, self.features)
        return bytes_needed(layout.width + layout.targets, self.folds)

    @property
    def _fits_whole(self) -> bool:
        return self.bytes_needed <= CLOSED_FORM_BYTES

    @cached_property
    def _splits(self) -> list[ClosedSplit]:
        assert isinstance(self.model, Exact)
        return close_splits(self._parts, self.folds.splits, self.model.penalty, self.work)

    @cached_property
    def _parts(self) -> list[list[Moments]]:
        return part_sums(self.table, self.features, self.folds, self.work)

    @cached_property
    def _place(self) -> dict[str, int]:
        return {n: k for k, n in enumerate(self.features)}

    def prepare(self) -> SubsetScorer:
        """Do now what the first score would do: one pass over the rows."""
        if self.closed and self._fits_whole:
            _ = self._splits
        elif not self.closed:
            _ = self._samples
        return self

    def errors_of(self, features: frozenset[str]) -> Floats:
        """Test squared error per split."""
        if self._fits_whole:
            where = [self._place[n] for n in features]
            return np.array([s.error_of(where) for s in self._splits])
        assert isinstance(self.model, Exact)
        names = [n for n in self.features if n in features]
        parts = part_sums(self.table, names, self.folds, self.work)
        splits = close_splits(parts, self.folds.splits, self.model.penalty, self.work)
        return np.array([s.error_of(range(len(names))) for s in splits])

    @cached_property
    def _around(self) -> tuple[Floats, Floats]:
        """(squared error of the training mean, weight of the test rows) per split; the same for every set."""
        if self._fits_whole:
            splits = self._splits
        else:
            splits = close_splits(part_sums(self.table, [], self.folds, self.work), self.folds.splits, 0.0, self.work)
        return np.array([s.around for s in splits]), np.array([s.weight for s in splits])

    def values_of_errors(self, errors: Floats) -> Floats:
        """(sets, splits) of the metric from squared errors (splits, sets)."""
        around, weight = self._around
        if self.metric.name == "r2":
            return _r2(errors.T, around)
        assert self.metric.name == "rmse"
        return _rmse(errors.T, weight)

    def score_of_values(self, features: frozenset[str], values: Floats) -> Score:
        return Score(features, self.metric.name, values, self.test_share)

    def score_of_errors(self, features: frozenset[str], errors: Floats) -> Score:
        return self.score_of_values(features, self.values_of_errors(errors[:, None])[0])

    def _closed_score(self, features: frozenset[str]) -> Score:
        errors = self.errors_of(features)
        around, weight = self._around
        also = {"r2": _r2(errors, around)}
        if self.table.target.task == "regression":
            also["rmse"] = _rmse(errors, weight)
        return Score(features, self.metric.name, also[self.metric.name], self.test_share, also)

    # --- any other model ---------------------------------------------------------------------------------------------

    @cached_property
    def _samples(self) -> list[tuple[Sample, Sample]]:
        """Training and test rows of every split in the model's forms, bins learned on the training rows."""

        def one(k: int) -> tuple[Sample, Sample]:
            train, test = (self.table.take(rows) for rows in self.folds.rows(self.folds.splits[k]))
            binning = Binning.learn(train, self.features, work=self.work)
            return sample(train, "bins", binning), sample(test, "bins", binning)

        return self.work.each(one, range(self.folds.count))

    def _pair(self, k: int, features: tuple[str, ...]) -> tuple[Sample, Sample]:
        if self.model.learns == "bins":
            train, test = self._samples[k]
            return select_features(train, features), select_features(test, features)
        rows = self.folds.rows(self.folds.splits[k])
        train_rows, test_rows = (self.table.take(r).with_features(features) for r in rows)
        return sample(train_rows, self.model.learns), sample(test_rows, self.model.reads)

    def _score_by_fitting(self, sets: list[frozenset[str]]) -> None:
        if self.model.learns == "bins":
            _ = self._samples  # prepared before the parallel part, so that no two workers do it at once
        metrics = self._metrics
        units = [(s, k) for s in sets for k in range(self.folds.count)]
        done = self.work.each(lambda u: self._fit_one(u[0], u[1], metrics), units)
        rows = np.array(done).reshape(len(sets), self.folds.count, len(metrics))
        for s, values in zip(sets, rows, strict=True):
            also = {m.name: values[:, j] for j, m in enumerate(metrics)}
            self._memo[s] = Score(s, self.metric.name, also[self.metric.name], self.test_share, also)

    @cached_property
    def _metrics(self) -> list[Metric]:
        target = self.table.target
        other = beside(target.task, len(target.classes))
        names = {self.metric.name: self.metric}
        if other.needs in self.model.gives:
            names[other.name] = other
        return list(names.values())

    def _fit_one(self, features: frozenset[str], k: int, metrics: list[Metric]) -> list[float]:
        split = self.folds.splits[k]
        names = tuple(n for n in self.features if n in features)
        train_rows, test_rows = (self.table.take(r) for r in self.folds.rows(split))
        truth = _truth(train_rows, test_rows)
        if not names:
            return [m.of_predictions(truth, np.repeat(truth.train_means[None, :], len(test_rows), 0)) for m in metrics]
        train, test = self._pair(k, names)
        seed = replace(self.work, seed=self.work.key("fit", split.repeat, split.test))
        try:
            predicted = self.model.fit(train, seed).predict(test)
        except (ChaffError, KeyboardInterrupt):
            raise
        except Exception as error:
            raise ModelError(f"model {self.model.label} failed on fold {k + 1} with {len(names)} features: {error}") from error
        return [m.of_predictions(truth, predicted) for m in metrics]


def _r2(errors: Floats, around: Floats) -> Floats:
    """`metrics.r2_of_errors` for many at once."""
    return np.where(around > 0, 1.0 - errors / np.where(around > 0, around, 1.0), 0.0)


def _rmse(errors: Floats, weight: Floats) -> Floats:
    return np.sqrt(np.maximum(errors, 0.0) / np.where(weight > 0, weight, 1.0))


def _truth(train: Table, test: Table) -> Truth:
    means = np.average(train.targets, axis=0, weights=train.weights)
    return Truth(test.targets, test.weights if test.weights is not None else np.ones(len(test)), means)


def _metric_for(table: Table, model: Model, name: str | None) -> Metric:
    target = table.target
    if name is None:
        metric = default_metric(target.task)
        return metric if metric.needs in model.gives else find_metric("r2", target.task)
    metric = find_metric(name, target.task, len(target.classes))
    if metric.needs not in model.gives:
        raise UsageError(f"metric '{name}' needs {metric.needs}, which {model.label} does not give")
    return metric
