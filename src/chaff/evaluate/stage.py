"""Stage: what a way of judging features is asked, and what it has to give back."""

from __future__ import annotations

from typing import Any, ClassVar, Protocol, runtime_checkable

from chaff.evaluate.setting import Setting
from chaff.results.findings import Findings
from chaff.results.trail import Trail
from chaff.results.verdict import Verdict
from chaff.table.table import Table


class Stage(Protocol):
    """A frozen dataclass: its fields are its keyword arguments, its TOML keys and its command options."""

    use: ClassVar[str]
    """What it is: its word in a plan and on the command line."""
    hint_if_empty: ClassVar[str]
    """What to change when it leaves no feature."""

    @property
    def name(self) -> str:
        """What it goes by in a plan, so that two stages of one `use` can be told apart; empty for `use` itself."""
        ...

    def judge(self, table: Table, setting: Setting) -> Findings | Trail: ...
    def verdicts(self, result: Any, setting: Setting) -> tuple[Verdict, ...]: ...


@runtime_checkable
class SetsFullSet(Protocol):
    """A stage after which stands the full set that the kept one is held against."""

    def sets_full_set(self) -> bool: ...


@runtime_checkable
class UsesTarget(Protocol):
    """A stage that can tell whether it drops features by what they have to do with the target: a search after it then runs it
    again inside its folds."""

    def uses_target(self) -> bool: ...


@runtime_checkable
class NeverDrops(Protocol):
    """A stage that can tell whether it lets every feature through: what is rerun inside folds may end before it."""

    def never_drops(self) -> bool: ...


@runtime_checkable
class ConfirmsOnAllRows(Protocol):
    """A stage that looks at its drops again on every row (`setting.whole`), where it saw a sample of them."""

    def on_all_rows(self, given: tuple[Verdict, ...], result: Any, setting: Setting) -> tuple[Verdict, ...]: ...


@runtime_checkable
class ChecksTable(Protocol):
    """A stage that can tell beforehand that it does not fit a table: raises UsageError before anything has run."""

    def check_table(self, table: Table) -> None: ...


@runtime_checkable
class StreamsRows(Protocol):
    """A stage that can tell whether single columns, sums, and bytes in scratch are all that it needs of its rows: it can then see every row
    of a table that is larger than memory."""

    def in_passes(self, table: Table, setting: Setting) -> bool: ...


def name_of(stage: Stage) -> str:
    """What a stage goes by: its `name`, or `use` where none was said."""
    return stage.name or stage.use
