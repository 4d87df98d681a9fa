"""The importance of features in two models side by side."""

from __future__ import annotations

from dataclasses import replace

from chaff.results.findings import Findings


def side_by_side(result: Findings, other: Findings, one: str, two: str) -> Findings:
    """The findings of one model with another's beside them, and which of the two kept sets each feature is in."""
    import pandas as pd

    if one == two:
        one, two = f"{one} (first)", f"{two} (second)"
    frame = pd.DataFrame({one: result.frame["importance"], two: other.frame["importance"]})
    frame[f"{one}, scaled"], frame[f"{two}, scaled"] = result.frame["scaled"], other.frame["scaled"]
    a, b = (f.frame["stays"].reindex(frame.index).fillna(False).astype(bool) for f in (result, other))
    frame["kept by"] = [(("both" if y else one) if x else (two if y else "neither")) for x, y in zip(a, b, strict=True)]
    both = result.rank().corr(other.rank())
    note = f"{one} and {two} rank the features with a correlation of {both:.2f}"
    if (~a).any() or (~b).any():
        note += f"; kept by both {int((a & b).sum())}, only by {one} {int((a & ~b).sum())}, only by {two} {int((b & ~a).sum())}"
    return replace(result, notes=(*result.notes, note), more={**result.more, "against": frame})
