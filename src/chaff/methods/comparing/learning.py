"""Every method on every fold's training rows and on all rows, and the votes among them."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass, replace

from chaff.errors import ChaffError, UsageError
from chaff.evaluate.setting import Setting
from chaff.folds import Folds, make_folds
from chaff.methods.comparing.method import FoldSets, MeanRank, Method, Set, Vote
from chaff.models.protocols import Model
from chaff.table.table import Table
from chaff.work import Work, task

INNER_FOLDS = 5  # of methods that score over folds, inside the training rows


@dataclass(frozen=True)
class Learned:
    """What the methods made of each split and of all rows."""

    inside: dict[str, tuple[FoldSets | None, ...]]
    whole: dict[str, FoldSets]
    notes: tuple[str, ...]
    """Where a method failed."""


@dataclass(frozen=True)
class Learning:
    """What all methods share while they learn."""

    table: Table
    model: Model
    metric: str | None
    folds: Folds
    pinned: Set
    work: Work

    def one(self, method: Method, split: int | None) -> FoldSets | str:
        """One method on the training rows of one split, or on all; what it said where it failed."""
        rows = self.table if split is None else self.table.take(self.folds.rows(self.folds.splits[split])[0])
        work = replace(self.work, seed=self.work.key("compare", split), watch=None)
        try:
            setting = Setting(make_folds(rows, INNER_FOLDS, 1, work), self.model, self.metric, work=work)
            return method.judge(rows, self.model, setting, self.pinned)
        except ChaffError as error:
            return str(error)


def learn(
    data: Learning, methods: Sequence[Method], further: Sequence[Vote | MeanRank], seconds: float | None
) -> Learned:  # fmt: skip
    """Every method on every split and on all rows.

    seconds : what it may take by the first split's own time; refused beforehand where that says more.

    Raises
    ------
    UsageError
        When it would take too long: with how long, and what would be shorter.
    """
    splits = list(range(data.folds.count))
    began = time.perf_counter()
    first = data.work.each(task(_judged, data), [(m, splits[0]) for m in methods], "compare")
    once = time.perf_counter() - began
    if seconds is not None and once * (len(splits) + 1) > seconds:
        slow = max(zip(methods, first, strict=True), key=lambda p: p[1].seconds if isinstance(p[1], FoldSets) else 0.0)[0].label
        raise UsageError(
            f"compare would take about {once * (len(splits) + 1):.0f} s, over the {seconds:g} allowed: leave out {slow}, use fewer folds, "
            "or allow more"
        )
    units = [(m, k) for k in [*splits[1:], None] for m in methods]
    rest = data.work.each(task(_judged, data), units, "compare")
    by_split = [first, *(rest[k * len(methods) : (k + 1) * len(methods)] for k in range(len(splits)))]
    return _gathered(methods, further, by_split, data.pinned)


def _judged(data: Learning, unit: tuple[Method, int | None]) -> FoldSets | str:
    return data.one(*unit)


def _gathered(
    methods: Sequence[Method], further: Sequence[Vote | MeanRank], by_split: Sequence[Sequence[FoldSets | str]], pinned: Set
) -> Learned:
    inside: dict[str, list[FoldSets | None]] = {label: [] for label in [*(m.label for m in methods), *(f.label for f in further)]}
    notes: dict[str, tuple[int, str]] = {}
    for subset in by_split[:-1]:
        for m, result in zip(methods, subset, strict=True):
            inside[m.label].append(result if isinstance(result, FoldSets) else None)
            if isinstance(result, str):
                count, words = notes.get(m.label, (0, result))
                notes[m.label] = (count + 1, words)
        voters = [f for f in subset if isinstance(f, FoldSets)]
        for f in further:
            inside[f.label].append(f.of(voters, pinned) if voters else None)
    whole = {m.label: result for m, result in zip(methods, by_split[-1], strict=True) if isinstance(result, FoldSets)}
    voters = list(whole.values())
    whole |= {f.label: f.of(voters, pinned) for f in further if voters}
    of = len(by_split) - 1
    text = tuple(f"{label} failed in {count} of {of} folds: {words}" for label, (count, words) in notes.items())
    return Learned({k: tuple(v) for k, v in inside.items()}, whole, text)
