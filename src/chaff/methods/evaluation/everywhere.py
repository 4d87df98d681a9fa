"""Holds everywhere? Each kept column's relation, and the kept set's score, by group or period, with a test that they differ."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.errors import DataError, UsageError
from chaff.methods.search.additions import row_losses
from chaff.methods.search.search_data import SearchData, averaged
from chaff.models.protocols import Model
from chaff.results.digits import figure, p_value
from chaff.results.plain import records
from chaff.results.shown import frame_html, frame_text
from chaff.stats.p_adjustment import holm
from chaff.stats.part_differences import ENOUGH_UNITS, FEWEST_UNITS, SHUFFLES, means_differ, slopes_differ, stretches
from chaff.stats.tail_probabilities import t_quantile
from chaff.table.table import Table
from chaff.visible import Shown
from chaff.work import Work, task

if TYPE_CHECKING:
    import pandas as pd

PERIODS = 5
FEWEST = 12  # rows of a part, under which its slope says nothing
MOST_ROWS = 20_000  # that are shuffled
LEVEL = 0.05


@dataclass(frozen=True, repr=False)
class Everywhere(Shown):
    """Whether what was found holds in every group or period.

    Examples
    --------
    >>> import chaff
    >>> run = chaff.select(chaff.demo.table(rows=600), plan=chaff.Plan((chaff.Screen(), chaff.Search(model="ridge"))))
    >>> found = run.holds_everywhere()
    >>> found.by, len(found.parts) > 5, found.features.columns.tolist()[:2]
    ('mill', True, ['overall', 'lowest'])
    """

    by: str
    parts: pd.DataFrame
    """One row a group or period: rows, score (of the kept set on rows that its model has not seen), gain (share of what nothing loses
    that is saved), gain_se, behind (whether it surely saves less than all the rows would lead one to expect)."""
    features: pd.DataFrame
    """One row a kept column: overall (slope in standard deviations), lowest and lowest_in, highest and highest_in, same_way (share of the
    parts with the sign of all), p, q (Holm), differs. p is missing where too few groups or stretches of time are left to tell."""
    score_p: float
    """Of the score differing between the parts at all."""
    metric: str
    notes: tuple[str, ...] = ()

    @property
    def some_only(self) -> tuple[str, ...]:
        """Columns whose relation differs between the parts more than chance."""
        return tuple(str(f) for f in self.features.index[self.features["differs"].to_numpy(bool)])

    @property
    def behind(self) -> tuple[str, ...]:
        """Parts where the kept set saves surely less than elsewhere."""
        return tuple(str(p) for p in self.parts.index[self.parts["behind"].to_numpy(bool)])

    @property
    def headline(self) -> str:
        count, subset, tested = len(self.parts), self.some_only, int(self.features["p"].notna().sum())
        if not tested:
            out = f"no test whether the slopes of {len(self.features)} features differ between the {count} parts by {self.by}"
        else:
            out = (
                f"{len(subset) or 'none'} of {tested} slopes differ{'s' * (len(subset) < 2)} between the {count} parts by "
                f"{self.by} (Holm p < {LEVEL:g})"
            )
        out += f": {', '.join(subset)}" if subset else ""
        return out + (f"; the kept set predicts worse in {', '.join(self.behind)}" if self.behind else "")

    @property
    def words(self) -> tuple[str, ...]:
        """A line for every column that does not hold everywhere."""
        out = []
        for f in self.some_only:
            r = self.features.loc[f]
            reach = f"from {figure(r['lowest'], 2)} in {r['lowest_in']} to {figure(r['highest'], 2)} in {r['highest_in']}"
            out.append(f"{f}: slope {reach} (all: {figure(r['overall'], 2)}; p {p_value(r['q'])} adjusted)")
        return tuple(out)

    def __str__(self) -> str:
        return "\n".join(
            [self.headline, frame_text("Columns", self.features), frame_text("Score", self.parts, notes=self.notes)]
        )  # fmt: skip

    def _repr_html_(self) -> str:
        return frame_html(self.headline, self.features) + frame_html("Score", self.parts, notes=self.notes)

    def as_plain(self) -> dict[str, Any]:
        return {
            "by": self.by, "some_only": list(self.some_only), "behind": list(self.behind), "score_p": self.score_p,
            "features": records(self.features), "parts": records(self.parts), "notes": list(self.notes),
        }  # fmt: skip


def parts_of(table: Table, by: str | None) -> tuple[str, Ints, list[str]]:
    """(what the parts are made by, code of every row or -1, names): groups, periods of equal rows, or the levels of a column."""
    terms = table.terms
    if by is None and table.order is None and table.groups is None:
        raise UsageError("everywhere needs parts: pass by=… (a category column), or open the table with groups or an order")
    if (by is None and table.order is not None) or (by is not None and by == terms.order):
        order = table.order
        assert order is not None
        places = np.searchsorted(np.sort(order), order, side="left")  # equal moments stay together
        codes = np.minimum(places * PERIODS // max(len(table), 1), PERIODS - 1).astype(np.int64)
        used, codes = np.unique(codes, return_inverse=True)
        return terms.order or "order", codes.astype(np.int64), [f"period {k + 1}" for k in range(used.size)]
    name = by or terms.groups or "groups"
    if by is None or by == terms.groups:
        assert table.groups is not None
        words = group_names(table)
        used, codes = np.unique(table.groups, return_inverse=True)
        return name, codes.astype(np.int64), [words[int(np.flatnonzero(codes == k)[0])] for k in range(used.size)]
    column = table.column(name)
    if not column.levels:
        raise UsageError(f"by '{name}': parts are made by a column of words, the groups or the order; it holds {column.kind} values")
    return name, np.where(column.missing, -1, np.nan_to_num(column.values)).astype(np.int64), list(column.levels)


def group_names(table: Table) -> list[str]:
    """The group of every row by its name; by a number of its own where it came as an array."""
    name = table.terms.groups
    if name is not None and name in table.source.arrow.column_names:
        return [str(v) for v in table.source.raw(name).take(table.rows).to_pylist()]
    assert table.groups is not None
    return [f"group {int(g) + 1}" for g in table.groups]


def everywhere_of(data: SearchData, model: Model, kept: Sequence[str], by: str | None, shuffles: int = SHUFFLES) -> Everywhere:
    """See `Run.holds_everywhere`."""
    table = data.table
    name, codes, names = parts_of(table, by)
    counts = np.bincount(codes[codes >= 0], minlength=len(names))
    usable = np.flatnonzero(counts >= FEWEST)
    if usable.size < 2:
        raise DataError(f"fewer than two parts by {name} have {FEWEST} rows or more, so nothing can be said of differences")
    notes = [f"{len(names) - usable.size} parts with fewer than {FEWEST} rows are left out"] if usable.size < len(names) else []
    place = np.full(len(names) + 1, -1)
    place[usable] = np.arange(usable.size)
    codes = place[codes]
    labels = [names[k] for k in usable]
    units = PermutedUnits.of(table, codes)
    features = _relations(table, [f for f in kept if f != name], codes, labels, shuffles, units, data.work)
    parts, p = _scores(data, model, kept, codes, labels, shuffles, units)
    notes.append(f"slopes in standard deviations, compared with {shuffles} permutations of {units.words} among the parts; adjusted by Holm")
    untested = [str(f) for f in features.index[features["p"].isna()]] + (["the score"] if p != p else [])
    if untested:
        notes.append(
            f"no p for {', '.join(untested[:4])}{' and more' * (len(untested) > 4)}: fewer than {FEWEST_UNITS} {units.words} in a part, or "
            f"fewer than {ENOUGH_UNITS} in all, that know nothing of each other"
        )
    return Everywhere(name, parts, features, p, data.row_metric.name, tuple(notes))


@dataclass(frozen=True)
class PermutedUnits:
    """What is dealt out among the parts: rows, or where they hang together whole groups or stretches of time."""

    order: Floats | None = None
    groups: Ints | None = None

    @classmethod
    def of(cls, table: Table, codes: Ints) -> PermutedUnits:
        """Groups that are the parts themselves hold nothing together within them."""
        if table.order is not None:
            return cls(order=table.order)
        if table.groups is None:
            return cls()
        subset = np.flatnonzero(codes >= 0)
        a_part = np.unique(np.column_stack([codes[subset], table.groups[subset]]), axis=0).shape[0]
        return cls() if a_part == np.unique(codes[subset]).size else cls(groups=table.groups)

    @property
    def words(self) -> str:
        return "stretches of time" if self.order is not None else "groups" if self.groups is not None else "rows"

    @property
    def rows(self) -> bool:
        """Whether rows are dealt one by one."""
        return self.order is None and self.groups is None

    def units(self, series: Floats, subset: Ints, parts: Ints) -> Ints | None:
        """Unit of each of some rows; `series` is what is added up over them."""
        if self.order is not None:
            return stretches(series, self.order[subset], parts)
        if self.groups is not None:
            return np.unique(np.column_stack([parts, self.groups[subset]]), axis=0, return_inverse=True)[1].reshape(-1)
        return None


def _relations(
    table: Table, kept: Sequence[str], codes: Ints, labels: Sequence[str], shuffles: int, units: PermutedUnits, work: Work
) -> pd.DataFrame:  # fmt: skip
    import pandas as pd

    result = work.each(task(_relation, table, codes, labels, shuffles, units, work), list(kept), "everywhere")
    rows = {f: r for f, r in zip(kept, result, strict=True) if r is not None}
    columns = ["overall", "lowest", "lowest_in", "highest", "highest_in", "same_way", "p"]
    frame = pd.DataFrame.from_dict(rows, orient="index", columns=columns).rename_axis("feature")
    frame["q"] = holm(frame["p"].to_numpy(float)) if len(frame) else []
    frame["differs"] = frame["q"].to_numpy(float) < LEVEL
    return frame.sort_values("p", kind="stable")


def _relation(
    table: Table, codes: Ints, labels: Sequence[str], shuffles: int, units: PermutedUnits, work: Work, feature: str
) -> list[Any] | None:  # fmt: skip
    """One column's slopes by part; of several classes those of the class where they differ most."""
    best: list[Any] | None = None
    targets = table.targets if table.targets.shape[1] > 1 else table.targets[:, :1]
    least = 1.0
    for t in range(targets.shape[1]):
        y = targets[:, t]
        x = _as_number(table, feature, y)
        subset = np.flatnonzero(~np.isnan(x) & (codes >= 0))
        rng = work.stream("everywhere", feature, t)
        if subset.size > MOST_ROWS and units.rows:
            subset = np.sort(rng.permutation(subset)[:MOST_ROWS])
        counts = np.bincount(codes[subset], minlength=len(labels))
        able = np.flatnonzero(counts >= FEWEST)
        if able.size < 2:
            continue
        place = np.full(len(labels), -1)
        place[able] = np.arange(able.size)
        subset = subset[place[codes[subset]] >= 0]
        sx, sy = x[subset].std(), y[subset].std()
        if not (sx > 0 and sy > 0):
            continue
        a, b, part = (x[subset] - x[subset].mean()) / sx, (y[subset] - y[subset].mean()) / sy, place[codes[subset]]
        result = slopes_differ(a, b, part, shuffles, rng, units.units(a * (b - a * float(a @ b) / subset.size), subset, part))
        p = float(np.minimum(1.0, result.p * targets.shape[1]))  # missing stays missing
        if best is None or p < least or least != least:
            low, high = int(result.values.argmin()), int(result.values.argmax())
            same = float((np.sign(result.values) == np.sign(result.overall)).mean())
            names = [labels[int(k)] for k in able]
            best, least = [result.overall, result.values[low], names[low], result.values[high], names[high], same, p], p
    return best


def _as_number(table: Table, feature: str, y: Floats) -> Floats:
    """A column as numbers: levels by the mean target that they have over all parts, shrunk towards the mean of all."""
    column = table.column(feature)
    if not column.levels or column.kind == "binary":
        return column.values
    present = ~column.missing
    codes = column.values[present].astype(int)
    counts, sums = np.bincount(codes, minlength=len(column.levels)), np.bincount(codes, y[present], minlength=len(column.levels))
    means = (sums + 5.0 * y[present].mean()) / (counts + 5.0)
    out = np.full(len(table), np.nan)
    out[present] = means[codes]
    return out


def _scores(
    data: SearchData, model: Model, kept: Sequence[str], codes: Ints, labels: Sequence[str], shuffles: int, units: PermutedUnits
) -> tuple[pd.DataFrame, float]:
    """The kept set's score by part, on rows that its model has not seen."""
    import pandas as pd

    loss, none = row_losses([frozenset(kept)], model, data)[0], averaged(data.none.losses[0])
    subset = np.flatnonzero(~np.isnan(loss) & ~np.isnan(none) & (codes >= 0))
    loss, none, part = loss[subset], none[subset], codes[subset]
    ratio = float(loss.sum() / max(none.sum(), 1e-300))
    off = loss - ratio * none  # above 0 where more is lost than the gain of all would lead one to expect
    used, part = np.unique(part, return_inverse=True)
    permuted = units.units(off, subset, part)
    result = means_differ(off, part, shuffles, data.work.stream("everywhere", "score"), permuted)
    permuted = np.arange(off.size) if permuted is None else permuted
    of_losses = data.row_metric.of_losses
    assert of_losses is not None
    rows = {}
    for k in range(used.size):
        here = part == k
        n, a, b = int(here.sum()), float(loss[here].sum()), float(none[here].sum())
        t = result.values[k] / result.errors[k]
        rows[labels[int(used[k])]] = [
            n,
            of_losses(a, b, float(n)),
            1 - a / b if b > 0 else float("nan"),
            result.errors[k] * n / b if b > 0 else 0.0,
            t,
            np.unique(permuted[here]).size,
        ]
    frame = pd.DataFrame.from_dict(rows, orient="index", columns=["rows", "score", "gain", "gain_se", "t", "units"]).rename_axis("part")
    limit = np.array([t_quantile(1 - LEVEL / len(frame), max(n - 1.0, 1.0)) for n in frame["units"]])
    frame["behind"] = (frame["t"].to_numpy(float) > limit) & (result.p < LEVEL)
    return frame.drop(columns=["t", "units"]).sort_values("gain", kind="stable"), result.p
