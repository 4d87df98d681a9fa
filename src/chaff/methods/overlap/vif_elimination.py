"""Inflation: variance inflation factors, and their elimination one at a time."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from functools import partial
from typing import Any, ClassVar, Literal

import numpy as np

from chaff.arrays import Flags, Floats, Ints
from chaff.errors import UsageError
from chaff.evaluate.setting import Setting
from chaff.methods.overlap.inflation import InflationColumns, among, infinite, inflation_columns
from chaff.methods.overlap.overlap_data import OverlapData
from chaff.results.findings import Better, Findings
from chaff.results.trail import trail_frame
from chaff.results.verdict import Verdict, drop, keep
from chaff.stats.inflation import Elimination, inflation, prune_inflation
from chaff.table.table import Table

WITNESSES = 3


@dataclass(frozen=True)
class Inflation:
    """Stepwise VIF elimination: drop one feature over the limit at a time, until none is.

    Parameters
    ----------
    limit : float
        VIF above which a feature may be dropped, above 1; 10 means that the other features explain 90 % of it. Categories: generalised
        VIF on the scale of one column.
    order : "claim" or "largest"
        Of the features over the limit, the one of the lowest priority is dropped first (pins, relevance, missing values, cost, name), or
        the one with the largest VIF, which may be the best of them.

    Returns
    -------
    Findings
        One row a feature: vif at the start, vif_left at the end, move (step of its removal), verdict, figure, reason.
        ``more["trail"]``: move, feature, vif, explained_by (of the features then left), largest_left (and of which feature),
        r_squared_before and r_squared_after (of the target on all features then left). ``more["path"]``: VIF of every feature after
        every step.

    Raises
    ------
    UsageError, DataError

    Notes
    -----
    The model has an intercept: a VIF without one is much larger. With missing values the correlations are those of maximum
    likelihood over all rows. A feature that shares fewer than three rows a column with another is not assessed. Levels of a
    category that others determine are left out, and a note reports it. Every member of an exact dependency has infinite VIF; the
    least relevant is dropped first. Each removal updates the inverse; a fresh factorisation checks the end. Source: Marquardt,
    1970; generalised: Fox and Monette, 1992.

    Examples
    --------
    >>> import chaff
    >>> found = chaff.prune_inflation(chaff.demo.table(rows=300), features=["protein_pct", "protein_nir_pct", "ash_pct"])
    >>> found.more["trail"]["feature"].tolist()
    ['protein_nir_pct']
    """

    limit: float = 10.0
    order: Literal["claim", "largest"] = "claim"
    name: str = ""

    use: ClassVar[str] = "inflation"
    without_target: ClassVar[bool] = True
    hint_if_empty: ClassVar[str] = "raise its limit, or pin a feature (--pin-keep)"

    def __post_init__(self) -> None:
        if not self.limit > 1:
            raise UsageError(f"inflation limit must be above 1, not {self.limit}")
        if self.order not in ("claim", "largest"):
            raise UsageError(f"inflation order must be claim or largest, not {self.order!r}")

    def uses_target(self) -> bool:
        """Who of a pair goes is told by relevance."""
        return True

    def judge(self, table: Table, setting: Setting) -> Findings:
        return self.eliminate(OverlapData.of(table, setting), table.features, setting)

    def eliminate(self, data: OverlapData, features: Sequence[str], setting: Setting) -> Findings:
        """The elimination among these features, on data that is laid already."""
        import pandas as pd

        there = set(data.table.features)
        able = [f for f in features if f in there]
        moments = data.moments.select(able)
        place = data.columns_of(able)
        correlations = data.correlations[np.ix_(place, place)]
        with_gaps = partial(_placed, data, place)
        cols = inflation_columns(moments, correlations, data.explicit, with_gaps)
        C, starts, columns = cols.C, cols.starts, cols.columns
        last = sorted(able, key=lambda f: data.priorities[f].going())
        order = {f: k for k, f in enumerate(last)}
        key = np.array([order[f] for f in able], np.int64)
        protected = np.array([setting.kept_by_pin(f) for f in able], bool)
        done = _exact_first(cols, moments.complete, key, protected, self.limit, self.order == "claim")
        names = np.array(able, object)
        frame = pd.DataFrame(index=pd.Index(features, name="feature"))
        frame["vif"] = pd.Series(_judged(inflation(C, starts, columns), cols, moments.complete), index=able).reindex(features)
        frame["vif_left"] = pd.Series(done.kept_vif, index=names[done.kept]).drop(names[cols.blank]).reindex(features)
        frame["move"] = pd.Series(np.arange(1.0, done.went.size + 1), index=names[done.went]).reindex(features)
        rows = [
            {"action": "drop", "feature": str(names[f]), "size": len(able) - k, "vif": float(vif)}
            | {"explained_by": ", ".join(_witnesses(C, starts, columns, int(f), names, done.went[: k - 1]))}
            for k, (f, vif) in enumerate(zip(done.went, done.vif, strict=True), 1)
        ]
        trail = trail_frame(rows, ("vif", "explained_by"))
        trail.index = pd.RangeIndex(1, len(trail) + 1, name="move")
        notes = cols.notes
        ways: dict[str, Better] = {"vif": "lower", "vif_left": "lower"}
        return Findings(self.use, frame, "vif", ways, asdict(self), notes, {"trail": trail}, "worst")

    def verdicts(self, result: Findings, setting: Setting) -> tuple[Verdict, ...]:
        went = {row["feature"]: row for _, row in result.more["trail"].iterrows()}
        out = []
        for f, row in result.frame.iterrows():
            if f in went:
                vif = went[f]["vif"]
                figure = f"vif {vif:.3g}" if np.isfinite(vif) else "vif infinite"
                words = (
                    "exact linear combination of other features (residual variance < 1e-10)"
                    if np.isinf(vif)
                    else f"R² {1 - 1 / vif:.3f} on the others"
                )
                tail = f", mainly {went[f]['explained_by']}" if went[f]["explained_by"] else ""
                out.append(drop(str(f), self.use, figure, f"{self.limit:g}", words + tail))
            else:
                out.append(keep(str(f), self.use, _left(row), f"{self.limit:g}"))
        return tuple(out)


def _placed(data: OverlapData, place: Ints, used: Ints, start: Floats) -> Floats:
    return data.correlations_with_gaps(place[used], start)


def _judged(vif: Floats, cols: InflationColumns, complete: bool) -> Floats:
    """Blank for what takes no part."""
    out = vif.copy()
    out[infinite(cols, complete)] = np.inf
    out[cols.blank] = np.nan
    return out


def _left(row: Any) -> str:
    return f"vif {row['vif_left']:.3g}" if row["vif_left"] == row["vif_left"] else ""


def _exact_first(result: InflationColumns, complete: bool, key: Ints, protected: Flags, limit: float, by_claim: bool) -> Elimination:
    """Exact dependencies among complete columns first, where they can be told for certain; then the limit.

    Pairwise correlations need not fit together, and shrinking them would turn an exact dependency into a merely large VIF.
    """
    if complete:
        return prune_inflation(result.C, result.starts, result.columns, limit, key, protected, by_claim)
    gappy = ~result.whole
    starts = result.starts
    whole = np.array([f for f in range(starts.size - 1) if not gappy[starts[f] : starts[f + 1]].any()], np.int64)
    first = _prune_subset(replace(result, C=result.plain), whole, np.inf, key, protected, by_claim)
    left = np.setdiff1d(np.arange(starts.size - 1), first.went)
    then = _prune_subset(result, left, limit, key, protected, by_claim)
    return Elimination(np.concatenate([first.went, then.went]), np.concatenate([first.vif, then.vif]), then.kept, then.kept_vif)


def _prune_subset(result: InflationColumns, subset: Ints, limit: float, key: Ints, protected: Flags, by_claim: bool) -> Elimination:
    part = among(result, subset)
    done = prune_inflation(part.C, part.starts, part.columns, limit, key[subset], protected[subset], by_claim)
    return Elimination(subset[done.went], done.vif, subset[done.kept], done.kept_vif)


def _witnesses(C: Floats, starts: Ints, columns: Ints, f: int, names: Any, gone: Ints) -> list[str]:
    """The features most correlated with f of those that were still there: a hint at who explains it."""
    own = columns[starts[f] : starts[f + 1]]
    left = [g for g in range(starts.size - 1) if g != f and g not in set(gone.tolist())]
    strength = [(float(np.abs(C[np.ix_(own, columns[starts[g] : starts[g + 1]])]).max(initial=0.0)), g) for g in left]
    strength.sort(key=lambda s: (-s[0], s[1]))
    return [str(names[g]) for s, g in strength[:WITNESSES] if s >= 0.3]
