"""Plans that reproduce a run to the bit, plans to start from, their schema, and pins from files and after the holdout was read."""

import dataclasses
import json
import sqlite3
import tomllib
from pathlib import Path

import jsonschema
import numpy as np
import pytest

import chaff
from chaff.decide.holdout import HoldoutKey, count_read, state_file
from chaff.decide.named_plans import NAMED, plan_schema
from chaff.decide.selection import json_schema
from chaff.table.opening import open_on
from tests.commands import run
from tests.conftest import make_mixed

TERMS = {"target": "y", "ignore": ["lot_weight", "day"], "groups": "mill"}
SCHEMA = json.loads(plan_schema())


def scores_of(run):
    return json.dumps(run.selection.scores, sort_keys=True)


@pytest.mark.parametrize("classes", [0, 2])
@pytest.mark.long
def test_a_plan_from_a_run_makes_the_same_run_to_the_bit(tmp_path, classes):
    frame = make_mixed(160, classes=classes)
    plan = chaff.Plan(
        (chaff.Screen(missing_share=0.7), chaff.Relevance("leading"), chaff.Overlap(vif_limit=8), chaff.Search(keep_share=0.97)),
        chaff.Scoring(repeats=1),
    )
    pins = [chaff.pin_keep("gap_b", because="the miller says so")]
    first = chaff.select(chaff.open_table(frame, missing_flags=["gap_a"], **TERMS), plan, pins=pins, holdout=0.25, seed=3, state=False)
    (tmp_path / "plan.toml").write_text(first.plan.to_toml())
    again = chaff.read_plan(tmp_path / "plan.toml")
    assert dataclasses.replace(again, table=first.plan.table) == first.plan
    second = chaff.select(open_on(frame, again.table), again, seed=3, state=False, workers=1)
    assert second.selection.model_dump(exclude={"data"}) == first.selection.model_dump(exclude={"data"}) and scores_of(first) == scores_of(
        second
    )
    assert second.holdout.tolist() == first.holdout.tolist() and second.plan.to_toml() == first.plan.to_toml()


@pytest.mark.long
def test_every_named_plan_runs_and_is_written_and_read_alike(tmp_path):
    table = chaff.open_table(make_mixed(120), **TERMS)
    for name in NAMED:
        plan = chaff.named_plan(name)
        (tmp_path / "p.toml").write_text(plan.to_toml())
        assert chaff.read_plan(tmp_path / "p.toml") == plan
        jsonschema.validate(tomllib.loads(plan.to_toml()), SCHEMA)
    assert chaff.select(table, "quick", state=False).plan.stages == chaff.named_plan("quick").stages
    with pytest.raises(chaff.UsageError, match="Did you mean 'trees'"):
        chaff.named_plan("tree")


@pytest.mark.long
def test_lenses_are_those_that_were_asked_for():
    table = chaff.open_table(make_mixed(120), **TERMS)
    for lens, count in (("linear", 1), ("forest", 1), ("both", 2)):
        found = chaff.select(table, chaff.Plan((chaff.Screen(), chaff.Search(lenses=lens)), chaff.Scoring(repeats=1, folds=3)), state=False)
        trail = found.result("search")
        assert len(trail.lenses) == count and (lens == "both" or (trail.decided.label == "forest") == (lens == "forest"))


@pytest.mark.long
def test_the_published_schema_of_plans_is_the_one_in_force_and_refuses_what_plans_refuse():
    assert Path("docs/plan.schema.json").read_text(encoding="utf-8") == plan_schema()
    good = tomllib.loads(chaff.built_in_plan().to_toml())
    jsonschema.validate(good, SCHEMA)
    for wrong in (
        {**good, "stages": []},
        {**good, "stage": []},
        {**good, "stage": [{"use": "scren"}]},
        {**good, "stage": [{"use": "screen", "missing_share": "many"}]},
        {**good, "stage": [{"use": "screen", "missing": 1}]},
        {**good, "pin": [{"feature": "a", "verdict": "review", "because": "x"}]},
    ):
        with pytest.raises(jsonschema.ValidationError):
            jsonschema.validate(wrong, SCHEMA)
    said = {
        **good,
        "stage": [{"use": "search", "strategy": {"name": "genetic", "population": 20}, "model": "ridge"}],
        "table": {"kinds": {"a": "category"}},
    }
    jsonschema.validate(said, SCHEMA)
    jsonschema.validate({"stage": [{"use": "overlap", "vif_limit": False}]}, SCHEMA)


def test_selections_fit_their_schema(mill_run):
    jsonschema.validate(json.loads(mill_run.selection.to_json()), json.loads(json_schema()))


@pytest.mark.long
def test_pins_made_after_the_holdout_was_read_are_marked(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    table, plan = chaff.open_table(make_mixed(200), **TERMS), chaff.Plan((chaff.Screen(), chaff.Search(model="ridge")))
    before = [chaff.pin_keep("gap_b", because="known beforehand")]
    assert chaff.select(table, plan, pins=before).selection.holdout.pinned_after == []
    late = chaff.select(table, plan, pins=[*before, chaff.pin_drop("assay_0", because="it looked odd")])
    assert late.selection.holdout.pinned_after == ["assay_0"] and late.selection.holdout.reads == 2
    assert "pinned after the holdout" in str(late) and "pinned after" in str(late.selection.explain("assay_0"))
    assert chaff.select(table, plan, pins=before).selection.holdout.pinned_after == []
    assert chaff.select(table, plan, pins=[*before, late.plan.pins[-1]], state=False).selection.holdout.pinned_after == []


def test_a_memory_of_holdouts_with_broken_entries_is_read_as_far_as_it_goes(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    key = HoldoutKey(30, "y", "h", {"a": "1"})
    assert count_read(key, {"a": "keep"}).reads == 1 and count_read(key, {"a": "drop"}).after == ("a",)
    with sqlite3.connect(state_file()) as db:
        db.execute("INSERT INTO holdouts (rows, target, target_hash, columns, pins, reads) VALUES (30, 'y', 'h', 'x', '[]', -4)")
    assert count_read(key).reads == 3
    state_file().unlink()
    (tmp_path / "elsewhere").write_text("mine")
    state_file().symlink_to(tmp_path / "elsewhere")
    assert not count_read(key).counted and (tmp_path / "elsewhere").read_text() == "mine"


@pytest.mark.long
def test_plans_and_pins_on_the_command_line(tmp_path):
    make_mixed(160).to_csv(tmp_path / "t.csv", index=False)
    (tmp_path / "pins.toml").write_text('[[pin]]\nfeature = "gap_b"\nverdict = "drop"\nbecause = "the oven is sold"\n')
    asked = ("select", "t.csv", "--target", "y", "--ignore", "lot_weight", "--groups", "mill", "--repeats", "1", "--no-state")
    run(*asked, "--plan", "quick", "--pins", "pins.toml", "--holdout", "0.25", "--seed", "2", "--out", "a", cwd=tmp_path)
    text = run("plan", "--from", "a/selection.json", cwd=tmp_path)
    assert "--seed 2" in text and tomllib.loads(text)["score"]["holdout"] == 0.25 and tomllib.loads(text)["pin"][0]["feature"] == "gap_b"
    (tmp_path / "again.toml").write_text(text)
    run("select", "t.csv", "--plan", "again.toml", "--seed", "2", "--no-state", "--out", "b", cwd=tmp_path)
    assert (tmp_path / "a" / "selection.json").read_bytes() == (tmp_path / "b" / "selection.json").read_bytes()
    assert "nothing differs" in run("changes", "a", "b", cwd=tmp_path)
    assert tomllib.loads(run("plan", "--start", "thorough", cwd=tmp_path))["score"]["repeats"] == 5
    for wrong, words in (
        (("plan", "--start", "slow"), "unknown plan 'slow'"),
        (("plan", "t.csv", "--from", "a/selection.json", "--target", "y"), "leave DATA"),
        ((*asked, "--pins", "gone.toml", "--out", "c"), "no such file of pins"),
        ((*asked, "--plan", "quik", "--out", "c"), "no such plan"),
    ):
        assert words in run(*wrong, cwd=tmp_path, code=2)
    (tmp_path / "odd.toml").write_text("[score]\nfolds = 3\n")
    assert "nothing else" in run(*asked, "--pins", "odd.toml", "--out", "c", cwd=tmp_path, code=2)
    assert np.isfinite(json.loads((tmp_path / "a" / "selection.json").read_text())["scores"]["honest"]["mean"])
