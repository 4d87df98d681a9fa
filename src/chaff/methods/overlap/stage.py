"""Overlap: what columns repeat each other, exactly or nearly, and what leaving them out would cost."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from typing import TYPE_CHECKING, Any, ClassVar, Literal

import numpy as np

from chaff.evaluate.setting import Setting
from chaff.methods.overlap.overlap_data import OverlapData
from chaff.methods.overlap.pair_cut import Correlation
from chaff.methods.overlap.repeat_costs import Cost, cost_text, single_costs, total_costs
from chaff.methods.overlap.vif_elimination import Inflation
from chaff.methods.repeats import PAIR_LIMIT
from chaff.results.findings import Findings
from chaff.results.verdict import Verdict, drop, keep, review
from chaff.stats.tolerances import SINGULAR
from chaff.table.table import Table

if TYPE_CHECKING:
    import pandas as pd

WIDEST_SHARE = 0.5  # design columns per row over which every column is nearly a combination of the others


@dataclass(frozen=True)
class Overlap:
    """Pairs, then variance inflation on what is left. Exact repeats and exact relations go; anything less is a proposal.

    Parameters
    ----------
    pair_limit : float
        |r| over which a pair says the same; see `Correlation`. None (false) looks at copies only.
    vif_limit : float
        Variance inflation over which a feature is one too many; see `Inflation`. None (false) looks at exact combinations only.
    vif_order : "claim" or "largest"
        Which of the features over `vif_limit` is proposed first; see `Inflation`.

    Notes
    -----
    What is removed here costs nothing: it is a copy or an exact combination of what stays, and where a forest loses by it
    all the same it stays to be looked at. What merely repeats others is proposed with its cost, R² with and without it inside
    the folds; over the allowance, 2 % of what all features gain, it is `look`. The search decides. The stages `Correlation`
    and `Inflation` cut by the limits themselves.
    """

    pair_limit: float | None = PAIR_LIMIT
    vif_limit: float | None = 10.0
    vif_order: Literal["claim", "largest"] = "claim"
    name: str = ""

    use: ClassVar[str] = "overlap"
    without_target: ClassVar[bool] = True
    hint_if_empty: ClassVar[str] = "raise pair_limit (--pair-limit) or vif_limit (--vif-limit), or pin a feature (--pin-keep)"

    def __post_init__(self) -> None:
        _ = self._parts()

    def _parts(self) -> tuple[Correlation, Inflation]:
        pair = 1.0 - SINGULAR if self.pair_limit is None else self.pair_limit
        return Correlation(pair), Inflation(float("inf") if self.vif_limit is None else self.vif_limit, self.vif_order)

    def in_passes(self, table: Table, setting: Setting) -> bool:
        return True

    def judge(self, table: Table, setting: Setting) -> Findings:
        pairs, vifs = self._parts()
        data = OverlapData.of(table, setting)
        first = self._pairs(pairs, data, table.features)
        repeated = {str(f): row for f, row in first.frame.iterrows() if isinstance(row["partner"], str)}
        left = [f for f in table.features if f not in repeated or setting.kept_by_pin(f)]
        wide = data.moments.layout.width > WIDEST_SHARE * len(table)
        notes: tuple[str, ...] = ()
        if wide:
            notes = (f"{data.moments.layout.width:,} columns on {len(table):,} rows: no elimination by variance inflation",)
        second = vifs.eliminate(data, [] if wide else left, setting)
        frame = first.frame.join(second.frame.reindex(first.frame.index))
        frame["proposed"] = [_proposed(str(f), repeated, second.more["trail"]) for f in frame.index]
        exact, near = ([str(f) for f in frame.index[frame["proposed"] == word]] for word in ("exact", "near"))
        able = table.with_features(data.table.features)
        singles = single_costs(able, near, setting)
        frame["cost"] = [singles[str(f)].lost if f in singles else float("nan") for f in frame.index]
        allowed = next(iter(singles.values())).allowed if singles else float("nan")
        together, exactly = total_costs(able, near, setting), total_costs(able, exact, setting)
        if near:
            cost = cost_text(together)
            notes += (f"removal of {len(near)} proposed" + (f"; without all of them: {cost}" if cost else ""),)
        settings = {**asdict(self), "allowed": allowed, "exact_costs": any(c.too_much for c in exactly)}
        more = {**first.more, **second.more, "costs": _costs(together, exactly)}
        ways = {**first.better, **second.better}
        return Findings(self.use, frame, "vif", ways, settings, first.notes + second.notes + notes, more, "worst")

    def _pairs(self, pairs: Correlation, data: OverlapData, features: Sequence[str]) -> Findings:
        """The pair cut, copies first: a column and its copy must not both go for a third that they merely resemble."""
        import pandas as pd

        copies = Correlation(1 - SINGULAR).cut(data, features).frame
        gone = [str(f) for f in copies.index[copies["partner"].notna()]]
        if not gone:
            return pairs.cut(data, features)
        rest = OverlapData(data.table.with_features([f for f in data.table.features if f not in gone]), data.setting)
        result = pairs.cut(rest, [f for f in features if f not in gone])
        return replace(result, frame=pd.concat([result.frame, copies.loc[gone]]).reindex(list(features)))

    def verdicts(self, result: Findings, setting: Setting) -> tuple[Verdict, ...]:
        pairs, vifs = self._parts()
        by_pair = {v.feature: v for v in pairs.verdicts(result, setting)}
        left = replace(result, frame=result.frame.loc[[f for f, v in by_pair.items() if v.stays]])
        by_vif = {v.feature: v for v in vifs.verdicts(left, setting)}
        given = {f: by_vif.get(f, v) for f, v in by_pair.items()}
        return tuple(replace(self._verdict(v, result), by=self.use) for v in given.values())

    def _verdict(self, v: Verdict, result: Findings) -> Verdict:
        """What the limits say, as a proposal where it is not exact."""
        if v.stays:
            return v
        row = result.frame.loc[v.feature]
        if row["proposed"] == "exact":
            if not result.settings["exact_costs"]:
                return drop(v.feature, self.use, v.figure, v.limit, f"{v.reason}: nothing is lost without it")
            return review(v.feature, self.use, v.figure, v.limit, f"{v.reason}; the forest loses without it", stays=True)
        cost, allowed = row["cost"], result.settings["allowed"]
        if np.isnan(cost):
            return review(v.feature, self.use, v.figure, v.limit, f"{v.reason}; removal proposed, R² loss not measured", stays=True)
        if cost > allowed:
            words = f"{v.reason}; R² loss if removed {cost:.2g} (allowed {allowed:.2g})"
            return review(v.feature, self.use, v.figure, v.limit, words, stays=True)
        return keep(
            v.feature,
            self.use,
            v.figure,
            v.limit,
            f"{v.reason}; removal proposed: would lower R² by {max(cost, 0.0):.2g}; the search decides",
        )


def _proposed(feature: str, repeated: dict[str, Any], trail: pd.DataFrame) -> str:
    """ "exact", "near" or nothing."""
    if feature in repeated:
        return "exact" if abs(repeated[feature]["pearson_r"]) >= 1 - SINGULAR else "near"
    went = trail[trail["feature"] == feature]
    if went.empty:
        return ""
    return "exact" if np.isinf(went["vif"].iloc[0]) else "near"


def _costs(together: list[Cost], exactly: list[Cost]) -> pd.DataFrame:
    import pandas as pd

    rows = [("near", c) for c in together] + [("exact", c) for c in exactly]
    return pd.DataFrame(
        [(word, c.lens, c.lost, c.se, c.allowed, c.too_much) for word, c in rows],
        columns=["proposed", "lens", "lost", "se", "allowed", "too_much"],
    )
