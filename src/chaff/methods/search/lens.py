"""Lens: a kind of model through which sets are looked at, with the search that suits it, rerun inside every fold."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Protocol

import numpy as np

from chaff.arrays import Floats
from chaff.folds import Split
from chaff.methods.search.search_data import SearchData, Set
from chaff.methods.search.size_choice import SizeCurve
from chaff.models.protocols import Model
from chaff.results.trail import Trail
from chaff.table.on_disk.arrays import room
from chaff.work import task


@dataclass(frozen=True)
class Path:
    """What one lens, in one of its variants, made of some training rows: a set for each size it came through."""

    sets: tuple[Set, ...]
    """Ascending in size."""
    values: tuple[float, ...] = ()
    """Of each set on the test rows; empty where there are none."""
    losses: Floats | None = None
    """float64 (sets, test rows)."""
    trail: Trail | None = None
    """Every move, where a strategy walked."""
    model: Model | None = None
    """That judged the sets; None where it is the lens's only one."""

    def at(self, size: int) -> int:
        """Place of the largest set that has at most so many features; the smallest where all have more."""
        return max([k for k, s in enumerate(self.sets) if len(s) <= size] or [0])


class Lens(Protocol):
    """A frozen dataclass."""

    @property
    def label(self) -> str:
        """As printed: `linear`, `forest`."""
        ...

    @property
    def needs_moments(self) -> bool:
        """Whether it works in closed form, from moments that all its units share."""
        ...

    @property
    def variants(self) -> tuple[Model, ...]:
        """The model in each setting that is tried, such as penalties; the curve of the best one speaks for the lens."""
        ...

    def paths(self, data: SearchData, where: int | None) -> list[Path]:
        """The same number of paths everywhere, searched on the training rows of split number `where`; on all rows for None."""
        ...


@dataclass(frozen=True)
class Seen:
    """One lens on one table: a curve for every variant."""

    lens: Lens
    curves: tuple[SizeCurve, ...]


def curves_of_lenses(lenses: Sequence[Lens], data: SearchData, stage: str) -> list[Seen]:
    """Every lens on every split and on all rows, the units handed out to the workers together."""
    if data.shares_sums and any(lens.needs_moments for lens in lenses):
        _ = data.moments  # once, before the units go out to the workers
    units = [(lens, where) for lens in lenses for where in [None, *range(len(data.splits))]]
    result = data.work.each(task(_paths_of, data), units, stage)
    a_lens = 1 + len(data.splits)
    return [_seen(lens, data, result[k * a_lens : (k + 1) * a_lens]) for k, lens in enumerate(lenses)]


def _paths_of(data: SearchData, unit: tuple[Lens, int | None]) -> list[Path]:
    lens, where = unit
    return lens.paths(data, where)


def _seen(lens: Lens, data: SearchData, result: Sequence[list[Path]]) -> Seen:
    whole, *splits = result
    return Seen(lens, tuple(_curve(lens, data, path, [s[k] for s in splits]) for k, path in enumerate(whole)))


def _curve(lens: Lens, data: SearchData, whole: Path, splits: Sequence[Path]) -> SizeCurve:
    """The sizes of the path on all rows, each split giving its own set of that size."""
    sizes = [len(s) for s in whole.sets]
    values = [[path.values[path.at(s)] for s in sizes] for path in splits]
    losses = [[_losses(path)[path.at(s)] for s in sizes] for path in splits]
    on = data.on_rows(values, losses)
    inside = tuple(tuple(path.sets[path.at(s)] for s in sizes) for path in splits)
    model = whole.model or lens.variants[0]
    return SizeCurve(lens.label, model, tuple(sizes), on.values, list(on.losses), on.mean_losses, whole.sets, inside, whole.trail)


def _losses(path: Path) -> Floats:
    assert path.losses is not None
    return path.losses


def judged(data: SearchData, split: Split, sets: Sequence[Set], predict: Callable[[Set], Floats], known: Path | None = None) -> Path:
    """A path from what `predict(set)` gives for the test rows of a split; sets that `known` has judged are taken from there."""
    truth = data.truth(split)
    values: list[float] = []
    losses = room(data.table.source.spill, (len(sets), len(truth.targets)))
    before = {} if known is None else {s: k for k, s in enumerate(known.sets)}
    for k, s in enumerate(sets):
        if known is not None and s in before:
            values.append(known.values[before[s]])
            losses[k] = _losses(known)[before[s]]
            continue
        predicted = np.broadcast_to(truth.train_means, truth.targets.shape) if not s else predict(s)
        values.append(np.nan if data.metric.name == "r2" else data.metric.of_predictions(truth, predicted))  # R² is made from losses
        losses[k] = data.losses(truth, predicted).loss
    return Path(tuple(sets), tuple(values), losses)


def with_full(path: Path, full: Path, data: SearchData) -> Path:
    """A path through some of the features, with the full set of another one at its end."""
    if path.losses is None or full.losses is None:
        return replace(path, sets=(*path.sets, full.sets[-1]))
    losses = room(data.table.source.spill, (len(path.sets) + 1, path.losses.shape[1]))
    losses[:-1], losses[-1] = path.losses, full.losses[-1]
    return replace(path, sets=(*path.sets, full.sets[-1]), values=(*path.values, full.values[-1]), losses=losses)


def sizes_to_score(most: int) -> list[int]:
    """Sizes up to `most` where each costs a fit: all up to 12, then each a sixth larger than the one before."""
    sizes, wanted = [], 0.0
    for size in range(most + 1):
        if size >= wanted or size == most:
            sizes.append(size)
            wanted = size + 1 if size < 12 else size * 7 / 6
    return sizes
