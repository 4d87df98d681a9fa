"""From the holdout that is set aside to the file that cuts other data down."""

import json
from pathlib import Path

import numpy as np
import pandas as pd
import pyarrow.parquet as pq
import pytest

import chaff
from chaff.decide.holdout import holdout_rows
from chaff.decide.selection import json_schema
from chaff.folds import one_split
from tests.conftest import make_mixed

QUICK = chaff.Plan((chaff.Screen(), chaff.Overlap(), chaff.Search(strategy="forward")))


@pytest.fixture(scope="module")
def frame():
    return make_mixed(260).assign(lot=[f"lot-{k:04d}" for k in range(260)])


@pytest.fixture(scope="module")
def run(frame):
    table = chaff.open_table(frame, target="y", ids="lot", groups="mill", ignore=["lot_weight", "day"])
    return chaff.select(table, QUICK)


def test_every_feature_has_a_verdict_from_every_stage_it_met(mill_run, mill_table):
    for report in mill_run.stages:
        assert [v.feature for v in report.verdicts] == list(report.offered)
    told = {*mill_run.features, *(d.name for d in mill_run.selection.dropped), *(x.name for x in mill_run.selection.review)}
    assert told == set(mill_table.features)
    assert set(mill_run.final_scores.full) == set(mill_run.stages[0].kept)


def test_the_holdout_is_whole_groups_that_no_stage_saw(mill_run, mill_table):
    held = mill_run.holdout
    part = mill_run.selection.holdout
    assert part.how == "whole groups" and part.count == held.size and part.reads == mill_run.ledger.holdout_reads >= 1
    np.testing.assert_array_equal(holdout_rows(part, len(mill_table)), held)
    assert not set(mill_table.groups[held]) & set(mill_run.train.groups)
    assert len(mill_run.train) + held.size == len(mill_table)


@pytest.mark.long
def test_holdout_cells_change_no_verdict(frame):
    """Whatever the holdout holds, the selection is the same: it was not looked at."""
    options = {"target": "y", "ids": "lot", "ignore": ["lot_weight", "day", "mill"]}
    first = chaff.select(chaff.open_table(frame, **options), QUICK)
    spoilt = frame.copy()
    rng = np.random.default_rng(0)
    for c in ("assay_0", "assay_1", "y"):
        spoilt.loc[first.holdout, c] = rng.normal(5, 30, first.holdout.size)
    second = chaff.select(chaff.open_table(spoilt, **options), QUICK)
    assert second.ledger.verdicts == first.ledger.verdicts
    assert second.selection.data.fingerprint != first.selection.data.fingerprint


@pytest.mark.long
def test_same_seed_same_selection_whatever_the_workers(frame):
    table = chaff.open_table(frame, target="y", ids="lot", groups="mill")
    plan = chaff.Plan((chaff.Screen(), chaff.Importance(chaff.Forest(10)), chaff.Search()))
    a, b = (chaff.select(table, plan, seed=3, workers=k) for k in (1, 2))
    assert a.features == b.features and a.ledger.frame["verdict"].tolist() == b.ledger.frame["verdict"].tolist()


def test_the_holdout_scores_are_those_of_the_deciding_model_fitted_on_all_training_rows(run):
    final_scores, trail = run.final_scores, run.result("search")
    rows = np.setdiff1d(np.arange(len(run.table)), run.holdout)
    split = one_split(run.table, rows, run.holdout)
    scorer = chaff.SubsetScorer(run.table, trail.decided.model, "r2", split)
    for name in ("full", "kept", "nothing"):
        assert final_scores.line(name).holdout.mean == pytest.approx(scorer(final_scores.line(name).features).mean)
    assert final_scores.line("kept").holdout.se > 0 and final_scores.line("nothing").holdout.mean == pytest.approx(0)
    assert final_scores.line("kept").honest.mean == run.honest.mean and final_scores.line("full").honest.mean == run.honest.full[0]


def test_selections_survive_the_file_and_are_plain_json(run, tmp_path):
    path = tmp_path / "selection.json"
    run.selection.save(path)
    assert chaff.read_selection(path) == run.selection
    data = json.loads(path.read_text())
    assert data["format"] == "chaff selection" and data["version"] == 3 and data["plan"]["table"]["ids"] == ["lot"]
    assert data["plan"]["table"]["target"] == "y" and data["scores"]["kept"]["scores"][0]["on"] == "honest folds"
    assert [p.name for p in tmp_path.iterdir()] == ["selection.json"]


def test_the_published_schema_is_the_one_in_force():
    assert Path("docs/selection.schema.json").read_text(encoding="utf-8") == json_schema()


@pytest.mark.parametrize(
    "content, words",
    [
        ("not json", "not JSON"),
        ("[1]", "not a selection"),
        ('{"format": "chaff selection", "version": 4}', "update Chaff"),
        ('{"format": "chaff selection", "version": 1}', "damaged selection"),
    ],
)
def test_damaged_selections_are_refused(tmp_path, content, words):
    (tmp_path / "s.json").write_text(content)
    with pytest.raises(chaff.DataError, match=words):
        chaff.read_selection(tmp_path / "s.json")
    with pytest.raises(chaff.DataError, match="no such selection"):
        chaff.read_selection(tmp_path / "gone.json")


def test_apply_puts_the_target_first_and_carries_roles_along(run, frame):
    wanted = ["y", "lot", "mill", *run.features]
    out = run.selection.apply(frame)
    assert list(out.columns) == wanted
    pd.testing.assert_frame_equal(out, frame[wanted], check_dtype=False)
    bare = run.selection.apply(frame[[*reversed(run.features)]])
    assert list(bare.columns) == list(run.features)


@pytest.mark.parametrize("inward", ["csv", "parquet"])
@pytest.mark.parametrize("outward", ["csv", "parquet"])
def test_apply_from_file_to_file(run, frame, tmp_path, inward, outward):
    source, out = tmp_path / f"in.{inward}", tmp_path / f"out.{outward}"
    frame.to_csv(source, index=False) if inward == "csv" else frame.to_parquet(source)
    run.selection.apply(source, out)
    back = pd.read_csv(out) if outward == "csv" else pq.read_table(out).to_pandas()
    wanted = frame[["y", "lot", "mill", *run.features]]
    if (inward, outward) == ("csv", "parquet"):
        assert (back["mill"] == wanted["mill"].astype(str)).all()  # groups of a text file are carried as they are written
        back["mill"] = back["mill"].astype(int)
    pd.testing.assert_frame_equal(back, wanted, check_dtype=False, rtol=1e-12)
    assert sorted(p.name for p in tmp_path.iterdir()) == sorted([source.name, out.name])


def test_apply_refuses_missing_columns_and_other_kinds(run, frame, tmp_path):
    number = next(k.name for k in run.selection.kept if k.kind == "number")
    with pytest.raises(chaff.DataError, match=f"lacks kept column '{number}'.*Did you mean '{number}x'"):
        run.selection.apply(frame.rename(columns={number: number + "x"}))
    with pytest.raises(chaff.DataError, match=f"'{number}' of the frame holds text values.*such as 'many'"):
        run.selection.apply(frame.assign(**{number: "many"}))
    words = next(k.name for k in run.selection.kept if k.words)
    with pytest.raises(chaff.DataError, match=f"'{words}' of the frame holds number values"):
        run.selection.apply(frame.assign(**{words: 3.5}))
    with pytest.raises(chaff.DataError, match="holds date values"):
        run.selection.apply(frame.assign(**{number: pd.Timestamp("2025-01-01")}))
    bad = tmp_path / "bad.csv"
    frame.assign(**{number: ["oops", *frame[number][1:]]}).to_csv(bad, index=False)
    with pytest.raises(chaff.DataError, match="oops"):
        run.selection.apply(bad, tmp_path / "out.csv")
    with pytest.raises(chaff.UsageError, match=r"must end in \.csv or \.parquet"):
        run.selection.apply(frame, tmp_path / "out.xlsx")
    assert [p.name for p in tmp_path.iterdir()] == ["bad.csv"]


def test_apply_allows_unseen_levels_all_missing_columns_and_no_rows(run, frame):
    words = next(k.name for k in run.selection.kept if k.words)
    assert run.selection.apply(frame.assign(**{words: "new level"}))[words].eq("new level").all()
    assert run.selection.apply(frame.assign(**{words: None}))[words].isna().all()
    with pytest.raises(chaff.DataError, match="no rows"):
        run.selection.apply(frame.iloc[:0])


def test_apply_keeps_declared_missing_words_and_members_of_a_category(tmp_path):
    frame = make_mixed(200)
    dummies = pd.get_dummies(frame["variety"].fillna("none"), prefix="v").astype(int)
    data = pd.concat([frame[["assay_0", "assay_2", "y"]], dummies], axis=1)
    data["assay_2"] = data["assay_2"].round(3).astype(str).where(np.arange(200) % 9 > 0, "NA")
    path = tmp_path / "d.csv"
    data.to_csv(path, index=False)
    table = chaff.open_table(path, target="y", together={"variety": list(dummies.columns)}, missing="NA")
    run = chaff.select(
        table, chaff.Plan((chaff.Search(),)), pins=[chaff.pin_keep("variety", "asked for"), chaff.pin_keep("assay_2", "asked for")]
    )
    out = run.selection.apply(path)
    assert set(dummies.columns) < set(out.columns) and out["assay_2"].isna().sum() == 23


def test_arrays_apply_to_arrays():
    rng = np.random.default_rng(0)
    X = rng.normal(size=(120, 6))
    run = chaff.select(chaff.open_arrays(X, X[:, 4] * 2 + rng.normal(size=120)), QUICK)
    new = rng.normal(size=(7, 6))
    np.testing.assert_array_equal(run.selection.apply(new)[:, run.features.index("x5")], new[:, 4])
    with pytest.raises(chaff.DataError, match="must have the 6 columns"):
        run.selection.apply(new[:, :5])


@pytest.mark.long
def test_pins_beat_stages_and_keep_their_reason(mill_table):
    plan = chaff.Plan((chaff.Screen(), chaff.Search(strategy="forward")))
    pins = [
        chaff.pin_keep("crumb_score", "it is known before baking here"),
        chaff.pin_drop("protein_pct", "the device is gone"),
        chaff.pin_keep("straw_pct", "reported anyway"),
    ]
    run = chaff.select(mill_table, plan, pins=pins)
    assert {"crumb_score", "straw_pct"} <= set(run.features) and "protein_pct" not in run.features
    said = {d.name: d for d in run.selection.dropped}["protein_pct"]
    assert said.stage == "pin" and said.reason == "the device is gone"
    assert any("known before baking" in v.reason and "review" in v.reason for v in run.ledger.of("crumb_score"))
    assert {p["feature"] for p in run.selection.plan["pin"]} == {"crumb_score", "protein_pct", "straw_pct"}
    assert "protein_pct" not in run.final_scores.full and "crumb_score" in run.final_scores.full


@pytest.mark.long
def test_whatever_the_screen_drops_can_be_pinned_in(mill_table):
    dropped = ["lot_no", "delivered_on", "farm_code", "line_id", "organic", "line_voltage_v", "crumb_score"]
    pins = [chaff.pin_keep(f, "to see what happens") for f in dropped]
    plan = chaff.Plan(
        (chaff.Screen(), chaff.Relevance(), chaff.Overlap(), chaff.Importance(chaff.Forest(5)), chaff.Search(strategy="forward"))
    )
    run = chaff.select(mill_table.take(np.arange(0, 1600, 4)), plan, pins=pins)
    assert set(dropped) <= set(run.features)


def test_an_unfit_metric_is_refused_before_any_stage_runs(frame):
    begun = []
    plan = chaff.Plan((chaff.Screen(),), chaff.Scoring(metric="auc"))
    with pytest.raises(chaff.UsageError, match="does not fit"):
        chaff.select(chaff.open_table(frame, target="y"), plan, watch=lambda stage, done, of: begun.append(stage))
    assert not begun


def test_pins_are_checked(mill_table):
    with pytest.raises(chaff.UnknownColumn, match="Did you mean 'ash_pct'"):
        chaff.select(mill_table, QUICK, pins=[chaff.pin_keep("ash_pc", "x")])
    with pytest.raises(chaff.UsageError, match="both to keep and to drop"):
        chaff.select(mill_table, QUICK, pins=[chaff.pin_keep("ash_pct", "x"), chaff.pin_drop("ash_pct", "y")])
    with pytest.raises(chaff.UsageError, match="needs a reason"):
        chaff.pin_keep("ash_pct", " ")


def test_a_stage_that_leaves_nothing_says_which_and_what_loosens_it(frame):
    table = chaff.open_table(frame[["assay_0", "assay_1", "y"]], target="y")
    plan = chaff.Plan((chaff.Screen(), chaff.Relevance(cut={"above": 5.0}), chaff.Search()))
    with pytest.raises(chaff.DataError, match=r"stage 'relevance' dropped all 2 features.*relax its cut.*--pin-keep"):
        chaff.select(table, plan)


def test_separate_rows_are_the_holdout(frame):
    table = chaff.open_table(frame.iloc[:200], target="y", ids="lot", holdout=frame.iloc[200:])
    run = chaff.select(table, QUICK)
    assert run.holdout.tolist() == list(range(200, 260)) and run.selection.holdout.how == "separate rows"


def test_no_holdout_is_possible_and_said(frame):
    run = chaff.select(chaff.open_table(frame, target="y", ids="lot"), QUICK, holdout=0)
    assert run.holdout.size == 0 and run.selection.holdout.how == "none" and run.final_scores.holdout_rows == 0
    assert "kept" in str(run)


def test_watchers_hear_every_stage(frame):
    heard, reports = [], []
    chaff.select(
        chaff.open_table(frame, target="y", ids="lot"),
        QUICK,
        watch=lambda stage, done, of: None if of else heard.append(stage),
        after_stage=lambda report, ledger: reports.append((report.stage.use, len(ledger.verdicts))),
    )
    assert list(dict.fromkeys(heard)) == ["screen", "overlap", "search", "final scores"] and [r[0] for r in reports] == [
        "screen",
        "overlap",
        "search",
    ]
    assert reports[0][1] < reports[1][1] < reports[2][1]


def test_results_by_stage_name(run):
    assert run.result("search").chosen
    with pytest.raises(chaff.UsageError, match="no stage 'importance'"):
        run.result("importance")
