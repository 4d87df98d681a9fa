"""How a run looks in a terminal: a line a stage, what was set aside and why, the table of final scores."""

from __future__ import annotations

import contextlib
import os
import textwrap
import time
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any

from chaff.results.shown import Cell, Line, Styled, TextColumn, columns_of, lay_out
from chaff.visible import visible

if TYPE_CHECKING:
    from chaff.decide.ledger import Ledger
    from chaff.decide.run import Run
    from chaff.decide.stage_report import StageReport
    from chaff.results.verdict import Verdict
    from chaff.table.table import Table


BEFORE = "start and reading"
AFTER = "writing"


@dataclass
class Stopwatch:
    """Seconds by stage, in the order in which they began."""

    now: str = BEFORE
    since: float = field(default_factory=time.perf_counter)
    spent: dict[str, float] = field(default_factory=dict)

    def turn(self, stage: str) -> None:
        """What was going on has ended; `stage` begins."""
        here = time.perf_counter()
        self.spent[self.now] = self.spent.get(self.now, 0.0) + here - self.since
        self.now, self.since = stage, here

    def rows(self) -> list[tuple[str, str, str]]:
        """(stage, seconds, share), the whole last."""
        self.turn(self.now)
        whole = sum(self.spent.values())
        text = [(stage, f"{s:.2f}", f"{s / whole:.0%}" if whole > 0 else "") for stage, s in self.spent.items()]
        return [*text, ("together", f"{whole:.2f}", "")]


# The palette's teal and plum; husk as a middle grey of the 256 that every terminal has, readable on light and on dark.
KEEP, DROP, REVIEW, QUIET = "#0F6E6E", "color(243)", "#7A4E8A", "color(243)"
STYLES = {"keep": KEEP, "drop": DROP, "review": REVIEW, "quiet": QUIET}
NARROWEST = 20  # letters, whatever the terminal says of itself
SIZES = 12  # sizes shown of a curve
HEAD = 6  # rows shown of what a stage set aside


class Show:
    """Prints a run as it goes; also its `watch` and `after_stage`. With `form` json it is silent, and `finish` prints the object."""

    def __init__(self, form: str = "text") -> None:
        from rich.console import Console as Plain

        class Console(Plain):
            def on_broken_pipe(self) -> None:
                """Whoever read along has left (`| head`): the work goes on and its files are written, without a word more."""
                with contextlib.suppress(SystemExit):
                    super().on_broken_pipe()

        self.form = form
        options = os.environ.get("COLUMNS", "")
        width = (80 if int(options) == 0 else NARROWEST) if options.isdecimal() and int(options) < NARROWEST else None
        self.console = Console(highlight=False, soft_wrap=False, quiet=form == "json", width=width)
        self.progress = Console(highlight=False, stderr=True, quiet=form == "json")
        self.started = time.perf_counter()
        self.ledger: Ledger | None = None
        self._table: Table | None = None
        self.now = ""
        self._began = self.started
        self._apart = True  # whether the next stage stands off by an empty line
        self._status: Any = None
        self.stopwatch = Stopwatch()

    @property
    def width(self) -> int:
        return max(int(self.console.width), NARROWEST)

    def say(self, text: str = "", style: str | None = None) -> None:
        """Words; what does not fit goes on below at the same indent."""
        indent = " " * (len(text) - len(text.lstrip(" ")))
        for line in textwrap.wrap(visible(text), self.width, subsequent_indent=indent, break_on_hyphens=False) or [""]:
            self.console.print(line, style=style, markup=False, soft_wrap=True)

    def note(self, text: str) -> None:
        """A quiet line under a table."""
        self.say(f"   {text}", QUIET)

    def pieces(self, line: Line) -> None:
        """A line of a table: pieces of text with their styles, never broken and never read as markup."""
        from rich.text import Text

        text = Text.assemble(*((visible(p.text), STYLES.get(p.style, p.style)) for p in line.pieces))
        text.rstrip()
        self.console.print(text, soft_wrap=True)

    def command(self, text: str) -> None:
        """A line to be copied: never broken."""
        self.console.print(visible(text), markup=False, soft_wrap=True)

    def watch(self, stage: str, done: int = 0, of: int = 0) -> None:
        """A transient line while a stage runs; where nobody watches a terminal, one line a stage. After a comma stands how far it
        has come in its own terms."""
        name = stage.split(", ")[0]
        fresh = name != self.now
        self.now = name
        if fresh:
            self._began = time.perf_counter()
            self.stopwatch.turn(name)
        if not self.progress.is_terminal:
            if fresh and of == 0:
                self.progress.print(visible(f"{self.seconds()}  {stage}"), markup=False, soft_wrap=True)
            return
        self.moving(f"{stage} …" + (f" {done:,} of {of:,}{self._left(done, of)}" if of else ""))

    def moving(self, text: str) -> None:
        """The transient line, in a terminal."""
        from rich.text import Text

        words = Text(visible(f" {text}"))
        if self._status is None:
            self._status = self.progress.status(words, spinner="line")
            self._status.start()
        else:
            self._status.update(words)

    def _left(self, done: int, of: int) -> str:
        """What is left of a stage, from how long it has taken so far."""
        passed = time.perf_counter() - self._began
        if not done or done >= of or passed < 1.0:
            return ""
        return f", about {passed * (of - done) / done:.0f} s left"

    def stop(self) -> None:
        if self._status is not None:
            self._status.stop()
            self._status = None

    def finish(self, command: str, result: dict[str, Any], names: Sequence[str] = (), following: str = "") -> None:
        """The last lines of a command, or the one JSON object that it prints in place of all lines.

        following : the command that comes next, ready to paste.
        """
        self.stop()
        if self.form == "json":
            from chaff.results.plain import plain
            from chaff.visible import json_text

            text = {"command": command, **plain(result), "files": list(names), "seconds": round(time.perf_counter() - self.started, 3)}
            text |= {"next": following} if following else {}
            print(json_text(text))
            return
        self.say()
        self.say(f" {'  '.join([*names, ''])}({self.seconds()})")
        if following:
            self.command(f" next: {following}")

    def table(self, table: Table) -> None:
        self._table = table
        self.say(table.heading, "bold")
        for line in [" · ".join(table.roles_text), *table.notes] if table.roles_text else table.notes:
            self.say(line, QUIET)
        self._apart = True

    def after_stage(self, report: StageReport, ledger: Ledger) -> None:
        from chaff.decide.run_text import stage_line
        from chaff.evaluate.stage import name_of

        self.stop()
        self.ledger = ledger
        count, words = stage_line(report)
        options = [*report.to_review, *report.set_aside]
        if options or self._apart:
            self.say()
        self._apart = bool(options)
        self.pieces(Line((Styled(f" {name_of(report.stage):<12} ", "bold"), Styled(f"{count:<9} {words}"))))
        for note in getattr(report.result, "notes", ())[1:] if report.stage.use == "search" else ():
            self.say(f"  {note}", QUIET)
        self._verdicts(options)

    def _verdicts(self, verdicts: list[Verdict]) -> None:
        if not verdicts:
            return
        shown = verdicts if len(verdicts) <= HEAD + 2 else verdicts[:HEAD]
        rows: list[list[Cell]] = [
            [Styled(v.verdict, v.verdict), v.feature, v.figure, f"(limit {v.limit})" if v.limit else "", self._reason(v)] for v in shown
        ]
        columns = columns_of(["", "feature", "figure", "limit", "reason"], rows, required=("", "reason"), names=2)
        for line in lay_out([replace(c, header="") for c in columns], self.width, indent=3).lines:
            self.pieces(line)
        if len(verdicts) > len(shown):
            self.say(f"   … and {len(verdicts) - len(shown)} more, in ledger.csv", QUIET)

    def _reason(self, v: Verdict) -> str:
        about = self._table.meaning(v.feature) if self._table is not None else None
        words = ", ".join(w for w in (about.text, about.unit) if w) if about is not None else ""
        return v.reason + (" · blocked" if v.blocked else "") + (f" ({words})" if words else "")

    def final_scores(self, run: Run) -> None:
        from chaff.decide.run_text import answer_line, final_warnings, score_notes, score_rows

        self.stop()
        self._curve(run)
        self._review_table(run)
        self.say()
        self.say(f" {answer_line(run.final_scores)}", f"bold {KEEP}" if run.final_scores.kept else f"bold {REVIEW}")
        self.say()
        head, *rows = score_rows(run.final_scores)
        styles = {"kept": "bold", "baseline": "quiet"}
        columns = columns_of(head, [[Styled(c, styles.get(row[0], "")) for c in row] for row in rows], required=head[:4])
        for line in lay_out(columns, self.width).lines:
            self.pieces(line)
        for warning in final_warnings(run):
            self.say(f" warning: {warning}", REVIEW)
        for words in score_notes(run):
            self.say(f" {words}", QUIET)
        self.say()
        few = run.features if len(run.features) <= 16 else run.features[:12]
        names = ", ".join(few) + (f" … and {len(run.features) - len(few)} more" if len(few) < len(run.features) else "")
        self.say(f" kept {len(run.features)}{': ' if names else ' features'}{names}", f"bold {KEEP}")

    def _curve(self, run: Run) -> None:
        """Honest score by size, and what came or went; the head of a long curve, and around what was chosen."""
        from chaff.decide.run_text import curve_rows
        from chaff.methods.search.stage import SelectionSearch

        trail = run.stages[-1].result
        if not isinstance(trail, SelectionSearch):
            return
        head, *rows = curve_rows(trail)
        shown = few_sizes(rows, trail.choice.place, trail.choice.best)
        cells: list[list[Cell]] = [[Styled(c, "keep" if "chosen" in row[2] else "") for c in row] for row in shown]
        for line in lay_out(columns_of(head, cells, required=head[:3]), self.width, indent=3).lines:
            self.pieces(line)
        if len(shown) < len(rows):
            self.note(f"{len(shown)} of {len(rows)} sizes; all of them in score_by_size.png, with the second model")

    def _review_table(self, run: Run) -> None:
        to_review: dict[str, list[Verdict]] = {}
        for report in run.stages:
            for v in report.to_review:
                to_review.setdefault(v.feature, []).append(v)
        if not to_review:
            return
        alike: dict[tuple[str, str], list[str]] = {}
        for feature, options in to_review.items():
            what = "blocked" if options[-1].blocked else "stays in" if feature in run.features else "dropped later"
            alike.setdefault(("; ".join(v.reason for v in options), what), []).append(feature)
        self.say()
        self.say(" Review these features", "bold")
        rows: list[list[Cell]] = [
            [Styled(", ".join(features), "review"), reason, Styled(what, "review")] for (reason, what), features in alike.items()
        ]
        columns = [
            TextColumn("", [r[0] for r in rows], "words"),
            TextColumn("", [r[1] for r in rows], "words"),
            TextColumn("", [r[2] for r in rows], "word", True),
        ]
        for line in lay_out(columns, self.width, indent=3).lines:
            self.pieces(line)

    def seconds(self) -> str:
        return f"{time.perf_counter() - self.started:.1f} s"


def few_sizes(rows: list[tuple[str, ...]], chosen: int, best: int) -> list[tuple[str, ...]]:
    """The smallest sizes, those around the chosen and the best one, and the full set."""
    if len(rows) <= SIZES:
        return rows
    wanted = {0, 1, 2, 3, len(rows) - 1, best, *range(chosen - 2, chosen + 3)}
    return [row for k, row in enumerate(rows) if k in wanted]
