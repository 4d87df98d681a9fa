"""What a comparison learned is kept: it goes on after an interruption, and a saved one is cut again without learning."""

from __future__ import annotations

import json

import numpy as np
import pandas as pd
import pytest

import chaff
from tests.commands import run

NAMES = ["protein_pct", "ash_pct", "straw_pct", "lab_temp_c", "falling_number_s"]
METHODS = ["pearson_r", "lasso", "forward"]


@pytest.fixture(scope="module")
def lots():
    return chaff.open_table(chaff.demo.lots(rows=240), "loaf_volume", features=NAMES)


def counted(monkeypatch):
    """How many times a method learns."""
    from chaff.methods.comparing.learning import Learning

    calls: list[object] = []
    one = Learning.one
    monkeypatch.setattr(Learning, "one", lambda self, method, split: calls.append((method.label, split)) or one(self, method, split))
    return calls


@pytest.mark.long
def test_an_ended_comparison_goes_on_where_it_was(lots, tmp_path, monkeypatch):
    calls = counted(monkeypatch)
    whole = chaff.compare(lots, METHODS, sizes=[1, 2, 3], workers=1)
    assert len(calls) == 3 * 6
    calls.clear()

    def end(stage, done, of):
        if stage.startswith("compare, fold 3"):
            raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        chaff.compare(lots, METHODS, sizes=[1, 2, 3], journal=tmp_path / "j.jsonl", watch=end, workers=1)
    assert len(calls) == 3 * 2 + 1
    calls.clear()
    with (tmp_path / "j.jsonl").open("a") as file:
        file.write('{"method": "cut off')  # as a killed process leaves it
    again = chaff.compare(lots, METHODS, sizes=[1, 2, 3], journal=tmp_path / "j.jsonl", workers=1)
    assert len(calls) == 3 * 4  # folds 3 to 5, and all rows
    pd.testing.assert_frame_equal(again.curves, whole.curves)
    pd.testing.assert_frame_equal(again.kept(2), whole.kept(2))
    calls.clear()
    more = chaff.compare(lots, [*METHODS, "spearman"], sizes=[2], journal=tmp_path / "j.jsonl")
    assert {label for label, _ in calls} == {"spearman"} and "spearman" in more.frame.index


def test_a_journal_of_other_data_is_refused(lots, tmp_path):
    path = tmp_path / "j.jsonl"
    chaff.compare(lots, ["pearson_r", "forward"], sizes=[2], journal=path)
    for changed in ({"seed": 1}, {"folds": 4}, {"model": "forest"}, {"metric": "rmse"}):
        with pytest.raises(chaff.DataError, match="belongs to other rows"):
            chaff.compare(lots, ["pearson_r", "forward"], sizes=[2], journal=path, **changed)
    with pytest.raises(chaff.DataError, match="belongs to other rows"):
        chaff.compare(lots.take(np.arange(200)), ["pearson_r", "forward"], sizes=[2], journal=path)
    (tmp_path / "notes.txt").write_text("my own words\n")
    with pytest.raises(chaff.DataError, match="no journal"):
        chaff.compare(lots, ["pearson_r"], sizes=[2], journal=tmp_path / "notes.txt")
    assert (tmp_path / "notes.txt").read_text() == "my own words\n"


def test_a_saved_comparison_is_cut_at_any_size(tmp_path):
    frame = chaff.demo.lots(rows=200)[[*NAMES, "loaf_volume"]]
    frame.to_csv(tmp_path / "lots.csv", index=False)
    words = ("compare", "lots.csv", "--target", "loaf_volume", "--method", "pearson_r", "--method", "forward", "--sizes", "2,4")
    run(*words, "--out", "c.json", cwd=tmp_path)
    fresh = json.loads(run(*words, "--at", "3", "--format", "json", cwd=tmp_path))
    cut = json.loads(run("compare", "c.json", "--at", "3", "--format", "json", cwd=tmp_path))
    assert cut["at"] == fresh["at"] and cut["comparison"]["curves"] == fresh["comparison"]["curves"]
    assert "All at 0.5 of the features" in run("compare", "c.json", "--at", "0.5", cwd=tmp_path)
    assert "leave out --model" in run("compare", "c.json", "--at", "2", "--model", "forest", cwd=tmp_path, code=2)
    words = (*words, "--journal", "j.jsonl")
    run(*words, cwd=tmp_path)
    with (tmp_path / "j.jsonl").open("a") as file:
        file.write('{"method": "cut off')
    assert json.loads(run(*words, "--at", "3", "--format", "json", cwd=tmp_path))["at"] == fresh["at"]
    assert (tmp_path / "j.jsonl").read_text().endswith("}\n")
    whole = json.loads((tmp_path / "c.json").read_text())
    whole["learned"]["entries"][0]["result"] = {"order": 3}
    (tmp_path / "d.json").write_text(json.dumps(whole))
    assert "is damaged" in run("compare", "d.json", "--at", "2", cwd=tmp_path, code=3)
    frame.assign(ash_pct=0.1 * frame["ash_pct"] ** 2).to_csv(tmp_path / "lots.csv", index=False)
    assert "have changed since" in run("compare", "c.json", "--at", "2", cwd=tmp_path, code=3)
    (tmp_path / "lots.csv").unlink()
    assert "no such file" in run("compare", "c.json", "--at", "2", cwd=tmp_path, code=3)
    (tmp_path / "c.json").write_text('{"format": "chaff comparison", "version": 1}')
    assert "lacks what was learned" in run("compare", "c.json", "--at", "2", cwd=tmp_path, code=3)
