"""Hundreds of odd things that a person can type, pass or feed: each ends well or in an error of ours, never in a traceback.

In one process, so that all of them take seconds: the command's own `main`, and the public calls.
"""

from __future__ import annotations

import contextlib
import io
import itertools
import json
import os
import random
import warnings
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.cli.main import main

RNG = np.random.default_rng(0)
N = 60
LOTS = pd.DataFrame({"a": RNG.normal(size=N).round(3), "b": RNG.normal(size=N).round(3), "k": RNG.choice(["red", "blue", "green"], N)})
LOTS["y"] = (LOTS["a"] + 0.3 * RNG.normal(size=N)).round(3)
TEXT = LOTS.to_csv(index=False)


def typed(*arguments: str) -> tuple[int, str]:
    """(exit code, what was said on stderr)."""
    said = io.StringIO()
    with contextlib.redirect_stdout(io.StringIO()), contextlib.redirect_stderr(said), warnings.catch_warnings():
        warnings.simplefilter("error", ResourceWarning)
        code = main(list(arguments))
    return code, said.getvalue()


def ends_well(code: int, said: str) -> None:
    assert code in (0, 2, 3, 4) and "Traceback" not in said and "internal error in Chaff" not in said, f"exit {code}: {said[-600:]}"


@pytest.fixture(autouse=True)
def place(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.chdir(tmp_path)
    return tmp_path


# ------------------------------------------------------------------ files

FILES: dict[str, bytes] = {
    "empty": b"",
    "header only": b"a,b,y\n",
    "one row": b"a,b,y\n1,2,3\n",
    "two rows": b"a,b,y\n1,2,3\n2,3,5\n",
    "only target": b"y\n1\n2\n3\n",
    "blank lines": b"\n\n\n",
    "only separators": b",,,\n,,,\n",
    "byte order mark": b"\xef\xbb\xbf" + TEXT.encode(),
    "utf-16": TEXT.encode("utf-16"),
    "utf-32": TEXT.encode("utf-32"),
    "latin": TEXT.replace("red", "röt").encode("latin-1"),
    "line ends of old machines": TEXT.replace("\n", "\r").encode(),
    "mixed line ends": TEXT.replace("\n", "\r\n", 20).encode(),
    "nul in a cell": TEXT.replace("red", "r\0d").encode(),
    "nothing but nul": b"\0" * 400,
    "open quote": TEXT.replace("red", '"red', 1).encode(),
    "quote in a quote": TEXT.replace("red", '"r""ed"').encode(),
    "ragged": (TEXT + "1,2\n").encode(),
    "too wide": (TEXT + "1,2,red,3,4,5\n").encode(),
    "a field of 200,000 letters": TEXT.replace("red", "r" * 200_000, 1).encode(),
    "a name of 200,000 letters": TEXT.replace("a,", "a" * 200_000 + ",", 1).encode(),
    "twins": TEXT.replace("a,b", "a,a", 1).encode(),
    "nameless": TEXT.replace("a,b", ",b", 1).encode(),
    "names of blanks": TEXT.replace("a,b", " ,  ", 1).encode(),
    "formula": TEXT.replace("red", "=1+1").encode(),
    "huge numbers": TEXT.replace("red", "1e999").encode(),
    "long digits": TEXT.replace("red", "9" * 5000).encode(),
    "only words": b"a,y\n" + b"x,z\n" * 30,
    "all missing": b"a,y\n" + b",1\n,2\n" * 20,
    "constant target": b"a,y\n" + b"1,5\n2,5\n" * 20,
    "binary": bytes(range(256)) * 20,
    "picture": b"\x89PNG\r\n\x1a\n" + bytes(200),
    "zip": b"PK\x03\x04" + bytes(300),
    "html": b"<html><body><table><tr><td>1</td></tr></table></body></html>",
    "json": b'{"a": [1, 2, 3]}',
}


@pytest.mark.long
@pytest.mark.parametrize("name", FILES)
@pytest.mark.parametrize("command", ["screen", "relevance"])
def test_odd_files(name: str, command: str, place: Path):
    (place / "t.csv").write_bytes(FILES[name])
    ends_well(*typed(command, "t.csv", "--target", "y", "--all-rows"))


@pytest.mark.parametrize("ending", [".tsv", ".txt", ".parquet", ".feather", ".arrow", ".jsonl", ".xyz", "", ".csv.gz", ".csv.zst"])
@pytest.mark.parametrize("content", ["text", "noise", "nothing"])
def test_contents_that_the_ending_does_not_tell(ending: str, content: str, place: Path):
    data = {"text": TEXT.encode(), "noise": random.Random(1).randbytes(500), "nothing": b""}[content]
    (place / f"t{ending}").write_bytes(data)
    ends_well(*typed("screen", f"t{ending}", "--target", "y", "--all-rows"))


@pytest.mark.parametrize("seed", range(24))
@pytest.mark.parametrize("ending", [".parquet", ".feather"])
def test_damaged_files_of_columns(seed: int, ending: str, place: Path):
    # Where bytes of an Arrow file are flipped only its own check stands between us and the end of the process.
    draw = random.Random(seed)
    LOTS.to_parquet(place / "t.parquet") if ending == ".parquet" else LOTS.to_feather(place / "t.feather")
    data = bytearray((place / f"t{ending}").read_bytes())
    for _ in range(draw.choice([1, 3, 20])):
        data[draw.randrange(len(data))] = draw.randrange(256)
    (place / f"t{ending}").write_bytes(data[: draw.choice([len(data), len(data) // 2, len(data) - 4])])
    ends_well(*typed("screen", f"t{ending}", "--target", "y", "--all-rows"))


# ------------------------------------------------------------------ options

ODD_WORDS = ("", " ", "nope", "y", "a,b", "=", "a=", "=a", "a=b=c", "-1", "nan", "1e400", "ü", "a" * 3000, "\udcff", "{x}", "[1", "../..")
NAMED = ("--groups", "--order", "--weights", "--ids", "--ignore", "--kind", "--missing", "--missing-code", "--fill", "--date", "--together")


@pytest.mark.long
@pytest.mark.parametrize(("option", "word"), list(itertools.product(NAMED, ODD_WORDS)))
def test_odd_words_of_the_table(option: str, word: str, place: Path):
    (place / "t.csv").write_text(TEXT)
    ends_well(*typed("screen", "t.csv", "--target", "y", option, word, "--all-rows"))


LIMITS = ("missing_share", "top_share", "too_good", "spread", "doubtful", "nope", "missing_share.x")
VALUES = ("2", "-1", "x", "nan", "inf", "true", "[1]", "{a=1}", "1979-05-27", "[" * 500, "9" * 5000)


@pytest.mark.parametrize(("limit", "value"), list(itertools.product(LIMITS, VALUES)))
def test_odd_limits(limit: str, value: str, place: Path):
    (place / "t.csv").write_text(TEXT)
    ends_well(*typed("screen", "t.csv", "--target", "y", f"--{limit.replace('_', '-')}", value, "--all-rows"))


OTHERS = (
    ("--delimiter", "ab"), ("--delimiter", "\n"), ("--delimiter", "tab"), ("--delimiter", ""), ("--encoding", "zz"), ("--encoding", "base64"),
    ("--encoding", "utf-16"), ("--decimal", ";"), ("--target", ""), ("--target", "zz"), ("--target", "a,b"), ("--task", "zz"),
    ("--positive", "zz"), ("--infinite", "zz"), ("--cost", "a=x"), ("--cost", "a=-1"), ("--target-above", "nan"), ("--target-above", "1e9"),
    ("--target-cuts", "3,2,1"), ("--target-cuts", "x"), ("--dictionary", "zz.csv"), ("--dictionary", "t.csv"), ("--dictionary", "."),
    ("--plan", "zz.toml"), ("--plan", "t.csv"), ("--plan", "."), ("--out", "x.exe"), ("--out", "no/such/x.json"), ("--out", "."),
    ("--workers", "0"), ("--workers", "-1"), ("--seed", "x"), ("--seed", "-5"), ("--format", "xml"), ("--by", "zz"), ("--try", "1,x"),
    ("--holdout", "2"), ("--holdout", "-1"), ("--holdout", "zz"), ("--pin-keep", "a"), ("--because", "x"), ("--nope", "1"),
)  # fmt: skip


@pytest.mark.parametrize(("option", "word"), OTHERS)
def test_other_odd_options(option: str, word: str, place: Path):
    (place / "t.csv").write_text(TEXT)
    target = () if option.startswith("--target") else ("--target", "y")
    ends_well(*typed("screen", "t.csv", *target, option, word))


# ------------------------------------------------------------------ plans and selections

GOOD = '[score]\nfolds = 3\n[[stage]]\nuse = "screen"\n[[stage]]\nuse = "search"\n'
PLANS = {
    "empty": "", "broken": "[[stage]\nuse=", "no stage": "[score]\nfolds = 3\n", "unknown stage": '[[stage]]\nuse = "zz"\n',
    "use is a list": '[[stage]]\nuse = ["screen"]\n', "use is a table": "[[stage]]\nuse = {a = 1}\n", "stage is a word": 'stage = "screen"\n',
    "folds in words": GOOD.replace("3", '"three"'), "folds of one": GOOD.replace("3", "1"), "unknown key": GOOD + "[zz]\na = 1\n",
    "twice a key": "a = 1\na = 2\n", "deep": "x = " + "[" * 2000 + "]" * 2000, "together of nothing": GOOD + "[table.together]\nx = []\n",
    "pins in numbers": GOOD + "[[pin]]\nfeature = 1\n", "target in numbers": GOOD + "[table]\ntarget = 5\n", "nul": "a = '\0'",
    "kinds of nothing": GOOD + '[table.kinds]\na = ""\n', "not text": "\udcff",
}  # fmt: skip


@pytest.mark.parametrize("name", PLANS)
def test_odd_plans(name: str, place: Path):
    (place / "t.csv").write_text(TEXT)
    (place / "p.toml").write_bytes(PLANS[name].encode("utf-8", "surrogateescape"))
    ends_well(*typed("screen", "t.csv", "--target", "y", "--plan", "p.toml", "--all-rows"))


@pytest.fixture(scope="module")
def selection_text() -> str:
    return chaff.select(chaff.open_table(LOTS, "y"), chaff.Plan((chaff.Search(),))).selection.to_json()


@pytest.mark.parametrize("seed", range(40))
def test_damaged_selections(seed: int, place: Path, selection_text: str):
    draw = random.Random(seed)
    data = bytearray(selection_text.encode())
    for _ in range(draw.choice([1, 2, 10])):
        data[draw.randrange(len(data))] = draw.randrange(256)
    (place / "s.json").write_bytes(data if seed % 4 else data[: draw.randrange(len(data))])
    (place / "t.csv").write_text(TEXT)
    ends_well(*typed("apply", "s.json", "t.csv", "-o", "r.csv"))


EDITS: dict[str, Callable[[dict[str, Any]], Any]] = {
    "version": lambda s: s.update(version=3),
    "version in words": lambda s: s.update(version="1"),
    "kept of nothing": lambda s: s.update(kept=[]),
    "kept in words": lambda s: s.update(kept="a"),
    "kept without a name": lambda s: s["kept"][0].pop("name"),
    "a name of half a letter": lambda s: s["kept"][0].update(name="\udcff"),
    "a name that is not there": lambda s: s["kept"][0].update(name="zz"),
    "a derived column of nothing": lambda s: s.update(derived=[{"name": "q", "made": "missing flag", "of": "zz"}]),
    "a fill of what is not kept": lambda s: s.update(derived=[{"name": "zz", "made": "fill", "of": "zz", "value": 1.0}]),
    "a hundred thousand words": lambda s: s["plan"].setdefault("table", {}).update(missing=[f"w{k}" for k in range(100_000)]),
    "an encoding that is none": lambda s: s["plan"].setdefault("table", {}).update(encoding="zz"),
    "a table in numbers": lambda s: s["plan"].update(table=5),
    "more than there is": lambda s: s.update(more=1),
}


@pytest.mark.parametrize("name", EDITS)
def test_edited_selections(name: str, place: Path, selection_text: str):
    data = json.loads(selection_text)
    data.pop("checksum")  # a checksum that does not fit would end it all too soon
    EDITS[name](data)
    (place / "s.json").write_text(json.dumps(data))
    (place / "t.csv").write_text(TEXT)
    ends_well(*typed("apply", "s.json", "t.csv", "-o", "r.csv"))


@pytest.mark.parametrize("text", ["", "null", "5", "[" * 100_000, '{"a":' * 50_000, '{"format": "chaff selection"}', "9" * 5000])
def test_what_is_no_selection(text: str, place: Path):
    (place / "s.json").write_text(text)
    (place / "t.csv").write_text(TEXT)
    code, said = typed("apply", "s.json", "t.csv", "-o", "r.csv")
    assert code == 3 and "Traceback" not in said


# ------------------------------------------------------------------ calls

COLUMNS: dict[str, Any] = {
    "complex": np.ones(N) * 1j, "objects": [object()] * N, "lists": [[1]] * N, "dicts": [{"a": 1}] * N, "mixed": [1, "a", None, 2.5] * 15,
    "big": [2**70 + k for k in range(N)], "half letters": pd.Series(["\udcff"] * N, dtype=object), "spans": pd.to_timedelta(np.arange(N), unit="D"),
    "intervals": pd.cut(pd.Series(np.arange(N)), 3), "periods": pd.period_range("2020", periods=N, freq="D"), "bytes": [b"x"] * N,
    "far": pd.Series(np.arange(N) * 10**6).astype("datetime64[s]"), "flipped": np.arange(N).astype(">f8"), "short": np.arange(N).astype("f2"),
    "categories": pd.Categorical(["u", "v"] * 30, categories=["u", "v", "never"]), "zones": pd.date_range("2020", periods=N, tz="Asia/Tokyo"),
    "whole with gaps": pd.array([1, None, 3] * 20, dtype="Int64"), "infinite": [np.inf, -np.inf, 1.0] * 20, "all gaps": [None] * N,
    "one value": [1] * N, "yes and no": [True, False] * 30, "huge": [1e308, -1e308] * 30, "tiny": np.arange(N) * 1e-320, "bands": ["< 5", "5+"] * 30,
}  # fmt: skip


@pytest.mark.long
@pytest.mark.parametrize("name", COLUMNS)
@pytest.mark.parametrize("use", ["feature", "target", "groups", "order", "weights"])
def test_odd_columns(name: str, use: str):
    frame = LOTS.assign(x=COLUMNS[name])
    terms = {"target": "x" if use == "target" else "y"} | ({use: "x"} if use in ("groups", "order", "weights") else {})
    with contextlib.suppress(chaff.ChaffError):
        table = chaff.open_table(frame, **terms)
        chaff.screen(table)
        chaff.relevance(table, "leading")


def test_columns_named_by_anything():
    for names in (
        [True, False, 1, "y"],
        [0, 1, 2, "y"],
        [("a", 1), ("b", 2), ("c", 3), "y"],
        [None, np.nan, "k", "y"],
        [1.5, "$x$", "a\nb", "y"],
    ):
        frame = LOTS.copy()
        frame.columns = pd.Index(names, dtype=object, tupleize_cols=False)
        with contextlib.suppress(chaff.ChaffError):
            chaff.screen(chaff.open_table(frame, "y"))


WRONG: tuple[tuple[str, Callable[[chaff.Table], Any]], ...] = (
    ("seed", lambda t: chaff.select(t, seed=1.5)), ("seed", lambda t: chaff.select(t, seed="a")), ("seed", lambda t: chaff.select(t, seed=None)),
    ("workers", lambda t: chaff.select(t, workers="2")), ("table", lambda t: chaff.select("t.csv")), ("table", lambda t: chaff.screen(LOTS)),
    ("pins", lambda t: chaff.select(t, pins=None)), ("pins", lambda t: chaff.screen(t, pins=["a"])), ("path", lambda t: chaff.read_selection(5)),
    ("path", lambda t: chaff.read_plan(None)), ("limit", lambda t: chaff.prune_inflation(t, "10")), ("features", lambda t: chaff.inflation(t, features=5)),
    ("because", lambda t: chaff.pin_keep("a")), ("feature", lambda t: chaff.pin_keep(5, because="x")), ("nope", lambda t: chaff.Screen(nope=1)),
    ("missing_share", lambda t: chaff.Screen(missing_share="x")), ("folds", lambda t: chaff.Scoring(folds="x")), ("nope", lambda t: chaff.relevance(t, nope=1)),
    ("positions", lambda t: t.take([0.5])), ("position", lambda t: t.take([10_000])), ("once", lambda t: t.take([1, 1])), ("tolerance", lambda t: chaff.dependencies(t, tolerance="x")),
    ("stages", lambda t: chaff.Plan(5)), ("alpha", lambda t: chaff.interactions(t, alpha="x")), ("target", lambda t: chaff.open_table(LOTS, 5)),
)  # fmt: skip


@pytest.mark.parametrize(("argument", "call"), WRONG)
def test_wrong_types_are_an_error_of_ours_that_names_the_argument(argument: str, call: Callable[[chaff.Table], Any]):
    with pytest.raises(TypeError) as caught:
        call(chaff.open_table(LOTS, "y"))
    assert isinstance(caught.value, chaff.ArgumentError) and argument in str(caught.value)


def test_what_happens_to_a_frame_or_an_array_afterwards_changes_nothing():
    frame, X, y = LOTS.copy(), np.asfortranarray(RNG.normal(size=(N, 3))), RNG.normal(size=N)
    table, arrays = chaff.open_table(frame, "y"), chaff.open_arrays(X, y)
    before = [table.column("a").values.copy(), table.y.copy(), arrays.column("x1").values.copy(), arrays.y.copy()]
    frame.loc[:, ["a", "y"]] = 7.0
    X[:], y[:] = 7.0, 7.0
    again = [table.column("a").values, table.y, arrays.column("x1").values, arrays.y]
    assert all(np.array_equal(a, b) for a, b in zip(before, again, strict=True))


@pytest.mark.long
def test_numpy_told_to_raise_changes_nothing(place: Path):
    (place / "t.csv").write_text(TEXT)
    with np.errstate(all="raise"):
        ends_well(*typed("relevance", "t.csv", "--target", "y", "--all-rows"))
        ends_well(*typed("select", "t.csv", "--target", "y", "--quick", "--no-state"))
    assert (place / "chaff-out" / "selection.json").exists()


def test_a_pipe_is_read_once_and_used_often(place: Path):
    import threading

    os.mkfifo(place / "p.csv")
    writer = threading.Thread(target=lambda: (place / "p.csv").write_text(TEXT))
    writer.start()
    ends_well(*typed("screen", "p.csv", "--target", "y", "--all-rows"))
    writer.join(timeout=10)
    assert not writer.is_alive()
