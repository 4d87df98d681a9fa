"""Help on one screen, help for a name, and options made from the fields of stages."""

from __future__ import annotations

import dataclasses

import pytest

from chaff.cli.main import COMMANDS, chaff
from chaff.decide.stages import STAGES
from chaff.declared import declared, declared_in
from chaff.methods.importance.way import WAYS
from chaff.methods.search.strategy import STRATEGIES
from chaff.models.named import MODELS
from tests.commands import ENV, call, run

REGISTRIES = {"chaff.models": MODELS, "chaff.methods.search.strategies": STRATEGIES, "chaff.methods.importance.ways": WAYS}


@pytest.mark.parametrize("command", COMMANDS)
def test_help_fits_one_screen_and_names_every_option(command):
    short, whole = (call(command, flag, env=ENV | {"COLUMNS": "80"}).stdout for flag in ("--help", "--help-all"))
    assert len(short.splitlines()) <= 50
    options = [o for p in chaff.get_command(None, command).params for o in p.opts if o.startswith("--")]
    assert [o for o in options if o not in short or o not in whole] == []
    lines = [line for line in short.splitlines() if line.startswith(("  --", "  -o"))]
    assert all(len(line) <= 80 for line in lines) and len(lines) <= 14
    examples = short.partition("Examples:")[2]
    assert f"chaff {command}" in examples


@pytest.mark.parametrize("package", REGISTRIES)
def test_what_files_declare_is_what_is_there(package):
    found, there = declared_in(package), REGISTRIES[package].choices
    assert list(found) == list(there)
    for name, choice in there.items():
        fields = {f.name: f for f in dataclasses.fields(choice) if f.init and f.name != "name"}
        assert [f.name for f in found[name].fields] == list(fields), name
        undocumented = [f.name for f in found[name].fields if not f.about]
        assert not undocumented, (name, undocumented)


@pytest.mark.parametrize("use", STAGES)
def test_every_setting_of_a_stage_is_documented(use):
    stage = STAGES[use]
    found = declared(stage.__module__, stage.__name__)
    assert {f.name for f in found.fields} == {f.name for f in dataclasses.fields(stage)} - {"name"}
    assert all(f.about for f in found.fields)


def test_help_for_a_name_shows_settings_and_source():
    page = run("search", "--help", "genetic")
    assert "population = 50" in page and "Source: Holland, 1975" in page and "chaff.Genetic" in page
    assert "trees = 100" in run("help", "forest") and run("help", "Forest") == run("help", "forest")
    assert "Fits: number × number" in run("help", "spearman") and "Tikhonov" not in run("help", "spearman")
    assert "nearest neighbours" in run("help", "models") and "nearest neighbours" in run("help", "nearest", "neighbours")
    for topic in ("strategies", "measures", "statistics", "metrics", "plans", "options", "codes"):
        assert len(run("help", topic).splitlines()) > 5, topic
    assert all(f"  {name} " in run("help", "statistics") for name in ("welch_f", "pearson_r", "auc"))
    assert run("help", "relevance") == run("relevance", "--help")
    assert "Did you mean 'genetic'" in run("search", "--help", "genetc", code=2)
    assert "Did you mean 'strategies'" in run("help", "strategys", code=2)


def test_help_is_quick_to_load():
    """Help reads files and imports neither the compiler nor pandas."""
    import subprocess
    import sys

    code = (
        "import sys; from chaff.cli.main import main; main(['relevance', '--help-all']); main(['help', 'genetic']);"
        "print([m for m in ('pandas', 'scipy', 'matplotlib') if m in sys.modules])"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.splitlines()[-1] == "[]"


def completed(words, folder):
    import os
    import subprocess

    from tests.commands import CHAFF

    env = ENV | {"_CHAFF_COMPLETE": "bash_complete", "COMP_WORDS": words, "COMP_CWORD": str(len(words.split(" ")) - 1)}
    done = subprocess.run([CHAFF], cwd=folder, env={**os.environ, **env}, capture_output=True, text=True, check=True)
    return [line.split(",", 1)[1] for line in done.stdout.splitlines() if line.startswith("plain,")]


def test_tab_completes_commands_options_and_columns(tmp_path):
    (tmp_path / "t.csv").write_text("\ufeffash;protein;a b\n1;2;3\n")
    assert completed("chaff rel", tmp_path) == ["relevance"] and "--target" in completed("chaff screen t.csv --tar", tmp_path)
    assert completed("chaff screen t.csv --target a", tmp_path) == ["ash", "a b"]
    assert completed("chaff screen t.csv --features ash,p", tmp_path) == ["ash,protein"]
    assert completed("chaff screen --target a", tmp_path) == [] and completed("chaff screen gone.csv --target a", tmp_path) == []
    for shell in ("bash", "zsh", "fish"):
        assert "_CHAFF_COMPLETE" in run("completion", shell)


def test_questions_are_answered_in_the_terminal():
    page = run("help", "dates")
    assert page.startswith("I have dates") and "    chaff relevance lots.csv" in page and "](" not in page and "```" not in page
    assert run("help", "few", "rows") == run("help", "few-rows") and "few-rows" in run("help")


def test_a_plan_is_asked_for_one_question_at_a_time(tmp_path):
    import chaff as package
    from tests.commands import call

    package.demo.lots(rows=80).to_csv(tmp_path / "lots.csv", index=False)
    done = call("plan", "lots.csv", "--ask", "--out", "p.toml", cwd=tmp_path, stdin="loaf_volume\naccepted, grade\n\nmill\n\n\n")
    assert done.returncode == 0, done.stderr
    plan = package.read_plan(tmp_path / "p.toml")
    assert (plan.table.target, plan.table.ignore, plan.table.groups) == ("loaf_volume", ("accepted", "grade"), "mill")
    done = call("plan", "lots.csv", "--ask", "--out", "q.toml", cwd=tmp_path, stdin="loaf_volume\naccepts\n\n\n\n\n")
    assert done.returncode == 2 and "Did you mean 'accepted'" in done.stderr and not (tmp_path / "q.toml").exists()
    assert "missing --target" in call("select", "lots.csv", cwd=tmp_path).stderr  # nobody is asked where no terminal is


@pytest.mark.long
def test_a_person_at_a_terminal_is_asked_for_the_target(tmp_path):
    import os
    import pty
    import select
    import time

    from tests.commands import CHAFF

    lots = "farm,protein,loaf\n" + "".join(f"{k % 5},{k * 37 % 101},{k * 53 % 89}\n" for k in range(80))
    (tmp_path / "t.csv").write_text(lots)
    pid, terminal = pty.fork()
    if pid == 0:
        os.chdir(tmp_path)
        os.execve(CHAFF, [str(CHAFF), "relevance", "t.csv"], {**os.environ, **ENV})
    told, answered, ends = "", False, time.monotonic() + 120
    while time.monotonic() < ends:
        if not select.select([terminal], [], [], 1.0)[0]:
            continue
        try:
            part = os.read(terminal, 4096)
        except OSError:  # the other end has closed
            break
        told += part.decode(errors="replace")
        if "Column to predict" in told and not answered:
            os.write(terminal, b"loaf\n")
            answered = True
    _, status = os.waitpid(pid, 0)
    assert os.waitstatus_to_exitcode(status) == 0, told
    assert "Columns: farm, protein, loaf" in told and "target loaf" in told and "protein" in told
