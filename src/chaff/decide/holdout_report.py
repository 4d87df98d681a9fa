"""The final model of a run on the rows that were held out."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from chaff.decide.holdout_reads import HoldoutKey, count_read
from chaff.errors import UsageError
from chaff.evaluate.fitted import FitAndPredict, Prepare
from chaff.folds import one_split
from chaff.methods.evaluation.evaluation import FULL, KEPT, NOTHING, Evaluation
from chaff.models.named import as_model
from chaff.work import Work, Workers

if TYPE_CHECKING:
    from chaff.decide.run import Run


def evaluation_of(run: Run, model: Any = None, workers: Workers = None, state: bool = True) -> Evaluation:
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
