"""Rounds of a twin test: shuffled twins of every column beside the columns that are still in, and what a model makes of both."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Protocol

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.errors import UsageError
from chaff.evaluate.setting import Setting
from chaff.folds import make_folds
from chaff.methods.chance.measures import FOLDS, measured
from chaff.methods.chance.standing import fewer_levels
from chaff.methods.importance.permutation import judged_rows
from chaff.methods.importance.stage import Importance
from chaff.methods.importance.way import Way, as_way
from chaff.models.forest import Forest
from chaff.models.forms import sample
from chaff.models.protocols import Model, Sample
from chaff.table.bins import Bins
from chaff.table.shuffle import order_of_rows
from chaff.table.table import Table
from chaff.work import Work, silent, task

OUT_OF_BAG, IMPURITY = "out of bag", "impurity"
TREES, DEPTH, LEAF_ROWS = 500, 8, 10
TWIN = "shuffled twin of "


class Rounds(Protocol):
    """Plays rounds; each gives the importances of the columns that are in and of the twins of all."""

    @property
    def label(self) -> str: ...
    @property
    def model(self) -> Model: ...
    @property
    def how(self) -> str: ...
    def play(self, live: Sequence[str], numbers: Iterable[int]) -> list[tuple[Floats, Floats]]: ...


def rounds_of(table: Table, model: Model | None, by: Way | str | Mapping[str, Any], setting: Setting) -> Rounds:
    """Rounds on bins for forests, on tables for all else.

    Raises
    ------
    UsageError
        For out-of-bag importance of what is no forest.
    """
    model = model or Forest(TREES, int(np.ceil(np.sqrt(2 * len(table.features)))), LEAF_ROWS, DEPTH)
    if isinstance(model, Forest) and by in (IMPURITY, OUT_OF_BAG):
        rows = with_fewer_levels(sample(table, "bins", setting.work), model.leaf_rows)
        return ForestRounds(table, model, by == OUT_OF_BAG, rows, setting.work)
    if by == OUT_OF_BAG:
        raise UsageError(f"twin test: {model.label} has no rows out of bag; only forest has. Take a way of importance, such as permutation")
    return ModelRounds(table, model, Importance(model=model, by=by), setting.work)


def with_fewer_levels(rows: Sample, leaf_rows: int) -> Sample:
    """Levels with fewer rows than a leaf as one: chance would put them in order, and a code with hundreds of them would win."""
    bins: Bins = rows.data
    codes = bins.codes.copy()
    for f in np.flatnonzero(bins.category):
        codes[f] = fewer_levels(codes[f], leaf_rows)
    return replace(rows, data=Bins(bins.features, codes, codes.max(1).astype(np.int64) + 1, bins.category))


def how_twins_are_made(table: Table) -> str:
    if table.groups is not None:
        return "copies permuted within groups" + (" (each group's series turned round)" if table.order is not None else "")
    return "copies permuted, one permutation a round" if table.order is None else "copies shifted in time"


@dataclass(frozen=True)
class ForestRounds:
    """A forest on bins, all rows; twins take their originals' codes from other rows, all from the same, so that they repeat each
    other as their originals do."""

    table: Table
    model: Forest
    by_rows_out_of_bag: bool
    rows: Sample
    work: Work

    @property
    def label(self) -> str:
        return "out-of-bag permutation" if self.by_rows_out_of_bag else IMPURITY

    @property
    def how(self) -> str:
        return how_twins_are_made(self.table)

    def play(self, live: Sequence[str], numbers: Iterable[int]) -> list[tuple[Floats, Floats]]:
        quiet = replace(self, work=replace(self.work, watch=silent))
        return self.work.each(task(_forest_round, quiet, tuple(live)), numbers)


def _forest_round(rounds: ForestRounds, live: tuple[str, ...], number: int) -> tuple[Floats, Floats]:
    work = rounds.work
    seed = Work(work.key("twin forest", number), 1)
    rows, bins = rounds.rows, rounds.rows.data
    order = order_of_rows(rounds.table, work.stream("twins", number), within=True)
    # By name, so that the draws of columns do not depend on the order of the columns.
    names = sorted(live), sorted(bins.features)
    place = {f: k for k, f in enumerate(bins.features)}
    own, all_of = (np.array([place[f] for f in subset], int) for subset in names)
    which = np.concatenate([own, all_of])
    codes = np.concatenate([bins.codes[own], bins.codes[all_of][:, order]])
    features = (*names[0], *(TWIN + f for f in names[1]))
    subset = replace(rows, features=features, data=Bins(features, codes, bins.counts[which], bins.category[which]), table=None)
    chosen = judged_rows(codes.shape[1], seed) if rounds.by_rows_out_of_bag else None
    fitted = rounds.model.grow(subset, seed, rows.groups, mark=chosen)
    if chosen is not None:
        given = fitted.out_of_bag_importance(subset, chosen, 1, seed)
    else:
        given = fitted.importance()
    return given[: len(live)][_rank(live)], given[len(live) :][_rank(bins.features)]


def _rank(names: Sequence[str]) -> Ints:
    """Where each name stands in the order of the names."""
    place = {n: k for k, n in enumerate(sorted(names))}
    return np.array([place[n] for n in names], np.int64)


@dataclass(frozen=True)
class ModelRounds:
    """Any model and way of importance, over folds, on a table with the twins as columns."""

    table: Table
    model: Model
    stage: Importance
    work: Work

    @property
    def label(self) -> str:
        return as_way(self.stage.by).name

    @property
    def how(self) -> str:
        return how_twins_are_made(self.table)

    def play(self, live: Sequence[str], numbers: Iterable[int]) -> list[tuple[Floats, Floats]]:
        quiet = replace(self, work=replace(self.work, watch=silent))
        return self.work.each(task(_model_round, quiet, tuple(live)), numbers)


def _model_round(rounds: ModelRounds, live: tuple[str, ...], number: int) -> tuple[Floats, Floats]:
    seed = replace(rounds.work, seed=rounds.work.key("twins", number))
    beside = with_twins(rounds.table, order_of_rows(rounds.table, rounds.work.stream("twins", number), within=True))
    twins = tuple(TWIN + f for f in rounds.table.features)
    subset = beside.with_features([*live, *twins])
    given = measured(rounds.stage, subset, make_folds(subset, FOLDS, 1, seed), seed)
    return given[: len(live)], given[len(live) :]


def with_twins(table: Table, order: Any) -> Table:
    """The table with a twin of every feature, its cells taken from the rows in another order."""
    columns = []
    for f in table.features:
        like = table.column(f)
        cells = np.full(table.source.rows, np.nan)
        cells[table.rows] = like.values[order]
        columns.append(replace(like, name=TWIN + f, values=cells))
    return replace(table, source=table.source.with_made(columns), features=(*table.features, *(c.name for c in columns)))
