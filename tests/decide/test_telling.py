"""What people read: numbers with even digits, stage lines, the table of final scores, column meanings."""

import re
from dataclasses import replace

import pytest

import chaff
from chaff.decide.final_scores import Scored
from chaff.decide.run_text import answer_line, final_warnings, score_rows, stage_line
from chaff.results.digits import score, with_error


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
    head, *rows = score_rows(mill_run.final_scores)
    named = {row[0]: row for row in rows}
    assert (
        head[1:3] == ("features", "honest R² (forest)")
        and head[3].startswith("holdout R² (")
        and head[4:] == ("CV RMSE (forest)", "CV R² (ridge)")
    )
    assert list(named)[:2] == ["all candidates", "full, after the screen"] and list(named)[-2:] == ["baseline", "kept − full"]
    assert named["kept"][1] == str(len(mill_run.features)) and named["baseline"][1] == "0"
    assert re.fullmatch(r"0\.\d{2,3} ± 0\.0\d{1,2}", named["kept"][2]) and float(named["baseline"][4]) > float(named["kept"][4])
    assert re.fullmatch(r"[+-]0\.\d+ \([+-]0\.\d+ to [+-]0\.\d+\)", named["kept − full"][2])
    assert "keeps up with the full set (allowance 0.0" in answer_line(mill_run.final_scores)


def test_stage_lines_count_and_say(mill_run):
    lines = {r.stage.use: stage_line(r) for r in mill_run.stages}
    assert lines["screen"] == ("54 → 49", "3 dropped, 2 blocked, 2 to review")
    assert lines["relevance"] == ("49", "measured, nothing dropped")
    assert "significant" in lines["importance"][1] and "within one SE of the best (2% to 10% of its improvement" in lines["search"][1]


def test_the_ledger_carries_meanings_and_units(mill_run, tmp_path):
    frame = mill_run.ledger.frame.set_index("feature")
    assert frame.loc["protein_nir_pct", "meaning"].iloc[0] == "protein by near-infrared" and set(frame.loc["ash_pct", "unit"]) == {"%"}
    kept = {k.name: k for k in mill_run.selection.kept}
    assert kept["protein_pct"].unit == "%" and kept["protein_pct"].meaning == "protein, wet chemistry"


@pytest.mark.long
def test_a_class_run_closes_with_log_loss_and_names_its_floor():
    table = chaff.demo.table(rows=300, target="accepted")
    run = chaff.select(table, chaff.Plan((chaff.Screen(), chaff.Search("logistic"))))
    final_scores = run.final_scores
    assert (
        final_scores.metric.name == "log_loss"
        and final_scores.beside.name == "auc"
        and (final_scores.model, final_scores.other) == ("logistic", "forest")
    )
    kept, nothing = final_scores.line("kept"), final_scores.line("nothing")
    assert kept.holdout.mean < nothing.holdout.mean and run.selection.target.positive == "yes"
    assert nothing.beside.mean == pytest.approx(0.5) and kept.beside.mean > 0.6


def test_a_kept_set_that_does_not_keep_up_is_told(mill_run):
    final_scores, honest = mill_run.final_scores, mill_run.honest
    assert not any("worse" in w for w in final_warnings(mill_run))
    worse = replace(honest, keep_up=replace(honest.keep_up, answer="worse"))
    bad = tuple(replace(x, holdout=Scored(-0.4)) if x.name == "kept" else x for x in final_scores.lines)
    told = final_warnings(replace(mill_run, final_scores=replace(final_scores, honest=worse, lines=bad)))
    assert "worse than the full one" in told[-2] and "worse than the baseline (R² -0.400 against 0)" in told[-1]
    added = mill_run.stages[-1].result.added
    assert bool(added) == any("added for the second model" in w for w in told)
    unsure = replace(honest, keep_up=replace(honest.keep_up, answer="cannot tell", rows_to_tell=4321))
    assert "cannot tell whether it keeps up" in answer_line(replace(final_scores, honest=unsure))
    assert "roughly 4,400 rows would tell" in answer_line(replace(final_scores, honest=unsure))
    assert "the honest score was skipped" in answer_line(replace(final_scores, honest=None))


@pytest.mark.parametrize(
    ("value", "error", "text"),
    [
        (0.69412, 0.0234, "0.69 ± 0.02"),
        (0.69412, 0.0134, "0.694 ± 0.013"),
        (412.4, 37.0, "412 ± 37"),
        (0.5, float("nan"), "0.500"),
        (-0.00001, 0.02, "0.00 ± 0.02"),
    ],
)
def test_no_more_digits_than_the_error_allows(value, error, text):
    assert with_error(value, error) == text


def test_kinds_are_told():
    table = chaff.demo.table(rows=80)
    assert table.kinds["variety"] == "category" and table.kinds["delivered_on"] == "date" and table.kinds["organic"] == "binary"
    assert re.search(r"\d+ number, 1 date, \d categor", str(table)) and "groups mill" in str(table)
