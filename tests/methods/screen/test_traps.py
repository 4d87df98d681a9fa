"""The demo mill's traps and who catches them. The truth is the generator's own."""

import numpy as np
import pytest

import chaff
from chaff.evaluate.setting import Setting

TRUTH = chaff.demo.truth()


def verdicts(run, stage):
    return {v.feature: v for v in next(r for r in run.stages if r.stage.use == stage).verdicts}


@pytest.mark.parametrize(
    "feature, word, stays",
    [
        ("lot_no", "review", False),
        ("crumb_score", "review", False),
        ("mycotoxin_ppb", "review", True),
        ("delivered_on", "drop", False),
        ("farm_code", "drop", False),
        ("line_id", "drop", False),
        ("organic", "review", True),
    ],
)
def test_the_screen_catches_its_traps(mill_run, feature, word, stays):
    v = verdicts(mill_run, "screen")[feature]
    assert (v.verdict, v.stays) == (word, stays) and v.reason and v.figure


def test_the_screen_lets_everything_else_pass(mill_run):
    others = [f for f in verdicts(mill_run, "screen") if TRUTH.role[f] in ("signal", "repeat", "noise")]
    assert others and all(verdicts(mill_run, "screen")[f].verdict == "keep" for f in others)


@pytest.mark.parametrize(
    "family, most",
    [
        (("protein_pct", "protein_nir_pct"), 1),
        (("test_weight_kg_hl", "test_weight_lb_bu"), 1),
        (("gluten_wet_pct", "gluten_dry_pct", "gluten_washed_g", "gluten_machine_pct"), 1),
        (("sieve_coarse_pct", "sieve_medium_pct", "sieve_fine_pct"), 2),
    ],
)
def test_overlap_proposes_all_of_a_family_but_one_and_of_a_sum_but_two(mill_run, family, most):
    said, frame = verdicts(mill_run, "overlap"), mill_run.result("overlap").frame
    assert sum(not frame.loc[f, "proposed"] for f in family) == most
    for f in family:
        if frame.loc[f, "proposed"] == "exact":
            assert not said[f].stays and "nothing is lost without it" in said[f].reason
        elif frame.loc[f, "proposed"]:
            assert said[f].stays and "removal proposed" in said[f].reason + "removal proposed" * (said[f].verdict == "review")


def test_overlap_touches_no_column_that_repeats_nothing(mill_run):
    families = set(TRUTH.index[TRUTH.role == "repeat"]) | set(", ".join(TRUTH.repeats[TRUTH.role == "repeat"]).split(", "))
    assert {f for f, v in verdicts(mill_run, "overlap").items() if not v.stays} <= families


def test_importance_finds_strong_signal_and_no_crowd_of_noise(mill_run):
    frame = mill_run.result("importance").frame
    assert {"harvest_rain_mm", "falling_number_s", "mycotoxin_ppb"} <= set(frame.index[frame.significant])
    assert "protein_pct" in frame["importance"].nlargest(6).index  # though its near copy makes it dispensable
    assert frame.significant[[f for f in frame.index if TRUTH.role[f] == "noise"]].sum() <= 1


def test_the_kept_set_is_small_holds_the_signal_and_keeps_up(mill_run):
    kept = mill_run.features
    assert len(kept) <= 20 and sum(TRUTH.role[f] == "noise" for f in kept) <= 2
    covered = set(kept) | {of for f in kept if TRUTH.role[f] == "repeat" for of in TRUTH.repeats[f].split(", ")}
    assert sum(f not in covered for f in TRUTH.index[TRUTH.role == "signal"]) <= 3
    assert mill_run.honest.keep_up.answer == "keeps up"
    final_scores = mill_run.final_scores
    assert final_scores.line("kept").holdout.mean > final_scores.line("full").holdout.mean - 0.03


def test_what_only_one_lens_sees_stays_and_is_told(mill_run):
    trail, said = mill_run.result("search"), verdicts(mill_run, "search")
    assert "mycotoxin_ppb" in mill_run.features  # its absence tells, which no line sees
    assert all(said[f].stays and "the second model needs it" in said[f].reason for f in trail.added)


@pytest.mark.parametrize("target", ["accepted", "grade"])
def test_class_targets_bar_the_leak_too(target):
    table = chaff.demo.table(rows=900, target=target)
    screen = chaff.Screen()
    setting = Setting.of(table)
    said = {v.feature: v for v in screen.verdicts(screen.judge(table, setting), setting)}
    assert said["crumb_score"].blocked and said["lot_no"].blocked and said["mycotoxin_ppb"].stays
    assert "missing rows are" in said["mycotoxin_ppb"].reason


def test_the_generator_keeps_its_word():
    frame = chaff.demo.lots(rows=800)
    assert frame.equals(chaff.demo.lots(rows=800)) and not frame.equals(chaff.demo.lots(rows=800, seed=1))
    np.testing.assert_allclose(frame[["sieve_coarse_pct", "sieve_medium_pct", "sieve_fine_pct"]].sum(axis=1), 100, atol=1e-9)
    assert frame["line_id"].nunique() == 1 and 0.7 < frame["mycotoxin_ppb"].isna().mean() < 0.8
    assert frame["grade"].nunique() == 3 and set(frame["accepted"]) == {"yes", "no"}
    assert frame.filter(like="loaf_volume").corrwith(frame["crumb_score"]).iloc[0] ** 2 > 0.95
    assert set(TRUTH.index) == set(frame.columns)
    more = chaff.demo.lots(rows=800, noise=40, signal=14, repeats=9)
    assert set(chaff.demo.truth(signal=14, repeats=9, noise=40).index) == set(more.columns)
    assert more["protein_pct"].equals(frame["protein_pct"])  # more columns change no other column
    fewer = chaff.demo.lots(rows=100, noise=0, signal=3, repeats=1)
    assert set(chaff.demo.truth(signal=3, repeats=1, noise=0).index) == set(fewer.columns)
    assert set(frame.columns) - {"mill"} <= set(chaff.demo.dictionary()) | {"mill"}
    quiet = chaff.demo.lots(rows=800, label_noise=0.0)
    assert quiet["loaf_volume"].std() < frame["loaf_volume"].std()
    with pytest.raises(chaff.UsageError):
        chaff.demo.lots(rows=3)
    with pytest.raises(chaff.UsageError, match="not 'taste'"):
        chaff.demo.table(target="taste")
