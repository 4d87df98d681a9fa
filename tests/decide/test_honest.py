"""The honest score, the keep-up call, the empty set to the end, and how reads of a holdout are counted."""

import subprocess
import sys

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.decide import holdout as reads
from chaff.folds import one_split
from tests.methods.search.test_decision import line_table

RIDGE = chaff.Plan((chaff.Search("ridge"),))


def noise_run(**more):
    rng = np.random.default_rng(1)
    table = chaff.open_table(pd.DataFrame(rng.normal(size=(150, 20))).rename(columns=str).assign(y=rng.normal(size=150)), target="y")
    return chaff.select(table, chaff.Plan((chaff.Screen(), chaff.Search())), **more)


def quick_noise(**more):
    rng = np.random.default_rng(1)
    return chaff.select(chaff.open_arrays(rng.normal(size=(60, 2)), rng.normal(size=60)), RIDGE, honest="quick", **more)


@pytest.fixture(scope="module")
def nothing():
    return noise_run()


@pytest.mark.long
def test_the_empty_set_is_said_saved_and_applied(nothing, tmp_path):
    assert nothing.features == () and nothing.honest.mean == pytest.approx(0, abs=0.02)
    text = " ".join(str(nothing).split())
    assert "kept no feature: no set predicts better than the baseline" in text
    assert "no set predicts y better than its mean: CV R²" in text and "has a family-wise p of" in text
    nothing.selection.save(tmp_path / "s.json")
    again = chaff.read_selection(tmp_path / "s.json")
    assert again.features == () and len(again.dropped) == 20
    out = again.apply(nothing.table.source.arrow.to_pandas())
    assert list(out.columns) == ["y"] and len(out) == 150


@pytest.mark.long
def test_on_noise_the_search_that_sees_itself_would_promise_too_much():
    gaps = []
    for seed in range(4):
        rng = np.random.default_rng(seed)
        X, y = rng.normal(size=(1120, 40)), rng.normal(size=1120)
        table = chaff.open_arrays(X, y)
        run = chaff.select(table.take(np.arange(120)), RIDGE, holdout=0, seed=seed)
        split = one_split(table, np.arange(120), np.arange(120, 1120))
        fresh = chaff.SubsetScorer(table, chaff.Ridge(), "r2", split)(list(run.features)).mean
        gaps.append(run.honest.mean - fresh)
    assert abs(np.mean(gaps)) < 0.02


@pytest.mark.long
def test_the_interval_covers_the_fresh_score():
    covered = []
    for seed in range(10):
        table = line_table(1160, 10, seed, 0.5)
        run = chaff.select(table.take(np.arange(160)), RIDGE, holdout=0, seed=seed)
        split = one_split(table, np.arange(160), np.arange(160, 1160))
        fresh = chaff.SubsetScorer(table, chaff.Ridge(), "r2", split)(list(run.features)).mean
        low, high = run.honest.interval
        covered.append(low <= fresh <= high)
        assert 1.0 <= run.honest.inflation <= np.sqrt(5) and run.honest.optimism > -0.03
    assert np.mean(covered) >= 0.7  # 90 % promised; of ten, six or fewer come once in eighty


@pytest.mark.long
def test_full_runs_everything_anew_and_quick_promises_nothing():
    table = line_table(160, 8)
    full = chaff.select(table, RIDGE, holdout=0, honest="full")
    cheap = chaff.select(table, RIDGE, holdout=0)
    assert full.features == cheap.features and "rerun in each" in full.honest.how
    assert full.honest.mean == pytest.approx(cheap.honest.mean, abs=0.06)
    quick = chaff.select(table, RIDGE, holdout=0, honest="quick")
    assert quick.honest is None and "the honest score was skipped" in str(quick) and quick.features == cheap.features
    assert "honest" not in quick.selection.scores and cheap.selection.scores["honest"]["keep_up"]["answer"]
    with pytest.raises(chaff.UsageError, match="honest must be one of quick, cheap, full"):
        chaff.select(table, RIDGE, honest="very")


def test_a_plan_without_a_search_is_promised_by_running_it_anew():
    plan = chaff.Plan((chaff.Relevance("leading", cut={"top": 3}),), chaff.Scoring(model="ridge", repeats=1))
    run = chaff.select(line_table(200, 10), plan, holdout=0)
    assert set(run.features) == {"x1", "x2", "x3"} and 0.4 < run.honest.mean < 0.75 and run.final_scores.model == "ridge"


def test_what_a_stage_cost_is_a_line_of_its_own():
    rng = np.random.default_rng(4)
    a = rng.normal(size=300)
    frame = pd.DataFrame({"a": a, "b": a + 0.2 * rng.normal(size=300), "other": rng.normal(size=300)})
    frame["y"] = 5 * (frame["b"] - frame["a"]) + 0.3 * rng.normal(size=300)
    plan = chaff.Plan((chaff.Screen(), chaff.Correlation(0.95), chaff.Search("ridge")), chaff.Scoring(repeats=1))
    run = chaff.select(chaff.open_table(frame, target="y"), plan, holdout=0)
    lines = {x.name: x.honest.mean for x in run.final_scores.lines}
    assert lines["after correlation"] < lines["full"] - 0.5
    assert run.honest.keep_up.answer == "worse" and "worse than the full set" in str(run)


def test_keep_up_of_sets_of_ones_own():
    table = line_table(400, 6)
    assert chaff.keep_up(table, ["x1", "x2", "x3"], model="ridge").answer == "keeps up"
    found = chaff.keep_up(table, ["x1", "x2"], ["x1", "x2", "x3"], "ridge")
    assert found.answer == "worse" and found.difference.mean > found.allowance > 0
    assert chaff.keep_up(table.take(np.arange(40)), ["x1", "x2", "x5"], ["x1", "x2", "x4"], "ridge").answer == "cannot tell"
    with pytest.raises(chaff.UnknownColumn, match="'grain' is not among"):
        chaff.keep_up(table, ["grain"])


@pytest.mark.long
def test_reads_of_a_holdout_are_counted_across_runs(monkeypatch, tmp_path):
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    assert [quick_noise().ledger.holdout_reads for _ in range(2)] == [1, 2]
    assert quick_noise(state=False).ledger.holdout_reads == 1
    reads.state_file().write_text("not a database")
    assert quick_noise().selection.holdout.reads == 1 and quick_noise().selection.holdout.counted
    (tmp_path / "file").write_text("")
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "file"))  # no folder can be made there
    alone = quick_noise()
    assert alone.selection.holdout.reads == 1 and "earlier runs are not counted" in str(alone)


@pytest.mark.long
def test_a_holdout_is_known_by_its_rows_whatever_takes_part(monkeypatch, tmp_path):
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    rng = np.random.default_rng(3)
    frame = pd.DataFrame(rng.normal(size=(90, 4)), columns=list("abcd")).assign(k=rng.choice(["red", "blue"], 90), y=rng.normal(size=90))
    held, other = frame.iloc[60:], frame.assign(y=frame["y"] + 1).iloc[60:]

    def reads(train, rows, **roles):
        run = chaff.select(chaff.open_table(train, "y", holdout=rows, **roles), chaff.Plan((chaff.Screen(),)), honest="quick")
        assert run.selection.holdout.reads == run.ledger.holdout_reads
        return run.ledger.holdout_reads

    assert reads(frame.iloc[:60], held) == 1
    assert reads(frame.iloc[:60], held, ignore=["a", "k"]) == 2  # other columns, the same rows
    assert reads(frame.iloc[:40].assign(k="green"), held) == 3  # trained on others
    assert reads(frame.iloc[:60], other) == 1 and reads(frame.iloc[:60], frame.iloc[59:]) == 1
    assert reads(frame.iloc[:60], held.assign(a=0.0)) == 4  # one column was corrected


def test_two_runs_at_once_count_each(monkeypatch, tmp_path):
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    counting = (
        "from chaff.decide.holdout import HoldoutKey, count_read\nfor _ in range(20): count_read(HoldoutKey(9, 'y', 'h', {'a': '1'}))\n"
    )
    both = [subprocess.Popen([sys.executable, "-c", counting]) for _ in range(2)]
    assert [p.wait() for p in both] == [0, 0]
    assert reads.count_read(reads.HoldoutKey(9, "y", "h", {"a": "1"})).reads == 41


def test_a_holdout_that_repeats_training_rows_is_said():
    rng = np.random.default_rng(0)
    frame = pd.DataFrame(rng.normal(size=(120, 3)), columns=list("abc")).assign(y=lambda f: f["a"] + 0.5 * rng.normal(size=120))
    table = chaff.open_table(frame, target="y", holdout=pd.concat([frame.iloc[:20], frame.iloc[:5] + 1.0]))
    run = chaff.select(table, RIDGE)
    assert run.final_scores.holdout_repeats == 20 and "20 holdout rows repeat a training row" in str(run)
    assert "25 holdout rows: too few for a precise score" in str(run) and "20 rows repeat another one" in str(run)


@pytest.mark.parametrize(("rows", "folds", "repeats"), [(30, 10, 5), (80, 5, 10), (300, 5, 3), (900, 5, 1)])
def test_folds_and_repeats_go_by_the_rows(rows, folds, repeats):
    table, score = line_table(rows, 3), chaff.Scoring()
    assert (score.folds_for(table), score.repeats_for(table)) == (folds, repeats)
    assert chaff.Scoring(folds=4, repeats=2).folds_for(table) == 4
