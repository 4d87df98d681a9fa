"""The data of a run that is over: the same training rows and folds, for what is asked of its kept set afterwards."""

from __future__ import annotations

from typing import TYPE_CHECKING

from chaff.evaluate.setting import Setting
from chaff.folds import make_folds
from chaff.methods.search.search_data import SearchData
from chaff.work import Work, Workers

if TYPE_CHECKING:
    from chaff.decide.run import Run


def rebuild_search_data(run: Run, workers: Workers = None) -> SearchData:
    """Over the kept features, folds made as the run made them."""
    work = Work(run.selection.seed, workers)
    kept = run.features or run.train.features[:1]
    train = run.train.with_features(kept)
    score = run.plan.score
    folds = make_folds(run.train, score.folds_for(run.train), score.repeats_for(run.train), work)
    return SearchData.of(train, Setting(folds, metric=run.final_scores.metric.name, work=work), [run.final_scores.deciding])
