"""Inflation: variance inflation factors, and their elimination one at a time."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any, ClassVar

import numpy as np

from chaff.arrays import Flags, Floats, Ints
from chaff.errors import UsageError
from chaff.evaluate.setting import Setting
from chaff.methods.overlap.pair_cut import column_correlations
from chaff.methods.overlap.priority import priorities
from chaff.results.findings import Findings
from chaff.results.verdict import Verdict, drop, keep
from chaff.stats.inflation import Elimination, inflation, nearest_positive, prune_inflation
from chaff.table.levels import TrainedLevels
from chaff.table.moments import Moments, table_moments
from chaff.table.table import Table
from chaff.work import Work

WITNESSES = 3


@dataclass(frozen=True)
class Inflation:
    """VIF elimination: the feature with the largest VIF goes, one at a time, until none is over the limit.

    Parameters
    ----------
    limit : float
        1 / (1 - R²) of a feature on all others; 10 is R² 0.9. Categories: generalised VIF on the scale of one column.

    Notes
    -----
    The intercept is handled: figures made without one are much larger. With gaps the correlations are pairwise-complete,
    never mean-filled, which hides repeats. Every member of an exact dependency has infinite VIF; the least relevant goes
    first. Source: Marquardt, 1970; generalised: Fox and Monette, 1992.
    """

    limit: float = 10.0

    use: ClassVar[str] = "inflation"
    loosen: ClassVar[str] = "raise its limit, or pin a feature (--pin-keep)"

    def __post_init__(self) -> None:
        if not self.limit > 1:
            raise UsageError(f"inflation limit must be above 1, not {self.limit}")

    def judge(self, table: Table, setting: Setting, work: Work) -> Findings:
        import pandas as pd

        moments = table_moments(table, table.features, work)
        C, starts, columns = inflation_matrix(moments)
        claim = priorities(table, setting)
        last = sorted(table.features, key=lambda f: claim[f].going())
        key = np.array([last.index(f) for f in table.features], np.int64)
        protected = np.array([setting.kept_by_pin(f) for f in table.features], bool)
        done = _exact_first(moments, C, starts, columns, key, protected, self.limit)
        frame = pd.DataFrame(index=pd.Index(table.features, name="feature"))
        frame["vif"] = inflation(C, starts, columns)
        frame["vif_left"] = np.nan
        frame.iloc[done.kept, frame.columns.get_loc("vif_left")] = done.kept_vif
        frame["move"] = np.nan
        frame.iloc[done.went, frame.columns.get_loc("move")] = np.arange(1, done.went.size + 1)
        names = np.array(table.features, object)
        trail = pd.DataFrame(
            {
                "move": np.arange(1, done.went.size + 1),
                "feature": names[done.went],
                "vif": done.vif,
                "explained_by": [", ".join(_witnesses(C, starts, columns, int(f), names)) for f in done.went],
            }
        )
        notes = () if moments.complete else ("gaps: correlations over the rows where both columns are present",)
        return Findings(self.use, frame, "vif", False, asdict(self), notes, {"trail": trail})

    def verdicts(self, result: Findings, setting: Setting) -> tuple[Verdict, ...]:
        went = {row["feature"]: row for _, row in result.more["trail"].iterrows()}
        out = []
        for f, row in result.frame.iterrows():
            if f in went:
                vif = went[f]["vif"]
                figure = f"vif {vif:.3g}" if np.isfinite(vif) else "vif infinite"
                words = "an exact combination of others" if np.isinf(vif) else f"R² {1 - 1 / vif:.3f} on the others"
                tail = f", foremost {went[f]['explained_by']}" if went[f]["explained_by"] else ""
                out.append(drop(str(f), self.use, figure, f"{self.limit:g}", words + tail))
            else:
                out.append(keep(str(f), self.use, _left(row), f"{self.limit:g}"))
        return tuple(out)


def _left(row: Any) -> str:
    return f"vif {row['vif_left']:.3g}"


def inflation_matrix(moments: Moments) -> tuple[Floats, Ints, Ints]:
    """(correlation of the columns in use, starts, columns). A category leaves its commonest level out; a column without
    spread takes no part; of pairs that share no row nothing is known, which is taken as no correlation."""
    levels = TrainedLevels.learn(moments)
    columns = levels.columns
    C = column_correlations(moments)[np.ix_(columns, columns)]
    if np.isnan(C).any():
        C = np.nan_to_num(C)
        np.fill_diagonal(C, 1.0)
    return C, levels.starts, np.arange(columns.size, dtype=np.int64)


def _exact_first(moments: Moments, C: Floats, starts: Ints, columns: Ints, key: Ints, protected: Flags, limit: float) -> Elimination:
    """Exact dependencies among complete columns first, where they can be told for certain; then the limit.

    Pairwise correlations need not fit together: with gaps the matrix may have negative eigenvalues, which are clipped. That
    would turn an exact dependency into a merely large VIF, hence the order.
    """
    if moments.complete:
        return prune_inflation(C, starts, columns, limit, key, protected)
    used = TrainedLevels.learn(moments).columns
    gappy = np.isin(used, moments.layout.gaps)
    whole = np.array([f for f in range(starts.size - 1) if not gappy[starts[f] : starts[f + 1]].any()], np.int64)
    first = _prune_some(C, starts, columns, whole, np.inf, key, protected)
    left = np.setdiff1d(np.arange(starts.size - 1), first.went)
    then = _prune_some(C, starts, columns, left, limit, key, protected, clip=True)
    return Elimination(np.concatenate([first.went, then.went]), np.concatenate([first.vif, then.vif]), then.kept, then.kept_vif)


def _prune_some(
    C: Floats, starts: Ints, columns: Ints, some: Ints, limit: float, key: Ints, protected: Flags, clip: bool = False
) -> Elimination:
    picks = [columns[starts[f] : starts[f + 1]] for f in some]
    inner = np.concatenate([[0], np.cumsum([c.size for c in picks])]).astype(np.int64)
    flat = np.concatenate([*picks, np.empty(0, np.int64)]).astype(np.int64)
    part = C[np.ix_(flat, flat)]
    if clip and part.size and np.linalg.eigvalsh(part)[0] < -1e-10:
        part = nearest_positive(part)
    done = prune_inflation(part, inner, np.arange(flat.size, dtype=np.int64), limit, key[some], protected[some])
    return Elimination(some[done.went], done.vif, some[done.kept], done.kept_vif)


def _witnesses(C: Floats, starts: Ints, columns: Ints, f: int, names: Any) -> list[str]:
    """The features most correlated with f: a hint at who explains it."""
    own = columns[starts[f] : starts[f + 1]]
    strength = [
        (float(np.abs(C[np.ix_(own, columns[starts[g] : starts[g + 1]])]).max(initial=0.0)), g) for g in range(starts.size - 1) if g != f
    ]
    strength.sort(key=lambda s: (-s[0], s[1]))
    return [str(names[g]) for s, g in strength[:WITNESSES] if s >= 0.3]
