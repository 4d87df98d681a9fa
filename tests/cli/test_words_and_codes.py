"""Small things that a person types or reads: codes of one column, by hand from a few, categories side by side, limits off."""

from __future__ import annotations

import os
import subprocess
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

from tests.commands import call


@pytest.fixture(scope="module")
def file(tmp_path_factory: pytest.TempPathFactory) -> Path:
    rng = np.random.default_rng(0)
    n = 120
    frame = pd.DataFrame({"glucose": rng.normal(100, 10, n).round(), "x": rng.normal(size=n), "z": rng.normal(size=n)})
    frame.loc[:9, "glucose"] = 0
    frame["maker"], frame["mill"] = rng.choice(list("ABC"), n), rng.choice(list("NSW"), n)
    frame["y"] = frame["x"] + rng.normal(size=n)
    path = tmp_path_factory.mktemp("words") / "lots.csv"
    frame.to_csv(path, index=False)
    return path


def run(*arguments: object, said: str = "") -> subprocess.CompletedProcess[str]:
    return call(*arguments, env=dict(os.environ), stdin=said)


def test_a_code_of_one_column_by_the_short_option(file: Path):
    done = run("screen", file, "--target", "y", "--missing", "glucose=0", "--all-rows", "--format", "json")
    assert done.returncode == 0 and '"missing_share": 0.083' in done.stdout


def test_by_hand_starts_from_the_features_named_and_offers_all(file: Path):
    done = run("linear", file, "--target", "y", "--start", "x", "--by-hand", said="add z\nquit\n")
    assert done.returncode == 0 and "2 features" in done.stdout and "is not" not in done.stdout


def test_categories_alone_are_compared_as_categories(file: Path):
    done = run("overlap", file, "--target", "y", "--ignore", "glucose", "--ignore", "x", "--ignore", "z")
    assert done.returncode == 0 and "2 features" in done.stdout


@pytest.mark.long
def test_a_limit_is_switched_off_by_false(file: Path, tmp_path: Path):
    done = run("select", file, "--target", "y", "--out", tmp_path / "s.json", "--set", "overlap.vif_limit=false", "--quick", "--no-state")
    assert done.returncode == 0, done.stderr


def test_every_column_that_cannot_be_read_is_named_with_the_option_that_mends_it(file: Path, tmp_path: Path):
    frame = pd.read_csv(file).astype(object)
    frame.loc[3, "x"], frame.loc[5, "z"] = "odd", "strange"
    frame.to_csv(tmp_path / "odd.csv", index=False)
    done = run("screen", tmp_path / "odd.csv", "--target", "y")
    assert done.returncode == 3 and "--kind x=category" in done.stderr and "--kind z=category" in done.stderr
