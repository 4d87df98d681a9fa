"""Curve: honest scores by size, and the rule that chooses a size from them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.methods.search.ground import Ground, averaged
from chaff.models.protocols import Model
from chaff.results.score import corrected_error
from chaff.results.trail import Trail
from chaff.stats.paired_loss import KeepUp, judge_keep_up, mean_difference, spread_at

if TYPE_CHECKING:
    import pandas as pd

KEEP_SHARE = 0.98
ALLOWANCE = 0.05  # δ of the keep-up test, as a share of what the full set gains over nothing
Signal = Callable[[], bool]
SURE = 1.645  # standard errors over nothing, one-sided 95 %


@dataclass(frozen=True)
class Curve:
    """One lens: for every size the search was run anew inside each training fold and its set scored on the test rows."""

    label: str
    model: Model
    sizes: tuple[int, ...]
    """Ascending; 0 and the full set among them."""
    values: Floats
    """float64 (sizes, splits), in the metric's own units."""
    losses: Sequence[Floats]
    """A table of float64 (repeats, rows) a size: NaN where a row is not tested."""
    sets: tuple[frozenset[str], ...]
    """The set of each size from the search on all training rows."""
    inside: tuple[tuple[frozenset[str], ...], ...] = field(repr=False)
    """Per split, the set of each size that was searched on its training rows."""
    trail: Trail | None = field(repr=False, default=None)
    """Every move of the search on all training rows, where a strategy walked."""

    def at(self, places: Ints) -> Curve:
        """Only some of the sizes."""
        inside = tuple(tuple(some[k] for k in places) for some in self.inside)
        sizes, sets = tuple(self.sizes[k] for k in places), tuple(self.sets[k] for k in places)
        return replace(self, sizes=sizes, values=self.values[places], losses=[self.losses[k] for k in places], sets=sets, inside=inside)

    def errors(self, ground: Ground) -> Floats:
        """Standard error of each size's score over the splits, float64 (sizes,)."""
        return np.array([corrected_error(x, ground.folds.test_share) for x in self.values])

    def frame(self, ground: Ground) -> pd.DataFrame:
        """One row a size: score, score_se (of the mean over splits), which columns come and go against the size before."""
        import pandas as pd

        rows, errors = [], self.errors(ground)
        before: frozenset[str] = frozenset()
        for k, size in enumerate(self.sizes):
            here = self.sets[k]
            rows.append(
                {
                    "size": size,
                    "score": float(self.values[k].mean()),
                    "score_se": float(errors[k]),
                    "comes": tuple(sorted(here - before)),
                    "goes": tuple(sorted(before - here)),
                }
            )
            before = here
        return pd.DataFrame(rows).set_index("size")


@dataclass(frozen=True)
class SizeRule:
    """How a size is chosen from curves.

    Parameters
    ----------
    keep_share : float
        The smallest size whose honest score lies within min(one standard error of the paired difference, 1 - keep_share of
        the best's gain over knowing nothing) of the best.
    margin : float or None
        In place of both: at most so much worse than the best, in the metric's units.
    size : int or None
        Chosen by hand.
    """

    keep_share: float = KEEP_SHARE
    margin: float | None = None
    size: int | None = None
    gated: bool = True
    """Whether the chosen size has to keep up with the full set."""

    def __str__(self) -> str:
        if self.size is not None:
            return f"of size {self.size}, chosen by hand"
        if self.margin is not None:
            return f"within {self.margin:g} of the best"
        return f"within one standard error and {1 - self.keep_share:.0%} of the best's gain"


@dataclass(frozen=True)
class Choice:
    """A curve and a place on it."""

    curve: int
    place: int
    best: int
    """Place of the best size on that curve."""
    ruled: int
    """Place that the size rule said, before the keep-up gate put features back."""
    nothing: bool
    """Whether nothing beats knowing nothing."""

    def lifted(self, sizes: int, curve: Curve) -> Choice:
        """So many sizes more; the empty set stays what it is."""
        return self if self.nothing else replace(self, place=min(self.place + sizes, len(curve.sizes) - 1))


def choose(curves: Sequence[Curve], ground: Ground, rule: SizeRule, signal: Signal, splits: Ints | None = None, floor: int = 0) -> Choice:
    """The lens whose best size scores better, the smallest of its sizes that the rule allows, and more where that falls short.

    Parameters
    ----------
    signal : callable
        Asked only where the curve does not beat nothing: whether some single column is beyond chance by itself, so that the
        answer cannot be the empty set.
    splits : int64, optional
        Which splits may be looked at; all when left out.
    floor : int
        The fewest features that may be chosen (pinned ones).
    """
    if ground.limits.total_cost is not None:
        return _within_budget(curves, ground, rule, signal, splits, floor)
    use = np.arange(len(ground.splits)) if splits is None else splits
    tops = [float((ground.sign * c.values[:, use].mean(1)).max()) for c in curves]
    which = int(np.argmax(tops))  # of equals the first lens
    curve = curves[which]
    v = ground.sign * curve.values[:, use]
    if rule.size is not None:
        place = max([k for k, s in enumerate(curve.sizes) if s <= max(rule.size, floor)] or [0])
        return Choice(which, place, int(v.mean(1).argmax()), place, False)
    ruled, best, nothing = _by_rule(v, curve, ground.folds.test_share, rule, signal)
    first = next(k for k, s in enumerate(curve.sizes) if s >= floor)
    ruled = max(ruled, first)
    place = ruled if nothing or rule.margin is not None or not rule.gated else _gated(curve, ruled, ground, use)
    return Choice(which, place, best, ruled, nothing)


def _within_budget(
    curves: Sequence[Curve], ground: Ground, rule: SizeRule, signal: Signal, splits: Ints | None, floor: int
) -> Choice:  # fmt: skip
    """The same among the sizes whose sets may cost what they cost; the full set is no yardstick for those who cannot pay for it."""
    open_to = [np.flatnonzero([ground.affordable(s) for s in c.sets]) for c in curves]
    some = [c.at(places) for c, places in zip(curves, open_to, strict=True)]
    rule = rule if rule.size is not None or rule.margin is not None else replace(rule, gated=False)
    found = choose(some, replace(ground, limits=replace(ground.limits, total_cost=None)), rule, signal, splits, floor)
    places = open_to[found.curve]
    return replace(found, place=int(places[found.place]), best=int(places[found.best]), ruled=int(places[found.ruled]))


def _by_rule(v: Floats, curve: Curve, test_share: float, rule: SizeRule, signal: Signal) -> tuple[int, int, bool]:
    """(place that the rule says, place of the best, whether nothing beats nothing). v : higher is better."""
    mean = v.mean(1)
    best = int(mean.argmax())
    gain = mean[best] - mean[0]
    if curve.sizes[0] == 0:
        sure = gain > SURE * _error(v[best] - v[0], test_share)
        if len(curve.sizes) == 1 or not (sure or signal()):
            return 0, best, True
        if best == 0:
            best = 1 + int(mean[1:].argmax())
            gain = max(mean[best] - mean[0], 0.0)
    for k, size in enumerate(curve.sizes):
        short = mean[best] - mean[k]
        allowed = min(_error(v[best] - v[k], test_share), (1 - rule.keep_share) * gain) if rule.margin is None else rule.margin
        if size and short <= allowed:
            return k, best, False
    return best, best, False


def _error(d: Floats, test_share: float) -> float:
    """Standard error of a mean over splits; endless where one split says nothing of it."""
    return corrected_error(d, test_share) if d.size > 1 else float("inf")


def _gated(curve: Curve, place: int, ground: Ground, use: Ints) -> int:
    """The first size from `place` on that is not worse than the full set, and on its face within half of the allowance."""
    full = len(curve.sizes) - 1
    whole, nothing = rows_of(curve.losses[full], ground, use), rows_of(ground.none.losses[0], ground, use)
    rows = np.flatnonzero(~np.isnan(whole))
    w = None if ground.table.weights is None else ground.table.weights[rows]
    allowed = ALLOWANCE / 2 * max(float(np.average((nothing - whole)[rows], weights=w)), 0.0)
    for k in range(place, full):
        small = rows_of(curve.losses[k], ground, use)
        on_its_face = float(np.average((small - whole)[rows], weights=w))
        if on_its_face <= allowed and (on_its_face <= 0 or keep_up_of(small, whole, ground, use).answer != "worse"):
            return k
    return full


def keep_up_of(small: Floats, large: Floats, ground: Ground, use: Ints | None = None, inflation: float = 1.0) -> KeepUp:
    """The keep-up test of row losses, float64 (rows,), NaN where a row is not tested."""
    none = rows_of(ground.none.losses[0], ground, use)
    seen = np.flatnonzero(~np.isnan(small) & ~np.isnan(large))
    units = ground.units.take(seen)
    w = units.weights
    gain = float(np.average(none[seen] - large[seen], weights=w)) if seen.size else 0.0
    d, allowance = small[seen] - large[seen], ALLOWANCE * max(gain, 0.0)
    difference, plain = units.mean(d, inflation), mean_difference(d, w)
    contrast = units.mean(d - ALLOWANCE * (none[seen] - large[seen]), inflation) if gain > 0 else None
    effect = (difference.se / plain.se) ** 2 if plain.se > 0 else 1.0
    spread = spread_at(allowance, _curvature(ground, large[seen], w), seen.size, effect)
    return judge_keep_up(difference, allowance, seen.size, spread, contrast=contrast)


def _curvature(ground: Ground, loss: Floats, w: Floats | None) -> float:
    """See `spread_at`; 0 for losses whose variance does not go with their mean."""
    if ground.row_metric.name == "log_loss":
        return 2.0
    squared = ground.row_metric.of_errors is not None
    return 4.0 * float(np.average(loss, weights=w)) / ground.table.targets.shape[1] if squared and loss.size else 0.0


def rows_of(losses: Floats, ground: Ground, use: Ints | None) -> Floats:
    """float64 (rows,): (repeats, rows) averaged over the repeats, of the chosen splits only."""
    if use is None or len(use) == len(ground.splits):
        return averaged(losses)
    some = np.full(losses.shape, np.nan)
    for k in use:
        repeat, rows = ground.test_rows[k]
        some[repeat, rows] = losses[repeat, rows]
    return averaged(some)
