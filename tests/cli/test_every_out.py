"""Every --out of every command writes every format, and with figures beside it; nothing fails after the work is done."""

import json
import tomllib
from pathlib import Path

import pandas as pd
import pytest

import chaff
from tests.commands import run
from tests.conftest import make_mixed

ROLES = ("--target", "y", "--ignore", "lot_weight", "--ignore", "day", "--ignore", "mill")
COMMANDS = {
    "screen": ["screen"],
    "relevance": ["relevance"],
    "overlap": ["overlap"],
    "overlap every kind": ["overlap", "--every-kind"],
    "linear": ["linear"],
    "linear pruned": ["linear", "--prune", "vif", "--splits", "0"],
    "permutation": ["importance", "--model", "ridge", "--by", "permutation", "--figure", "f.png"],
    "coefficient": ["importance", "--model", "lasso", "--by", "coefficient", "--figure", "f.png"],
    "given others": ["importance", "--model", "forest", "--trees", "10", "--by", "given others", "--figure", "f.png"],
    "chance": ["importance", "--chance", "5", "--figure", "f.png"],
    "twins": ["importance", "--twins", "--rounds", "43", "--trees", "10", "--figure", "f.png"],
    "stability": ["importance", "--stability", "--top", "2", "--figure", "f.png"],
    "search": ["search", "--model", "ridge", "--strategy", "forward"],
    "compare": ["compare", "--method", "pearson_r", "--method", "forward", "--model", "ridge"],
}


@pytest.fixture(scope="module")
def place(tmp_path_factory):
    folder = tmp_path_factory.mktemp("out")
    make_mixed(120).to_csv(folder / "t.csv", index=False)
    table = chaff.open_table(folder / "t.csv", "y", ignore=["lot_weight", "day", "mill"])
    chaff.select(table, chaff.Plan((chaff.Screen(), chaff.Search(model="ridge"))), state=False).selection.save(folder / "s.json")
    return folder


def rows_of(path: Path):
    if path.suffix.lower() == ".json":
        return len(json.loads(path.read_text(encoding="utf-8")))
    return len(pd.read_csv(path) if path.suffix.lower() == ".csv" else pd.read_parquet(path))


TABLES = {
    "screen": {"screen", "screen_rows"},
    "overlap": {"vif", "elimination_path", "correlations_matrix", "components_components", "dependencies_equations"},
    "linear pruned": {"coefficients", "pruned_trail"},
    "coefficient": {"importance", "importance_path", "importance_penalties"},
    "chance": {"importance", "importance_limits"},
    "search": {"moves", "sizes", "features"},
    "compare": {"methods", "curves", "scores", "kept"},
}


@pytest.mark.long
@pytest.mark.parametrize("name", TABLES)
def test_every_table_of_a_command_can_be_saved_at_once(place, name):
    command, *options = [o for o in COMMANDS[name] if o not in ("--figure", "f.png")]
    folder = place / f"tables-{name.replace(' ', '-')}"
    run(command, "t.csv", *ROLES, *options, "--tables", folder.name, cwd=place)
    written = {p.stem for p in folder.glob("*.csv")}
    assert TABLES[name] <= written
    assert all(len(pd.read_csv(p, index_col=0).columns) for p in folder.glob("*.csv"))
    if (folder / "kept.txt").exists():
        kept = (folder / "kept.txt").read_text().split()
        told = json.loads(run("relevance", "t.csv", *ROLES, "--features", f"@{folder.name}/kept.txt", "--format", "json", cwd=place))
        assert told["table"]["features"] == [f for f in told["table"]["features"] if f in kept]
    if name == "coefficient":
        penalties = pd.read_csv(folder / "importance_penalties.csv")
        spread = chaff.open_table(place / "t.csv", "y", ignore=["lot_weight", "day", "mill"]).y.std()
        assert 0.3 * spread < penalties["rmse"].min() < penalties["rmse"].max() < 1.5 * spread  # in the target's own units


@pytest.mark.long
@pytest.mark.parametrize("ending", [".json", ".csv", ".parquet", ".CSV"])
@pytest.mark.parametrize("name", COMMANDS)
def test_every_command_writes_every_format(place, name, ending):
    command, *options = COMMANDS[name]
    out = place / f"{name.replace(' ', '-')}{ending}"
    options = [f"{name}{ending}.png" if o == "f.png" else o for o in options]
    run(command, "t.csv", *ROLES, *options, "--out", out.name, cwd=place)
    assert rows_of(out) > 0


@pytest.mark.long
@pytest.mark.parametrize("ending", [".json", ".csv", ".parquet"])
def test_commands_on_a_selection_write_every_format(place, ending):
    run("explain", "s.json", "--out", f"explained{ending}", cwd=place)
    run("recheck", "s.json", "t.csv", "--out", f"rechecked{ending}", cwd=place)
    assert rows_of(place / f"explained{ending}") > 0 and rows_of(place / f"rechecked{ending}") > 0
    if ending != ".json":
        run("apply", "s.json", "t.csv", "-o", f"reduced{ending}", cwd=place)
        assert rows_of(place / f"reduced{ending}") == 120
    run("plan", "t.csv", *ROLES, "-o", f"plan{ending[1:]}.toml", cwd=place)
    assert tomllib.loads((place / f"plan{ending[1:]}.toml").read_text())["table"]["target"] == "y"


@pytest.mark.parametrize("name", ["twins", "stability"])
@pytest.mark.long
def test_tests_against_chance_write_their_own_lead(place, name):
    command, *options = COMMANDS[name]
    options = [f"{name}-lead.png" if o == "f.png" else o for o in options]
    run(command, "t.csv", *ROLES, *options, "--out", f"{name}-lead.csv", cwd=place)
    frame = pd.read_csv(place / f"{name}-lead.csv")
    lead = {"twins": "worth", "stability": "selection_frequency"}[name]
    assert frame[lead].is_monotonic_decreasing


@pytest.mark.parametrize("command", [["importance"], ["importance", "--model", "lasso", "--by", "coefficient", "--figures", "z"]])
def test_a_table_with_no_column_left_is_said(tmp_path, command):
    pd.DataFrame({"a": 1.0, "b": 2.0, "y": range(60)}).to_csv(tmp_path / "flat.csv", index=False)
    assert "no feature is left to measure" in run(command[0], "flat.csv", "--target", "y", *command[1:], cwd=tmp_path, code=3)
