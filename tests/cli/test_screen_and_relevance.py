"""`chaff screen` and `chaff relevance` in a process of their own."""

import json

import numpy as np
import pandas as pd
import pytest

import chaff
from tests.cli.test_commands import ROLES
from tests.commands import run


@pytest.fixture(scope="module")
def lots(tmp_path_factory):
    path = tmp_path_factory.mktemp("lots") / "lots.csv"
    chaff.demo.lots(rows=400).to_csv(path, index=False)
    return path


@pytest.mark.long
def test_screen_says_what_goes_why_and_what_the_rest_holds(lots, tmp_path):
    out = run(
        "screen",
        lots,
        *ROLES,
        "--out",
        tmp_path / "s.json",
        "--figures",
        tmp_path / "figures",
        "--by",
        "missing_share",
        "--try",
        "0.05,0.5",
    )
    for words in (
        "54 features → ",
        "dropped",
        "to review",
        "lot_no",
        "blocked",
        "single-feature CV R²",
        "Rows",
        "equal rows",
        "Advice",
        "--missing-flag mycotoxin_ppb",
        "What if: thresholds on missing share",
        "of 54 kept",
        "… and ",
    ):
        assert words in out, words
    assert out.index("mycotoxin_ppb") < out.index("What if")
    found = chaff.read_findings(tmp_path / "s.json")
    assert found.frame.loc["crumb_score", "verdict"] == "review" and "rows" in found.more
    assert {p.name for p in (tmp_path / "figures").iterdir()} == {"histograms.png", "missing.png"}


@pytest.mark.long
def test_screen_limits_pins_flags_and_fills(lots):
    out = run(
        "screen",
        lots,
        *ROLES,
        "--missing-share",
        "off",
        "--top-share",
        "0.995",
        "--pin-keep",
        "line_voltage_v",
        "--because",
        "law",
        "--missing-flag",
        "mycotoxin_ppb",
        "--fill",
        "mycotoxin_ppb=0",
        "--all",
    )
    assert "mycotoxin_ppb_missing" in out and "drop     line_voltage_v" not in out and "drop     organic" not in out
    assert "--missing-share" in run("screen", lots, *ROLES, "--missing-shares", "0.2", code=2)
    assert "--try needs --by" in run("screen", lots, *ROLES, "--try", "0.2", code=2)
    assert "cannot be filled with 'no'" in run("screen", lots, *ROLES, "--fill", "protein_pct=no", code=2)


@pytest.mark.long
def test_relevance_ranks_cuts_tries_and_saves(lots, tmp_path):
    out = run(
        "relevance",
        lots,
        *ROLES,
        "--top",
        "9",
        "--try",
        "0.1,0.3",
        "--out",
        tmp_path / "r.json",
        "--figure",
        tmp_path / "r.png",
        "--figures",
        tmp_path / "panels",
        "--all-columns",
    )
    for words in ("crumb_score", "effect size", "pearson_r", "drop", "keep", "drop", "What if: thresholds on effect size", "of 54 kept"):
        assert words in out, words
    assert "crumb_score possible leakage: R²" in out  # a leak does not float to the top unnoticed
    assert (tmp_path / "r.png").stat().st_size > 10_000 and len(list((tmp_path / "panels").glob("*.png"))) == 13
    again = run(
        "relevance",
        tmp_path / "r.json",
        "--by",
        "kendall_tau",
        "--top",
        "3",
        "--scaled",
        "--try",
        "0.1,0.2",
        "--out",
        tmp_path / "again.csv",
        "--decimals",
        "3",
    )
    assert "From 0, the worst feature, to 1, the best" in again and "kendall tau" in again and "What if: thresholds on kendall tau" in again
    sheet = pd.read_csv(tmp_path / "again.csv")
    assert (sheet["verdict"] == "keep").sum() == 3 and sheet["kendall_tau"].abs().dropna().is_monotonic_decreasing


def test_relevance_for_classes_with_pairs_and_other_statistics(lots, tmp_path):
    roles = ("--target", "accepted", "--ignore", "loaf_volume", "--ignore", "grade")
    out = run(
        "relevance",
        lots,
        *roles,
        "--statistics",
        "auc,cramers_v,relief",
        "--by",
        "auc",
        "--pairs",
        "--adjust",
        "holm",
        "--out",
        tmp_path / "r.json",
    )
    assert "auc" in out and "Pairwise interactions" in out and "dropped by the preceding stages: lot_no" in out
    assert json.loads((tmp_path / "r.json").read_text())["settings"]["adjust"] == "holm"


def test_a_target_above_a_threshold(lots):
    out = run(
        "relevance",
        lots,
        "--target",
        "loaf_volume",
        "--target-above",
        "400",
        "--ignore",
        "accepted",
        "--ignore",
        "grade",
        "--statistics",
        "leading",
    )
    assert "target loaf_volume_above_400" in out and "was made from loaf_volume, which is therefore ignored" in out


@pytest.mark.long
def test_triage_of_a_wide_file(tmp_path):
    rng = np.random.default_rng(0)
    y = rng.normal(size=80)
    frame = pd.DataFrame(rng.normal(size=(80, 3000)), columns=[f"sensor_{k}" for k in range(3000)])
    frame["sensor_777"] = y + 0.3 * rng.normal(size=80)
    frame["y"] = y
    frame.to_parquet(tmp_path / "wide.parquet")
    out = run("relevance", tmp_path / "wide.parquet", "--target", "y", "--triage", "20", "--out", tmp_path / "t.json")
    assert "sensor_777" in out and len(chaff.read_findings(tmp_path / "t.json").frame) == 20


@pytest.mark.long
@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (("--statistics", "auc"), "does not fit"),
        (("--statistics", "pearsen_r"), "Did you mean 'pearson_r'"),
        (("--top", "3", "--above", "0.1"), "one cut at a time"),
        (("--by", "effect"), "Did you mean 'effect_size'"),
        (("--out", "r.xlsx"), ".json or .csv or .parquet"),
        (("--figure", "r.bmp"), ".png or .svg or .pdf"),
        (("--try", "a,b"), "not a number"),
        (("--triage", "5", "--pairs"), "--triage keeps"),
    ],
)
def test_wrong_options_are_named(lots, arguments, words):
    assert words in run("relevance", lots, *ROLES, *arguments, code=2)


def test_the_data_themselves_may_be_wrong(tmp_path, lots):
    assert "Did you mean 'loaf_volume'" in run("relevance", lots, "--target", "loaf_volumes", code=3)
    assert "no such findings" in run("relevance", tmp_path / "none.json", code=3)
    (tmp_path / "odd.json").write_text("{}")
    assert "holds no findings" in run("relevance", tmp_path / "odd.json", code=3)
    assert "pairs needs the table" in run("relevance", save(tmp_path, lots), "--pairs", code=2)
    assert "--target" in run("relevance", lots, code=2)


def save(folder, lots):
    chaff.relevance(chaff.open_table(lots, "loaf_volume", ignore=["accepted", "grade"]), "leading").save(folder / "r.json")
    return folder / "r.json"


def test_rows_of_a_file_of_their_own_are_held_out_of_what_is_looked_at(tmp_path):
    frame = chaff.demo.lots(rows=400)
    frame.iloc[:300].to_csv(tmp_path / "some.csv", index=False)
    frame.iloc[300:].to_csv(tmp_path / "held.csv", index=False)
    required = ("screen", "some.csv", *ROLES, "--format", "json")
    told = json.loads(run(*required, "--holdout", "held.csv", cwd=tmp_path))
    assert (told["table"]["rows"], told["table"]["rows_held_out"]) == (300, 100)
    alone = json.loads(run(*required, "--all-rows", cwd=tmp_path))
    assert told["result"]["records"] == alone["result"]["records"]


@pytest.mark.long
def test_any_field_of_the_stage_can_be_set_and_a_wrong_one_is_named(lots):
    wide, narrow = (
        json.loads(run("relevance", lots, *ROLES, "--statistics", "pearson_r", "--confidence", c, "--format", "json")) for c in (0.99, 0.5)
    )
    assert narrow["result"]["settings"]["confidence"] == 0.5 and wide["result"]["settings"]["confidence"] == 0.99
    assert "--places" in run("relevance", lots, *ROLES, "--place", "3", code=2)
    assert "--rounds goes with --twins" in run("importance", lots, *ROLES, "--rounds", "3", "--all-columns", code=2)
    assert "--draws goes with --chance" in run("importance", lots, *ROLES, "--twins", "--draws", "shared", "--all-columns", code=2)
