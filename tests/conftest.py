"""Shared tables, small enough to be quick and rich enough to have every kind of trouble."""

from __future__ import annotations

import atexit
import os
import shutil
import signal
import tempfile

import numpy as np
import pandas as pd
import pytest

import chaff

for name, words in (
    ("XDG_STATE_HOME", "chaff-state-"),
    ("XDG_CACHE_HOME", "chaff-cache-"),
    ("CHAFF_SCRATCH", "chaff-scratch-"),
):  # not those in a person's home
    os.environ[name] = tempfile.mkdtemp(prefix=words)
    atexit.register(shutil.rmtree, os.environ[name], ignore_errors=True)

if signal.getsignal(signal.SIGINT) is signal.SIG_IGN:  # of a suite in the background, whose commands would be deaf to Ctrl-C too
    signal.signal(signal.SIGINT, signal.default_int_handler)


def make_mixed(rows: int = 240, seed: int = 3, classes: int = 0) -> pd.DataFrame:
    """Numbers with and without gaps, a binary column, a category with gaps and a rare level, weights, groups, an order."""
    rng = np.random.default_rng(seed)
    frame = pd.DataFrame({f"assay_{k}": rng.normal(10 * k, 1 + k, rows) for k in range(4)})
    frame["gap_a"] = np.where(rng.random(rows) < 0.15, np.nan, frame["assay_1"] * 0.3 + rng.normal(size=rows))
    frame["gap_b"] = np.where(rng.random(rows) < 0.4, np.nan, rng.normal(size=rows))
    frame["organic"] = np.where(rng.random(rows) < 0.4, "yes", "no")
    frame["variety"] = rng.choice(["Alba", "Borka", "Cerio", None], rows, p=[0.4, 0.3, 0.2, 0.1])
    frame.loc[:2, "variety"] = "Rara"  # too rare to be in every fold
    frame["lot_weight"] = rng.uniform(0.2, 3.0, rows)
    frame["mill"] = rng.integers(0, 12, rows)
    frame["day"] = rng.permutation(rows)
    y = frame["assay_0"] - 0.5 * frame["assay_2"] + 2.0 * (frame["variety"] == "Borka") + np.nan_to_num(frame["gap_b"])
    y = y + rng.normal(0, 1.0, rows)
    if classes:
        frame["y"] = pd.qcut(y, classes, labels=[f"class {k}" for k in range(classes)]).astype(str)
    else:
        frame["y"] = y
    return frame


@pytest.fixture(scope="session")
def mixed() -> pd.DataFrame:
    return make_mixed()


@pytest.fixture(scope="session")
def mill_table() -> chaff.Table:
    return chaff.demo.table()


@pytest.fixture(scope="session")
def mill_run(mill_table: chaff.Table) -> chaff.Run:
    """The built-in plan on the demo mill, once for all tests that only read it."""
    return chaff.select(mill_table)
