"""docs/a-working-day.md, every command in its order, in processes of their own."""

import re
import shlex
from pathlib import Path

import pytest

import chaff
from tests.commands import call

PAGE = Path(__file__).parent.parent.parent / "docs" / "a-working-day.md"


def commands():
    blocks = re.findall(r"^```\n(.*?)^```", PAGE.read_text(encoding="utf-8"), re.S | re.M)
    return [shlex.split(line)[1:] for block in blocks for line in block.splitlines() if line.startswith("chaff ")]


@pytest.mark.long
def test_the_working_day_runs_line_by_line_and_leaves_what_it_says(tmp_path):
    said = {}
    for args in commands():
        done = call(*args, cwd=tmp_path)
        assert done.returncode == 0, (args, done.stdout[-1500:], done.stderr[-1500:])
        assert "Traceback" not in done.stderr
        said[args[0]] = done.stdout
    for name in ("day.toml", "methods.html", "chosen/report.html", "chosen/evaluation.png", "reduced.parquet", "again.toml"):
        assert (tmp_path / name).stat().st_size > 100
    assert said["recheck"].lstrip().startswith("stay") and "nothing differs" in said["changes"]
    first, again = (chaff.read_selection(tmp_path / f / "selection.json") for f in ("chosen", "again"))
    assert first.features == again.features and first.scores == again.scores
    assert any(p["feature"] == "crumb_score" for p in first.plan["pin"])


def test_every_command_has_its_place_in_the_day():
    from chaff.cli.main import COMMANDS

    assert {args[0] for args in commands()} == set(COMMANDS)
