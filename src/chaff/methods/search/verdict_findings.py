"""What a search says of each column: whether it is in the chosen set, and why."""

from __future__ import annotations

from typing import TYPE_CHECKING

from chaff.methods.search.choosing import Chosen
from chaff.results.findings import Better, Findings
from chaff.results.verdict import Verdict, drop, keep

if TYPE_CHECKING:
    from chaff.methods.search.search_result import SearchResult

COLUMNS = ("verdict", "stays", "figure", "limit", "reason", "by")


def findings_of(trail: SearchResult, chosen: Chosen) -> Findings:
    """One row a feature that was on offer or is pinned out."""
    import pandas as pd

    held, size = set(chosen.features), len(chosen.features)
    worth = _worth(trail, frozenset(held))
    shares = {f: trail.honest.selection_frequency(size, f) if trail.honest is not None else float("nan") for f in trail.offered}
    verdicts = [_verdict(trail, f, f in held, worth.get(f), shares[f], chosen) for f in trail.offered]
    gone = [p for f, p in trail.pins.items() if p.verdict == "drop"]
    verdicts += [drop(p.feature, "pin", "", "", f"pinned: {p.because}") for p in gone]
    names = [v.feature for v in verdicts]
    frame = pd.DataFrame(index=pd.Index(names, name="feature"))
    frame["chosen"] = [f in held for f in names]
    frame["worth"] = [worth.get(f, float("nan")) for f in names]
    frame["selection_frequency"] = [shares.get(f, float("nan")) for f in names]
    for column in COLUMNS:
        frame[column] = [getattr(v, column) for v in verdicts]
    better: dict[str, Better] = {"worth": "higher", "selection_frequency": "higher"}
    notes = (*trail.notes, str(chosen))
    return Findings(
        "search", frame, "worth" if worth else "selection_frequency", better, {"rule": chosen.rule}, notes, {"trail": trail.frame}
    )


def _worth(trail: SearchResult, held: frozenset[str]) -> dict[str, float]:
    """What the score gains with each feature that is out, or loses without each that is in; nothing where no closed form tells."""
    scorer = trail.scorer.free()
    if not scorer.closed:
        return {}
    walk = scorer.walk(held)
    here, changes = walk.score.mean, walk.changes(scorer.features)
    gain = {f: trail.sign * (changes[f].mean - here) for f in scorer.features}
    return {f: -v if f in held else v for f, v in gain.items()}


def _verdict(trail: SearchResult, f: str, held: bool, worth: float | None, share: float, chosen: Chosen) -> Verdict:
    often = f"selected in {share:.0%} of the folds" if share == share else ""
    figure = often if worth is None else f"{trail.scorer.metric.label} {worth:+.2g} {'lost without' if held else 'gained with'} it"
    tail = f"; {often}" if often and worth is not None else ""
    pin = trail.pins.get(f)
    if pin is not None and held:
        return keep(f, "pin", figure, "", f"pinned: {pin.because}")
    if held:
        return keep(f, "search", figure, "", f"selected: {chosen.rule}{tail}")
    return drop(f, "search", figure, "", f"not selected: {chosen.rule}{tail}")
