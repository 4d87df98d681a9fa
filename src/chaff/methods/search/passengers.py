"""Passengers: columns that a set can do without at no cost: repeats of what stays, and what the searches inside the folds do not
confirm."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from chaff.arrays import Floats
from chaff.errors import ChaffError
from chaff.evaluate.scorer import SubsetScorer
from chaff.methods.search.choice import Place, Sizes
from chaff.methods.search.curve import Curve
from chaff.methods.search.ground import Ground, OnRows, Set
from chaff.models.protocols import Model
from chaff.results.digits import score, signed
from chaff.results.score import corrected_error
from chaff.work import task

CONFIRMED = 0.5  # of the folds, in whose sets of that size a column has to be


@dataclass(frozen=True)
class Passenger:
    """A column that went since nothing is lost without it."""

    stays: str
    """The column that it repeats; empty where the folds did not confirm it."""
    gain: float
    """What the score gains without it and its like, in the metric's units."""
    se: float

    def words(self, label: str) -> str:
        why = f"as good as {self.stays}, which stays" if self.stays else "in fewer than half of the folds' own sets"
        lost = "nothing is lost" if self.gain >= -self.se else "little is lost"
        return f"{why}; without it {lost}: {label} {signed(self.gain, self.se)} ± {score(self.se)}"


def passengers_of(curve: Curve, place: int, model: Model, ground: Ground) -> dict[str, Passenger]:
    """Those of the set that was chosen: repeats that stay out of it, and what it was tried without."""
    chosen, out = curve.sets[place], {}
    before = curve.tried_without.get(curve.sizes[place])
    if before in curve.sizes:
        d = ground.sign * (curve.values[place] - curve.values[curve.sizes.index(before)])
        gone = curve.sets[curve.sizes.index(before)] - chosen
        out = {f: Passenger("", float(d.mean()), corrected_error(d, ground.folds.test_share)) for f in sorted(gone)}
    repeats = {f: stays for f, stays in ground.repeats(None).items() if f not in chosen and stays in chosen}
    if repeats:
        table = ground.table.with_features(tuple(f for f in ground.table.features if f in chosen or f in repeats))
        try:
            few, all_of_them = SubsetScorer(table, model, ground.metric.name, ground.usable, ground.work).many(
                [chosen, chosen | set(repeats)]
            )
        except ChaffError:  # a model that cannot take them together
            return out
        d = ground.sign * (few.values - all_of_them.values)
        out |= {f: Passenger(stays, float(d.mean()), corrected_error(d, ground.folds.test_share)) for f, stays in repeats.items()}
    return out


def without_passengers(sizes: Sizes, places: Collection[Place], models: Sequence[Model]) -> Sizes:
    """The curves, with the sets at these places tried without the columns that fewer than half of the folds have in theirs.
    A fold is asked by the others only: its rows judge a set that they had no part in.

    Parameters
    ----------
    places : (curve, place on it) of the sets that are looked at.
    models : that judge the sets, one a curve.
    """
    curves, open_to = list(sizes.curves), [list(o) for o in sizes.open_to]
    for c in sorted({at[0] for at in places}):
        for k in sorted(at[1] for at in places if at[0] == c):
            without = _confirmed(sizes.curves[c], k, sizes.ground)
            found = None if without is None else _judged(*without, models[c], sizes.ground)
            if without is not None and found is not None:
                curves[c], open_to[c] = _with(curves[c], open_to[c], sizes.curves[c].sizes[k], *without, found)
    return replace(sizes, curves=curves, open_to=open_to)


def _confirmed(curve: Curve, place: int, ground: Ground) -> tuple[Set, tuple[Set, ...]] | None:
    """(the set without passengers, the same inside each split); None where there is none to leave out, or all would go."""
    inside = [sets[place] for sets in curve.inside]
    count = Counter(f for s in inside for f in s)

    def left(some: Set, asked: int, own: Set) -> Set:
        return frozenset(f for f in some if f in ground.pinned or count[f] - (f in own) >= CONFIRMED * asked)

    whole = left(curve.sets[place], len(inside), frozenset())
    if whole == curve.sets[place] or not whole or len(inside) < 2:
        return None
    return whole, tuple(left(s, len(inside) - 1, s) for s in inside)


def _judged(whole: Set, inside: Sequence[Set], model: Model, ground: Ground) -> OnRows | None:
    """Each split's set on its test rows; None where a model cannot be fitted."""
    table = ground.table.with_features(tuple(f for f in ground.table.features if f in whole or any(f in s for s in inside)))
    work = replace(ground.work, workers=1)
    scorer = SubsetScorer(table, model, ground.row_metric.name, ground.usable, work)
    by_metric = scorer if ground.metric.row_loss is not None else SubsetScorer(table, model, ground.metric.name, ground.usable, work)
    try:
        found = ground.work.each(task(_on_split, scorer, by_metric), list(enumerate(inside)), "search, without passengers")
    except ChaffError:
        return None
    return ground.on_rows([[value] for value, _ in found], [[losses] for _, losses in found])


def _on_split(scorer: SubsetScorer, by_metric: SubsetScorer, unit: tuple[int, Set]) -> tuple[float, Floats]:
    split, features = unit
    rows = scorer.losses([features], [split])[0][0]
    if by_metric is not scorer:
        return float(by_metric.on_split(split, [features])[0]), rows.loss
    of_losses = scorer.metric.of_losses
    assert of_losses is not None
    w = rows.weights
    return float(of_losses(float(w @ rows.loss), float(w @ rows.none), float(w.sum()))), rows.loss


def _with(curve: Curve, open_to: list[bool], before: int, whole: Set, inside: Sequence[Set], found: OnRows) -> tuple[Curve, list[bool]]:
    """The curve with this set at its size, unless the one that stands there is better.  before : the size that it is made from."""
    size = len(whole)
    place = next(k for k, s in enumerate(curve.sizes) if s >= size)
    there = curve.sizes[place] == size
    if there and curve.mean_losses[place].mean() <= found.mean_losses[0].mean():
        return curve, open_to
    end = place + there  # what stands there goes

    def put(old: Sequence[Any], new: Any) -> list[Any]:
        return [*old[:place], new, *old[end:]]

    changed = replace(
        curve,
        sizes=tuple(put(curve.sizes, size)),
        values=np.array(put(list(curve.values), found.values[0])),
        losses=put(curve.losses, found.losses[0]),
        mean_losses=np.array(put(list(curve.mean_losses), found.mean_losses[0])),
        sets=tuple(put(curve.sets, whole)),
        inside=tuple(tuple(put(sets, mine)) for sets, mine in zip(curve.inside, inside, strict=True)),
        tried_without={**curve.tried_without, size: before},
    )
    return changed, put(open_to, True)
