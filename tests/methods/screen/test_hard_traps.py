"""Traps that caught an earlier screen, and honest columns that it caught by mistake. All made up."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.methods.screen import leaks

N = 700


def base(seed: int = 0, n: int = N) -> tuple[np.random.Generator, pd.DataFrame]:
    rng = np.random.default_rng(seed)
    frame = pd.DataFrame({f"assay_{k}": rng.normal(size=n) for k in range(4)})
    frame["y"] = frame["assay_0"] + 0.5 * frame["assay_1"] + rng.normal(size=n)
    return rng, frame


def said(frame: pd.DataFrame, target: str = "y", **terms) -> pd.DataFrame:
    return chaff.screen(chaff.open_table(frame, target, **terms)).frame


# ------------------------------------------------------------------ leaks


def test_good_among_good_sensors_is_no_leak():
    rng, frame = base()
    for k in range(4):
        frame[f"sensor_{k}"] = frame["y"] + (0.32, 0.4, 0.42, 0.44)[k] * rng.normal(size=N)
    found = said(frame)
    assert found.loc[[f"sensor_{k}" for k in range(4)], "stays"].all()


def test_two_leaks_do_not_hide_each_other():
    rng, frame = base(1)
    frame["after"], frame["later"] = frame["y"] + 0.1 * rng.normal(size=N), 2 * frame["y"] + 0.2 * rng.normal(size=N)
    found = said(frame)
    assert not found.loc[["after", "later"], "stays"].any() and found["stays"].sum() == 4


def test_far_above_the_runner_up_is_looked_at_and_stays_with_both_scores():
    rng, frame = base(2)
    frame["y"] = frame["assay_0"] + 0.35 * rng.normal(size=N) + 0.1 * frame["assay_1"]
    row = said(frame).loc["assay_0"]
    assert row["verdict"] == "review" and row["stays"] and "all other features together" in row["reason"]


def test_a_derived_prediction_of_a_skewed_target_is_found():
    rng, frame = base(3)
    frame["y"] = np.exp(1.5 * frame["y"])
    frame["forecast"] = frame["y"] * np.exp(0.18 * rng.normal(size=N))
    assert np.corrcoef(frame["y"], frame["forecast"])[0, 1] ** 2 < 0.99
    assert not said(frame).loc["forecast", "stays"]


def test_a_smallest_and_a_largest_whose_mean_is_the_target_are_found():
    rng, frame = base(4)
    half = np.abs(rng.normal(1, 0.4, N))
    frame["lowest"], frame["highest"] = frame["y"] - half, frame["y"] + half
    found = said(frame)
    assert not found.loc[["lowest", "highest"], "stays"].any()
    assert "0.5 × highest" in found.loc["lowest", "reason"]


@pytest.mark.parametrize("digits", [2, 4])
def test_two_columns_whose_rounded_mean_is_the_target_are_found(digits: int):
    rng, frame = base(7)
    spread = np.abs(rng.normal(1, 0.4, N))
    frame["lowest"], frame["highest"] = (frame["y"] - spread).round(digits), (frame["y"] + spread).round(digits)
    frame["y"] = ((frame["lowest"] + frame["highest"]) / 2).round(digits)
    found = said(frame)
    assert not found.loc[["lowest", "highest"], "stays"].any() and found.loc["assay_0", "stays"]
    assert "y is the mean of" in found.loc["lowest", "reason"]


def test_two_good_columns_whose_mean_is_near_the_target_are_none():
    rng, frame = base(8)
    frame["one"], frame["two"] = (frame["y"] + rng.normal(0, 0.6, N) for _ in range(2))
    frame["y"] = frame["y"].round(2)
    assert said(frame).loc[["one", "two"], "stays"].all()


def test_a_good_column_with_nothing_beside_it_but_its_copy_is_looked_at_and_stays():
    rng, frame = base(9)
    good = frame["y"] + 0.1 * rng.normal(size=N)
    found = said(pd.DataFrame({"sensor": good, "sensor_too": good, "y": frame["y"]}))
    assert found.loc["sensor", "stays"] and found.loc["sensor", "verdict"] == "review"
    assert "no other feature to compare with" in found.loc["sensor", "reason"]


def test_names_of_two_words_in_every_row_are_ids_and_remarks_are_none():
    rng, frame = base(10)
    first, last = ["Anna", "Bert", "Cora", "Dirk"], ["Miller", "Baker", "Farmer"]
    frame["taken_by"] = [f"{first[k % 4]} {last[k % 3]} {k}" for k in range(N)]
    frame["remark"] = [f"the lot was wet and was turned {k} times before it went in" for k in range(N)]
    found = said(frame)
    assert not found.loc["taken_by", "stays"] and "a different name in every row" in found.loc["taken_by", "reason"]
    assert "a different name" not in found.loc["remark", "reason"]


def test_a_copy_that_was_mended_in_places_is_found():
    rng, frame = base(5)
    frame["booked"] = np.where(rng.random(N) < 0.8, frame["y"], frame["y"] + rng.normal(0, 1.5, N))
    row = said(frame).loc["booked"]
    assert not row["stays"] and "an edited copy" in row["reason"]


def test_a_name_is_an_id_and_not_the_target_on_another_scale():
    rng, frame = base(6)
    rank = frame["y"].rank(method="first").astype(int)
    frame["who"] = [f"car {k // 2:04d}" for k in rank]  # two rows a name, and near in the target
    row = said(frame).loc["who"]
    assert "another scale" not in row["reason"]


# ------------------------------------------------------------------ time


def test_of_a_walk_the_right_shift_is_named_and_a_lag_stays():
    rng, frame = base(7)
    frame["y"] = np.cumsum(rng.normal(size=N)) + 100
    frame["day"] = np.arange(N)
    frame["yesterday"], frame["next_week"] = frame["y"].shift(1).bfill(), frame["y"].shift(-7).ffill()
    found = said(frame, order="day")
    assert found.loc["yesterday", "stays"] and "1 row earlier" in found.loc["yesterday", "reason"]
    assert not found.loc["next_week", "stays"] and "7 rows later" in found.loc["next_week", "reason"]
    frame["own_walk"] = np.cumsum(rng.normal(size=N))
    assert said(frame, order="day").loc["own_walk", "echo"] == ""


# ------------------------------------------------------------------ ids and groups


def test_amounts_without_ties_are_no_running_numbers():
    rng, frame = base(8, 90)
    frame["weight_g"] = rng.choice(1500, 90, replace=False) + 500
    assert said(frame).loc["weight_g", "stays"]
    rng, frame = base(9, 300)
    frame["salary"] = np.unique(np.round(np.exp(rng.normal(10.5, 0.5, 330))))[:300]
    assert said(frame).loc["salary", "stays"]


def test_a_running_number_with_gaps_is_an_id():
    rng, frame = base(10)
    frame["lot"] = np.sort(rng.choice(3000, N, replace=False)) + 7000
    row = said(frame).loc["lot"]
    assert not row["stays"] and "running number" in row["reason"]


def test_an_id_with_some_repeats_is_found():
    rng, frame = base(11)
    codes = rng.integers(1_000_000, 13_000_000, 645)
    frame["sample"] = rng.permutation(np.r_[codes, codes[:55]])
    row = said(frame).loc["sample"]
    assert row["verdict"] == "review" and "id with repeats" in row["reason"] and "groups" in row["reason"]


@pytest.mark.parametrize("kind", ["number", "word"])
def test_undeclared_groups_are_pointed_at(kind: str):
    rng, frame = base(12)
    who = rng.integers(0, 70, N)
    frame["y"] = frame["y"] + 1.5 * rng.normal(size=70)[who]
    frame["miller"] = who + 100 if kind == "number" else [f"M{k:03d}" for k in who]
    row = said(frame).loc["miller"]
    assert row["verdict"] == "review" and row["stays"] and "--groups" in row["reason"]
    assert "--groups" not in said(frame, groups="miller").to_string()


def test_an_age_that_acts_smoothly_and_a_count_of_nothing_are_no_groups():
    rng, frame = base(13)
    frame["age"], frame["count"] = rng.integers(18, 80, N), rng.integers(0, 40, N)
    frame["y"] = frame["y"] + 0.1 * frame["age"]
    found = said(frame)
    assert (found.loc[["age", "count"], "groups_words"] == "").all()


# ------------------------------------------------------------------ codes for missing


def test_codes_at_the_edge_are_seen_and_real_zeros_are_not():
    rng, frame = base(14)
    gone = rng.random(N) < 0.06
    frame["insulin"] = np.where(gone, 0, np.round(rng.gamma(2.5, 50, N) + 14))
    frame["age"] = np.where(gone, 99, rng.integers(18, 95, N))
    frame["shift_v"] = np.where(gone, -999, np.round(rng.normal(0, 300, N)))
    frame["salary"] = np.where(gone, 9999999, np.round(rng.normal(40000, 9000, N)))
    frame["rain_mm"] = np.where(rng.random(N) < 0.4, 0, np.round(rng.exponential(3, N), 1))
    frame["children"] = rng.poisson(1.2, N)
    frame["share"] = np.clip(rng.normal(60, 25, N), 0, 99).round()
    found = said(frame)
    for name, code in (("insulin", "0 ("), ("age", "99 ("), ("shift_v", "-999 ("), ("salary", "9999999 (")):
        assert code in found.loc[name, "sentinel"] and found.loc[name, "stays"], name
    assert (found.loc[["rain_mm", "children"], "sentinel"] == "").all()


# ------------------------------------------------------------------ words, ends of the target, mentions


def test_targets_that_stop_at_one_value_are_said():
    rng, frame = base(15)
    frame["y"] = np.minimum(frame["y"], 1.5)
    checks = chaff.screen(chaff.open_table(frame, "y")).more["rows"]
    assert "exactly 1.5" in checks.loc["ceiling in the target", "words"]
    assert not any("ceiling" in c or "floor" in c for c in chaff.screen(chaff.open_table(base(15)[1], "y")).more["rows"].index)


def test_ordered_words_are_advised_and_read_on_request():
    rng, frame = base(16)
    x = rng.uniform(0, 60, N)
    frame["band"] = np.select([x < 5, x < 20, x < 40], ["< 5", "5-20", "20-40"], "40+")
    frame["grade"] = rng.choice(["low", "medium", "high"], N)
    frame["own"] = rng.choice(["raw", "half", "done"], N)
    assert "ordered" in said(frame).loc["band", "advice"] and "ordered" in said(frame).loc["grade", "advice"]
    table = chaff.open_table(frame, "y", kinds={"band": "ordered", "grade": "ordered", "own": "raw < half < done"})
    assert {table.kind(c) for c in ("band", "grade", "own")} == {"number"}
    for name, words in (("band", ["< 5", "5-20", "20-40", "40+"]), ("grade", ["low", "medium", "high"]), ("own", ["raw", "half", "done"])):
        values = [table.column(name).values[frame[name] == w][0] for w in words]
        assert values == sorted(values) and len(set(values)) == len(values)
    with pytest.raises(chaff.DataError, match="low < medium < high"):
        chaff.open_table(frame, "y", kinds={"own": "ordered"}).column("own")
    with pytest.raises(chaff.DataError, match="done"):
        chaff.open_table(frame, "y", kinds={"own": "raw < half"}).column("own")


def test_case_followers_and_gaps_of_a_level_are_mentioned():
    rng, frame = base(17)
    frame["mill"] = rng.choice(["North", "north", "South"], N)
    frame["maker"] = rng.choice(["A", "B", "C", "D"], N)
    frame["origin"] = frame["maker"].map({"A": "home", "B": "home", "C": "away", "D": "away"})
    frame["imports"] = np.where(frame["origin"] == "away", rng.normal(size=N), np.nan)
    notes = " ".join(chaff.screen(chaff.open_table(frame, "y")).notes)
    assert "'North' and 'north'" in notes and "origin is determined by maker" in notes
    assert "missing exactly where origin is 'home': imports" in notes


def test_all_distinct_columns_of_few_rows_are_no_repeats():
    rng = np.random.default_rng(18)
    frame = pd.DataFrame(rng.normal(size=(40, 6)), columns=list("abcdef")).assign(y=rng.normal(size=40))
    assert said(frame)["stays"].all()


def test_a_category_of_thousands_is_held_against_nothing_that_takes_a_column_a_level(monkeypatch):
    """Farm codes of a long table: what all others say together is a matrix, and those would be most of it."""
    rng, seen = np.random.default_rng(8), []
    frame = pd.DataFrame(rng.normal(size=(3000, 4)), columns=[f"assay_{k}" for k in range(4)])
    frame["farm_code"] = [f"farm {k}" for k in rng.integers(0, 1500, 3000)]
    frame["loaf_volume"] = frame["assay_0"] + 0.5 * frame["assay_1"] + rng.normal(size=3000) * 0.02
    frame["nearly"] = frame["loaf_volume"] + rng.normal(size=3000) * 0.001
    told = leaks.part_moments
    monkeypatch.setattr(leaks, "part_moments", lambda table, names, *rest: seen.append(tuple(names)) or told(table, names, *rest))
    found = chaff.screen(chaff.open_table(frame, "loaf_volume"))
    assert seen and all("farm_code" not in names and "assay_0" in names for names in seen)
    assert found.frame.loc["nearly", "verdict"] in ("drop", "review")
