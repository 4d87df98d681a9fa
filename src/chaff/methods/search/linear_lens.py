"""The linear lens: paths in closed form, a short grid of penalties; with classes their sets are judged by logistic regression."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import partial

import numpy as np

from chaff.arrays import Floats
from chaff.evaluate.closed import ClosedEngine
from chaff.evaluate.closed_split import ClosedSplit, part_sums
from chaff.evaluate.scorer import SubsetScorer
from chaff.folds import Folds
from chaff.methods.search.lens import Path, judged, sizes_to_score, with_full
from chaff.methods.search.search_data import SearchData, Set
from chaff.methods.search.strategies.both import Both
from chaff.methods.search.strategies.forward import Forward
from chaff.methods.search.strategy import Strategy, path_of
from chaff.metrics import Metric, find_metric
from chaff.models.least_squares import Ridge
from chaff.models.logistic import Logistic, Standard
from chaff.models.protocols import ClosedForm, Model
from chaff.results.trail import Trail
from chaff.stats.logistic import fit_logistic, probabilities
from chaff.table.design import Design
from chaff.table.table import Table

PENALTIES = (0.001, 0.03, 0.3)
OF_CLASSES = (0.001, 0.01, 0.05, 0.3)
WEAK = Ridge(0.01)  # one path serves all weaker penalties than
STRONG = 0.1
MANY_FEATURES = 120  # past so many the path goes forward only
FORWARD_TO = 60
ROUGH = 1e-5  # gradient at which a fit that only ranks sets may end
MANY_CELLS = 400_000  # rows x columns x classes from which one penalty must do


@dataclass(frozen=True)
class LinearLens:
    """Paths by least squares with a penalty, in both directions.

    Parameters
    ----------
    models : tuple of Model
        Those that judge the sets: ridge or least squares, or logistic regression, one a penalty.
    strategy : Strategy or None
        How to walk; None: forward and backward, forward only past 120 features.
    """

    models: tuple[Model, ...]
    strategy: Strategy | None = None
    label: str = "linear"

    @property
    def needs_moments(self) -> bool:
        return True

    @property
    def variants(self) -> tuple[Model, ...]:
        return self.models

    def paths(self, data: SearchData, where: int | None) -> list[Path]:
        """One path a model; where columns repeat one another and no strategy is named, another one without the repeats."""
        offered = data.offered if where is None else data.offered_inside[where]
        result = self._through(data, where, offered, None)
        if self.strategy is None and data.repeats(None):
            gone = data.repeats(where)
            thin = self._through(data, where, [f for f in offered if f not in gone], result)
            result += [with_full(path, whole, data) if gone else path for path, whole in zip(thin, result, strict=True)]
        return result

    def _through(self, data: SearchData, where: int | None, offered: Sequence[str], known: Sequence[Path] | None) -> list[Path]:
        """known : paths of the same models that have judged some of the sets."""
        if not offered:
            return [Path((frozenset(),)) if where is None else self._nothing(data, where)] * len(self.models)
        if isinstance(self.models[0], Logistic):
            return self._by_logistic(data, where, offered, known)
        return self._by_ridge(data, where, offered, known)

    def _nothing(self, data: SearchData, where: int) -> Path:
        return judged(data, data.splits[where], [frozenset()], partial(np.zeros, 0))

    def _engine(self, data: SearchData, offered: Sequence[str], model: Model, where: int | None) -> ClosedEngine:
        """Closed forms of one split, or of all for None, from moments that every unit shares."""
        table = data.table.with_features(tuple(offered))
        parts, splits, of = data.folds.parts, data.splits, slice(None)
        if where is not None:
            split = splits[where]
            of = slice(split.repeat, split.repeat + 1)
            parts, splits = parts[of], (replace(split, repeat=0),)
        folds = Folds(parts, splits, data.folds.how, data.folds.ordered)
        if not data.shares_sums:
            moments = part_sums(table, table.features, folds, data.work)
        else:
            moments = data.moments[of]
            if len(offered) < len(data.table.features):
                moments = [[m.select(table.features) for m in subset] for subset in moments]
        return ClosedEngine(table, model, (search_metric(data),), folds, data.work, moments)

    def _sets(self, data: SearchData, where: int | None, engine: ClosedEngine, model: Model) -> tuple[list[Set], Trail | None]:
        """(a set for each size: from the path, with nothing and all that is offered at its ends; its moves)."""
        inner = engine if where is None else engine.inside(0)
        everything = frozenset(engine.table.features)
        smallest = data.pinned & everything
        sets, trail = {len(smallest): smallest, len(everything): everything}, None
        if inner is not None and len(everything) > 1:
            scorer = SubsetScorer.on_engine(engine.table, model, engine.metrics[0], inner.folds, data.work, inner).limited(data.limits)
            strategy = self.strategy or (Both() if len(everything) <= MANY_FEATURES else Forward(size=max(FORWARD_TO, data.size or 0)))
            work = data.work if where is None else replace(data.work, seed=data.work.key("inside", where))
            trail = path_of(strategy, scorer, smallest, work)
            sets |= {s: trail.moves[m].features for s, m in trail.best_by_size(scorer.affordable).items()}
        sets |= {0: frozenset()}
        every = self.strategy is not None or len(self.models) == 1 or data.limits.total_cost is not None
        shown = set(sets) if every else {*sizes_to_score(len(everything)), data.size, len(smallest)}
        return [sets[s] for s in sorted(sets) if s in shown], trail

    def _by_ridge(self, data: SearchData, where: int | None, offered: Sequence[str], known: Sequence[Path] | None) -> list[Path]:
        """Weak penalties share a path, strong ones have their own; every set is judged with its model's penalty."""
        engine = self._engine(data, offered, self.models[0], where)
        result: dict[Model, tuple[list[Set], Trail | None]] = {}
        out = []
        for model, before in zip(self.models, _each(known, self.models), strict=True):
            own = ClosedEngine(engine.table, model, engine.metrics, engine.folds, data.work, engine.parts)
            search = WEAK if len(self.models) > 1 and isinstance(model, Ridge) and model.penalty < STRONG else model
            if search not in result:
                stages_run = own if search is model else ClosedEngine(own.table, search, own.metrics, own.folds, data.work, own.parts)
                result[search] = self._sets(data, where, stages_run, search)
            sets, trail = result[search]
            if where is None:
                out.append(Path(tuple(sets), trail=trail, model=model))
                continue
            split, closed = data.splits[where], own.splits[0]
            test = own.table.take(data.folds.rows(split)[1])
            X = Design.of(test, test.features).about(closed.means)
            predict = partial(_ridge_predicts, closed, own.place, X, data.truth(split).train_means)
            out.append(judged(data, split, sets, predict, before))
        return out

    def _by_logistic(self, data: SearchData, where: int | None, offered: Sequence[str], known: Sequence[Path] | None) -> list[Path]:
        search = Ridge()
        engine = self._engine(data, offered, search, where)
        sets, trail = self._sets(data, where, engine, search)
        if len(self.models) == 1:  # each size costs a fit
            requested = {*sizes_to_score(len(offered)), data.size, len(data.pinned & set(offered)), len(offered)}
            sets = [s for s in sets if len(s) in requested]
        if where is None:
            return [Path(tuple(sets), trail=trail, model=model) for model in self.models]
        split = data.splits[where]
        train, test = data.rows(split)
        ready = Ready.of(train.with_features(engine.table.features), test.with_features(engine.table.features))
        models = [m for m in self.models if isinstance(m, Logistic)]
        before = _each(known, models)
        return [judged(data, split, sets, Warm(ready, m.penalty).predict, b) for m, b in zip(models, before, strict=True)]


def _each(known: Sequence[Path] | None, models: Sequence[Model]) -> Sequence[Path | None]:
    return [None] * len(models) if known is None else known


def search_metric(data: SearchData) -> Metric:
    """What a path in closed form is searched by: the metric itself where it is a function of squared errors, else R²."""
    return data.metric if data.metric.of_errors is not None else find_metric("r2", data.table.target.task)


def _ridge_predicts(closed: ClosedSplit, place: dict[str, int], X: Floats, centre: Floats, features: Set) -> Floats:
    return closed.predict([place[f] for f in features], X, centre)


@dataclass(frozen=True)
class Ready:
    """Standardised design of training and test rows of one split, made once for all sets."""

    train: Floats
    test: Floats
    shares: Floats
    weights: Floats
    columns: dict[str, list[int]]
    """Feature → its columns."""

    @classmethod
    def of(cls, train: Table, test: Table) -> Ready:
        design = Design.of(train, train.features)
        weights = np.ones(len(train)) if train.weights is None else train.weights
        standard = Standard.learn(design.X, weights)
        at = {int(c): k for k, c in enumerate(standard.used)}
        starts = design.layout.starts
        columns = {f: [at[c] for c in range(starts[k], starts[k + 1]) if c in at] for k, f in enumerate(train.features)}
        return cls(standard.apply(design.X), standard.apply(Design.of(test, test.features).X), train.targets, weights, columns)


class Warm:
    """Logistic fits of one split, each begun where the one before ended: neighbours on a path differ by little."""

    def __init__(self, ready: Ready, penalty: float) -> None:
        self.ready, self.penalty = ready, penalty
        self.last: Floats | None = None
        """float64 (1 + all columns, k)."""

    def predict(self, features: Set) -> Floats:
        r = self.ready
        used = sorted(c for f in features for c in r.columns[f])
        rows = [0, *(c + 1 for c in used)]
        start = None if self.last is None else self.last[rows]
        done = fit_logistic(r.train[:, used], r.shares, r.weights, self.penalty, start, ROUGH)
        self.last = np.zeros((1 + r.train.shape[1], done.coefficients.shape[1]))
        self.last[rows] = done.coefficients
        return probabilities(done.coefficients[0] + r.test[:, used] @ done.coefficients[1:])


def linear_lens(rows: int, width: int, classes: int, pays: bool) -> LinearLens:
    """The built-in one. pays : whether classes are judged by their shares, which takes logistic fits."""
    if not classes or not pays:
        return LinearLens(tuple(Ridge(p) for p in PENALTIES))
    few = rows * width * max(classes, 2) <= MANY_CELLS
    penalties = tuple(max(p, 1.0 / rows) for p in OF_CLASSES) if few else (max(0.001, 1.0 / rows),)
    return LinearLens(tuple(Logistic(p) for p in dict.fromkeys(penalties)))


def lens_of_closed(model: Model, strategy: Strategy | None) -> LinearLens:
    """A lens of one linear model that the user named."""
    assert isinstance(model, ClosedForm | Logistic)
    return LinearLens((model,), strategy, model.label)
