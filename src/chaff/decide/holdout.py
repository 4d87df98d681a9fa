"""The holdout: rows set aside before anything is looked at, and how a selection remembers them."""

from __future__ import annotations

import base64
import hashlib
import zlib
from typing import TYPE_CHECKING

import numpy as np

from chaff.arrays import Ints
from chaff.folds import split_holdout
from chaff.table.table import Table
from chaff.work import Work

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
