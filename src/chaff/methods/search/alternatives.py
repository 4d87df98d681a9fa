"""Alternatives: the other sets that are as good, and which features they cannot do without.

Every set there is of up to 25 features of a linear model, with its cross-validated score, and which of them are good.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.arrays import Flags, Ints
from chaff.errors import UnknownColumn, UsageError, nearest
from chaff.evaluate.closed import ClosedEngine
from chaff.evaluate.closed_split import ClosedSplit
from chaff.evaluate.scorer import SubsetScorer
from chaff.kernels.set_errors import errors_of_all
from chaff.results.digits import score as score_words
from chaff.results.plain import records
from chaff.results.score import Score
from chaff.results.shown import frame_html, frame_text
from chaff.stats.tolerances import SINGULAR
from chaff.table.set_costs import Prices
from chaff.visible import Shown
from chaff.work import Work, task

if TYPE_CHECKING:
    import pandas as pd


MOST = 25


def can_see_all(scorer: SubsetScorer) -> bool:
    """Whether every set can be scored."""
    return isinstance(scorer.engine, ClosedEngine) and len(scorer.features) <= MOST


def losses_of_all(engine: ClosedEngine, work: Work) -> np.ndarray:
    """float32 (2 ** features,): what every set loses on average over the splits, in the metric's form where less is better
    (1 − R², or RMSE); infinite for singular sets. Bit k of a set's number is the k-th feature of the table."""
    root = engine.metrics[0].name != "r2"
    around, weight = engine.around
    total = np.zeros(1 << len(engine.table.features), np.float32)
    size = work.at_once
    none = float((around / np.where(weight > 0, weight, 1.0)).mean()) or 1.0  # see `chaff.metrics.parts_of_r2`
    units = [(s, (float(w) or 1.0) * (1.0 if root else none)) for s, w in zip(engine.splits, weight, strict=True)]
    for k in range(0, len(units), size):  # so many at a time, for the memory that each takes
        for subset in work.each(task(_losses, root), units[k : k + size]):
            total += subset
    return total / np.float32(len(units))


def costs_of_all(prices: Prices, names: Sequence[str]) -> np.ndarray:
    """float32 (2 ** features,): what every set costs, in the same order."""
    numbers, panel_of = np.arange(1 << len(names)), {f: p for p, members in prices.panels.items() for f in members}
    out = np.zeros(numbers.size, np.float32)
    for panel in prices.panels:
        bits = sum(1 << k for k, f in enumerate(names) if panel_of.get(f) == panel)
        out += np.where(numbers & bits, np.float32(prices.single.get(panel, 0.0)), np.float32(0.0))
    for k, f in enumerate(names):
        if prices.single.get(f, 0.0):
            out += np.where(numbers & (1 << k), np.float32(prices.single[f]), np.float32(0.0))
    return out


def _losses(root: bool, unit: tuple[ClosedSplit, float]) -> np.ndarray:
    split, scale = unit
    widths = np.diff(split.starts)
    out = np.full(1 << len(widths), np.inf, np.float32)
    errors_of_all(split.A, split.V, np.diagonal(split.A).copy(), widths, split.A.shape[0] - split.width, SINGULAR, out)
    np.divide(out, np.float32(scale), out=out)
    return np.sqrt(np.maximum(out, 0), out=out) if root else out


def irreducible(good: Flags, free: Sequence[int]) -> Ints:
    """Numbers of the good sets from which no single one of the free features can go; good : bool (2 ** features,)."""
    out = good.copy()
    for bit in free:
        block = out.reshape(-1, 2, 1 << bit)
        without = good.reshape(-1, 2, 1 << bit)[:, 0]
        np.logical_and(block[:, 1], ~without, out=block[:, 1])
    return np.flatnonzero(out)


WITHIN = 0.02
MOST_SETS = 20_000  # that are compared with one another
PARED = 300  # of the best sets that were met, from which is taken what they can spare
SPREAD = 400  # sets at which looking at exchanges ends
NAMED = 4
Set = frozenset[str]


@dataclass(frozen=True, repr=False)
class Alternatives(Shown):
    """Good sets: within an allowance of the best, and such that no feature of theirs can go."""

    frame: pd.DataFrame
    """One row a feature: role (in all, interchangeable, in none), share (of the good sets that have it), instead (who takes its
    place where it is missing, most often first)."""
    sets: pd.DataFrame
    """One row a good set, the best first: size, score, score_se, cost, features."""
    smallest: tuple[str, ...]
    cheapest: tuple[str, ...]
    """The smallest where no costs are known."""
    nearest: tuple[str, ...]
    """To the set that the person has now: fewest features come and go; empty where none was named."""
    comes: tuple[str, ...]
    """What the nearest one has and the person's set has not."""
    goes: tuple[str, ...]
    limit: float
    """The score from which a set is good."""
    within: float
    """Share of the best improvement over the baseline that a good set may lack."""
    every: bool
    """Whether all sets there are were looked at, or those that the search met."""
    looked_at: int
    metric: str
    offered: tuple[str, ...]
    notes: tuple[str, ...] = field(default=())

    def role(self, feature: str) -> str:
        """What the feature is to the good sets.

        Raises
        ------
        UnknownColumn
        """
        if feature not in self.frame.index:
            raise UnknownColumn(f"column '{feature}' is not a candidate feature.{nearest(feature, self.offered)}")
        return str(self.frame.loc[feature, "role"])

    @property
    def headline(self) -> str:
        """In a line."""
        n = len(self.sets)
        if not n:
            return "The baseline is as good as the best set: no feature is needed"
        return (
            f"{n:,} set{' is' if n == 1 else 's are'} within {self.within:.0%} of the best set's improvement · "
            f"search {self.metric} {score_words(self.limit)} or better"
        )

    def __str__(self) -> str:
        return frame_text(self.headline, self.frame, ("role", "share", "instead"), self.notes)

    def _repr_html_(self) -> str:
        return frame_html(self.headline, self.frame, ("role", "share", "instead"), self.notes)

    def as_plain(self) -> dict[str, Any]:
        return {
            "limit": self.limit,
            "within": self.within,
            "every_set": self.every,
            "looked_at": self.looked_at,
            "features": records(self.frame),
            "sets": records(self.sets),
            "smallest": list(self.smallest),
            "cheapest": list(self.cheapest),
            "nearest": list(self.nearest),
            "comes": list(self.comes),
            "goes": list(self.goes),
            "notes": list(self.notes),
        }


def alternatives(
    scorer: SubsetScorer, pinned: Set, met: Mapping[Set, Score], within: float = WITHIN, now: Iterable[str] = ()
) -> Alternatives:
    """Of every set there is for linear models with up to 25 features, else of those that a search met.

    within : share of the best's gain over knowing nothing that a good set may lack.  now : the set that the person has.
    """
    own = _known_now(now, scorer)
    if not 0 <= within < 1:
        raise UsageError(f"within must be 0 or more and below 1, not {within}")
    every = can_see_all(scorer)
    result, limit, looked_at = _of_all(scorer, pinned, within) if every else _of_met(scorer, met, pinned, within)
    sign = 1.0 if scorer.metric.higher_is_better else -1.0
    order = sorted(result, key=lambda s: (-sign * s.mean, len(s.features), sorted(s.features)))
    subset = order[:MOST_SETS]
    frame = _roles([s.features for s in subset], scorer.features)
    sets = [s.features for s in order]
    prices = scorer.prices
    smallest = min(sets, key=len, default=frozenset())
    cheapest = min(sets, key=lambda s: (prices.of_set(s), len(s)), default=frozenset())
    near = min(sets, key=lambda s: len(s ^ own), default=frozenset()) if own else frozenset[str]()
    return Alternatives(
        frame,
        _sets_frame(subset, scorer),
        _ordered(smallest, scorer),
        _ordered(cheapest, scorer),
        _ordered(near, scorer),
        _ordered(near - own if own else frozenset(), scorer),
        _ordered(own - near, scorer),
        limit,
        within,
        every,
        looked_at,
        scorer.metric.label,
        scorer.features,
        _notes(frame, every, scorer.closed and not every, looked_at, len(order), within),
    )


def _known_now(now: Iterable[str], scorer: SubsetScorer) -> Set:
    own = frozenset([now] if isinstance(now, str) else now)
    for name in sorted(own - set(scorer.features)):
        raise UnknownColumn(f"column '{name}' is not a candidate feature.{nearest(name, scorer.features)}")
    return own


def _of_all(scorer: SubsetScorer, pinned: Set, within: float) -> tuple[list[Score], float, int]:
    """(good sets, the score from which a set is good, how many were looked at)."""
    engine = scorer.engine
    assert isinstance(engine, ClosedEngine)
    losses = losses_of_all(engine, scorer.work)
    place = {f: k for k, f in enumerate(scorer.features)}
    for f in pinned:
        losses.reshape(-1, 2, 1 << place[f])[:, 0] = np.inf
    total = scorer.tally.limits.total_cost
    if total is not None:
        losses[costs_of_all(scorer.prices, scorer.features) > total * (1 + 1e-6)] = np.inf
    best, nothing = float(losses.min()), float(scorer(()).mean)
    r2 = scorer.metric.name == "r2"
    worst = 1.0 - nothing if r2 else nothing
    limit = best + within * max(worst - best, 0.0)
    good = losses <= np.float32(limit) * (1 + 1e-6)
    numbers = irreducible(good, [k for f, k in place.items() if f not in pinned])
    numbers = numbers[np.argsort(losses[numbers], kind="stable")][:MOST_SETS]
    names = scorer.features
    sets = [frozenset(f for k, f in enumerate(names) if int(m) >> k & 1) for m in numbers]
    scored = scorer.engine.scores(sets, range(scorer.folds.count)) if sets else np.empty((0, 0, 1))
    scores = [Score(s, scorer.metric.name, v[:, 0], scorer.test_share) for s, v in zip(sets, scored, strict=True)]
    return [s for s in scores if s.features], (1.0 - limit if r2 else limit), losses.size >> len(pinned)


def _of_met(scorer: SubsetScorer, met: Mapping[Set, Score], pinned: Set, within: float) -> tuple[list[Score], float, int]:
    sign = 1.0 if scorer.metric.higher_is_better else -1.0
    known = {s: v for s, v in met.items() if s and scorer.affordable(s)}
    if not known:
        raise UsageError("the search visited no set: there is nothing to compare")
    best, nothing = max(sign * v.mean for v in known.values()), sign * scorer(()).mean
    limit = best - within * max(best - nothing, 0.0)
    if nothing >= limit and not pinned:
        return [], sign * limit, len(known)
    good = sorted((v for v in known.values() if sign * v.mean >= limit - 1e-12), key=lambda v: (len(v.features), -sign * v.mean))
    if scorer.closed:
        best_first = sorted(good, key=lambda v: (-sign * v.mean, len(v.features), sorted(v.features)))
        pared = {s.features: s for s in (_pared(scorer, v, pinned, limit, sign) for v in best_first[:PARED])}
        good = sorted(_spread(scorer, pared, pinned, limit, sign).values(), key=lambda v: (len(v.features), -sign * v.mean))
    out: list[Score] = []
    for score in good[:MOST_SETS]:
        if not any(other.features < score.features for other in out):
            out.append(score)
    return out, sign * limit, len(known)


def _spread(scorer: SubsetScorer, start: Mapping[Set, Score], pinned: Set, limit: float, sign: float) -> dict[Set, Score]:
    """The sets, and what can be reached from them by exchanging one feature for another again and again, while that stays good."""
    out, todo = dict(start), sorted(start, key=lambda s: (-sign * start[s].mean, sorted(s)))
    while todo and len(out) < SPREAD:
        here = todo.pop(0)
        for gone in sorted(here - pinned):
            walk = scorer.walk(here - {gone})
            outside = scorer.affordable_steps(walk.features, sorted(set(scorer.features) - here))
            if not outside:
                continue
            changes = walk.changes(outside)
            for name in np.array(changes.names)[sign * changes.means >= limit - 1e-12]:
                reached = _pared(scorer, changes[str(name)], pinned, limit, sign)
                if reached.features not in out:
                    out[reached.features] = reached
                    todo.append(reached.features)
    return out


def _pared(scorer: SubsetScorer, score: Score, pinned: Set, limit: float, sign: float) -> Score:
    """The set without what it can spare, the least missed going first; in closed form that costs next to nothing."""
    walk = scorer.walk(score.features)
    while len(walk.features - pinned) > (0 if pinned else 1):
        changes = walk.changes(sorted(walk.features - pinned))
        name = changes.best()
        if sign * changes[name].mean < limit - 1e-12:
            break
        score = changes[name]
        walk.toggle(name)
    return score


def _roles(sets: Sequence[Set], offered: Sequence[str]) -> pd.DataFrame:
    import pandas as pd

    count = {f: sum(f in s for s in sets) for f in offered}
    partners = _partners(sets)
    rows = []
    for f in offered:
        role = "in none" if not count[f] else "in all" if count[f] == len(sets) else "interchangeable"
        others = sorted(partners[f], key=lambda g: (-partners[f][g], g))
        rows.append({"role": role, "share": count[f] / max(len(sets), 1), "instead": ", ".join(others[:NAMED])})
    frame = pd.DataFrame(rows, index=pd.Index(offered, name="feature"), columns=["role", "share", "instead"])
    return frame.sort_values("share", ascending=False, kind="stable")


def _partners(sets: Sequence[Set]) -> dict[str, dict[str, int]]:
    """Feature → who stands in its place in a set that is otherwise the same, and how often."""
    open_: dict[Set, list[str]] = defaultdict(list)
    for s in sets:
        for f in s:
            open_[s - {f}].append(f)
    out: dict[str, dict[str, int]] = defaultdict(lambda: defaultdict(int))
    for subset in open_.values():
        for f in subset:
            for g in subset:
                if f != g:
                    out[f][g] += 1
    return out


def _sets_frame(scores: Sequence[Score], scorer: SubsetScorer) -> pd.DataFrame:
    import pandas as pd

    columns = ["size", "score", "score_se", *(["cost"] if scorer.prices else []), "features"]
    rows = [
        {"size": len(s.features), "score": s.mean, "score_se": s.se, "cost": scorer.prices.of_set(s.features)}
        | {"features": _ordered(s.features, scorer)}
        for s in scores
    ]
    return pd.DataFrame(rows, columns=columns).rename_axis("set")


def _ordered(subset: Set, scorer: SubsetScorer) -> tuple[str, ...]:
    return tuple(f for f in scorer.features if f in subset)


def _notes(frame: pd.DataFrame, every: bool, pared: bool, looked_at: int, result: int, within: float) -> tuple[str, ...]:
    only = f"an exhaustive comparison needs a linear model and at most {MOST} features"
    seen = f"all {looked_at:,} sets there are" if every else f"the {looked_at:,} sets that the search visited ({only})"
    how = ", reduced to minimal sets, and all single swaps from those" if pared else ""
    counts = frame["role"].value_counts()
    text = ", ".join(f"{int(counts.get(r, 0))} {r}" for r in ("in all", "interchangeable", "in none"))
    out = [
        f"compared: {seen}{how}; {result:,} of these are minimal and within {within:.0%} of the best improvement",
        f"features: {text}",
        "these are search scores: use them to compare sets, not to estimate performance",
    ]
    if result > MOST_SETS:
        out.append(f"the best {MOST_SETS:,} of them are compared")
    alone = frame[(frame["role"] == "interchangeable") & (frame["instead"] == "")]
    if len(alone):
        out.append(f"no single feature replaces {', '.join(map(str, alone.index[:NAMED]))}: several together do")
    return tuple(out)
