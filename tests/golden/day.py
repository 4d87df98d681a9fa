"""What the commands of docs/a-working-day.md answer on the demo mill, as it was when it was last looked at.

    python -m tests.golden.day          write the golden files anew, after a change that was meant

Three targets; with the first seed every command, its words and its numbers (findings, trail, selection), with two more the selection and
the relevance. Times, paths and versions are blanked.
"""

from __future__ import annotations

import contextlib
import gzip
import io
import json
import math
import os
import re
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import chaff
from chaff.cli.main import main

HERE = Path(__file__).parent
TARGETS = ("loaf_volume", "accepted", "grade")
SEEDS = (0, 1, 2)
ROWS = 300
PLAN = ("lots.csv", "--plan", "day.toml")
BLANKED = (
    (re.compile(r"\d+(\.\d+)? (s|ms|minutes)\b"), "… s"),
    (re.compile(r"\d{4}-\d\d-\d\d \d\d:\d\d[:\d]*"), "(date)"),
    (re.compile(r"chaff-golden-\w+"), "(folder)"),
    (re.compile(r"(?m)^(.*\b(seconds|together)\b.*)$"), "(times)"),
)  # fmt: skip
UNSTEADY = re.compile(r"pairs|seconds|version|created|made_at|made_with|python|platform|seal|checksum|path|when|date")  # keys


def commands(target: str) -> dict[str, tuple[str, ...]]:
    three = target == "grade"  # no closed form
    limit = ("--model", "tree", "--evaluations", "60") if three else ()
    methods = ("--model", "tree", "--method", "leading", "--method", "auc") if three else MANY
    others = [a for t in TARGETS if t != target for a in ("--ignore", t)]
    return {
        "plan": ("plan", "lots.csv", "--target", target, *others, "--groups", "mill", "--out", "day.toml"),
        "screen": ("screen", *PLAN, "--pin-drop", "crumb_score", "--because", "written down after baking", "--save"),
        "relevance": ("relevance", *PLAN, "--top", "12"),
        "overlap": ("overlap", *PLAN),
        "linear": ("linear", *PLAN, "--features", "protein_pct,ash_pct,variety,falling_number_s"),
        "importance": ("importance", *PLAN, "--trees", "20"),
        "importance-chance": ("importance", *PLAN, "--chance", "10"),
        "search": ("search", *PLAN, "--strategy", "floating", "--size", "8", "--alternatives", *limit),
        "compare": ("compare", *PLAN, *methods, "--sizes", "2,4,8", "--at", "0.2"),
        "select": ("select", *PLAN, "--out", "chosen", "--evaluate", "--everywhere"),
        "explain": ("explain", "chosen/selection.json"),
        "explain-column": ("explain", "chosen/selection.json", "protein_nir_pct"),
        "select-smaller": ("select", *PLAN, "--quick", "--keep-share", "0.9", "--out", "smaller"),
        "changes": ("changes", "chosen", "smaller"),
        "apply": ("apply", "chosen/selection.json", "lots.csv", "-o", "reduced.parquet"),
        "recheck": ("recheck", "chosen/selection.json", "next.csv", "--old", "lots.csv"),
    }


MANY = ("--method", "leading", "--method", "lasso", "--method", "forward")
MATRICES = ("pairs", "relations", "components", "chance_scores")  # tables of every pair or every permutation: passed over
WITH_JSON = ("screen", "relevance", "overlap", "linear", "importance", "importance-chance", "search")


def answer(args: tuple[str, ...]) -> str:
    out, errors = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(errors):
        code = main(args)
    assert code != 1, (args, errors.getvalue()[-2000:])
    return out.getvalue() if code in (0, 10, 20) else errors.getvalue()


def day(target: str, seed: int) -> dict[str, Any]:
    """The words of every command (first seed only), and the numbers of what they leave."""
    here = Path.cwd()
    words: dict[str, str] = {}
    numbers: dict[str, Any] = {}
    with tempfile.TemporaryDirectory(prefix="chaff-golden-") as folder:
        os.chdir(folder)
        try:
            chaff.demo.lots(rows=ROWS, seed=seed).to_csv("lots.csv", index=False)
            chaff.demo.lots(rows=ROWS, seed=seed + 10).to_csv("next.csv", index=False)
            first = seed == SEEDS[0]
            for name, args in commands(target).items():
                if first or name in ("plan", "screen", "select"):
                    words[name] = blanked(answer((*args, "--quick") if name == "select" and not first else args))
                if name in (WITH_JSON if first else ("relevance",)):
                    text = answer((*(a for a in args if a != "--save"), "--format", "json"))
                    numbers[name] = without_long(json.loads(text)) if text.startswith("{") else text
            for name in ("chosen", "smaller") if first else ("chosen",):
                numbers[name] = json.loads(Path(name, "selection.json").read_text(encoding="utf-8"))
        finally:
            os.chdir(here)
    return {"words": words if first else {}, "numbers": numbers}


def without_long(value: Any) -> Any:
    """Without matrices, and of a table of over 60 rows the first and the last."""
    if isinstance(value, dict):
        items = [(k, v) for k, v in value.items() if k not in MATRICES]
        return {k: without_long(v) for k, v in (items if len(items) <= 60 else items[:10] + items[-10:])}
    if isinstance(value, list):
        return [without_long(v) for v in (value if len(value) <= 60 else value[:10] + value[-10:])]
    return value


def differences(old: Any, new: Any, where: str = "") -> Iterator[str]:
    """Where two answers differ: numbers by more than 1e-9 of their size (1e-6 of those over 1e5, which are near-singular), anything else at all; keys of time and place are passed over."""
    if isinstance(old, dict) and isinstance(new, dict):
        for key in [*old, *(k for k in new if k not in old)]:
            if not UNSTEADY.search(key):
                if key in old and key in new:
                    yield from differences(old[key], new[key], f"{where}/{key}")
                else:
                    yield f"{where}/{key}: only in the {'old' if key in old else 'new'} one"
    elif isinstance(old, list) and isinstance(new, list) and len(old) == len(new):
        for k, pair in enumerate(zip(old, new, strict=True)):
            yield from differences(*pair, f"{where}/{k}")
    elif isinstance(old, int | float) and isinstance(new, int | float):
        if not math.isclose(old, new, rel_tol=1e-9 if abs(old) < 1e5 else 1e-6, abs_tol=1e-12):
            yield f"{where}: {old} → {new}"
    elif old != new:
        yield f"{where}: {old!r:.200} → {new!r:.200}"


def blanked(text: str) -> str:
    for pattern, instead in BLANKED:
        text = pattern.sub(instead, text)
    return text


def lines_of(text: str) -> list[str]:
    """Lines without the seconds in their last column, and with one blank where columns are aligned; without those on times."""
    lines = [" ".join(re.sub(r"\s+\d+\.\d$", "", line).split()) for line in blanked(text).splitlines()]
    return [line for line in lines if line != "(times)"]


def file_of(target: str, seed: int) -> Path:
    return HERE / f"{target}-{seed}.json.gz"


def read(target: str, seed: int) -> dict[str, Any]:
    return json.loads(gzip.decompress(file_of(target, seed).read_bytes()))


def write(target: str, seed: int) -> None:
    text = json.dumps(day(target, seed), indent=0, ensure_ascii=False)
    file_of(target, seed).write_bytes(gzip.compress(text.encode("utf-8"), 9, mtime=0))


if __name__ == "__main__":
    os.environ |= {"COLUMNS": "110", "NO_COLOR": "1", "XDG_STATE_HOME": tempfile.mkdtemp(), "XDG_CACHE_HOME": tempfile.mkdtemp()}
    for t in sys.argv[1:] or TARGETS:
        for s in SEEDS:
            write(t, s)
            print(file_of(t, s), file_of(t, s).stat().st_size)
