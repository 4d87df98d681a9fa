"""What every stage measured of a feature, in words: the history that a selection keeps beside each verdict."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from chaff.decide.ledger import Ledger
from chaff.decide.selection_parts import StepPart
from chaff.decide.stage_report import StageReport
from chaff.evaluate.stage import name_of
from chaff.results.digits import figure, p_value, score, with_error
from chaff.results.findings import Findings
from chaff.results.verdict import Verdict

Row = Mapping[str, Any]
STATISTIC_WORDS = {"pearson_r": "Pearson r", "spearman_rho": "Spearman ρ", "auc": "ROC AUC", "f": "F", "kruskal_h": "Kruskal–Wallis H"}


def steps_of(reports: Sequence[StageReport], ledger: Ledger) -> list[StepPart]:
    """Every verdict of a ledger, in order, with what its stage measured of the feature."""
    of_stages = [(v, m) for r in reports for m in [_Measured(r)] for v in r.verdicts]
    before = ledger.verdicts[: len(ledger.verdicts) - len(of_stages)]  # pinned out from the start: no stage has seen them
    return [_step(v, "") for v in before] + [_step(v, m.of(v.feature)) for v, m in of_stages]


def _step(v: Verdict, measured: str) -> StepPart:
    held = {"figure": v.figure, "limit": v.limit, "reason": v.reason, "measured": measured}
    return StepPart(feature=v.feature, stage=v.by, verdict=v.verdict, stays=v.stays, **held)


def places_of(reports: Sequence[StageReport]) -> dict[str, dict[str, int]]:
    """Stage → feature → its place, of the stages whose places say how much a feature tells of the target."""
    measured = {name_of(r.stage): _Measured(r) for r in reports}
    ranked = {name: m for name, m in measured.items() if m.frame is not None and any(c in m.frame.columns for c in RANKED)}
    return {name: m.places for name, m in ranked.items() if m.places}


class _Measured:
    """The words of one stage, its places among the features looked up once."""

    def __init__(self, report: StageReport) -> None:
        result = report.result
        self.frame = result.frame if isinstance(result, Findings) else None
        self.places: dict[str, int] = {}
        if isinstance(result, Findings) and result.lead in result.frame and result.lead not in ("verdict", "rows", "missing_share"):
            places = result.rank()
            self.places = {str(f): int(k) for f, k in places.items() if k == k}
        frame = self.frame
        self.line = {} if frame is None else {str(f): k for k, f in enumerate(frame.index)}
        self.cells = {} if frame is None else {str(c): frame[c].to_numpy() for c in frame.columns}

    def of(self, feature: str) -> str:
        if self.frame is None or feature not in self.line:
            return ""
        k = self.line[feature]
        row = {c: cells[k] for c, cells in self.cells.items()}
        parts = [say(row) for column, say in SAYS.items() if column in row]
        if any(c in row for c in RANKED) and feature in self.places:
            parts.append(f"{ordinal(self.places[feature])} of {len(self.frame)}")
        return ", ".join(p for p in parts if p)


def _facts(row: Row) -> str:
    gaps = row["missing_share"]
    return ("no gaps" if not gaps > 0 else f"{gaps:.0%} missing" if gaps >= 0.01 else f"{gaps:.2%} missing") + (
        f", {int(row['distinct']):,} distinct values" if row["distinct"] == row["distinct"] else ""
    )


def _effect(row: Row) -> str:
    name = str(row["statistic"]) if "statistic" in row else ""
    value = row[name] if name in row else float("nan")
    first = f"{STATISTIC_WORDS.get(name, name.replace('_', ' '))} {figure(value)}" if isinstance(value, float) and value == value else ""
    low, high = row.get("effect_size_low", float("nan")), row.get("effect_size_high", float("nan"))
    reach = f" (95 %: {figure(low, 2)} to {figure(high, 2)})" if low == low and high == high else ""
    size = f"effect size {figure(row['effect_size'])}{reach}" if row["effect_size"] == row["effect_size"] else ""
    p = row.get("p", float("nan"))
    held = [f"p {p_value(float(p))}" if p == p else "", f"{int(row['rows']):,} rows" if "rows" in row else ""]
    return ", ".join(w for w in (first, size, *held) if w)


def _repeats(row: Row) -> str:
    strongest, partner = row.get("strongest_r", float("nan")), row.get("partner", "")
    pair = (
        f"strongest pair |r| {figure(abs(float(strongest)))} with {partner}"
        if strongest == strongest and isinstance(partner, str) and partner
        else ""
    )
    vif = row.get("vif", float("nan"))
    return ", ".join(w for w in (pair, f"VIF {figure(vif)}" if vif == vif else "") if w)


def _importance(row: Row) -> str:
    value = row["importance"]
    return f"importance {with_error(value, row.get('importance_sd', float('nan')))}" if value == value else ""


def _chance(row: Row) -> str:
    real, level = row.get("real", float("nan")), row.get("chance_mean", float("nan"))
    return f"{score(real)} against {score(level)} by chance" if real == real and level == level else ""


SAYS: dict[str, Callable[[Row], str]] = {
    "distinct": _facts, "effect_size": _effect, "vif": _repeats, "importance": _importance, "chance_mean": _chance,
}  # fmt: skip
RANKED = ("effect_size", "importance", "chance_mean")


def ordinal(k: int) -> str:
    """`3rd`."""
    return f"{k}{'th' if 10 <= k % 100 <= 20 else {1: 'st', 2: 'nd', 3: 'rd'}.get(k % 10, 'th')}"
