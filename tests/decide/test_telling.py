"""What people read: numbers with even digits, stage lines, the closing table, column meanings."""

import re
from dataclasses import replace

import numpy as np
import pytest

import chaff
from chaff.decide.telling import closing_rows, closing_warnings, stage_line
from chaff.results.digits import score


@pytest.mark.parametrize(
    "value, text",
    [
        (0.69412, "0.694"),
        (1.0964, "1.10"),
        (41.5834, "41.6"),
        (412.4, "412"),
        (0.00001, "0"),
        (-0.00001, "0"),
        (-0.25, "-0.250"),
        (float("nan"), ""),
    ],
)
def test_score(value, text):
    assert score(value) == text


def test_closing_rows_name_model_metric_and_place(mill_run):
    head, full, kept, none = closing_rows(mill_run.closing)
    assert head[1:4] == ("features", "ridge, R², 5 folds", "forest, R², 5 folds") and head[-1] == "forest, RMSE, holdout"
    assert full[1] == str(len(mill_run.closing.full)) and kept[1] == str(len(mill_run.features)) and none[1] == "0"
    assert all(re.fullmatch(r"-?0\.\d{3} ± 0\.\d{3}", c) for c in (*full[2:4], *kept[2:4]))
    assert none[2] == "0" and float(none[-1]) > float(full[-1])


def test_stage_lines_count_and_say(mill_run):
    lines = {r.stage.use: stage_line(r) for r in mill_run.stages}
    assert lines["screen"] == ("54 → 47", "5 set aside, 2 barred, 1 to look at")
    assert lines["relevance"] == ("47", "measured, nothing dropped")
    assert "beyond chance" in lines["importance"][1] and "within one standard error of the best" in lines["search"][1]


def test_the_ledger_carries_meanings_and_units(mill_run, tmp_path):
    frame = mill_run.ledger.frame.set_index("feature")
    assert frame.loc["protein_nir_pct", "meaning"].iloc[0] == "protein by near-infrared" and set(frame.loc["ash_pct", "unit"]) == {"%"}
    kept = {k.name: k for k in mill_run.selection.kept}
    assert kept["protein_pct"].unit == "%" and kept["protein_pct"].meaning == "protein, wet chemistry"


def test_a_class_run_closes_with_log_loss_and_names_its_floor():
    table = chaff.demo.table(rows=300, target="accepted")
    run = chaff.select(table, chaff.Plan((chaff.Screen(), chaff.Search(strategy="forward"))))
    metrics = {(c.model, c.metric.name, c.where) for c in run.closing.columns}
    assert {("ridge", "r2", "folds"), ("forest", "log_loss", "folds"), ("forest", "auc", "holdout")} <= metrics
    loss = next(c for c in run.closing.columns if c.metric.name == "log_loss" and c.where == "holdout")
    assert loss.kept.mean < loss.none and run.selection.target.positive == "yes"
    auc = next(c for c in run.closing.columns if c.metric.name == "auc")
    assert auc.none == pytest.approx(0.5)


def test_a_kept_set_that_does_not_keep_up_is_told(mill_run):
    assert closing_warnings(mill_run.closing) == []
    worse = []
    for c in mill_run.closing.columns:
        sign = 1 if c.metric.higher_is_better else -1
        low = np.full(c.kept.values.size, c.none - 0.2 * sign * max(abs(c.none), 1))
        worse.append(replace(c, kept=replace(c.kept, values=low)))
    told = closing_warnings(replace(mill_run.closing, columns=tuple(worse)))
    assert sum("worse than the full one by" in t for t in told) == 2 and sum("worse than predicting none" in t for t in told) == 4


def test_kinds_are_told():
    table = chaff.demo.table(rows=80)
    assert table.kinds["variety"] == "category" and table.kinds["delivered_on"] == "date" and table.kinds["organic"] == "binary"
    assert re.search(r"\d+ number, 1 date, \d categor", str(table)) and "groups mill" in str(table)
