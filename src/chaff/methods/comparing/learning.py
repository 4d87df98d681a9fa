"""Every method on every fold's training rows and on all rows, and the votes among them."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass, replace

from chaff.errors import ChaffError, UsageError
from chaff.evaluate.setting import Setting
from chaff.folds import Folds, make_folds
from chaff.methods.comparing.learned_sets import LearnedSets
from chaff.methods.comparing.method import FoldSets, MeanRank, Method, Set, Vote
from chaff.models.protocols import Model
from chaff.table.table import Table
from chaff.work import Work, silent, task

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
        work = replace(self.work, seed=self.work.key("compare", split), watch=silent)
        try:
            setting = Setting(make_folds(rows, INNER_FOLDS, 1, work), self.model, self.metric, work=work)
            return method.judge(rows, self.model, setting, self.pinned)
        except ChaffError as error:
            return str(error)


def learn(
    data: Learning, methods: Sequence[Method], further: Sequence[Vote | MeanRank], seconds: float | None, kept: LearnedSets
) -> Learned:
    """Every method on every split and on all rows.

    kept : what is known already, and where what is learned goes.
    seconds : what it may take by the first split's own time; refused beforehand where that says more.

    Raises
    ------
    UsageError
        When it would take too long: with how long, and what would be shorter.
    """
    splits = list(range(data.folds.count))
    began = time.perf_counter()
    first = _on_folds(data, methods, [splits[0]], kept)[0]
    once = time.perf_counter() - began
    if seconds is not None and once * (len(splits) + 1) > seconds:
        slow = max(zip(methods, first, strict=True), key=lambda p: p[1].seconds if isinstance(p[1], FoldSets) else 0.0)[0].label
        raise UsageError(
            f"compare would take about {once * (len(splits) + 1):.0f} s, over the {seconds:g} allowed: leave out {slow}, use fewer folds, "
            "or allow more"
        )
    rest = [*splits[1:], None]
    rounds = [rest] if kept.path is None else [[k] for k in rest]  # what is written fold by fold is learned so
    by_split = [first, *(of_fold for folds in rounds for of_fold in _on_folds(data, methods, folds, kept))]
    return _gathered(methods, further, by_split, data.pinned)


def _on_folds(data: Learning, methods: Sequence[Method], folds: Sequence[int | None], kept: LearnedSets) -> list[list[FoldSets | str]]:
    """A list a fold with what each method made of it, from what is known or learned now."""
    new = [(m, k) for k in folds for m in methods if kept.known(m, k) is None]
    where = "" if len(folds) > 1 else ", all rows" if folds[0] is None else f", fold {folds[0] + 1} of {data.folds.count}"
    for (m, k), result in zip(new, data.work.each(task(_judged, data), new, f"compare{where}"), strict=True):
        kept.add(m, k, result)
    return [[kept.known(m, k) or "" for m in methods] for k in folds]


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
