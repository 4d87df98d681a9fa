"""The holdout: rows set aside before anything is looked at, and how a selection remembers them."""

from __future__ import annotations

import base64
import hashlib
import zlib
from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.arrays import Ints
from chaff.decide.holdout_reads import HoldoutKey, count_read
from chaff.decide.run_parts import RunParts
from chaff.errors import UsageError
from chaff.evaluate.fitted import FitAndPredict, Prepare
from chaff.folds import one_split, split_holdout
from chaff.methods.evaluation.evaluation import FULL, KEPT, NOTHING, Evaluation
from chaff.models.named import as_model
from chaff.table.table import Table
from chaff.work import Work, Workers

if TYPE_CHECKING:
    from chaff.decide.selection_parts import HoldoutPart


def set_aside(table: Table, share: float, work: Work) -> tuple[Ints, Ints, str]:
    """(training rows, holdout rows, how) as positions in the table's view; rows that came separately are the holdout."""
    given = (table.source.arrow.schema.metadata or {}).get(b"holdout_rows")
    if given is not None:
        late = table.rows >= table.source.rows - int(given)
        return np.flatnonzero(~late), np.flatnonzero(late), "separate rows"
    if share == 0:
        return np.arange(len(table)), np.empty(0, np.int64), "none"
    rows, held = split_holdout(table, share, work)
    how = "latest rows" if table.order is not None else "whole groups" if table.groups is not None else "at random"
    return rows, held, how


def holdout_part(table: Table, held: Ints, how: str, reads: int) -> HoldoutPart:
    """What a selection stores of it."""
    from chaff.decide.selection_parts import HoldoutPart

    if not held.size:
        return HoldoutPart()
    rows = table.rows[held]
    flags = np.zeros(table.source.rows, np.uint8)
    flags[rows] = 1
    return HoldoutPart(
        rows="sha256:" + hashlib.sha256(rows.astype("<i8").tobytes()).hexdigest(),
        bitmap=base64.b64encode(zlib.compress(np.packbits(flags).tobytes(), 9)).decode(),
        count=int(rows.size),
        share=round(rows.size / len(table), 6),
        how=how,
        reads=reads,
    )


def holdout_rows(part: HoldoutPart, source_rows: int) -> Ints:
    """Row numbers of the source that were set aside, from what a selection stores."""
    if not part.count:
        return np.empty(0, np.int64)
    packed = np.frombuffer(zlib.decompress(base64.b64decode(part.bitmap)), np.uint8)
    return np.flatnonzero(np.unpackbits(packed)[:source_rows]).astype(np.int64)


def evaluation_of(run: RunParts, model: Any = None, workers: Workers = None, state: bool = True) -> Evaluation:
    """See `Run.evaluate`."""
    if not run.holdout.size:
        raise UsageError("there is no holdout to evaluate on: select with holdout=0.2 (--holdout 0.2), or pass a file of separate rows")
    used = run.final_scores.deciding if model is None else as_model(model)
    reads = run.ledger.holdout_reads
    if model is not None and used != run.final_scores.deciding:  # another look at rows that the table of final scores has read once
        reads = count_read(HoldoutKey.of(run.table, run.holdout) if state else None).reads
    sets = {FULL: run.final_scores.full, KEPT: run.final_scores.kept, NOTHING: ()}
    sample = run.row_sample
    both = set(sets[FULL]) | set(sets[KEPT])
    names = tuple(f for f in run.table.features if f in both)
    wide = sample.table.with_features(names) if names else sample.table
    split = Prepare(wide, used, one_split(wide, sample.rows, sample.held), Work(run.selection.seed, workers))(0)
    fit = FitAndPredict(used)
    predicted = {s: fit((tuple(f for f in names if f in subset), split)) for s, subset in sets.items()}
    return Evaluation(used, wide.take(sample.held), split.truth, predicted, sets, reads)
