"""Explaining: why a column stayed or went, told from what a selection remembers."""

from __future__ import annotations

import textwrap
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from chaff.decide.ledger import literal
from chaff.decide.selection_parts import SelectionData, StepPart
from chaff.errors import UnknownColumn, UsageError, nearest
from chaff.files import save_frame, write_text
from chaff.results.plain import plain
from chaff.results.shown import frame_html, frame_text, terminal_width
from chaff.visible import Shown

if TYPE_CHECKING:
    import pandas as pd


Fate = Literal["blocked", "review", "drop", "keep"]
FATES: tuple[Fate, ...] = ("blocked", "review", "drop", "keep")  # what the user should look at comes first
ENDINGS = (".csv", ".parquet", ".json", ".md")


@dataclass(frozen=True)
class ColumnHistory:
    """The whole history of one column."""

    feature: str
    about: str
    """Kind, unit and meaning, as far as they are known."""
    fate: Fate
    stage: str
    """The stage that decided; "pin" for a user's own decision."""
    steps: tuple[StepPart, ...]
    """Every verdict on it, in order."""
    says: tuple[str, ...]
    """What the steps do not say: how often it was kept, what stands in for it, what the user can do."""

    @property
    def headline(self) -> str:
        about = f" ({self.about})" if self.about else ""
        words = {
            "blocked": f"blocked since {self.stage}",
            "review": f"kept, to review since {self.stage}",
            "drop": f"dropped at {self.stage}" if self.stage != "pin" else "dropped by a pin",
            "keep": "kept" if self.stage != "pin" else "kept by a pin",
        }
        return f"{self.feature}{about}: {words[self.fate]}"

    @property
    def deciding(self) -> StepPart | None:
        """The step that decided."""
        return next((s for s in reversed(self.steps) if s.stage == self.stage), self.steps[-1] if self.steps else None)

    def rows(self) -> list[tuple[str, str, str]]:
        """(stage, verdict, in words) of each step."""
        return [(s.stage, verdict_word(s), step_words(s)) for s in self.steps]

    def __str__(self) -> str:
        width = terminal_width()
        lines = textwrap.wrap(self.headline, width, subsequent_indent="  ", break_on_hyphens=False)
        for stage, verdict, words in self.rows():
            head = f"  {stage:<12} {verdict:<7}"
            lines += textwrap.wrap(f"{head} {words}".rstrip(), width, subsequent_indent=" " * 23, break_on_hyphens=False) or [head]
        for given in self.says:
            lines += textwrap.wrap(given, width, initial_indent="  ", subsequent_indent="  ", break_on_hyphens=False)
        return "\n".join(lines)

    def as_plain(self) -> dict[str, Any]:
        steps = [s.model_dump(mode="json") for s in self.steps]
        text = {"feature": self.feature, "about": self.about, "fate": self.fate, "stage": self.stage}
        return {**text, "steps": steps, "says": list(self.says)}


@dataclass(frozen=True, repr=False)
class Explanation(Shown):
    """Columns with their histories, those to look at first."""

    columns: tuple[ColumnHistory, ...]
    target: str
    whole: bool = field(default=True)
    """Whether every column is in it, or the one that was asked for."""

    @property
    def frame(self) -> pd.DataFrame:
        """One row a column: fate (blocked, look, drop, keep), stage, figure, limit, reason, selection_frequency where it is known."""
        import pandas as pd

        rows = []
        for t in self.columns:
            s = t.deciding
            rows.append((t.feature, t.fate, t.stage, s.figure if s else "", s.limit if s else "", s.reason if s else "", t.about))
        return pd.DataFrame(rows, columns=["feature", "fate", "stage", "figure", "limit", "reason", "about"]).set_index("feature")

    def of(self, fate: Fate) -> tuple[ColumnHistory, ...]:
        return tuple(t for t in self.columns if t.fate == fate)

    @property
    def headline(self) -> str:
        kept, review = len(self.of("keep")) + len(self.of("review")), len(self.of("review"))
        counts = [f"{kept} selected" + (f" ({review} to review)" if review else "")]
        counts += [f"{len(self.of('drop'))} dropped"] if self.of("drop") else []
        counts += [f"{len(self.of('blocked'))} blocked"] if self.of("blocked") else []
        return f"{len(self.columns)} candidate features for {self.target}: {', '.join(counts)}"

    def __str__(self) -> str:
        if not self.whole:
            return str(self.columns[0])
        return frame_text(self.headline, self.frame, ("fate", "stage", "figure", "reason"))

    def _repr_html_(self) -> str:
        return frame_html(self.headline, self.frame, ("fate", "stage", "figure", "reason"))

    def as_plain(self) -> dict[str, Any]:
        return {"target": self.target, "columns": [t.as_plain() for t in self.columns]}

    def markdown(self) -> str:
        """As a page of Markdown: what to look at, then what went, then what stays, each with its history."""
        lines = [f"# Columns for {literal(self.target)}", "", f"{self.headline}.", ""]
        for fate in FATES:
            if self.of(fate):
                lines += [f"## {HEADINGS[fate]}", ""]
            for t in self.of(fate):
                lines += [f"### {literal(t.headline)}", ""]
                lines += [f"- {stage}: {verdict}{f': {literal(words)}' if words else ''}" for stage, verdict, words in t.rows()]
                lines += [f"- {literal(given)}" for given in t.says] + [""]
        return "\n".join(lines)

    def save(self, path: str | Path) -> None:
        """Write as .csv or .parquet (every step a row), .json or .md, by the ending.

        Raises
        ------
        UsageError, DataError
        """
        ending = Path(path).suffix.lower()
        if ending not in ENDINGS:
            raise UsageError(f"{Path(path).name}: the history is written as {', '.join(ENDINGS)}")
        if ending == ".md":
            write_text(path, self.markdown())
        else:
            save_frame(path, self.steps, lambda: plain(self.as_plain()), index=False)

    @property
    def steps(self) -> pd.DataFrame:
        """One row a step: feature, fate, stage, verdict, figure, limit, reason, measured."""
        import pandas as pd

        columns = ["feature", "fate", "stage", "verdict", "figure", "limit", "reason", "measured"]
        rows = [
            (t.feature, t.fate, s.stage, verdict_word(s), s.figure, s.limit, s.reason, s.measured) for t in self.columns for s in t.steps
        ]
        return pd.DataFrame(rows, columns=columns)


WORDS: dict[str, str] = {"blocked": "blocked", "review": "kept, to review", "drop": "dropped", "keep": "kept"}
HEADINGS: dict[str, str] = {"blocked": "Review: blocked until pinned in", "review": "Review: kept", "drop": "Dropped", "keep": "Kept"}


def verdict_word(step: StepPart) -> str:
    return "blocked" if step.verdict == "review" and not step.stays else step.verdict


def step_words(step: StepPart) -> str:
    """`r 0.987 with protein_pct, over the limit 0.95: …` of one step."""
    held = ""
    if step.figure and (step.limit or not step.measured):
        held = step.figure + (f" (limit {step.limit})" if step.limit else "")
    return "; ".join(w for w in (held, step.reason, step.measured) if w)


def explanation_of(selection: SelectionData, feature: str | None = None) -> Explanation:
    """The history of one column, or of all.

    Raises
    ------
    UnknownColumn
        When the selection has not heard of such a column.
    """
    steps = _steps(selection)
    if feature is not None and feature not in steps:
        raise UnknownColumn(
            f"'{feature}' is not a candidate feature of this selection (target {selection.target.name}).{nearest(feature, steps)}"
        )
    text = [_history_of(selection, f, s) for f, s in steps.items() if feature is None or f == feature]
    order = {fate: k for k, fate in enumerate(FATES)}
    return Explanation(tuple(sorted(text, key=lambda t: order[t.fate])), selection.target.name, feature is None)


def _steps(selection: SelectionData) -> dict[str, list[StepPart]]:
    """Feature → its steps; of a selection without histories the verdict that decided."""
    out: dict[str, list[StepPart]] = {}
    for step in selection.history:
        out.setdefault(step.feature, []).append(step)
    for k in selection.kept:
        out.setdefault(k.name, [_bare(k.name, "search", "keep", True, k)])
    for d in selection.dropped:
        out.setdefault(d.name, [_bare(d.name, d.stage, "drop", False, d)])
    for x in selection.review:
        out.setdefault(x.name, [_bare(x.name, x.stage, "review", not x.blocked, x)])
    return out


def _bare(name: str, stage: str, verdict: Any, stays: bool, part: Any) -> StepPart:
    limit = getattr(part, "limit", "")
    return StepPart(feature=name, stage=stage, verdict=verdict, stays=stays, figure=part.figure, limit=limit, reason=part.reason)


def _history_of(selection: SelectionData, feature: str, steps: Sequence[StepPart]) -> ColumnHistory:
    kept = {k.name: k for k in selection.kept}
    review = {x.name: x for x in selection.review}
    dropped = {d.name: d for d in selection.dropped}
    if feature in review and review[feature].blocked:
        fate, stage = "blocked", review[feature].stage
    elif feature in kept:
        requested = next((s for s in reversed(steps) if s.verdict == "review"), None)
        pinned = _pin_of(selection, feature, "keep") is not None
        fate, stage = ("review", requested.stage) if requested else ("keep", "pin" if pinned else steps[-1].stage)
    else:
        gone = next((s for s in reversed(steps) if not s.stays), None)
        fate, stage = "drop", gone.stage if gone else dropped[feature].stage if feature in dropped else steps[-1].stage
    return ColumnHistory(feature, _about(selection, feature), fate, stage, tuple(steps), tuple(_says(selection, feature, fate)))  # type: ignore[arg-type]


def _about(selection: SelectionData, feature: str) -> str:
    part = next((k for k in selection.kept if k.name == feature), None)
    if part is None:
        about = selection.descriptions.get(feature)
        return ", ".join(w for w in ((about.kind, about.unit, f'"{about.meaning}"' if about.meaning else "") if about else ()) if w)
    return ", ".join(w for w in (part.kind, part.unit, f'"{part.meaning}"' if part.meaning else "") if w)


def _pin_of(selection: SelectionData, feature: str, verdict: str) -> str | None:
    """The reason of a user's own decision; None where there is none."""
    given = (p for p in selection.plan.get("pin", ()) if p.get("feature") == feature and p.get("verdict") == verdict)
    return next((str(p.get("because", "")) for p in given), None)


def _says(selection: SelectionData, feature: str, fate: str) -> list[str]:
    because = _pin_of(selection, feature, "keep")
    out = [] if because is None else [f"pinned to keep: {because}"]
    partners = sorted({other for pair in selection.interchangeable for other in pair if feature in pair and other != feature})
    if partners:
        out.append(f"interchangeable with {', '.join(partners)}: the folds selected one or the other, rarely both")
    for name, part in selection.protected.items():
        if part.significant and feature in part.carriers:
            share = f"{part.carriers[feature]:.0%} of what the selected features tell of it is lost without this one"
            out.append(f"predicts the protected column {name}: {share}")
    if feature in selection.holdout.pinned_after:
        out.append("pinned after the holdout had been read: the holdout score is no evidence for the pin")
    if fate == "blocked":
        out.append(f'if it is known before the target, keep it with: --pin-keep {_plain_name(feature)} --because "…"')
    elif fate == "drop":
        out.append(f'to keep it: --pin-keep {_plain_name(feature)} --because "…"')
    elif fate == "review":
        out.append(f'to drop it: --pin-drop {_plain_name(feature)} --because "…"')
    return out


def _plain_name(name: str) -> str:
    """A name as a shell takes it."""
    import shlex

    return shlex.quote(name)
