"""The setting hands out scorers: one for each table, model and metric, and always under the run's own metric."""

import numpy as np
import pandas as pd

import chaff
from chaff.evaluate.setting import Setting


def table_of(mixed):
    return chaff.open_table(mixed, target="y", ignore=["mill", "day", "lot_weight"])


def test_the_scorer_uses_the_metric_of_the_run(mixed):
    table = table_of(mixed)
    setting = Setting.of(table, metric="mae")
    assert setting.scorer(table).metric.name == "mae"
    assert setting.scorer(table, chaff.LeastSquares()).metric.name == "mae"
    assert setting.scorer(table, metric="r2").metric.name == "r2"


def test_the_same_question_gets_the_same_scorer(mixed):
    table = table_of(mixed)
    setting = Setting.of(table)
    first = setting.scorer(table)
    assert setting.scorer(table) is first
    assert setting.scorer(table, chaff.Ridge()) is first  # equal models are one model
    assert setting.scorer(table, chaff.Ridge(0.5)) is not first
    fewer = table.with_features(["assay_0", "variety"])
    assert setting.scorer(fewer) is not first and setting.scorer(fewer) is setting.scorer(fewer)


def test_other_rows_of_the_same_source_get_a_scorer_of_their_own(mixed):
    table = table_of(mixed)
    setting = Setting.of(table)
    first = setting.scorer(table)
    weighted = chaff.open_table(mixed, target="y", ignore=["mill", "day"], weights="lot_weight").with_features(table.features)
    other = setting.scorer(weighted)
    assert other is not first
    assert not np.array_equal(other(["assay_0"]).values, first(["assay_0"]).values)


def test_a_model_that_cannot_serve_the_metric_is_scored_by_its_own(mixed):
    table = table_of(mixed.assign(y=pd.qcut(mixed["y"], 2, labels=["no", "yes"]).astype(str)))
    setting = Setting.of(table, metric="log_loss")
    assert setting.scorer(table, chaff.Forest(trees=3)).metric.name == "log_loss"
    assert setting.scorer(table, chaff.Ridge()).metric.name != "log_loss"  # it gives no probabilities
