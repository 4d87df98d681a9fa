"""`chaff search` in a process of its own: every strategy, choices, budgets, alternatives, the journal, and what is refused."""

import json
import os
import signal
import subprocess
import sys
import time

import pytest

import chaff
from tests.cli.test_commands import ROLES
from tests.commands import CHAFF, ENV, call, run

ALONE = [*ROLES, "--all-rows", "--all-columns"]
NAMES = ["mill", "protein_pct", "protein_nir_pct", "ash_pct", "variety", "falling_number_s", "lab_temp_c", "straw_pct"]
TARGETS = ["loaf_volume", "accepted", "grade"]


@pytest.fixture(scope="module")
def lots(tmp_path_factory):
    path = tmp_path_factory.mktemp("lots") / "lots.csv"
    chaff.demo.lots(rows=250)[[*NAMES, *TARGETS]].to_csv(path, index=False)
    return path


def flat(text):
    return " ".join(text.split())


def test_a_search_its_sizes_figures_and_the_saved_trail(lots, tmp_path):
    out = flat(
        run(
            "search",
            lots,
            *ALONE,
            "--strategy",
            "floating",
            "--out",
            tmp_path / "t.json",
            "--figures",
            tmp_path / "f",
            "--choose",
            "size=3",
        )
    )
    for words in (
        "floating search, ridge:",
        "sets scored",
        "size search R² CV R² mark",
        "chosen",
        "3 features: ",
        "3 features, set by hand; search R²",
    ):
        assert words in out, words
    assert {p.name for p in (tmp_path / "f").iterdir()} == {"score_by_size.png", "sets.png"}
    told = json.loads((tmp_path / "t.json").read_text())
    assert told["strategy"] == "floating" and told["sizes"][2]["honest"] is not None


def test_several_strategies_and_another_model_side_by_side_as_json(lots):
    said = run(
        "search", lots, *ALONE, "--strategy", "forward", "--strategy", '{ name = "genetic", population = 8, generations = 3 }',
        "--against", '{ name = "tree", depth = 3 }', "--quick", "--format", "json",
    )  # fmt: skip
    told = json.loads(said)
    rows = told["runs"]["runs"]
    assert [(r["model"], r["strategy"]) for r in rows] == [
        ("ridge", "forward"), ("ridge", "genetic"), ("tree, depth 3", "forward"), ("tree, depth 3", "genetic"),
    ]  # fmt: skip
    assert len(told["runs"]["shared"]) == 6 and len(told["searches"]) == 4 and told["chosen"][0]["honest"] is None


@pytest.mark.long
def test_which_features_matter_in_all_good_sets(lots, tmp_path):
    out = flat(
        run("search", lots, *ALONE, "--strategy", "forward", "--quick", "--alternatives", "--within", "0.1", "--now", "ash_pct,protein_nir_pct",
            "--figures", tmp_path / "f")
    )  # fmt: skip
    for words in ("within 10% of the best set's improvement", "all 128 sets there are", "nearest to yours:", "in all", "smallest:"):
        assert words in out, words
    assert (tmp_path / "f" / "alternatives.png").stat().st_size > 10_000


@pytest.mark.long
def test_a_budget(lots, tmp_path):
    prices = ["--cost", "protein_pct=14", "--cost", "ash_pct=9", "--cost", "lab=3", "--panel", "lab=lab_temp_c,falling_number_s"]
    out = flat(
        run("search", lots, *ALONE, *prices, "--strategy", "exhaustive", "--quick", "--total-cost", "12", "--figures", tmp_path / "f")
    )
    assert ", costs 12: " in out or ", costs 3: " in out or ", costs 9: " in out
    assert (tmp_path / "f" / "score_by_cost.png").stat().st_size > 10_000
    short = flat(run("search", lots, *ALONE, "--model", "tree", "--strategy", "exhaustive", "--evaluations", "9", "--quick"))
    assert "9 sets scored" in short and "stopped after 9 scored sets: the best so far" in short


@pytest.mark.long
def test_a_plan_says_model_strategy_metric_and_folds(lots, tmp_path):
    plan = tmp_path / "plan.toml"
    plan.write_text(
        '[table]\ntarget = "loaf_volume"\nignore = ["accepted", "grade"]\ngroups = "mill"\n[score]\nmetric = "rmse"\nfolds = 3\n'
        '[[stage]]\nuse = "screen"\n[[stage]]\nuse = "search"\nmodel = { name = "ridge", penalty = 0.1 }\n'
        'strategy = { name = "recursive", by = "coefficient", step = 2 }\n'
    )
    out = flat(run("search", lots, "--plan", plan))
    assert "recursive search, ridge" in out and "3 folds by group, RMSE" in out
    selected = run("select", lots, "--plan", plan, "--out", tmp_path / "out", "--set", "search.evaluations=30")
    assert "kept" in selected


def test_the_journal_is_listed_and_read_again(lots, tmp_path):
    file = tmp_path / "scores.journal"
    args = ["search", lots, *ALONE, "--model", "tree", "--strategy", "floating", "--quick", "--journal", file]
    first = flat(run(*args))
    again = flat(run(*args))
    assert ": 12 steps" in first or "steps" in first
    assert " 0 sets scored," in again
    shown = flat(run("search", "--journal", file, "--show"))
    assert "250 rows, target loaf_volume (regression), 7 columns" in shown and "scored sets in all" in shown
    told = json.loads(run("search", "--journal", file, "--show", "--format", "json"))
    assert told["grounds"][0]["sets"] > 7


@pytest.mark.long
@pytest.mark.parametrize(
    ("options", "words"),
    [
        (["--strategy", "floatin"], "unknown strategy 'floatin'; choose from"),
        (["--model", "rigde"], "Did you mean 'ridge'"),
        (["--metric", "auc"], "auc"),
        (["--choose", "bets"], "Did you mean 'best'"),
        (["--choose", "size=x"], "x is not a number"),
        (["--strategy", "forward", "--size", "40"], "size 40 is more than the 7 features"),
        (["--size", "3"], "--size needs --strategy"),
        (["--strategy", "genetic", "--now", "prottein_pct", "--quick"], "Did you mean 'protein_pct'"),
        (["--strategy", "{ name = "], "is not a valid setting table"),
        (["--strategy", '{ name = "genetic", populaton = 3 }'], "populaton"),
        (["--total-cost", "5"], "needs to know what features cost"),
        (["--cost", "ash_pct=9", "--total-cost", "5", "--pin-keep", "ash_pct", "--because", "x"], "pinned in costs 9 already"),
        (["--pin-keep", "ash_pct", "--pin-drop", "ash_pct", "--because", "x"], "ash_pct"),
        (["--show"], "say --journal FILE with it"),
        (["--journal", "{data}"], "is no journal of Chaff's"),
        (["--journal", "/dev/full"], "not a regular file"),
        (["--out", "trail.txt"], "must end in .json or .csv or .parquet"),
        (["--strategy", "annealing", "--quick", "--seconds", "0"], "seconds must be over 0"),
        (["--journal", "x", "--show"], "leave DATA out"),
    ],
)
def test_what_goes_wrong_is_said_without_a_traceback(lots, options, words, tmp_path):
    said = [str(lots) if o == "{data}" else o for o in options]
    done = call("search", lots, *ALONE, *said, cwd=tmp_path)
    assert done.returncode in (2, 3) and "Traceback" not in done.stderr and words in flat(done.stderr), done.stderr
    assert not list(tmp_path.iterdir())


def test_no_file_and_an_empty_one(tmp_path):
    for args, code in (([], 2), ([str(tmp_path / "none.csv"), "--target", "y"], 3)):
        done = call("search", *args)
        assert done.returncode == code and "Traceback" not in done.stderr and done.stderr.startswith("chaff: ")


@pytest.mark.long
@pytest.mark.parametrize("how", [signal.SIGINT, signal.SIGKILL])
def test_a_command_that_was_killed_goes_on_where_it_was(lots, tmp_path, how):
    def args(file):
        return [
            "search",
            lots,
            *ALONE,
            "--model",
            '{ name = "forest", trees = 40 }',
            "--strategy",
            "floating",
            "--size",
            "4",
            "--journal",
            file,
        ]

    whole = run(*args(tmp_path / "whole"), "--quick", "--format", "json")
    file = tmp_path / "killed"
    process = subprocess.Popen(
        [str(CHAFF), *map(str, args(file)), "--quick"], env=ENV, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    )
    until = time.time() + 60
    while time.time() < until and (not file.exists() or file.stat().st_size < 20_000):
        time.sleep(0.02)
    time.sleep(0.4)
    process.send_signal(how)
    _, error = process.communicate()
    assert "Traceback" not in error
    again = run(*args(file), "--quick", "--format", "json")
    moves = [[(m["action"], m["features"], m["score"]) for m in json.loads(text)["searches"][0]["moves"]] for text in (whole, again)]
    assert moves[0] == moves[1]


def test_progress_is_a_line_now_and_then_when_piped(lots):
    done = call("search", lots, *ALONE, "--strategy", "forward")
    lines = [line for line in done.stderr.splitlines() if "sets scored" in line]
    assert 1 <= len(lines) <= 8 and "forward · move 1 · best" in lines[0] and done.returncode == 0


def test_the_bar_is_a_bar():
    from chaff.cli.search_tables import WIDE, bar
    from chaff.methods.search.strategy import Progress

    some = Progress("forward", 4, 4, 0.5, 0.5, 210, 3, 3.0, 1.0)
    assert bar(some).count("━") == round(0.75 * WIDE) and len(bar(some)) == WIDE
    assert bar(Progress("genetic", 4, 4, 0.5, 0.5, 210, 3, 3.0, None)) == ""
    assert sys.executable and os.name == "posix"
