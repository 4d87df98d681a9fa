"""Ledger: every verdict on every feature, in order."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from chaff.errors import UsageError
from chaff.files import harmless, write_text, write_with
from chaff.results.plain import records
from chaff.results.shown import frame_html, frame_text
from chaff.results.verdict import Verdict
from chaff.table.table import Meaning
from chaff.visible import Shown

if TYPE_CHECKING:
    import pandas as pd


@dataclass(frozen=True, repr=False)
class Ledger(Shown):
    """Verdicts in the order in which they were given."""

    verdicts: tuple[Verdict, ...] = ()
    holdout_reads: int = 0
    """How often a score was taken on the holdout."""
    meanings: Mapping[str, Meaning] = field(default_factory=dict)
    """What the column dictionary says of the features."""
    selection_frequencies: Mapping[str, float] = field(default_factory=dict)
    """In how many of the outer folds each feature was kept."""

    def and_then(self, verdicts: Iterable[Verdict]) -> Ledger:
        return replace(self, verdicts=(*self.verdicts, *verdicts))

    @cached_property
    def _by_feature(self) -> dict[str, list[Verdict]]:
        """Looked up once: there may be a hundred thousand features, each asked for."""
        out: dict[str, list[Verdict]] = {}
        for v in self.verdicts:
            out.setdefault(v.feature, []).append(v)
        return out

    def of(self, feature: str) -> tuple[Verdict, ...]:
        return tuple(self._by_feature.get(feature, ()))

    def last(self, feature: str) -> Verdict | None:
        """The verdict that decided: the last one that did not merely keep, else the last."""
        all_of_it = self.of(feature)
        telling = [v for v in all_of_it if v.verdict != "keep"] or list(all_of_it)
        return telling[-1] if telling else None

    @property
    def frame(self) -> pd.DataFrame:
        """One row a verdict: feature, stage, verdict, stays, figure, limit, reason; selection_frequency (in how many of the folds the
        feature was kept) on the last one of each; meaning and unit where any is known."""
        import pandas as pd

        rows = [(v.feature, v.by, v.verdict, v.stays, v.figure, v.limit, v.reason) for v in self.verdicts]
        out = pd.DataFrame(rows, columns=["feature", "stage", "verdict", "stays", "figure", "limit", "reason"])
        if self.selection_frequencies:
            last = {v.feature: k for k, v in enumerate(self.verdicts)}
            out["selection_frequency"] = [
                self.selection_frequencies.get(v.feature) if last[v.feature] == k else None for k, v in enumerate(self.verdicts)
            ]
            out["selection_frequency"] = out["selection_frequency"].astype(float)
        if self.meanings:
            about = [self.meanings.get(f, Meaning()) for f in out["feature"]]
            out["meaning"], out["unit"] = [m.text for m in about], [m.unit for m in about]
        return out

    def save(self, path: str | Path) -> None:
        """Write as .csv, .parquet, .json or .md by the ending, what the user should look at first.

        Raises
        ------
        UsageError, DataError
        """
        ending = Path(path).suffix.lower()
        to_review = {v.feature for v in self.verdicts if v.verdict == "review"}
        order = sorted(range(len(self.verdicts)), key=lambda k: self.verdicts[k].feature not in to_review)
        frame = self.frame.iloc[order].reset_index(drop=True)
        if ending == ".csv":
            write_with(path, lambda part: harmless(frame).to_csv(part, index=False))
        elif ending == ".parquet":
            write_with(path, lambda part: frame.to_parquet(part, index=False))
        elif ending == ".json":
            write_text(path, json.dumps(records(frame), ensure_ascii=False, indent=1) + "\n")
        elif ending == ".md":
            cells = [[literal("" if v is None or v != v else str(v)) for v in row] for row in frame.itertuples(index=False)]
            lines = ["| " + " | ".join(row) + " |" for row in [list(frame.columns), ["---"] * frame.shape[1], *cells]]
            write_text(path, "\n".join(lines) + "\n")
        else:
            raise UsageError(f"{Path(path).name}: a ledger is written as .csv, .parquet, .json or .md")

    def __str__(self) -> str:
        return frame_text("ledger", self.frame, ("verdict", "by", "reason", "figure", "limit"))

    def _repr_html_(self) -> str:
        return frame_html("ledger", self.frame, ("verdict", "by", "reason", "figure", "limit"))


def literal(text: str) -> str:
    """Words in a page of Markdown as they are: a name is no markup, and no line of its own."""
    flat = " ".join(text.split())
    return "".join(f"\\{c}" if c in "\\`*_[]<>#|!" else c for c in flat)
