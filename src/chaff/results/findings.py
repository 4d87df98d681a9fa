"""Findings: what one method measured, one row a feature; ranked, cut, tried at several limits, saved and read again."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from chaff.choices import fits
from chaff.errors import ArgumentError, DataError, UnknownColumn, UsageError, nearest
from chaff.files import read_json, save_frame
from chaff.results.cuts import Cut
from chaff.results.plain import plain, records
from chaff.results.shown import frame_html, frame_text
from chaff.stats.stability import exact_interval
from chaff.visible import Shown

if TYPE_CHECKING:
    import pandas as pd


FORMAT, VERSION = "chaff findings", 1
Better = Literal["higher", "lower", "magnitude", "nearest"]
"""Of the two sided ones: magnitude, the further from no relation the better; nearest, the nearer to it."""
NEUTRAL = {"auc": 0.5}  # where "no relation" is not 0


@dataclass(frozen=True, repr=False)
class Findings(Shown):
    """One method's measurements; text, tables and figures only format `frame`.

    Examples
    --------
    >>> import chaff
    >>> found = chaff.relevance(chaff.demo.table(rows=200), statistics=["pearson_r", "mutual_information"])
    >>> found.ranked("pearson_r").index[0]
    'crumb_score'
    >>> found.try_limits([0.2, 0.3], by="pearson_r")["stay"].is_monotonic_decreasing
    True
    """

    method: str
    frame: pd.DataFrame
    """Indexed by feature."""
    lead: str
    """The column that ranks."""
    better: Mapping[str, Better] = field(default_factory=dict)
    """Which way is better in each column that says something of that kind; "higher" where nothing is said."""
    settings: Mapping[str, Any] = field(default_factory=dict)
    notes: tuple[str, ...] = ()
    more: Mapping[str, pd.DataFrame] = field(default_factory=dict)
    """Further frames: matrices, pairs, trails of an elimination."""
    shown_first: Literal["best", "worst"] = "best"
    """Which end the user wants to see first: the worst of what repeats, the best of what predicts."""

    def way(self, column: str) -> Better:
        return self.better.get(column, "higher")

    @property
    def kept(self) -> tuple[str, ...]:
        """The features that stay, best first; all of them where nothing was decided."""
        ranked = self.ranked()
        return tuple(str(f) for f in (ranked.index[ranked["stays"].astype(bool)] if "stays" in ranked else ranked.index))

    def __len__(self) -> int:
        return len(self.frame)

    def __iter__(self) -> Iterator[str]:
        return iter(map(str, self.frame.index))

    def __contains__(self, feature: object) -> bool:
        return feature in self.frame.index

    def __getitem__(self, feature: str) -> pd.Series:
        """The row of one feature."""
        if feature not in self.frame.index:
            raise UnknownColumn(f"'{feature}' is not among these features.{nearest(feature, list(self))}")
        return self.frame.loc[feature]

    def plot(self, **settings: Any) -> Any:
        """The leading figure of these findings, as its command draws it; settings go to the function of `chaff.plots` that draws it."""
        import chaff

        return chaff.plots.figure_of(self, **settings)

    def values(self, by: str | None = None) -> pd.Series:
        """A column as it is ranked and cut: the distance from no relation where either way counts (an AUC of 0.2 as 0.8)."""
        column = self._known(by or self.lead)
        values = self.frame[column]
        if self.way(column) not in ("magnitude", "nearest"):
            return values
        middle = NEUTRAL.get(column, 0.0)
        return (values - middle).abs() + middle

    def ranked(self, by: str | None = None) -> pd.DataFrame:
        """The frame with the best first; features without a value last."""
        column = by or self.lead
        order = self.values(column).sort_values(ascending=self.ascending(column), kind="stable").index
        return self.frame.loc[order]

    def ascending(self, column: str) -> bool:
        """Whether the smaller value is the better one."""
        return self.way(column) in ("lower", "nearest")

    def shown(self, by: str | None = None) -> pd.DataFrame:
        """The frame in the order in which the user wants to see it."""
        column = by or self.lead
        ascending = self.ascending(column) == (self.shown_first == "best")
        return self.frame.loc[self.values(column).sort_values(ascending=ascending, kind="stable").index]

    def rank(self, by: str | None = None) -> pd.Series:
        """Place of every feature by one column, 1 for the best, ties sharing the better place; missing without a value."""
        column = by or self.lead
        return self.values(column).rank(ascending=self.ascending(column), method="min")

    def scaled(self) -> pd.DataFrame:
        """Every ranking column from 0 (the worst feature) to 1 (the best), to be looked at side by side."""
        import numpy as np

        out = {}
        for column in self.better:
            values = self.values(column).astype(float) if column in self.frame.columns else None
            if values is None or column.endswith(("_p", "_q")) or column in ("p", "q"):
                continue
            finite = values.where(np.isfinite(values))
            low, high = finite.min(), finite.max()
            part = (values.clip(upper=high) - low) / (high - low) if high > low else values.where(values.isna(), 1.0)
            out[column] = 1.0 - part if self.ascending(column) else part
        import pandas as pd

        return pd.DataFrame(out, index=self.frame.index)

    def stays(self, cut: Mapping[str, float] | Cut, by: str | None = None) -> tuple[str, ...]:
        """Features that a cut keeps, best first; nothing is computed again."""
        column = by or self.lead
        rule = cut if isinstance(cut, Cut) else Cut.from_mapping(cut)
        if rule.rule == "significant":
            flags = rule.stays(self.values("q"), False)
        else:
            flags = rule.stays(self.values(column), not self.ascending(column))
        return tuple(str(f) for f in self.ranked(column).index if flags[f])

    def try_limits(self, limits: Iterable[float], by: str | None = None, rule: str | None = None) -> pd.DataFrame:
        """How many features would stay, and which, at several limits at once; nothing is computed again.

        Parameters
        ----------
        limits : numbers
        by : str, optional
            Column that is cut; the leading one when left out.
        rule : "above", "below", "top", "share" or "times_mean", optional
            "below" for columns where lower is better (p, q, missing_share), else "above".

        Returns
        -------
        frame indexed by limit: stay (how many), goes_here (features that the limit before still kept), features (all that stay)
        """
        import pandas as pd

        limits = list(limits) if isinstance(limits, Iterable) and not isinstance(limits, str) else [limits]
        if not all(fits(v, float) for v in limits):
            raise ArgumentError(f"try_limits: limits must be a list of numbers, not {limits!r}")
        column = by or self.lead
        rule = rule or ("below" if self.ascending(column) else "above")
        sets = [(limit, self.stays({rule: limit}, column)) for limit in limits]
        if not sets:
            raise UsageError("no limit to try")
        rows = []
        for k, (limit, kept) in enumerate(sets):
            before = sets[k - 1][1] if k else kept
            rows.append((limit, len(kept), tuple(f for f in before if f not in kept), kept))
        return pd.DataFrame(rows, columns=["limit", "stay", "goes_here", "features"]).set_index("limit")

    def save(self, path: str | Path, by: str | None = None, decimals: int | None = None) -> None:
        """Write to a file: .json holds everything and is read again by `chaff.read_findings`; .csv and .parquet hold the
        frame, the best by `by` first, rounded to `decimals` when given."""
        frame = self.ranked(by) if by else self.frame
        save_frame(path, frame.round(decimals) if decimals is not None else frame, self._plain)

    def _plain(self) -> dict[str, Any]:
        return {
            "format": FORMAT,
            "version": VERSION,
            "method": self.method,
            "lead": self.lead,
            "shown_first": self.shown_first,
            "settings": _jsonable(dict(self.settings)),
            "notes": list(self.notes),
            "better": dict(self.better),
            "frame": _split(self.frame),
            "more": {k: _split(f) for k, f in self.more.items()},
        }

    def _known(self, column: str) -> str:
        if column not in self.frame.columns:
            known = [str(c) for c in self.frame.columns]
            raise UsageError(f"{self.method} has no column '{column}'; choose from {', '.join(known)}.{nearest(column, known)}")
        return column

    def as_plain(self) -> dict[str, Any]:
        """What a script reads: the frame as records, the further frames too."""
        return {
            "method": self.method,
            "lead": self.lead,
            "settings": plain(dict(self.settings)),
            "notes": list(self.notes),
            "records": records(self.frame),
            "more": {k: records(f) for k, f in self.more.items()},
        }

    def _title(self) -> str:
        return f"{self.method} · {len(self.frame)} features · by {self.lead.replace('_', ' ')}"

    def _as_read(self) -> pd.DataFrame:
        """As it is shown; of the screen what it drops and what is to be reviewed before what it keeps."""
        frame = self.shown()
        if self.method != "screen" or "verdict" not in frame:
            return frame
        return frame.loc[(frame["verdict"] == "keep").sort_values(kind="stable").index]

    def __str__(self) -> str:
        return frame_text(self._title(), self._as_read(), self._first(), self.notes)

    def _repr_html_(self) -> str:
        return frame_html(self._title(), self._as_read(), self._first(), self.notes)

    def _first(self) -> tuple[str, ...]:
        """What the user looks for before anything else."""
        if self.method == "screen":
            return ("verdict", "reason", "kind", "rows", "missing_share", self.lead)
        return (self.lead, "verdict", "reason", "kind", "rows")


def read_findings(path: str | Path) -> Findings:
    """Findings from the JSON file that `Findings.save` wrote, to be ranked and cut again; nothing in it is run.

    Raises
    ------
    DataError
        When it is not there, is not such a file, or was written by a later version.
    """
    file = Path(path)
    data = read_json(file, "findings", "holds no findings", FORMAT, VERSION)
    try:
        more = {k: _joined(f) for k, f in data["more"].items()}
        notes, first = tuple(data["notes"]), data["shown_first"]
        result = Findings(data["method"], _joined(data["frame"]), data["lead"], data["better"], data["settings"], notes, more, first)
        _check_sound(result)
        return result
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise DataError(f"{file.name} is damaged: {error!r}") from error


def _check_sound(result: Findings) -> None:
    """Refuse what could not have been saved: features twice, words where figures are ranked, cells that hold no value."""
    import pandas as pd

    if not isinstance(result.better, Mapping) or not isinstance(result.settings, Mapping) or not isinstance(result.lead, str):
        raise TypeError("better and settings must be objects, and lead a word")
    if result.lead not in result.frame.columns or not set(result.better) <= set(result.frame.columns):
        raise KeyError("a column that features are ranked by is not there")
    if result.frame.index.has_duplicates or not len(result.frame):
        raise ValueError("each feature must be there once, and one at least")
    for name in result.frame.columns:
        cells = result.frame[name].tolist()
        if any(isinstance(c, list | dict) for c in cells) and name in result.better:
            raise TypeError(f"{name} holds no plain values")
        if name in result.better and not pd.api.types.is_numeric_dtype(
            pd.Series([c for c in cells if c is not None and c == c], dtype=None)
        ):
            if any(c is not None and c == c for c in cells):
                raise TypeError(f"{name} holds words where figures are ranked")
            result.frame[name] = float("nan")


def _split(frame: pd.DataFrame) -> dict[str, Any]:
    return {
        "index_name": frame.index.name,
        "index": _jsonable(frame.index.tolist()),
        "columns": {str(c): _jsonable(frame[c].tolist()) for c in frame.columns},
    }


def _joined(part: Mapping[str, Any]) -> pd.DataFrame:
    import pandas as pd

    columns = {name: [_number(v) for v in cells] for name, cells in part["columns"].items()}
    columns = {name: cells if any(v is not None for v in cells) else [float("nan")] * len(cells) for name, cells in columns.items()}
    return pd.DataFrame(columns, index=pd.Index(part["index"], name=part["index_name"]))


def _jsonable(value: Any) -> Any:
    """JSON knows no NaN and no infinity: None and the words "inf", "-inf" stand for them."""
    if isinstance(value, Mapping):
        return {str(k): _jsonable(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [_jsonable(v) for v in value]
    if hasattr(value, "item"):
        value = value.item()
    if isinstance(value, float) and (value != value or abs(value) == float("inf")):
        return None if value != value else {"number": "inf" if value > 0 else "-inf"}
    return value if value is None or isinstance(value, str | int | float | bool) else str(value)


def _number(value: Any) -> Any:
    return float(value["number"]) if isinstance(value, dict) and set(value) == {"number"} else value


@dataclass(frozen=True)
class DecoyRate:
    """How many of the planted noise features were kept."""

    planted: tuple[str, ...]
    kept: tuple[str, ...]

    @classmethod
    def of(cls, planted: Sequence[str], kept: Collection[str]) -> DecoyRate:
        return cls(tuple(planted), tuple(f for f in planted if f in kept))

    @property
    def rate(self) -> float:
        return len(self.kept) / len(self.planted)

    @property
    def interval(self) -> tuple[float, float]:
        """Exact, 95 %."""
        return exact_interval(len(self.kept), len(self.planted))

    def __str__(self) -> str:
        low, high = self.interval
        named = f": {', '.join(self.kept[:4])}{' and more' if len(self.kept) > 4 else ''}" if self.kept else ""
        words = "noise feature was" if len(self.planted) == 1 else "noise features were"
        return (
            f"{len(self.kept)} of {len(self.planted)} {words} kept (false-keep rate {self.rate:.2f}, 95 %: {low:.2f} to {high:.2f}){named}"
        )

    def as_plain(self) -> dict[str, Any]:
        low, high = self.interval
        return {"planted": len(self.planted), "kept": list(self.kept), "rate": self.rate, "low": low, "high": high}


def best_decoy(ranked: Sequence[str], planted: Collection[str]) -> str:
    """Where the best decoy stands among all columns, for measurements that drop nothing."""
    place = next((k for k, f in enumerate(ranked, 1) if f in planted), 0)
    return (
        f"the best noise feature ({ranked[place - 1]}) comes {place}. of {len(ranked)}: features below it are no better than noise"
        if place
        else ""
    )
