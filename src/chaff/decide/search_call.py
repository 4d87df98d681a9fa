"""Searching subsets with the model that will be used, as single calls."""

from __future__ import annotations

import dataclasses
import time
from collections.abc import Iterable, Mapping, Sequence
from concurrent.futures import Executor
from contextlib import ExitStack
from dataclasses import replace
from pathlib import Path
from typing import Any

from chaff.decide.one_stage import on_offer
from chaff.errors import UsageError
from chaff.evaluate.closed import ClosedEngine, check_closed_form
from chaff.evaluate.fingerprint import DataKey
from chaff.evaluate.journal import Journal
from chaff.evaluate.limits import Limits
from chaff.evaluate.scorer import SubsetScorer
from chaff.folds import Folds, make_folds, same_folds
from chaff.methods.search.honest_losses import HonestSizes, honest_sizes
from chaff.methods.search.runs import Runs, runs
from chaff.methods.search.search_result import SearchResult
from chaff.methods.search.strategies.both import Both
from chaff.methods.search.strategies.recursive import Recursive
from chaff.methods.search.strategy import Strategy, Watcher, as_strategy, check_sizes, trail_of
from chaff.models.memory_needs import check_memory
from chaff.models.named import as_model
from chaff.models.protocols import Model
from chaff.results.verdict import Pin
from chaff.table.table import Table
from chaff.work import Work, Workers

__all__ = ["Runs", "runs", "search"]


def search(
    table: Table, model: Model | str | Mapping[str, Any] = "ridge", strategy: Strategy | str | Mapping[str, Any] | None = None, *,
    metric: str | None = None, folds: int | Folds = 5, repeats: int = 1, honest: bool = True, total_cost: float | None = None,
    seconds: float | None = None, evaluations: int | None = None, journal: str | Path | None = None, after: SearchResult | None = None,
    progress: Watcher | None = None, pins: Iterable[Pin] = (), features: Sequence[str] | None = None, seed: int = 0,
    workers: Workers = None, executor: Executor | None = None,
) -> SearchResult:  # fmt: skip
    """Search feature sets with the model that will be used in the end, and record every move.

    The search score guided the search, so it is optimistic. The CV score of each size comes from the same search repeated inside every
    training fold and scored on its test fold. `chaff.select` gives the honest score of a final set.

    Parameters
    ----------
    table : Table
    model : model, str or dict
        ``chaff.Ridge(0.1)``, "ridge", "logistic", "forest", …, or a model of your own from ``chaff.models.adapt``.
    strategy : strategy, str or dict, optional
        "forward", "backward", "both", "floating", "recursive", "genetic", "exhaustive", "branch and bound", "swap", "along", "random",
        "annealing", or one with settings: ``chaff.Floating(size=10)``. Left out: "both" for least squares and ridge, else "recursive".
    metric, folds, repeats
        r2 for numbers and log_loss for classes when left out; the `Folds` themselves, or how many.
    honest : bool
        Whether the search is repeated inside each training fold, for the CV scores by size; it takes as long again for every fold.
    total_cost : float, optional
        Largest cost of a set, by the costs of the table; the cost of a panel is paid once.
    seconds, evaluations : float, int, optional
        Stop after so long, or so many scored sets, with the best set so far. Searches inside the folds then get as many evaluations
        as this search used.
    journal : str or Path, optional
        File that stores every scored set: after an interruption, the same call continues and ends with the same answer.
    after : SearchResult, optional
        An earlier search on the same table with the same model, metric and folds: its scores are reused.
    progress : callable, optional
        Called with a `Progress` after every move.
    pins, features, seed, workers
        As in every call: pinned-in features are in every set, pinned-out features in none.
    executor : concurrent.futures.Executor, optional
        Scores sets in place of threads: processes, or a cluster's client that speaks the same interface.

    Returns
    -------
    SearchResult
        ``frame``: every move; ``sizes``: the best set of each size with search score and CV score; `choose`, `alternatives`, `front`,
        …, `save`.

    Raises
    ------
    UsageError, DataError, ModelError

    Notes
    -----
    A category is one feature. Scores of closed-form searches are not written into a journal: they are computed faster than read.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=200).with_features(["protein_pct", "protein_nir_pct", "ash_pct", "lab_temp_c"])
    >>> trail = chaff.search(lots, "ridge", chaff.Forward(size=3))
    >>> trail.frame["size"].tolist(), trail.choose("best").features
    ([1, 2, 3], ('protein_nir_pct', 'ash_pct'))
    """
    began = time.perf_counter()
    offered, given, pinned = on_offer(table, pins, features)
    used, limits, work = as_model(model), Limits(total_cost, seconds, evaluations), Work(seed, workers, executor=executor)
    check_memory(offered, used, folds if isinstance(folds, int) else folds.count, work.at_once)
    scorer = _scorer(offered, used, metric, folds, repeats, work, after).limited(limits)
    if isinstance(scorer.engine, ClosedEngine):
        check_closed_form(offered, scorer.folds, "leave features out first (chaff relevance … --triage, features=[…])")
    how = as_strategy(strategy) if strategy is not None else Both() if scorer.closed else Recursive()
    check_sizes(how, len(offered.features), pinned)
    _check_budget(scorer, pinned)
    with ExitStack() as stack:
        kept = None if journal is None else stack.enter_context(Journal(journal, DataKey.of(offered)))
        result = _walked(how, scorer.kept_in(kept), given, work, progress)
        inside = _inside(result, limits, work, progress) if honest else None
    scorer.kept_in(None)
    lost = kept.lost if kept is not None else ""
    notes = (*result.notes, *([f"journal writing stopped ({lost}); earlier entries remain valid"] if lost else []))
    return replace(result, honest=inside, seconds=time.perf_counter() - began, notes=notes)


def _walked(how: Strategy, scorer: SubsetScorer, pins: Mapping[str, Pin], work: Work, progress: Watcher | None) -> SearchResult:
    """The strategy on all rows."""
    pinned = frozenset(f for f in scorer.features if f in pins)
    trail = trail_of(how, scorer, pinned, work, watcher=progress)
    if not trail.moves:
        raise UsageError(f"{how.name}: nothing could be scored ({trail.notes[-1]}); give it more time or evaluations")
    fields = {f.name: getattr(trail, f.name) for f in dataclasses.fields(trail)}
    tally = scorer.tally
    result = SearchResult(**fields, strategy=how, scorer=scorer, pins=pins, evaluations=tally.evaluations, saved=tally.saved)
    if not result.by_size:
        total = tally.limits.total_cost
        raise UsageError(f"{how.name} visited no set that costs {total:g} or less; use forward, floating or genetic")
    return result


def _scorer(
    table: Table, model: Model, metric: str | None, folds: int | Folds, repeats: int, work: Work, after: SearchResult | None
) -> SubsetScorer:
    """A scorer of its own, or that of a search before."""
    made = folds if isinstance(folds, Folds) else make_folds(table, folds, repeats, work)
    fresh = SubsetScorer(table, model, metric, made, work)
    if after is None:
        return fresh
    runs_on = after.scorer
    same = runs_on.model == model and runs_on.metric.name == fresh.metric.name and same_folds(runs_on.folds, made)
    if not same or set(runs_on.features) != set(table.features) or runs_on.table.source is not table.source:
        raise UsageError("after= must be a search on the same table, features, model, metric, folds and seed")
    return runs_on


def _check_budget(scorer: SubsetScorer, pinned: frozenset[str]) -> None:
    """Raises `UsageError` where nothing fits into the total cost."""
    total = scorer.tally.limits.total_cost
    if total is None:
        return
    prices = scorer.prices
    if not prices:
        raise UsageError("total_cost needs to know what features cost: open the table with costs={…} (--cost NAME=NUMBER)")
    if pinned and not scorer.affordable(pinned):
        raise UsageError(f"what is pinned in costs {prices.of_set(pinned):g} already, over the total of {total:g}")
    if not pinned and not any(scorer.affordable([f]) for f in scorer.features):
        cheapest = min(scorer.features, key=lambda f: (prices.of_set([f]), f))
        raise UsageError(
            f"no feature is within the total cost of {total:g}: the cheapest feature, '{cheapest}', costs {prices.of_set([cheapest]):g}"
        )


def _inside(result: SearchResult, limits: Limits, work: Work, progress: Watcher | None) -> HonestSizes | None:
    """The same search inside the folds: where this one was stopped, each of them ends after as many evaluations."""
    scorer = result.scorer
    counted = replace(limits, evaluations=scorer.tally.met if result.stopped else limits.evaluations)
    return honest_sizes(result.strategy, scorer, result.pinned, work, list(result.by_size), progress, counted)
