"""Drift: whether new rows look like those that a selection was made on, column by column, in one pass."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.arrays import Floats
from chaff.decide.distributions import Drift, Tally
from chaff.decide.selection_parts import KeptPart, SelectionData, ShapePart
from chaff.results.digits import figure
from chaff.results.plain import records
from chaff.results.shown import frame_html, frame_text
from chaff.stats.part_differences import shares_changed_p, unseen_p
from chaff.stats.tail_probabilities import normal_upper
from chaff.visible import Shown, listed

if TYPE_CHECKING:
    import pandas as pd


STABILITY = 0.2  # population stability index from which a column is said to have moved; over 0.25 is usually called much
MISSING = 0.05  # change of the missing share
FRESH = 0.01  # share of rows with levels that were not there, over what rare levels explain
OUTSIDE = 0.01  # share of rows outside the range that was there
FIGURES = 3  # that are tested of a column: its spread, what is missing, what is new
LEVEL = 0.01  # of a family: a small sample may look moved by chance
ALL_ROWS = 100_000  # up to here every row is tallied
STRIDE = 8  # and beyond it every so many; ranges, levels and gaps from all
NAMED = 5


@dataclass(frozen=True, repr=False)
class Drifts(Shown):
    """How new rows differ from those that a selection was made on."""

    frame: pd.DataFrame
    """One row a column: kind, stability (population stability index), distance, p (of the distance), missing_then, missing_now,
    outside_share (of the rows beyond the range then), fresh (new levels) and fresh_share, moved (whether beyond a limit), why."""
    rows: int
    notes: tuple[str, ...] = ()
    target: str = ""
    """The target's name, where it is among the columns."""

    @property
    def moved(self) -> tuple[str, ...]:
        """Columns beyond a limit."""
        return tuple(str(c) for c in self.frame.index[self.frame["moved"].to_numpy(bool)])

    @property
    def unlike(self) -> tuple[str, ...]:
        """In words, everything that `--strict` refuses: columns that moved, and any level that was not there."""
        return tuple(f"{name}: {r['why'] or _fresh_words(r['fresh'])}" for name, r in self.frame.iterrows() if r["moved"] or r["fresh"])

    @property
    def remarks(self) -> tuple[str, ...]:
        """In words, what is new but within the limits."""
        still = self.frame[~self.frame["moved"].to_numpy(bool)]
        fresh = [f"{name}: {_fresh_words(r['fresh'])}" for name, r in still.iterrows() if r["fresh"]]
        beyond = [f"{name} {r['outside_share']:.2%}" for name, r in still.iterrows() if r["outside_share"] > 0]
        return (*fresh, *([f"share of rows {listed(beyond, NAMED)}"] if beyond else []))

    @property
    def headline(self) -> str:
        moved = self.moved
        target = self.target in self.frame.index
        features = [f for f in moved if f != self.target]
        count = len(self.frame) - target
        out = f"drift: {len(features) or 'none'} of {count} features" + (f" ({listed(features, NAMED)})" if features else "")
        out += ("; the target too" if self.target in moved else "; not the target" if features else ", nor the target") if target else ""
        return f"{out} ({self.rows:,} new rows)"

    def __str__(self) -> str:
        return frame_text(self.headline, self.frame, SHOWN, self.notes)

    def _repr_html_(self) -> str:
        return frame_html(self.headline, self.frame, SHOWN, self.notes)

    def as_plain(self) -> dict[str, Any]:
        return {"rows": self.rows, "moved": list(self.moved), "columns": records(self.frame), "notes": list(self.notes)}


def _fresh_words(levels: Iterable[str]) -> str:
    new = list(levels)
    return f"{len(new)} level{'s' * (len(new) > 1)} that {'were' if len(new) > 1 else 'was'} not there ({listed(new, NAMED)})"


SHOWN = ("why", "stability", "missing_then", "missing_now")


@dataclass
class Watcher:
    """Sees every batch of the kept columns once."""

    selection: SelectionData
    tallies: dict[str, Tally] = field(default_factory=dict)
    rows: int = 0

    def __post_init__(self) -> None:
        made = {d.name for d in self.selection.derived}
        parts = [k for k in self.selection.kept if k.distribution is not None and not k.members and k.name not in made]
        self.tallies = {k.name: Tally(k.distribution) for k in parts if k.distribution is not None}

    def see(self, name: str, column: Any) -> None:
        """An Arrow column under the kind that the selection knows: numbers, or words."""
        import pyarrow as pa
        import pyarrow.compute as pc
        import pyarrow.types as pt

        tally = self.tallies.get(name)
        if tally is None or not len(column):
            return
        kind = column.type
        if pt.is_boolean(kind) and not {"True", "False"} & set(tally.distribution.levels):
            column, kind = column.cast(pa.int8()), pa.int8()  # what was 0 and 1 then
        if tally.distribution.levels or pt.is_dictionary(kind) or pt.is_string(kind) or pt.is_large_string(kind):
            tally.add_words({_word(v["values"]): int(v["counts"]) for v in pc.value_counts(_plain_words(column)).to_pylist()})
            return
        stride = 1 if tally.rows < ALL_ROWS else STRIDE
        if not pt.is_null(kind):
            ends = pc.min_max(column).as_py()
            tally.reach(ends["min"], ends["max"])
        subset = column if stride == 1 else column.take(pa.array(np.arange(0, len(column), stride)))
        tally.add_numbers(pc.cast(subset, pa.float64(), safe=False).to_numpy(zero_copy_only=False).astype(float), stride)

    def drifts(self, effects: Mapping[str, float] | None = None, notes: tuple[str, ...] = ()) -> Drifts:
        """Once every batch has been seen."""
        return drifts_of({k.name: k for k in self.selection.kept}, self.tallies, effects or {}, notes)


def _plain_words(column: Any) -> Any:
    import pyarrow as pa
    import pyarrow.types as pt

    kind = column.type
    if pt.is_dictionary(kind):
        column = column.cast(kind.value_type)
    return column if pt.is_string(column.type) or pt.is_large_string(column.type) else column.cast(pa.string())


def _word(value: Any) -> str | None:
    return None if value is None else {"true": "True", "false": "False"}.get(str(value), str(value))


def drifts_of(
    parts: Mapping[str, KeptPart], tallies: Mapping[str, Tally], effects: Mapping[str, float], notes: tuple[str, ...] = (), target: str = ""
) -> Drifts:
    """What the tallies say, each held against its limits.

    effects : by how much rows that hang together make a column's spread wider than as many single ones would (1 where left out).
    """
    import pandas as pd

    rows = {}
    for name, tally in tallies.items():
        drift = tally.drift()
        rows[name] = _row(parts[name], tally, drift, effects.get(name, 1.0), FIGURES * max(len(tallies), 1))
    columns = ["kind", "stability", "distance", "p", "missing_then", "missing_now", "outside_share", "fresh", "fresh_share", "moved", "why"]
    frame = pd.DataFrame.from_dict(rows, orient="index", columns=columns).rename_axis("column")
    frame["moved"] = frame["moved"].astype(bool)
    return Drifts(frame, max((t.rows for t in tallies.values()), default=0), notes, target)


def _row(part: KeptPart, tally: Tally, drift: Drift, effect: float, tests: int) -> list[Any]:
    level = LEVEL / tests
    p = distance_p(tally, drift, effect)
    then, now = drift.missing
    known = set(part.levels or ())
    new_levels = tuple(w for w in drift.fresh if w not in known)
    fresh = sum(tally.levels[w] for w in new_levels) / max(tally.present, 1)
    outside = tally.outside
    why = []
    if drift.stability >= STABILITY and p < level:
        why.append(f"its distribution differs (PSI {figure(drift.stability)})")
    if abs(now - then) >= MISSING and _missing_p(tally, drift, effect) < level:
        why.append(f"missing {then:.1%} then, {now:.1%} now")
    if fresh >= FRESH and fresh_p(tally, new_levels, len(known), effect) < level:
        why.append(f"{fresh:.1%} of the rows have levels that were not there: {listed(list(new_levels), NAMED)}")
    if outside >= OUTSIDE and outside_p(tally.distribution, outside, tally.present, effect) < level:
        why.append(f"{outside:.1%} of the rows out of range")
    return [part.kind, drift.stability, drift.distance, p, then, now, outside, new_levels, fresh, bool(why), "; ".join(why)]


def distance_p(tally: Tally, drift: Drift, effect: float) -> float:
    """How often a sample from the same rows would lie so far off: Kolmogorov–Smirnov for numbers (over the steps, so too cautious),
    Pearson's chi-square of the levels, rare ones added up; rows that hang together count for less."""
    shape, present = tally.distribution, tally.present
    old = round(shape.rows * (1 - shape.missing_share))
    if drift.stability != drift.stability or old < 1 or present < 1:
        return float("nan")
    if shape.levels:
        _, then, now = tally.level_counts()
        return shares_changed_p(then, now, effect)
    from scipy.special import kolmogorov

    size = old * present / (old + present) / max(effect, 1.0)
    return float(kolmogorov(np.sqrt(size) * drift.distance))


def fresh_p(tally: Tally, new_levels: tuple[str, ...], levels: int, effect: float) -> float:
    """How often so many rows would have levels that were not there, had nothing changed but which rare ones came."""
    shape = tally.distribution
    rows = shape.rows * (1 - shape.missing_share)
    then = np.rint(np.array(list(shape.levels.values())) * rows)
    further = max(levels - then.size, 0)  # that the shape does not list: as many rows each as they have on average
    then = np.concatenate([then, np.full(further, max((rows - then.sum()) / further, 1.0) if further else 0.0)])
    fresh = np.array([tally.levels[w] for w in new_levels], float)
    listed = [tally.levels.get(w, 0) for w in shape.levels]
    rest = max(tally.present - sum(listed) - fresh.sum(), 0.0)
    now = np.array([*listed, *np.full(further, rest / max(further, 1))], float)
    return unseen_p(np.concatenate([then, np.zeros(fresh.size)]), np.concatenate([now, fresh]), effect)


def outside_p(shape: ShapePart, outside: float, present: int, effect: float) -> float:
    """How often so many of further rows lie beyond the ends of those then: the share beyond the ends of n rows is Beta (2, n − 1) (Wilks,
    1941), so that the count among m others is beta-binomial."""
    from scipy.special import betaln, gammaln

    n, m = (max(x / max(effect, 1.0), 3.0) for x in (shape.rows * (1 - shape.missing_share), present))
    j = np.arange(np.ceil(outside * m - 1e-9))  # fewer than were seen
    ways = gammaln(m + 1) - gammaln(j + 1) - gammaln(m - j + 1)
    return max(0.0, 1.0 - float(np.exp(ways + betaln(j + 2, m - j + n - 1) - betaln(2.0, n - 1)).sum()))


def _missing_p(tally: Tally, drift: Drift, effect: float) -> float:
    then, now = drift.missing
    n, m = tally.distribution.rows, tally.rows
    both = (then * n + now * m) / max(n + m, 1)
    spread = np.sqrt(max(both * (1 - both), 0.0) * (1 / max(n, 1) + 1 / max(m, 1)) * max(effect, 1.0))
    return 2 * float(normal_upper(np.array(abs(now - then) / spread))) if spread > 0 else 1.0


def column_effect(values: Floats, units: Any) -> float:
    """Variance of a column's mean with its groups or order over the one of single rows; 1 where every row is a witness of its own."""
    from chaff.stats.paired_loss import Units

    seen = np.flatnonzero(~np.isnan(values))
    if units is None or seen.size < 3:
        return 1.0
    x = values[seen]
    together, alone = units.take(seen).mean(x).se, Units().mean(x).se
    return max(1.0, (together / alone) ** 2) if alone > 0 and together == together else 1.0
