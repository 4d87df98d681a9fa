"""Of a long table models see a sample, which is said; sums see every row; what the sample would drop is looked at on every row."""

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.decide import row_sample as desks
from chaff.decide.row_sample import row_sample_of, sample_of
from chaff.evaluate.setting import Setting
from chaff.methods.overlap.overlap_data import OverlapData
from chaff.table.moments import table_moments
from chaff.work import Work
from tests.commands import run


@pytest.fixture
def short(monkeypatch):
    """Tables are long from 400 rows on."""
    for name, rows in (("UP_TO", 450), ("ROWS", 400), ("RAREST", 30), ("SEEN", 500)):
        monkeypatch.setattr(desks, name, rows)


def mill_like(rows, seed=0):
    rng = np.random.default_rng(seed)
    frame = pd.DataFrame(rng.normal(size=(rows, 6)), columns=[f"sieve_{k}" for k in range(6)])
    frame["mostly_one"] = "A"
    frame.loc[rows // 2, "mostly_one"] = "B"
    frame["nearly_sieve_0"] = frame["sieve_0"]
    frame.loc[rows // 2, "nearly_sieve_0"] = 77.0
    frame["loaf_volume"] = 2 * frame["sieve_0"] - frame["sieve_1"] + rng.normal(size=rows)
    return frame


def test_short_tables_are_seen_whole(mill_table):
    every = np.arange(len(mill_table))
    found = row_sample_of(mill_table, every[:1200], every[1200:], "auto", Work())
    assert found.table is mill_table and not found.sampled and found.words == ""


def test_of_a_long_one_a_sample_that_is_said(short):
    table = chaff.open_table(mill_like(3000), "loaf_volume")
    rows, held = np.arange(2000), np.arange(2000, 3000)
    found = row_sample_of(table, rows, held, "auto", Work(3))
    assert (found.rows.size, found.held.size, len(found.train)) == (400, 400, 400)
    assert "400 of 2,000 training rows (and 400 of 1,000 held out)" in found.words and "--rows all" in found.words
    assert "a difference in R² then has an SE of about 0.02" in found.words
    assert set(found.train.row_numbers) <= set(rows) and set(found.table.row_numbers[found.held]) <= set(held)
    np.testing.assert_array_equal(found.train.column("sieve_2").values, table.column("sieve_2").values[found.train.row_numbers])
    again = row_sample_of(table, rows, held, "auto", Work(3))
    np.testing.assert_array_equal(again.train.row_numbers, found.train.row_numbers)
    assert not np.array_equal(row_sample_of(table, rows, held, "auto", Work(4)).train.row_numbers, found.train.row_numbers)
    assert row_sample_of(table, rows, held, 150, Work()).rows.size == 150
    assert not row_sample_of(table, rows, held, "all", Work()).sampled
    assert not row_sample_of(table, rows[:450], held[:450], "auto", Work()).sampled  # to leave a few out would gain nothing
    only = row_sample_of(table, rows[:300], held, "auto", Work())
    assert only.rows.size == 300 and "scored on 400 of 1,000 held out rows" in only.words


def test_every_class_has_its_share_and_a_rare_one_makes_the_sample_larger(short):
    frame = mill_like(4000)
    frame["spoilt"] = np.where(np.arange(4000) % 50 == 0, "yes", "no")
    table = chaff.open_table(frame, "spoilt", ignore=["loaf_volume"])
    found = row_sample_of(table, np.arange(4000), np.arange(0), "auto", Work())
    assert len(found.train) == pytest.approx(1500, abs=2) and (found.train.y == 1).sum() == 30  # 30 wanted of 80 among 4,000
    assert "about 30 of the rarest class" in found.words
    frame["spoilt"] = np.where(np.arange(4000) % 1000 == 0, "yes", "no")
    found = row_sample_of(chaff.open_table(frame, "spoilt", ignore=["loaf_volume"]), np.arange(4000), np.arange(0), "auto", Work())
    assert len(found.train) == pytest.approx(1600, abs=2)  # four times as many at the most


@pytest.mark.long
def test_a_run_on_a_sample(short):
    table = chaff.open_table(mill_like(4000), "loaf_volume")
    run = chaff.select(table, chaff.Plan((chaff.Screen(), chaff.Overlap(), chaff.Search(model="ridge"))), state=False)
    assert len(run.table) == 4000 and len(run.train) == 400 and run.row_sample.held.size == 400
    assert run.row_sample.words in str(run) or run.row_sample.words.split(",")[0] in " ".join(str(run).split())
    assert "sieve_1" in run.features and {"sieve_0", "nearly_sieve_0"} & set(run.features)
    assert run.selection.holdout.count == 800 and run.selection.data.rows == 4000  # every row is in the record
    assert run.final_scores.holdout_rows == 400
    evaluation = run.evaluate(state=False)
    assert evaluation.rows == 400 and set(evaluation.worst().index) <= set(run.holdout)
    whole = chaff.select(table, chaff.Plan((chaff.Screen(), chaff.Search(model="ridge"))), rows="all", state=False)
    assert len(whole.train) == 3200 and not whole.row_sample.sampled
    assert abs(whole.honest.mean - run.honest.mean) < 4 * np.hypot(run.honest.se, whole.honest.se)


@pytest.mark.long
def test_what_the_sample_would_drop_is_looked_at_on_every_row(short):
    table = chaff.open_table(mill_like(4000), "loaf_volume")
    plan = chaff.Plan((chaff.Screen(), chaff.Search(model="ridge")))
    run = chaff.select(table, plan, holdout=0, state=False)
    assert 2000 not in run.train.row_numbers  # the one row that tells them apart
    said = {v.feature: v for v in run.stages[0].verdicts}
    assert said["mostly_one"].verdict == "review" and not {said[f].verdict for f in ("sieve_0", "nearly_sieve_0")} & {"drop"}
    frame = mill_like(4000)
    frame["mostly_one"], frame["nearly_sieve_0"] = "A", frame["sieve_0"]
    truly = {v.feature: v for v in chaff.select(chaff.open_table(frame, "loaf_volume"), plan, holdout=0, state=False).stages[0].verdicts}
    assert truly["mostly_one"].verdict == "drop" and "drop" in {truly[f].verdict for f in ("sieve_0", "nearly_sieve_0")}


def test_overlap_reads_sums_over_every_row(short):
    table = chaff.open_table(mill_like(4000), "loaf_volume")
    few = table.sample(400)
    data = OverlapData.of(few, Setting.of(few, whole=table))
    np.testing.assert_array_equal(data.moments.P, table_moments(table, few.features).P)
    assert data.moments.rows == 4000


def test_rows_stand_in_the_plan(tmp_path):
    for said in ("all", 5000, 0.01):
        plan = chaff.Plan((chaff.Screen(),), chaff.Scoring(rows=said))
        (tmp_path / "plan.toml").write_text(plan.to_toml())
        assert chaff.read_plan(tmp_path / "plan.toml").score.rows == said
    assert "\nrows =" not in chaff.built_in_plan().to_toml()
    for wrong in (5, 0, -1, 0.0, -0.1, 1.0, 250.0):
        with pytest.raises(chaff.PlanError, match="rows must be auto, all, a number of 100 or more, or the standard error"):
            chaff.Scoring(rows=wrong)
    with pytest.raises(chaff.ArgumentError, match="rows must be a whole number or a number or 'auto' or 'all', not nan"):
        chaff.Scoring(rows=float("nan"))


def test_the_error_that_is_wanted_says_how_many_rows(short):
    table, rows, none = chaff.open_table(mill_like(3000), "loaf_volume"), np.arange(3000), np.arange(0)
    found = row_sample_of(table, rows, none, 0.01, Work())
    assert found.rows.size == 1600 and "an SE of about 0.01" in found.words  # (0.4 / 0.01)²
    assert row_sample_of(table, rows, none, 0.9, Work()).rows.size == 1000, "never fewer than can be worked on"
    assert not row_sample_of(table, rows, none, 0.001, Work()).sampled, "more than there are: all"
    some, words = sample_of(table, 0.01, True, Work())
    assert len(some) == 1600 and words.startswith("1,600 of 3,000 rows are")


def test_memory_says_how_many_rows_fit(short, tmp_path, monkeypatch):
    mill_like(4000).to_parquet(tmp_path / "lots.parquet")
    table = chaff.open_table(tmp_path / "lots.parquet", "loaf_volume", scratch=tmp_path / "s")
    monkeypatch.setattr(desks, "PROGRAM", 0.0)
    monkeypatch.setattr(desks, "LEAST", 50)
    object.__setattr__(table.source.limit, "memory", 4000 * 8 * 8 + 200 * 3 * 8 * 8.0)
    found = row_sample_of(table, np.arange(4000), np.arange(0), "auto", Work())
    assert len(found.train) == 200
    with pytest.raises(chaff.DataError, match=r"models on 1,000 rows × 8 columns: .* would do, or rows=200"):
        row_sample_of(table, np.arange(4000), np.arange(0), 1000, Work())
    object.__setattr__(table.source.limit, "memory", 4000 * 8 * 8.0)
    with pytest.raises(chaff.DataError, match="fewer columns"):
        row_sample_of(table, np.arange(4000), np.arange(0), "auto", Work())


def test_single_calls_see_a_sample_too(short, tmp_path):
    frame = mill_like(3000)
    frame.to_parquet(tmp_path / "lots.parquet")
    table = chaff.open_table(frame, "loaf_volume")
    assert sample_of(table, None, False, Work())[0] is table
    some, words = sample_of(table, None, True, Work())
    assert len(some) == 400 and words.startswith("400 of 3,000 rows are") and words.endswith("is 0.05")
    stored = chaff.open_table(tmp_path / "lots.parquet", "loaf_volume", scratch=tmp_path / "s")
    assert len(sample_of(stored, None, False, Work())[0]) == 500
    assert sample_of(stored, "all", True, Work())[0] is stored


@pytest.mark.long
def test_on_the_command_line(tmp_path):
    mill_like(1500).to_parquet(tmp_path / "lots.parquet")
    said = run(
        "select", "lots.parquet", "--target", "loaf_volume", "--rows", "300", "--quick", "--model", "ridge", "--memory", "1GB", cwd=tmp_path
    )
    assert "300 of 1,200 training rows" in " ".join(said.split())
    said = run("importance", "lots.parquet", "--target", "loaf_volume", "--rows", "250", "--model", "tree", cwd=tmp_path)
    assert "250 of 1,200 rows are" in " ".join(said.split())
    assert "--rows many: pass a number of rows, a target standard error (0.001), or all" in run(
        "select", "lots.parquet", "--target", "loaf_volume", "--rows", "many", cwd=tmp_path, code=2
    )
    said = run("overlap", "lots.parquet", "--target", "loaf_volume", "--scratch", "s", cwd=tmp_path)
    assert "stays on disk" in said
    assert "memory=1 MB is too little" in run("screen", "lots.parquet", "--target", "loaf_volume", "--memory", "1MB", cwd=tmp_path, code=3)
