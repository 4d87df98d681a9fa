"""Every command that reads a table says the same of it from files on disk as from one file in memory: 1, 7 and 100 files, in any order."""

from __future__ import annotations

import contextlib
import io
import json
import os
import re
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.cli.main import main

ROLES = ("--target", "loaf_volume", "--ignore", "accepted", "--ignore", "grade", "--groups", "mill")
FEW = tuple(w for f in ("line_voltage_v", "crumb_score", "mixing_energy_wh_kg", "farm_code", "organic") for w in ("--ignore", f))
QUICK = ("--set", 'importance.model={name="forest",trees=10}', "--repeats", "1", "--model", "ridge")
COMMANDS: dict[str, tuple[str, ...]] = {
    "plan": ("plan", "{data}", *ROLES, "--out", "written.toml"),
    "screen": ("screen", "{data}", *ROLES, "--all"),
    "relevance": ("relevance", "{data}", *ROLES, "--statistics", "fitting", "--shuffles", "3", "--all"),
    "relevance of pairs": ("relevance", "{data}", *ROLES, *FEW, "--pairs"),
    "triage": ("relevance", "{data}", *ROLES, "--triage", "20"),
    "overlap": ("overlap", "{data}", *ROLES, "--every-kind", "--clusters", "--all"),
    "linear": ("linear", "{data}", *ROLES, *FEW, "--prune", "both", "--all"),
    "importance": ("importance", "{data}", *ROLES, "--model", "forest", "--trees", "8", "--all"),
    "importance of lasso": ("importance", "{data}", *ROLES, *FEW, "--model", "lasso", "--by", "coefficient"),
    "chance": ("importance", "{data}", *ROLES, "--model", "tree", "--chance", "9"),
    "search": ("search", "{data}", *ROLES, *FEW, "--model", "ridge", "--strategy", "forward", "--size", "3", "--folds", "3"),
    "search with trees": ("search", "{data}", *ROLES, *FEW, "--model", "tree", "--strategy", "forward", "--size", "2", "--folds", "3"),
    "compare": ("compare", "{data}", *ROLES, *FEW, "--method", "leading", "--method", "forward", "--model", "ridge", "--sizes", "1,3", "--folds", "3"),
    "select": ("select", "{data}", *ROLES, *QUICK, "--no-state", "--out", "kept"),
    "recheck": ("recheck", "{selection}", "{data}"),
    "apply": ("apply", "{selection}", "{data}", "--out", "written.csv"),
}  # fmt: skip
CLOCKS = ("seconds", "source", "scratch", "memory", "out", "data", "files", "written", "next")


def rows(pieces: int) -> pd.DataFrame:
    """Lots in the order in which files of mixed up names give them."""
    frame = chaff.demo.lots(rows=220)
    parts = np.array_split(np.arange(len(frame)), pieces)
    return pd.concat([frame.iloc[parts[k]] for k in np.random.default_rng(pieces).permutation(pieces)], ignore_index=True)


def cut(frame: pd.DataFrame, folder: Path, pieces: int) -> None:
    """The same rows in the same order of names."""
    folder.mkdir()
    for k, part in enumerate(np.array_split(np.arange(len(frame)), pieces)):
        frame.iloc[part].to_parquet(folder / f"lots_{k:03d}.parquet", index=False)


def plain(said: Any) -> Any:
    """Without clocks and names of files."""
    if isinstance(said, dict):
        return {k: plain(v) for k, v in said.items() if k not in CLOCKS}
    if isinstance(said, list):
        return [plain(v) for v in said if not (isinstance(v, str) and v.startswith("stays on disk"))]
    return re.sub(r"(many|one)_\d+(\.parquet)?", "lots", said) if isinstance(said, str) else said


def differing(a: Any, b: Any, where: str = "") -> list[str]:
    """Where two answers differ, with what each says there."""
    if isinstance(a, dict) and isinstance(b, dict) and set(a) == set(b):
        return [d for k in a for d in differing(a[k], b[k], f"{where}.{k}")]
    if isinstance(a, list) and isinstance(b, list) and len(a) == len(b):
        return [d for k, (x, y) in enumerate(zip(a, b, strict=True)) for d in differing(x, y, f"{where}[{k}]")]
    return [] if a == b or (a != a and b != b) else [f"{where}: {a} / {b}"]


def answer(folder: Path, name: str, data: str, more: Sequence[str] = ()) -> tuple[Any, dict[str, bytes]]:
    """(what a command says, what it writes)"""
    before = os.getcwd()
    folder.mkdir(exist_ok=True)
    os.chdir(folder)
    try:
        words = [{"{data}": data, "{selection}": "../selection.json"}.get(w, w) for w in COMMANDS[name]]
        with contextlib.redirect_stdout(io.StringIO()) as said:
            code = main([*words, *more, "--format", "json"])
    finally:
        os.chdir(before)
    assert code in (0, 10, 20), said.getvalue()
    files = {p.name: p.read_bytes() for p in folder.rglob("*") if p.is_file() and "scratch" not in p.parts}
    return plain(json.loads(said.getvalue())), files


def lots_in(folder: Path, cuts: Sequence[int]) -> Path:
    """The folder, in it the lots cut some ways, each beside one file of the same rows, and a selection."""
    for pieces in cuts:
        frame = rows(pieces)
        frame.to_parquet(folder / f"one_{pieces}.parquet", index=False)
        cut(frame, folder / f"many_{pieces}", pieces)
    words = [str(folder / f"one_{cuts[0]}.parquet"), *ROLES, *QUICK, "--no-state", "--out", str(folder / "first")]
    assert main(["select", *words]) == 0
    (folder / "first" / "selection.json").rename(folder / "selection.json")
    return folder


@pytest.fixture(scope="module")
def place(tmp_path_factory):
    return lots_in(tmp_path_factory.mktemp("lots"), (1, 7, 100))


@pytest.fixture(scope="module")
def in_memory(place):
    """What a command says of one file, asked once."""
    said: dict[tuple[str, int], Any] = {}

    def of(name: str, pieces: int) -> Any:
        key = name, pieces
        if key not in said:
            said[key] = answer(place / f"near {name} {pieces}", name, f"../one_{pieces}.parquet")
        return said[key]

    return of


@pytest.mark.long
@pytest.mark.parametrize("pieces", [1, 7, 100])
@pytest.mark.parametrize("name", COMMANDS)
def test_from_files(place, in_memory, name, pieces):
    more = () if name == "apply" else ("--scratch", str(place / "scratch"))
    here, there = in_memory(name, pieces), answer(place / f"far {name} {pieces}", name, f"../many_{pieces}", more)
    assert differing(there[0], here[0]) == []
    assert set(there[1]) == set(here[1])
