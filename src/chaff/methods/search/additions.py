"""What the other lens would add to a chosen set, and which of it is still needed given the set."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from chaff.arrays import Floats
from chaff.errors import ChaffError
from chaff.evaluate.scorer import SubsetScorer
from chaff.methods.search.search_data import SearchData
from chaff.methods.search.size_choice import SizeCurve, rows_of
from chaff.metrics import RowLosses
from chaff.models.protocols import Model

MOST = 12
LEVEL = 0.05


def needed_additions(chosen: frozenset[str], model: Model, curve: SizeCurve, place: int, data: SearchData) -> dict[str, float]:
    """Feature → p of being left out given the chosen set and the other additions, for those that are still needed.

    The candidates are what the other lens keeps beyond the chosen set; each is left out in turn, losses compared row by row
    (repeats averaged, groups as units), the least needed half of those that are not needed dropped, and so on. A p is multiplied by
    how many candidates there were.  model : through which the other lens judges.
    """
    candidates = _latest_to_go(curve, place, chosen)[:MOST]
    requested = len(candidates)
    while candidates:
        try:
            p = {f: min(1.0, requested * one) for f, one in _left_out(chosen, candidates, model, data).items()}
        except ChaffError:  # a model that cannot be fitted on these folds adds nothing
            return {}
        failing = sorted((f for f in candidates if p[f] > LEVEL), key=lambda f: (-p[f], f))
        if not failing:
            return p
        gone = set(failing[: max(1, (len(failing) + 1) // 2)])
        candidates = [f for f in candidates if f not in gone]
    return {}


def _latest_to_go(curve: SizeCurve, place: int, chosen: frozenset[str]) -> list[str]:
    """Features of the curve's set that are not chosen yet, those that stand in the smallest sets first."""
    extra = curve.sets[place] - chosen
    first = {f: next(k for k, s in enumerate(curve.sets) if f in s) for f in extra}
    return sorted(extra, key=lambda f: (first[f], f))


def _left_out(chosen: frozenset[str], candidates: Sequence[str], model: Model, data: SearchData) -> dict[str, float]:
    whole = chosen | set(candidates)
    rows = row_losses([whole, *(whole - {f} for f in candidates)], model, data)
    subset = data.tested
    units = data.units.take(subset)
    return {f: units.mean((without - rows[0])[subset]).p_above(0.0) for f, without in zip(candidates, rows[1:], strict=True)}


def row_losses(sets: Sequence[frozenset[str]], model: Model, data: SearchData) -> list[Floats]:
    """Losses of each row on the splits of a data, repeats averaged, for some fixed sets."""
    return [rows_of(losses, data, None) for losses in split_losses(sets, model, data)]


def split_losses(sets: Sequence[frozenset[str]], model: Model, data: SearchData) -> Floats:
    """float64 (sets, repeats, rows) of fixed sets."""
    table = data.table.with_features(tuple(f for f in data.table.features if any(f in s for s in sets)))
    scorer = SubsetScorer(table, model, data.row_metric.name, data.usable, data.work)
    result = scorer.losses(sets)
    return data.on_rows([[0.0] * len(sets)] * len(data.splits), [_stack(result, k) for k in range(len(data.splits))]).losses


def _stack(result: Sequence[Sequence[RowLosses]], k: int) -> Floats:
    return np.array([one[k].loss for one in result])
