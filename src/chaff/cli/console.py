"""How a run looks in a terminal: a line a stage, what was set aside and why, the closing table."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from chaff.decide.ledger import Ledger
    from chaff.decide.run import Run, StageReport
    from chaff.results.verdict import Verdict
    from chaff.table.table import Table

# The palette's teal and plum; husk as a middle grey of the 256 that every terminal has, readable on light and on dark.
KEEP, DROP, LOOK, QUIET = "#0F6E6E", "color(243)", "#7A4E8A", "color(243)"
HEAD = 6  # rows shown of what a stage set aside


class Show:
    """Prints a run as it goes; also its `watch` and `after_stage`."""

    def __init__(self, quiet: bool = False) -> None:
        from rich.console import Console

        self.console = Console(highlight=False, soft_wrap=False, quiet=quiet)
        self.started = time.perf_counter()
        self.ledger: Ledger | None = None
        self._table: Table | None = None
        self.now = ""
        self._apart = True  # whether the next stage stands off by an empty line
        self._status: Any = None

    def say(self, text: str = "", style: str | None = None) -> None:
        self.console.print(text, style=style, markup=False)

    def command(self, text: str) -> None:
        """A line to be copied: never broken."""
        self.console.print(text, markup=False, soft_wrap=True)

    def watch(self, stage: str, message: str) -> None:
        """A transient line while a stage runs, in a real terminal only."""
        self.now = stage
        self.stop()
        if self.console.is_terminal:
            self._status = self.console.status(f" {stage} …", spinner="line")
            self._status.start()

    def stop(self) -> None:
        if self._status is not None:
            self._status.stop()
            self._status = None

    def table(self, table: Table) -> None:
        self._table = table
        first, *rest = str(table).splitlines()
        self.say(first, "bold")
        roles = [line for line in rest if line not in table.notes]
        for line in [" · ".join(roles), *table.notes] if roles else table.notes:
            self.say(line, QUIET)
        self._apart = True

    def after_stage(self, report: StageReport, ledger: Ledger) -> None:
        from chaff.decide.telling import stage_line

        self.stop()
        self.ledger = ledger
        count, words = stage_line(report)
        said = [*report.to_look_at, *report.set_aside]
        if said or self._apart:
            self.say()
        self._apart = bool(said)
        self.console.print(f" [bold]{report.stage.use:<12}[/] {count:<9} {words}", markup=True)
        for note in getattr(report.result, "notes", ())[1:] if report.stage.use == "search" else ():
            self.say(f"  {note}", QUIET)
        self._verdicts(said)

    def _verdicts(self, verdicts: list[Verdict]) -> None:
        if not verdicts:
            return
        grid = _grid()
        shown = verdicts if len(verdicts) <= HEAD + 2 else verdicts[:HEAD]
        limits = [f"(limit {v.limit})" if v.limit else "" for v in shown]
        reasons = [v.reason + (" · barred" if v.barred else "") for v in shown]
        before = 10 + sum(max(map(len, words)) for words in ([v.feature for v in shown], [v.figure for v in shown], limits))
        for v, limit, reason in zip(shown, limits, reasons, strict=True):
            word, style = ("look", LOOK) if v.verdict == "look" else ("drop", DROP)
            meaning = self._meaning(v.feature)
            fits = before + 6 + len(reason) + len(meaning) - len(f"[{QUIET}][/]") <= self.console.width
            words = _plain(reason) + (meaning if fits else "")
            grid.add_row("", f"[{style}]{word}[/]", _plain(v.feature), _plain(v.figure), _plain(limit), words)
        self.console.print(grid)
        if len(verdicts) > len(shown):
            self.say(f"    … and {len(verdicts) - len(shown)} more, in ledger.csv", QUIET)

    def _meaning(self, feature: str) -> str:
        """What the column dictionary says, in quiet brackets; shown in a stage's rows where it fits on the line."""
        about = self._table.meaning(feature) if self._table is not None else None
        words = ", ".join(w for w in (about.text, about.unit) if w) if about is not None else ""
        return f" [{QUIET}]({_plain(words)})[/]" if words else ""

    def closing(self, run: Run) -> None:
        from chaff.decide.telling import closing_rows, closing_warnings

        self.stop()
        self._looks(run)
        self.say()
        grid = _grid(1)
        for k, row in enumerate(closing_rows(run.closing)):
            style = "bold" if row[0] == "kept" else QUIET if k == 0 or row[0] == "none" else ""
            grid.add_row("", *[_plain(c.replace(", ", "\n")) for c in row], style=style)
        for k, column in enumerate(grid.columns[1:]):
            column.justify, column.no_wrap = "right" if k else "left", True
        self.console.print(grid)
        for warning in closing_warnings(run.closing):
            self.say(f" look: {warning}", LOOK)
        none = "the mean" if run.table.target.task == "regression" else "the class shares of the training rows"
        self.say(
            f" none: predicting {none}. Fold scores ({run.closing.folds}) were used to choose"
            + (f"; the holdout ({run.closing.holdout_rows:,} rows) was not." if run.closing.holdout_rows else "."),
            QUIET,
        )
        self.say()
        few = run.features if len(run.features) <= 16 else run.features[:12]
        names = ", ".join(few) + (f" … and {len(run.features) - len(few)} more" if len(few) < len(run.features) else "")
        self.console.print(f" [bold {KEEP}]kept[/] {len(run.features)}: {_plain(names)}", markup=True)

    def _looks(self, run: Run) -> None:
        looks: dict[str, list[Verdict]] = {}
        for report in run.stages:
            for v in report.to_look_at:
                looks.setdefault(v.feature, []).append(v)
        if not looks:
            return
        alike: dict[tuple[str, str], list[str]] = {}
        for feature, said in looks.items():
            what = "barred" if said[-1].barred else "stays in" if feature in run.features else "went later"
            alike.setdefault(("; ".join(v.reason for v in said), what), []).append(feature)
        self.say()
        self.say(" Look at these yourself", "bold")
        grid = _grid()
        for (reason, what), features in alike.items():
            words = _plain(reason) + (self._meaning(features[0]) if len(features) == 1 else "")
            grid.add_row("", f"[{LOOK}]{_plain(', '.join(features))}[/]", words, f"[{LOOK}]{what}[/]")
        grid.columns[1].max_width = 46
        grid.columns[3].no_wrap = True
        self.console.print(grid)

    def seconds(self) -> str:
        return f"{time.perf_counter() - self.started:.1f} s"


def _grid(between: int = 2) -> Any:
    from rich.table import Table as RichTable

    return RichTable.grid(padding=(0, between), pad_edge=False)


def _plain(text: str) -> str:
    from rich.markup import escape

    return escape(text)


def tell_of_compiling(show: Show) -> None:
    """The first ever run compiles the kernels; say so, since it takes a while and looks like nothing."""
    from chaff.kernels import forest
    from chaff.kernels.jit import compiled_before

    if not compiled_before(forest.grow_tree):
        show.say("first run on this machine: compiling the numeric kernels, once, about ten seconds", QUIET)
