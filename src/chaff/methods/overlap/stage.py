"""Overlap: columns that repeat each other, by pairs first, then by variance inflation."""

from __future__ import annotations

from dataclasses import asdict, dataclass, replace
from typing import ClassVar

from chaff.evaluate.setting import Setting
from chaff.methods.overlap.elimination import Inflation
from chaff.methods.overlap.ground import Ground
from chaff.methods.overlap.pair_cut import Correlation
from chaff.results.findings import Findings
from chaff.results.verdict import Verdict
from chaff.table.table import Table


@dataclass(frozen=True)
class Overlap:
    """Pair cut, then VIF elimination on what is left.

    Parameters
    ----------
    pair_limit : float
        |r| over which a pair says the same; see `Correlation`.
    vif_limit : float
        Variance inflation over which a feature goes; see `Inflation`.
    """

    pair_limit: float = 0.95
    vif_limit: float = 10.0
    name: str = ""

    use: ClassVar[str] = "overlap"
    loosen: ClassVar[str] = "raise pair_limit (--pair-limit) or vif_limit (--vif-limit), or pin a feature (--pin-keep)"

    def __post_init__(self) -> None:
        _ = self._parts()

    def _parts(self) -> tuple[Correlation, Inflation]:
        return Correlation(self.pair_limit), Inflation(self.vif_limit)

    def judge(self, table: Table, setting: Setting) -> Findings:
        pairs, vifs = self._parts()
        ground = Ground.of(table, setting)
        first = pairs.cut(ground, table.features)
        left = [v.feature for v in pairs.verdicts(first, setting) if v.stays or setting.kept_by_pin(v.feature)]
        second = vifs.eliminate(ground, left, setting)
        frame = first.frame.join(second.frame)
        ways = {**first.better, **second.better}
        return Findings(self.use, frame, "vif", ways, asdict(self), first.notes + second.notes, {**first.more, **second.more}, "worst")

    def verdicts(self, result: Findings, setting: Setting) -> tuple[Verdict, ...]:
        pairs, vifs = self._parts()
        by_pair = {v.feature: v for v in pairs.verdicts(result, setting)}
        left = replace(result, frame=result.frame.loc[[f for f, v in by_pair.items() if v.stays]])
        by_vif = {v.feature: v for v in vifs.verdicts(left, setting)}
        return tuple(replace(by_vif.get(f, v), by=self.use) for f, v in by_pair.items())
