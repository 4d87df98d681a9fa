"""Names, levels and file names from a table are never code and never control: in plans, in a terminal, in JSON."""

import json
import random
import tomllib

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.decide.plan import plan_from, read_plan
from chaff.decide.plan_file import fitted_plan
from chaff.results.shown import columns_of, lay_out
from chaff.visible import json_text, visible, visible_lines
from tests.commands import call

PIECES = [
    "\n", "\r", "\t", "\x00", "\x07", "\x1b[2J", "\x1b]0;owned\x07", "\x7f", "\x9b31m", "\u2028", "\u2029", "\u202e", "\u2066", "\ufeff", '"', "'", "#", "=",
    "\\", "[[pin]]", "\n[[pin]]\nfeature = \"x1\"\nverdict = \"drop\"\nbecause = \"crafted\"\n", "]", "{", "}", ",", ".", "a", "b c", "ß", "日本", "🌾", '"""', "'''",
    "\\u0000", "\\x1b",
]  # fmt: skip


def hostile(count, seed=0):
    rng = random.Random(seed)
    names = set(PIECES)
    while len(names) < count:
        names.add("".join(rng.choices(PIECES, k=rng.randint(1, 5))))
    return sorted(n for n in names if n.strip() and "\x00" not in n)


def a_table(names, rows=60):
    """Every column gives the screen a reason to name it: gaps that tell, codes, ids, orders, few numbers."""
    rng = np.random.default_rng(0)
    y = rng.normal(size=rows)
    makes = [
        lambda: np.where(rng.random(rows) < 0.7, np.nan, rng.normal(size=rows)),
        lambda: np.where(rng.random(rows) < 0.2, -999.0, rng.normal(size=rows)),
        lambda: rng.permutation(10**9 + np.arange(rows)),
        lambda: rng.integers(1, 4, rows),
        lambda: y + 1e-9 * rng.normal(size=rows),
        lambda: [f"{v:.1f} kg" for v in rng.normal(size=rows)],
        lambda: rng.choice(["low", "medium", "high"], rows),
    ]
    frame = pd.DataFrame({n: makes[k % len(makes)]() for k, n in enumerate(names)})
    return chaff.open_table(frame.assign(**{"target of all": y}), "target of all")


@pytest.mark.long
def test_plans_with_two_hundred_hostile_names_are_read_back_as_the_same_plan(tmp_path):
    names = hostile(200)
    for k in range(0, len(names) - len(names) % 20, 20):
        table = a_table(names[k : k + 20])
        pins = [chaff.pin_keep(names[k], because=f"asked\n[[pin]]\n{names[k]}")]
        text = fitted_plan(chaff.built_in_plan(), table, chaff.screen(table), pins, 0)
        path = tmp_path / f"{k}.toml"
        path.write_text(text, encoding="utf-8")
        plan = read_plan(path)
        assert plan.pins == tuple(pins) and plan.stages == chaff.built_in_plan().stages and plan.table == table.terms
        assert all(line.isprintable() for line in text.split("\n"))
        advice = "\n".join(
            line[2:] for line in text.split("\n") if line.startswith(("# missing_flags", "# missing_codes", "# kinds = {", "# ids"))
        )
        told = tomllib.loads("[table]\n" + advice)["table"]  # what may be uncommented names the very columns
        named = [*told.get("missing_flags", ()), *told.get("missing_codes", ()), *told.get("kinds", ()), *told.get("ids", ())]
        assert set(named) <= set(table.features)
        pinned = "\n".join(
            line[2:] for line in text.split("\n") if line == "# [[pin]]" or line.startswith(("# feature =", "# verdict =", "# because ="))
        )
        assert {p["feature"] for p in tomllib.loads(pinned).get("pin", [])} <= set(table.features)


def test_plans_of_hostile_settings_go_through_toml_and_back():
    for name in hostile(120, 1):
        pin = chaff.pin_drop(name, because=name)
        plan = chaff.Plan((chaff.Screen(), chaff.Search()), pins=(pin,))
        assert plan_from(tomllib.loads(plan.to_toml())).pins == (pin,)


@pytest.mark.parametrize(
    "command", [["screen"], ["relevance"], ["plan"], ["overlap"], ["linear"], ["screen", "--format", "json"]], ids=" ".join
)
def test_no_command_lets_a_name_or_level_control_the_terminal(tmp_path, command):
    names = [n for n in hostile(60, 2) if "\n" not in n.strip() and "\r" not in n][:12]
    rng = np.random.default_rng(1)
    frame = pd.DataFrame({n: rng.normal(size=60) for n in names})
    frame["level\x1b[5m"] = rng.choice(["\x1b[31mred", "pl\u202eain", "a\x9bb"], 60)
    frame["y"] = rng.normal(size=60)
    path = tmp_path / "lots\x1b[7m.csv"
    frame.to_csv(path, index=False)
    done = call(command[0], path, "--target", "y", *command[1:])
    assert done.returncode == 0, done.stderr
    for text in (done.stdout, done.stderr):
        assert all(line.isprintable() or not line for line in text.split("\n")), [c for c in text if not c.isprintable() and c != "\n"]
    if "json" in command:
        assert "level\x1b[5m" in json.loads(done.stdout)["table"]["features"]  # the very name, once read


def test_an_error_that_names_a_column_stays_on_its_line(tmp_path):
    frame = pd.DataFrame({"a\nchaff: all is well\x1b[2K": [np.inf, 1.0, 2.0] * 9, "y": np.arange(27.0)})
    frame.to_parquet(tmp_path / "t.parquet")
    done = call("screen", "t.parquet", "--target", "y", cwd=tmp_path)
    assert done.returncode == 3 and "\\x0achaff: all is well\\x1b[2K" in done.stderr and "\x1b" not in done.stderr
    assert visible_lines("2 wrong:\n  - a\x1b\n  - b\nc") == "2 wrong:\n  - a\\x1b\n  - b\\x0ac"


def test_visible_text_is_left_as_it_is():
    for text in ("plain", "naïve", "日本語", "🌾", "a\u00a0b", ""):
        assert visible(text) == text
    assert visible("\U000e0001") == "\\U000e0001" and json.loads(json_text({"a\x9b": "\U000e0001\u202e\n"})) == {
        "a\x9b": "\U000e0001\u202e\n"
    }


def test_tables_make_room_for_what_is_escaped():
    laid = lay_out(columns_of(["feature"], [["a\x1b[2Jb"], ["c"]]), 40)
    assert [line.text.strip() for line in laid.lines] == ["feature", "a\\x1b[2Jb", "c"]
