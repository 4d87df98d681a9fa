"""What is read of a run by the files that put it into words, evaluate it, or run it again."""

from __future__ import annotations

from typing import Protocol

from chaff.arrays import Ints
from chaff.decide.final_scores import FinalScores
from chaff.decide.ledger import Ledger
from chaff.decide.plan import Plan
from chaff.decide.row_sample import RowSample
from chaff.decide.selection import Selection
from chaff.decide.stage_report import StageReport
from chaff.results.findings import DecoyRate
from chaff.table.table import Table


class RunParts(Protocol):
    """See `chaff.decide.run.Run`."""

    @property
    def table(self) -> Table: ...
    @property
    def train(self) -> Table: ...
    @property
    def row_sample(self) -> RowSample: ...
    @property
    def stages(self) -> tuple[StageReport, ...]: ...
    @property
    def final_scores(self) -> FinalScores: ...
    @property
    def ledger(self) -> Ledger: ...
    @property
    def selection(self) -> Selection: ...
    @property
    def holdout(self) -> Ints: ...
    @property
    def plan(self) -> Plan: ...
    @property
    def features(self) -> tuple[str, ...]: ...
    @property
    def decoys(self) -> DecoyRate | None: ...
