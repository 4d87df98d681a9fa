"""Written whole or not at all, and never over what was read, what is another's, or what is not a regular file."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.files import PART, harmless, keep_existing, together, write_text
from tests.commands import CHAFF, call


@pytest.fixture(scope="module")
def place(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("place")
    rng = np.random.default_rng(0)
    frame = pd.DataFrame(rng.normal(size=(90, 4)).round(3), columns=list("abcd"))
    frame["y"] = (frame["a"] + 0.3 * rng.normal(size=90)).round(3)
    frame.to_csv(folder / "lots.csv", index=False)
    done = run(folder, "select", "lots.csv", "--target", "y", "--out", "out", "--quick", "--no-state", "--model", "ridge")
    assert done.returncode == 0, done.stderr
    return folder


def run(folder: Path, *arguments: object) -> subprocess.CompletedProcess[str]:
    return call(*arguments, cwd=folder)


def refused(done: subprocess.CompletedProcess[str], words: str) -> None:
    assert done.returncode == 3 and words in done.stderr and "Traceback" not in done.stderr, done.stderr


def test_nothing_that_was_read_is_written_over_not_even_with_force(place: Path):
    before = (place / "lots.csv").read_bytes()
    refused(run(place, "apply", "out/selection.json", "lots.csv", "-o", "lots.csv", "--force"), "is an input of this run")
    refused(run(place, "screen", "lots.csv", "--target", "y", "--out", "lots.csv", "--force"), "is an input of this run")
    (place / "link.csv").symlink_to("lots.csv")
    refused(run(place, "apply", "out/selection.json", "lots.csv", "-o", "link.csv", "--force"), "is a link")
    assert (place / "lots.csv").read_bytes() == before


def test_what_is_no_plain_file_is_left_alone(place: Path):
    os.mkfifo(place / "pipe.csv")
    for out, words in (("pipe.csv", "no plain file"), ("folder.csv", "folder")):
        (place / "folder.csv").mkdir(exist_ok=True)
        done = run(place, "apply", "out/selection.json", "lots.csv", "-o", out)
        assert done.returncode in (2, 3) and words.split()[-1] in done.stderr
    assert (place / "pipe.csv").is_fifo()


@pytest.mark.long
def test_results_of_another_run_need_force_and_the_same_run_does_not(place: Path):
    select = ("select", "lots.csv", "--target", "y", "--out", "out", "--quick", "--no-state", "--model", "ridge")
    before = (place / "out" / "selection.json").read_bytes()
    assert run(place, *select).returncode == 0
    assert (place / "out" / "selection.json").read_bytes() == before
    refused(run(place, *select, "--seed", "5"), "--force")
    assert run(place, *select, "--seed", "5", "--force").returncode == 0
    assert json.loads((place / "out" / "selection.json").read_text())["seed"] == 5
    apply = ("apply", "out/selection.json", "lots.csv", "-o", "again.csv")
    assert run(place, *apply).returncode == 0 == run(place, *apply).returncode  # the same again changes nothing
    (place / "again.csv").write_text("mine")
    refused(run(place, *apply), "already exists")
    assert run(place, *apply, "--force").returncode == 0
    (place / "mine.json").write_text("my own notes")
    refused(run(place, "relevance", "lots.csv", "--target", "y", "--out", "mine.json"), "already exists")
    assert (place / "mine.json").read_text() == "my own notes"


def test_permissions_are_kept(tmp_path: Path):
    path = tmp_path / "a.json"
    write_text(path, "old")
    path.chmod(0o600)
    write_text(path, "new")
    assert path.stat().st_mode & 0o777 == 0o600 and path.read_text() == "new"


def test_files_of_one_run_take_their_places_together(tmp_path: Path):
    with pytest.raises(ZeroDivisionError), together(tmp_path) as fresh:
        (fresh / "a.csv").write_text("half")
        raise ZeroDivisionError
    assert not list(tmp_path.iterdir())
    (tmp_path / "b.csv").write_text("mine")
    with keep_existing(), pytest.raises(chaff.DataError, match="b.csv already exists"), together(tmp_path) as fresh:
        (fresh / "a.csv").write_text("x")
        (fresh / "b.csv").write_text("y")
    assert [p.name for p in tmp_path.iterdir()] == ["b.csv"] and (tmp_path / "b.csv").read_text() == "mine"


def test_what_a_killed_run_left_is_removed_by_the_next(tmp_path: Path):
    ended = subprocess.Popen([sys.executable, "-c", ""])
    ended.wait()
    (tmp_path / f"{PART}{ended.pid}-abc").mkdir()
    (tmp_path / f"{PART}{ended.pid}-abc" / "half.csv").write_text("half")
    (tmp_path / f"{PART}{ended.pid}-def.csv").write_text("half")
    (tmp_path / f"{PART}{os.getpid()}-ghi.csv").write_text("of this very process")
    write_text(tmp_path / "a.txt", "x")
    assert sorted(p.name for p in tmp_path.iterdir()) == [f"{PART}{os.getpid()}-ghi.csv", "a.txt"]


@pytest.mark.parametrize(("number", "code"), [(signal.SIGTERM, 143), (signal.SIGINT, 130)])
@pytest.mark.long
def test_ended_from_outside_it_cleans_up(place: Path, tmp_path: Path, number: int, code: int):
    begun = subprocess.Popen(
        [str(CHAFF), "demo", "--out", str(tmp_path / "out"), "--rows", "1600"],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.default_int_handler),
    )
    time.sleep(3.5)
    begun.send_signal(number)
    _, said = begun.communicate(timeout=60)
    assert begun.returncode == code and b"Traceback" not in said
    left = [p.name for p in tmp_path.rglob("*")]
    assert not any(PART in name for name in left) and "selection.json" not in left


def test_cells_that_a_spreadsheet_would_run_are_harmless(tmp_path: Path):
    frame = pd.DataFrame(
        {"word": ["=1+1", "+x", "@y", "-z", "-5", "plain"], "n": [-1.0, 2, 3, 4, 5, 6]}, index=["=f", "a", "b", "c", "d", "e"]
    )
    safe = harmless(frame)
    assert (
        safe["word"].tolist() == ["'=1+1", "'+x", "'@y", "'-z", "-5", "plain"]
        and safe.index[0] == "'=f"
        and (safe["n"].to_numpy() == frame["n"].to_numpy()).all()
    )
    rng = np.random.default_rng(0)
    data = pd.DataFrame({"=cmd()": rng.normal(size=60), "y": rng.normal(size=60)})
    chaff.relevance(chaff.open_table(data, "y"), ["pearson_r"]).save(tmp_path / "r.csv")
    assert "\n'=cmd()" in (tmp_path / "r.csv").read_text()
