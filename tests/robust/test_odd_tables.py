"""145 odd tables, each given to every looking command and to the public calls: as JSON and from a folder of files. All of them made up."""

from __future__ import annotations

import contextlib
import io
import itertools
import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.cli.main import main
from tests.robust.test_odd_input import ends_well

N = 72
RNG = np.random.default_rng(1)
A, B = RNG.normal(size=N), RNG.normal(size=N)
FEATURES: dict[str, Callable[[], dict[str, Any]]] = {
    "none but two": dict,
    "nothing that tells": lambda: {f"n{k}": RNG.normal(size=N) for k in range(5)},
    "one value": lambda: {"x": np.ones(N)},
    "all missing": lambda: {"x": np.full(N, np.nan)},
    "one cell": lambda: {"x": np.r_[1.0, np.full(N - 1, np.nan)]},
    "one odd row": lambda: {"x": np.r_[1.0, np.zeros(N - 1)]},
    "gaps everywhere": lambda: {f"g{k}": np.where(RNG.random(N) < 0.5, np.nan, A + RNG.normal(size=N)) for k in range(4)},
    "gaps of one another": lambda: {"x": np.where(B > 0, A, np.nan), "z": np.where(B > 0, np.nan, A)},
    "copies": lambda: {"x": A, "z": A},
    "a sum": lambda: {"x": A + B, "z": A - B},
    "near copies": lambda: {f"x{k}": A + 1e-9 * RNG.normal(size=N) for k in range(3)},
    "huge": lambda: {"x": A * 1e300},
    "tiny": lambda: {"x": A * 1e-120},
    "tinier than arithmetic": lambda: {"x": A * 1e-200},
    "far from zero": lambda: {"x": A + 1e12},
    "heavy tails": lambda: {"x": RNG.standard_cauchy(N) ** 3},
    "whole numbers over 2^53": lambda: {"x": [2**60 + k for k in range(N)]},
    "a running number": lambda: {"x": np.arange(N)},
    "names": lambda: {"x": [f"Anna {k}" for k in range(N)]},
    "remarks": lambda: {"x": [f"the lot was wet, and turned {k} times before it went in" for k in range(N)]},
    "one level": lambda: {"x": ["red"] * N},
    "many levels": lambda: {"x": [f"l{k // 2}" for k in range(N)]},
    "rare levels": lambda: {"x": ["red"] * (N - 2) + ["blue", "green"]},
    "words and gaps": lambda: {"x": ["red", None, "blue"] * (N // 3)},
    "dates": lambda: {"x": pd.date_range("2020-01-01", periods=N, freq="D").astype(str)},
    "yes and no": lambda: {"x": [True, False] * (N // 2)},
    "the target itself": lambda: {"x": "y"},
    "more columns than rows": lambda: {f"w{k}": RNG.normal(size=N) for k in range(N + 20)},
    "hostile names": lambda: {"a\nb": A, "\x1b[31m": B, "=1+1": A * B, "{x}": B**2, "\u202e": A**2},
}
TARGETS: dict[str, Callable[[], Any]] = {
    "number": lambda: A + 0.3 * RNG.normal(size=N),
    "two classes": lambda: np.where(A + 0.3 * RNG.normal(size=N) > 0, "good", "poor"),
    "three classes": lambda: np.array(["p", "q", "r"])[np.digitize(A + 0.3 * RNG.normal(size=N), [-0.5, 0.5])],
    "a rare class": lambda: np.where(np.argsort(np.argsort(A)) < 4, "rare", "usual"),
    "heavy tails": lambda: A + RNG.standard_cauchy(N) ** 3,
}
COMMANDS = {
    "screen": (),
    "relevance": (),
    "overlap": (),
    "linear": (),
    "importance": ("--model", "ridge-or-logistic", "--by", "coefficient"),
    "search": ("--strategy", "forward", "--size", "1", "--folds", "3"),
    "select": ("--folds", "3", "--honest", "cheap", "--plan", "plan.toml"),
}
CALLS: tuple[Callable[[chaff.Table], Any], ...] = (
    chaff.screen,
    chaff.relevance,
    chaff.overlaps,
    chaff.components,
    chaff.clusters,
    chaff.associations,
    chaff.dependencies,
    chaff.linear_summary,
    chaff.column_worth,
    chaff.residuals,
    chaff.interactions,
    lambda t: chaff.importance(t, chaff.Forest(trees=5)),
    lambda t: chaff.chance_baseline(t, shuffles=5),
    lambda t: chaff.search(t, "naive bayes" if t.target.classes else "ridge", chaff.Forward(size=1), folds=3),
)


def odd_table(features: str, target: str) -> pd.DataFrame:
    y = TARGETS[target]()
    more = {n: y if isinstance(v, str) else v for n, v in FEATURES[features]().items()}
    return pd.DataFrame({"a": A, "b": B, **more, "y": y})


ALL = list(itertools.product(FEATURES, TARGETS))


@pytest.mark.long
@pytest.mark.parametrize(("features", "target"), ALL)
def test_every_command_says_one_object_of_json_from_a_folder(features: str, target: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch):
    monkeypatch.chdir(tmp_path)
    frame = odd_table(features, target)
    (tmp_path / "lots").mkdir()
    frame.iloc[: N // 2].to_csv("lots/1.csv", index=False)
    frame.iloc[N // 2 :].to_csv("lots/2.csv", index=False)
    (tmp_path / "plan.toml").write_text(
        '[[stage]]\nuse = "screen"\n[[stage]]\nuse = "overlap"\n[[stage]]\nuse = "search"\nlenses = "linear"\n'
    )
    numbers = target in ("number", "heavy tails")
    for command, more in COMMANDS.items():
        out, err = io.StringIO(), io.StringIO()
        options = [("ridge" if numbers else "logistic") if word == "ridge-or-logistic" else word for word in more]
        if command == "linear" and numbers:
            options += ["--worth", "--checks", "--prune", "both"]
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            code = main([command, "lots", "--target", "y", "--format", "json", *options])
        ends_well(code, err.getvalue())
        assert code != 2 or (command == "linear" and target == "three classes"), (
            f"{command}: {err.getvalue()}{out.getvalue()}"
        )  # the words of the command are right
        json.loads(out.getvalue(), parse_constant=pytest.fail)


@pytest.mark.long
@pytest.mark.parametrize(("features", "target"), ALL)
def test_every_call_gives_an_answer_or_an_error_of_ours(features: str, target: str):
    try:
        table = chaff.open_table(odd_table(features, target), target="y")
    except chaff.ChaffError:
        return
    for call in CALLS:
        with contextlib.suppress(chaff.ChaffError):
            call(table)
