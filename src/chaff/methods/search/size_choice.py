"""Choice: which set is kept, from the honest losses of every size of every curve.

Curve: honest scores by size; and the keep-up test of two sets by the losses of their rows.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.errors import ChaffError
from chaff.evaluate.scorer import SubsetScorer
from chaff.methods.search.search_data import SearchData, Set, averaged
from chaff.models.protocols import Model
from chaff.results.digits import score, signed
from chaff.results.score import corrected_error
from chaff.results.trail import Trail
from chaff.stats.paired_loss import KeepUp, MeanDifference, judge_keep_up, mean_difference, spread_at

if TYPE_CHECKING:
    import pandas as pd


ALLOWANCE = 0.05  # δ of the keep-up test, as a share of what the full set gains over nothing


@dataclass(frozen=True)
class SizeCurve:
    """One lens: for every size the search was rerun inside each training fold and its set scored on the test rows."""

    label: str
    model: Model
    sizes: tuple[int, ...]
    """Ascending; 0 and the full set among them."""
    values: Floats
    """float64 (sizes, splits), in the metric's own units."""
    losses: Sequence[Floats]
    """A table of float64 (repeats, rows) a size: NaN where a row is not tested."""
    mean_losses: Floats
    """float64 (sizes, splits)."""
    sets: tuple[frozenset[str], ...]
    """The set of each size from the search on all training rows."""
    inside: tuple[tuple[frozenset[str], ...], ...] = field(repr=False)
    """Per split, the set of each size that was searched on its training rows."""
    trail: Trail | None = field(repr=False, default=None)
    """Every move of the search on all training rows, where a strategy walked."""

    def errors(self, data: SearchData) -> Floats:
        """Standard error of each size's score over the splits, float64 (sizes,)."""
        return np.array([corrected_error(x, data.folds.test_share) for x in self.values])

    def frame(self, data: SearchData) -> pd.DataFrame:
        """One row a size: score, score_se (of the mean over splits), which columns come and go against the size before."""
        import pandas as pd

        rows, errors = [], self.errors(data)
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


def keep_up_of(small: Floats, large: Floats, data: SearchData, use: Ints | None = None, inflation: float = 1.0) -> KeepUp:
    """The keep-up test of row losses, float64 (rows,), NaN where a row is not tested."""
    none = rows_of(data.none.losses[0], data, use)
    seen = np.flatnonzero(~np.isnan(small) & ~np.isnan(large))
    units = data.units.take(seen)
    w = units.weights
    gain = float(np.average(none[seen] - large[seen], weights=w)) if seen.size else 0.0
    d, allowance = small[seen] - large[seen], ALLOWANCE * max(gain, 0.0)
    difference, plain = units.mean(d, inflation), mean_difference(d, w)
    contrast = units.mean(d - ALLOWANCE * (none[seen] - large[seen]), inflation) if gain > 0 else None
    effect = (difference.se / plain.se) ** 2 if plain.se > 0 else 1.0
    spread = spread_at(allowance, _curvature(data, large[seen], w), seen.size, effect)
    return judge_keep_up(difference, allowance, seen.size, spread, contrast=contrast)


def _curvature(data: SearchData, loss: Floats, w: Floats | None) -> float:
    """See `spread_at`; 0 for losses whose variance does not go with their mean."""
    if data.row_metric.name == "log_loss":
        return 2.0
    squared = data.row_metric.of_errors is not None
    return 4.0 * float(np.average(loss, weights=w)) / data.table.targets.shape[1] if squared and loss.size else 0.0


def rows_of(losses: Floats, data: SearchData, use: Ints | None) -> Floats:
    """float64 (rows,): (repeats, rows) averaged over the repeats, of the chosen splits only."""
    if use is None or len(use) == len(data.splits):
        return averaged(losses)
    subset = np.full(losses.shape, np.nan)
    for k in use:
        repeat, rows = data.test_rows[k]
        subset[repeat, rows] = losses[repeat, rows]
    return averaged(subset)


LEAST_BOUND = 0.02  # of the gain over nothing: smaller losses are not worth a column
MOST_BOUND = 0.10  # of the gain: however noisy the scores are, no more may be lost
BLIND_BOUND = 0.03  # where one error is more than that
SURE = 2.0  # standard errors over nothing: the best of many sizes is asked
Signal = Callable[[], bool]
Place = tuple[int, int]
"""(curve, place on it)."""


def bound_of(error: float, gain: float) -> float:
    """How much worse than the best a smaller set may be: one standard error of the paired difference, at least 2 % and at
    most 10 % of the best's gain over nothing; 3 % where one error is more than those 10 %, since scores so noisy tell no sizes apart."""
    error = float(np.nan_to_num(error))
    return BLIND_BOUND * gain if error > MOST_BOUND * gain else max(error, LEAST_BOUND * gain)


@dataclass(frozen=True)
class SizeRule:
    """How a set is chosen from curves: by `bound_of`, or by one of these.

    Parameters
    ----------
    keep_share : float or None
        The smallest set that holds this share of the best's gain over nothing.
    margin : float or None
        At most so much worse than the best, in the metric's units.
    size : int or None
        So many features.
    """

    keep_share: float | None = None
    margin: float | None = None
    size: int | None = None

    @property
    def by_hand(self) -> bool:
        return self.keep_share is not None or self.margin is not None or self.size is not None

    def __str__(self) -> str:
        if self.size is not None:
            return f"size {self.size}, set by hand"
        if self.margin is not None:
            return f"smallest set within {self.margin:g} of the best"
        if self.keep_share is not None:
            return f"smallest set with {self.keep_share:.0%} of the best improvement over the baseline"
        return f"smallest set within one SE of the best ({LEAST_BOUND:.0%} to {MOST_BOUND:.0%} of its improvement)"


@dataclass(frozen=True)
class Choice:
    """A place on a curve."""

    curve: int
    place: int
    best: int
    """Place of the best size on that curve."""
    leader: Place
    """The best of all curves."""
    ruled: int
    """Place that the size rule said, before a set that was worse than the full one was enlarged."""
    nothing: bool
    """Whether nothing beats knowing nothing."""


@dataclass(frozen=True)
class Sizes:
    """Every size of every curve, compared on the same rows; lower is better.

    Rows are compared where a row has a loss under the metric, else the metric's values over splits.
    """

    curves: Sequence[SizeCurve]
    data: SearchData = field(repr=False)
    open_to: Sequence[Sequence[bool]]
    """Per curve, which places may be chosen; size 0 is left aside."""

    @property
    def by_rows(self) -> bool:
        return self.data.metric.row_loss is not None

    @cached_property
    def _by_split(self) -> list[Floats]:
        """Per curve, float64 (sizes, splits)."""
        if not self.by_rows:
            return [-self.data.sign * c.values for c in self.curves]
        return [c.mean_losses for c in self.curves]

    def full(self, use: Ints | None = None) -> Place:
        """The full set at its best: on the curve where it scores best."""
        curve = int(np.argmin([m[-1] for m in self.means(use)]))  # of equals the first
        return curve, len(self.curves[curve].sizes) - 1

    def means(self, use: Ints | None) -> list[Floats]:
        """Per curve, float64 (sizes,): over the splits `use`, all for None."""
        use = np.arange(len(self.data.splits)) if use is None else use
        shares = self.data.test_weights[use] if self.by_rows else np.ones(len(use))
        return [np.average(m[:, use], axis=1, weights=shares) for m in self._by_split]

    def more(self, a: Place, b: Place, use: Ints | None) -> MeanDifference:
        """What a loses more than b, with the error that belongs to the rows: groups, the long run in time."""
        if not self.by_rows:
            every = slice(None) if use is None else use
            d = self._by_split[a[0]][a[1], every] - self._by_split[b[0]][b[1], every]
            return MeanDifference(float(d.mean()), corrected_error(d, self.data.folds.test_share), d.size - 1.0, d.size)
        d = self._rows(a, use) - self._rows(b, use)
        seen = np.flatnonzero(~np.isnan(d))
        return self.data.units.take(seen).mean(d[seen])

    def beats_nothing(self, at: Place, use: Ints | None) -> bool:
        """By two standard errors over splits (Nadeau and Bengio, 2003), which the best of many sizes seldom passes by luck; in time,
        where splits are few and unlike, one-sided 95 % over the long run of rows."""
        if self.data.table.order is not None:
            return self.more((at[0], 0), at, use).lower() > 0
        values = self.data.sign * self.curves[at[0]].values[:, slice(None) if use is None else use]
        d = values[at[1]] - values[0]
        return d.size > 1 and bool(d.mean() > SURE * corrected_error(d, self.data.folds.test_share))

    def _rows(self, at: Place, use: Ints | None) -> Floats:
        return rows_of(self.curves[at[0]].losses[at[1]], self.data, use)

    def worse_than_full(self, at: Place, use: Ints | None) -> bool:
        """By the keep-up test, against the full set at its best."""
        return keep_up_of(self._rows(at, use), self._rows(self.full(use), use), self.data, use).answer == "worse"

    def cost(self, at: Place) -> float:
        return self.data.prices.of_set(self.curves[at[0]].sets[at[1]]) if self.data.prices else 0.0

    def places(self, curve: int, floor: int) -> list[int]:
        """Places of at least `floor` features that may be chosen."""
        return [k for k, s in enumerate(self.curves[curve].sizes) if s >= max(1, floor) and self.open_to[curve][k]]


def choose(sizes: Sizes, rule: SizeRule, signal: Signal, use: Ints | None = None, floor: int = 0) -> Choice:
    """The smallest set within the bound of the best, over the sizes of all curves.

    Parameters
    ----------
    signal : callable
        Asked only where no size is surely better than nothing: whether some single column is beyond chance by itself, so that the
        answer cannot be the empty set.
    use : int64, optional
        Splits that may be looked at; all when left out.
    floor : int
        The fewest features that may be chosen (pinned ones).
    """
    means = sizes.means(use)
    places = [sizes.places(c, floor) for c in range(len(means))]
    able = [(float(means[c][k]), c, k) for c, subset in enumerate(places) for k in subset]
    if not able:
        return Choice(0, 0, 0, (0, 0), 0, True)
    _, *leader = min(able)  # of equals the first curve, the smaller size
    best = (leader[0], leader[1])
    if rule.size is not None:
        at = _of_size(sizes, means, places, rule.size)
        return _choice(means, places, at, at[1], best)
    if not (sizes.beats_nothing(best, use) or signal()):
        pinned = next(k for k, s in enumerate(sizes.curves[best[0]].sizes) if s >= floor)
        return Choice(best[0], pinned, best[1], best, pinned, True)
    at = _smallest(sizes, means, places, best, rule, use)
    place = at[1]
    if not rule.by_hand and sizes.by_rows and sizes.data.limits.total_cost is None:
        place = next((k for k in places[at[0]] if k >= place and not sizes.worse_than_full((at[0], k), use)), place)
    return _choice(means, places, (at[0], place), at[1], best)


def _choice(means: Sequence[Floats], places: Sequence[Sequence[int]], at: Place, ruled: int, leader: Place) -> Choice:
    best = min(places[at[0]], key=lambda k: means[at[0]][k])
    return Choice(at[0], at[1], best, leader, ruled, False)


def _of_size(sizes: Sizes, means: Sequence[Floats], places: Sequence[Sequence[int]], size: int) -> Place:
    """The best set of so many features, else of the next fewer that there is."""
    result = []
    for c, subset in ((c, subset) for c, subset in enumerate(places) if subset):
        k = max([k for k in subset if sizes.curves[c].sizes[k] <= size] or [subset[0] if size else 0])
        result.append((-sizes.curves[c].sizes[k], float(means[c][k]), c, k))
    return min(result)[2:]


def _smallest(
    sizes: Sizes, means: Sequence[Floats], places: Sequence[Sequence[int]], best: Place, rule: SizeRule, use: Ints | None
) -> Place:
    """Of sets within the bound the smallest; of equals the cheaper, then the better."""
    gain = max(float(means[best[0]][0] - means[best[0]][best[1]]), 0.0)
    result = []
    for c, subset in enumerate(places):
        k = next((k for k in subset if (c, k) == best or _allowed(sizes, means, (c, k), best, gain, rule, use)), None)
        if k is not None:
            result.append((sizes.curves[c].sizes[k], sizes.cost((c, k)), float(means[c][k]), c, k))
    return min(result)[3:]


def _allowed(sizes: Sizes, means: Sequence[Floats], at: Place, best: Place, gain: float, rule: SizeRule, use: Ints | None) -> bool:
    if rule.margin is not None:
        every = slice(None) if use is None else use
        a, b = (sizes.curves[c].values[k, every].mean() for c, k in (at, best))
        return bool(sizes.data.sign * (b - a) <= rule.margin)
    short = float(means[at[0]][at[1]] - means[best[0]][best[1]])
    if rule.keep_share is not None:
        return short <= (1 - rule.keep_share) * gain + 1e-12 * gain
    if short > MOST_BOUND * gain:  # most are: no error needed
        return False
    return short <= LEAST_BOUND * gain or short <= bound_of(sizes.more(at, best, use).se, gain)


@dataclass(frozen=True)
class Passenger:
    """A column that went since it repeats one that stays."""

    stays: str
    gain: float
    """What the score gains without the repeats of the kept columns, in the metric's units."""
    se: float

    def words(self, label: str) -> str:
        lost = "nothing is lost" if self.gain >= -self.se else "little is lost"
        return f"near-duplicate of {self.stays}, which is kept; without it {lost}: {label} {signed(self.gain, self.se)} ± {score(self.se)}"


def passengers_of(chosen: Set, model: Model, data: SearchData) -> dict[str, Passenger]:
    """Repeats of chosen columns that stay out, with what a refit with all of them says."""
    repeats = {f: stays for f, stays in data.repeats(None).items() if f not in chosen and stays in chosen}
    if not repeats:
        return {}
    table = data.table.with_features(tuple(f for f in data.table.features if f in chosen or f in repeats))
    scorer = SubsetScorer(table, model, data.metric.name, data.usable, data.work)
    try:
        few, more = scorer.many([chosen, chosen | set(repeats)])
    except ChaffError:  # a model that cannot take them together
        return {}
    d = data.sign * (few.values - more.values)
    return {f: Passenger(stays, float(d.mean()), corrected_error(d, data.folds.test_share)) for f, stays in repeats.items()}
