"""The working day on one paper: a plan that every command takes, commands that stand on each other, and answers for scripts."""

import json
import os
import re
import subprocess

import pandas as pd
import pytest

import chaff
from chaff.results.shown import width_of
from tests.cli.test_commands import ROLES
from tests.commands import CHAFF, ENV, call, run

LOOKING = ("screen", "relevance", "overlap", "linear", "importance")

QUICK = ("--set", 'importance.model={name="forest",trees=5}', "--repeats", "1", "--model", "ridge")


@pytest.fixture(scope="module")
def day(tmp_path_factory):
    """A folder with lots.csv and the plan that `chaff plan` writes for it."""
    folder = tmp_path_factory.mktemp("day")
    chaff.demo.lots(rows=400).to_csv(folder / "lots.csv", index=False)
    run("plan", "lots.csv", *ROLES, "--out", "lots.toml", cwd=folder)
    return folder


@pytest.fixture(scope="module")
def held_by_select(day):
    """How many rows a run sets aside."""
    table = chaff.open_table(day / "lots.csv", target="loaf_volume", ignore=["accepted", "grade"], groups="mill")
    return chaff.select(table, plan=chaff.Plan((chaff.Screen(),)), holdout=0.2, honest="quick").final_scores.holdout_rows


def said(*args, cwd, code=0):
    """The one JSON object that a command prints."""
    done = call(*args, "--format", "json", cwd=cwd)
    assert done.returncode == code, done.stdout + done.stderr
    found = json.loads(done.stdout)
    return found.get("table", {}) | found


def test_a_plan_is_fitted_to_the_table_and_reads_back(day):
    text = (day / "lots.toml").read_text()
    plan = chaff.read_plan(day / "lots.toml")
    assert plan.table.groups == "mill" and [s.use for s in plan.stages] == ["screen", "relevance", "overlap", "importance", "search"]
    for line in ('# ids = ["lot_no"]', '# missing_flags = ["mycotoxin_ppb"]', "# fill = { mycotoxin_ppb = 0 }", "# kinds as found:"):
        assert line in text
    loose = re.sub(r"^# (ids|missing_flags|fill) =", r"\1 =", text, flags=re.M)  # the advice, uncommented
    (day / "loose.toml").write_text(loose)
    table = chaff.open_table(day / "lots.csv", **chaff.read_plan(day / "loose.toml").table.as_mapping())
    assert "lot_no" not in table.features and "mycotoxin_ppb_missing" in table.features


def test_a_plan_is_never_written_over_another(day):
    before = (day / "lots.toml").read_bytes()
    assert "lots.toml" in run("plan", "lots.csv", *ROLES, "--out", "lots.toml", cwd=day, code=2)
    assert (day / "lots.toml").read_bytes() == before


@pytest.mark.long
@pytest.mark.parametrize("command", LOOKING)
def test_looking_commands_look_at_the_rows_that_select_learns_from(day, held_by_select, command):
    extra = ("--trees", "5") if command == "importance" else ()
    found = said(command, "lots.csv", "--plan", "lots.toml", *extra, cwd=day)
    assert found["rows_held_out"] == held_by_select > 0
    assert found["rows"] + found["rows_held_out"] == 400
    assert any("holds out" in note for note in found["notes"])


@pytest.mark.long
def test_all_rows_and_another_seed_change_what_is_looked_at(day):
    assert said("screen", "lots.csv", "--plan", "lots.toml", "--all-rows", cwd=day)["rows"] == 400
    assert said("screen", "lots.csv", "--plan", "lots.toml", "--holdout", "0.4", cwd=day)["rows_held_out"] > 100
    one, two = (run("screen", "lots.csv", "--plan", "lots.toml", "--seed", seed, cwd=day) for seed in (0, 1))
    assert "--seed 0" in one and "--seed 1" in two


@pytest.mark.long
def test_later_commands_leave_out_what_the_screen_drops_and_all_columns_brings_it_back(day):
    found = said("overlap", "lots.csv", "--plan", "lots.toml", cwd=day)
    assert {"lot_no", "crumb_score", "delivered_on"} <= set(found["left_out"])
    text = run("overlap", "lots.csv", "--plan", "lots.toml", cwd=day)
    (line,) = [row for row in text.splitlines() if "dropped by the preceding stages" in row]
    assert "crumb_score" in line and "--all-columns" in line
    every = said("overlap", "lots.csv", "--plan", "lots.toml", "--all-columns", cwd=day)
    assert every["left_out"] == [] and "crumb_score" in every["features"]


@pytest.mark.long
def test_a_category_of_a_thousand_levels_gives_no_column_a_vif(tmp_path):
    frame = chaff.demo.lots(rows=900)
    frame["farm"] = [f"farm {k % 450}" for k in range(900)]
    frame.to_csv(tmp_path / "lots.csv", index=False)
    found = said("overlap", "lots.csv", *ROLES, cwd=tmp_path)
    assert "farm" in found["left_out"]


def test_options_win_over_the_plan_and_that_is_said(day):
    out = run("screen", "lots.csv", "--plan", "lots.toml", "--ignore", "grade", "--groups", "variety", cwd=day)
    assert "groups variety" in out and re.search(r"--groups .* overrides the plan", out)
    found = said("screen", "lots.csv", "--plan", "lots.toml", "--target", "accepted", "--ignore", "grade", cwd=day)
    assert found["target"]["name"] == "accepted" and found["target"]["task"] == "classification"


@pytest.mark.long
def test_pins_are_written_back_and_comments_are_kept(day):
    text = (day / "lots.toml").read_text()
    mine = day / "mine.toml"
    mine.write_text("# my own words\n" + text)
    pin = ("--pin-drop", "ash_pct", "--because", "the furnace is broken")
    run("screen", "lots.csv", "--plan", "mine.toml", *pin, "--save", cwd=day)
    after = mine.read_text()
    assert after.startswith("# my own words\n" + text.rstrip("\n")[:2000]) and "the furnace is broken" in after
    assert chaff.read_plan(mine).pins == (chaff.pin_drop("ash_pct", because="the furnace is broken"),)
    frame = said("overlap", "lots.csv", "--plan", "mine.toml", cwd=day)
    assert "ash_pct" not in frame["features"] or "ash_pct" in frame["left_out"]
    assert "--plan" in run("screen", "lots.csv", *ROLES, *pin, "--save", cwd=day, code=2)


def test_advice_can_be_pasted_into_the_next_command(day):
    out = run("screen", "lots.csv", "--plan", "lots.toml", cwd=day)
    (option,) = re.findall(r"--missing-flag \S+", out)[:1]
    again = run("screen", "lots.csv", "--plan", "lots.toml", *option.split(" "), cwd=day)
    assert "mycotoxin_ppb_missing" in again


@pytest.mark.long
def test_every_command_prints_one_object_for_scripts_and_errors_too(day, tmp_path):
    for command in (*LOOKING, "select"):
        extra = (*QUICK, "--out", tmp_path / "out") if command == "select" else ()
        extra = ("--trees", "5") if command == "importance" else extra
        found = said(command, "lots.csv", "--plan", "lots.toml", *extra, cwd=day)
        assert found["command"] == command and found["seconds"] > 0
    frames = said("relevance", "lots.csv", "--plan", "lots.toml", cwd=day)
    assert any(isinstance(v, list) and v and isinstance(v[0], dict) and "feature" in v[0] for v in _leaves(frames))
    wrong = said("screen", "none.csv", *ROLES, cwd=day, code=3)
    assert wrong["error"] and "none.csv" in json.dumps(wrong)
    wrong = said("relevance", "lots.csv", "--plan", "lots.toml", "--by", "nonsense", cwd=day, code=2)
    assert "nonsense" in json.dumps(wrong)


def _leaves(thing):
    if isinstance(thing, dict):
        for value in thing.values():
            yield value
            yield from _leaves(value)


def test_what_features_are_ranked_by_is_computed_though_the_plan_does_not_have_it(day):
    out = run("relevance", "lots.csv", "--plan", "lots.toml", "--by", "kendall_tau", "--top", "5", cwd=day)
    assert "kendall tau" in out


@pytest.mark.long
def test_importance_has_a_command(day):
    out = run("importance", "lots.csv", "--plan", "lots.toml", "--trees", "10", cwd=day)
    assert "importance" in out and "gluten" in out
    assert "crumb_score" not in out.split("dropped by the preceding stages")[1].split("\n", 2)[2]


@pytest.mark.long
@pytest.mark.parametrize("columns", [80, 132])
@pytest.mark.parametrize(
    "command",
    [
        ("screen",),
        ("relevance", "--statistics", "all", "--by", "spearman_rho"),
        ("overlap",),
        ("linear", "--features", "protein_pct,ash_pct,gluten_wet_pct"),
        ("importance", "--trees", "5"),
    ],
    ids=lambda c: c[0],
)
def test_no_line_is_wider_than_the_terminal_and_what_was_asked_for_is_shown(day, command, columns):
    env = {**os.environ, "COLUMNS": str(columns), "NO_COLOR": "1"}
    name, *rest = command
    done = call(name, "lots.csv", "--plan", "lots.toml", *rest, cwd=day, env=env)
    assert done.returncode == 0, done.stderr
    wide = [line for line in done.stdout.splitlines() if width_of(line) > columns and "chaff " not in line]
    assert not wide
    if "--by" in rest:
        heads = done.stdout[: done.stdout.index("gluten")]
        assert "spearman" in heads  # the column that was asked for is in the head of the first table


@pytest.mark.long
def test_names_that_look_like_markup_are_printed_whole(tmp_path):
    frame = chaff.demo.lots(rows=120)[["protein_pct", "ash_pct", "loaf_volume"]]
    frame = frame.rename(columns={"protein_pct": "[#1] ratio", "ash_pct": "[bold]ash"})
    frame.to_csv(tmp_path / "lots.csv", index=False)
    for command in ("relevance", "overlap", "linear", "screen"):
        out = run(command, "lots.csv", "--target", "loaf_volume", "--all", cwd=tmp_path)
        assert "[#1] ratio" in out, command
    assert "[bold]ash" in out


def test_help_lists_the_commands_in_the_order_of_a_working_day():
    out = run("--help")
    order = ["plan", "screen", "relevance", "overlap", "linear", "importance", "select", "apply"]
    places = [re.search(rf"^\s+{name}\s", out, re.M).start() for name in order]
    assert places == sorted(places)


@pytest.mark.long
def test_missing_codes_a_column_go_through_plan_select_and_apply(tmp_path):
    frame = chaff.demo.lots(rows=300)[["protein_pct", "ash_pct", "water_absorption_pct", "loaf_volume"]]
    frame.loc[::11, "ash_pct"] = 0.0  # in ash a zero was never measured; elsewhere it would be
    gaps = int((frame["ash_pct"].isna() | (frame["ash_pct"] == 0)).sum())
    frame.to_csv(tmp_path / "lots.csv", index=False)
    code = ("--missing-code", "ash_pct=0")
    run("plan", "lots.csv", "--target", "loaf_volume", *code, "--out", "p.toml", cwd=tmp_path)
    plan = chaff.read_plan(tmp_path / "p.toml")
    table = chaff.open_table(tmp_path / "lots.csv", **plan.table.as_mapping())
    assert table.column("ash_pct").missing.sum() == gaps >= 28
    pins = ("--pin-keep", "ash_pct", "--because", "asked for")
    run("select", "lots.csv", "--plan", "p.toml", *pins, "--out", "out", *QUICK, cwd=tmp_path)
    run("apply", tmp_path / "out" / "selection.json", "lots.csv", "-o", "new.csv", cwd=tmp_path)
    assert pd.read_csv(tmp_path / "new.csv")["ash_pct"].isna().sum() == gaps


@pytest.mark.parametrize("tail", ["> /dev/full", "--by-hand <&-"])
@pytest.mark.long
def test_a_full_disk_or_a_closed_input_shows_no_traceback(day, tail):
    done = subprocess.run(f"{CHAFF} linear lots.csv --plan lots.toml {tail}", shell=True, capture_output=True, text=True, cwd=day, env=ENV)
    assert "Traceback" not in done.stderr and done.returncode == (3 if "full" in tail else 0), done.stderr


@pytest.mark.long
def test_a_reader_that_leaves_early_stops_neither_the_work_nor_its_files(day, tmp_path):
    quick = "--set 'importance.model={name=\"forest\",trees=5}'"
    line = f"{CHAFF} select lots.csv --plan lots.toml {quick} --out {tmp_path / 'out'} | head -1; exit ${{PIPESTATUS[0]}}"
    done = subprocess.run(["bash", "-c", line], capture_output=True, text=True, cwd=day, env=ENV)
    assert done.returncode == 0 and "Traceback" not in done.stderr, done.stderr
    assert (tmp_path / "out" / "selection.json").exists()
