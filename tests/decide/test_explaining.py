"""The history of every column, from a selection alone."""

import json
import subprocess
import sys

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.decide.distributions import Tally, shape_of, stability_index
from chaff.decide.selection_parts import ShapePart
from chaff.table.kinds import Column
from tests.commands import run


@pytest.fixture(scope="module")
def selection(mill_run):
    return mill_run.selection


def test_every_column_has_its_history_and_the_fates_agree_with_the_selection(selection, mill_run):
    told = {t.feature: t for t in selection.explain().columns}
    assert set(told) == set(mill_run.table.features)
    assert {f for f, t in told.items() if t.fate in ("keep", "review")} == set(selection.features)
    assert {f for f, t in told.items() if t.fate == "blocked"} == {x.name for x in selection.review if x.blocked}
    for feature, t in told.items():
        assert [(s.stage, s.verdict, s.reason) for s in t.steps] == [(v.by, v.verdict, v.reason) for v in mill_run.ledger.of(feature)]


def test_what_was_measured_is_what_the_stages_say(selection, mill_run):
    frame = mill_run.result("relevance").frame
    feature = frame["effect_size"].idxmax()
    words = {s.stage: s.measured for s in selection.explain(feature).columns[0].steps}
    assert f"{frame.loc[feature, 'effect_size']:.3g}" in words["relevance"] and f"1st of {len(frame)}" in words["relevance"]
    assert f"{int(mill_run.result('screen').frame.loc[feature, 'distinct']):,} distinct values" in words["screen"]


def test_what_is_to_be_looked_at_comes_first(selection, tmp_path):
    fates = selection.explain().frame["fate"].tolist()
    assert fates == sorted(fates, key=("blocked", "review", "drop", "keep").index) and fates[0] == "blocked"
    page = selection.explain().markdown()
    assert page.index("Review") < page.index("## Dropped") < page.index("## Kept")
    for ending in ("csv", "parquet", "json"):
        selection.explain().save(tmp_path / f"why.{ending}")
    rows = pd.read_csv(tmp_path / "why.csv", keep_default_na=False)
    assert len(rows) == len(selection.history) == len(pd.read_parquet(tmp_path / "why.parquet"))
    assert len(json.loads((tmp_path / "why.json").read_text())["columns"]) == len(fates)
    with pytest.raises(chaff.UsageError, match=r"written as \.csv"):
        selection.explain().save(tmp_path / "why.txt")


def test_an_unknown_column_is_named_with_the_nearest(selection):
    with pytest.raises(chaff.UnknownColumn, match="Did you mean 'crumb_score'"):
        selection.explain("crumb_scor")


@pytest.mark.long
def test_a_name_is_no_markup_and_no_formula(tmp_path):
    rng = np.random.default_rng(0)
    frame = pd.DataFrame({"=cmd()": rng.normal(size=120), "# x\n- <b>": rng.normal(size=120)})
    frame["y"] = frame["=cmd()"] + rng.normal(size=120)
    found = chaff.select(chaff.open_table(frame, "y"), chaff.Plan((chaff.Screen(), chaff.Search(model="ridge")))).selection.explain()
    found.save(tmp_path / "why.csv")
    assert not any(line.startswith("=") for line in (tmp_path / "why.csv").read_text().splitlines())
    assert "\n- <b>" not in found.markdown() and "\\<b\\>" in found.markdown()


def test_a_pinned_column_says_so():
    table = chaff.demo.table(rows=200).with_features(["protein_pct", "ash_pct", "straw_pct"])
    plan = chaff.Plan((chaff.Screen(), chaff.Search(model="ridge")))
    pins = [chaff.pin_keep("straw_pct", because="the farmers ask"), chaff.pin_drop("ash_pct", because="the oven is sold")]
    found = chaff.select(table, plan, pins=pins).selection
    assert "kept by a pin" in found.explain("straw_pct").columns[0].headline and "the farmers ask" in str(found.explain("straw_pct"))
    assert "dropped by a pin" in found.explain("ash_pct").columns[0].headline


def test_a_changed_selection_is_refused_unless_its_seal_is_taken_out(selection, tmp_path):
    path = tmp_path / "s.json"
    selection.save(path)
    data = json.loads(path.read_text())
    data["kept"][0]["reason"] = "because I say so"
    path.write_text(json.dumps(data))
    with pytest.raises(chaff.DataError, match="changed after it was written"):
        chaff.read_selection(path)
    data.pop("checksum")
    path.write_text(json.dumps(data))
    assert chaff.read_selection(path).kept[0].reason == "because I say so"


def test_a_selection_of_the_first_version_still_reads(selection, tmp_path):
    data = json.loads(selection.to_json())
    for new in ("history", "descriptions", "selection_frequencies", "interchangeable", "checksum"):
        data.pop(new)
    for part in data["kept"]:
        part.pop("distribution")
    data["version"] = 1
    (tmp_path / "old.json").write_text(json.dumps(data))
    old = chaff.read_selection(tmp_path / "old.json")
    assert old.explain("crumb_score").columns[0].fate == "blocked" and old.features == selection.features


def test_explaining_on_the_command_line(selection, tmp_path):
    selection.save(tmp_path / "s.json")
    whole = run("explain", "s.json", cwd=tmp_path)
    assert whole.index("crumb_score") < whole.index("Dropped") and "blocked" in whole
    assert "Was it recorded" in " ".join(run("explain", "s.json", "crumb_score", cwd=tmp_path).split())
    assert json.loads(run("explain", "s.json", "crumb_score", "--format", "json", cwd=tmp_path))["columns"][0]["fate"] == "blocked"
    assert "Did you mean" in run("explain", "s.json", "crumb_scor", cwd=tmp_path, code=3)
    assert "must end in" in run("explain", "s.json", "--out", "why.txt", cwd=tmp_path, code=2)
    run("explain", "s.json", "--out", "why.md", cwd=tmp_path)
    assert (tmp_path / "why.md").read_text().startswith("# Columns for loaf")


# ---- shapes: how a column was spread


def number(values):
    return Column("x", "number", np.asarray(values, float))


def test_the_distance_is_that_of_kolmogorov_and_smirnov_at_the_steps():
    rng = np.random.default_rng(1)
    old, new = rng.normal(size=4000), rng.normal(0.5, 1.3, 3000)
    shape = shape_of(number(old))
    tally = Tally(shape)
    for part in np.array_split(new, 7):
        tally.add_numbers(part)
    edges = np.array([s[0] for s in shape.steps])
    plain = max(abs((new <= e).mean() - (old <= e).mean()) for e in edges)
    assert tally.drift().distance == pytest.approx(plain, abs=1e-5)
    grid = np.sort(np.concatenate([old, new]))
    exact = np.abs(np.searchsorted(np.sort(old), grid, "right") / 4000 - np.searchsorted(np.sort(new), grid, "right") / 3000).max()
    assert exact - 0.05 <= plain <= exact  # every step is a twentieth of the old rows


def test_nothing_moved_is_nothing_even_with_heaps_of_one_value():
    rng = np.random.default_rng(2)
    values = np.where(rng.random(5000) < 0.6, 0.0, rng.exponential(size=5000))
    values[:100] = np.nan
    tally = Tally(shape_of(number(values)))
    tally.add_numbers(values)
    drift = tally.drift()
    assert drift.stability == pytest.approx(0, abs=1e-6) and drift.distance < 1e-5 and drift.missing == pytest.approx((0.02, 0.02))


def test_stability_by_hand_and_new_levels():
    a, b = np.array([0.5, 0.5]), np.array([0.7, 0.3])
    assert stability_index(a, b) == pytest.approx(0.2 * np.log(1.4) - 0.2 * np.log(0.6))
    tally = Tally(ShapePart(rows=1000, levels={"Alba": 0.5, "Borka": 0.5}))
    tally.add_words({"Alba": 400, "Borka": 400, "Nova": 100, None: 100})
    drift = tally.drift()
    assert drift.fresh == ("Nova",) and drift.missing == (0.0, 0.1) and drift.distance == pytest.approx(1 / 9)
    assert np.isnan(Tally(ShapePart(rows=0)).drift().stability)


def test_python_is_told_the_same_in_a_process_of_its_own(selection, tmp_path):
    selection.save(tmp_path / "s.json")
    code = "import chaff, sys; print(chaff.read_selection(sys.argv[1]).explain('crumb_score').columns[0].headline)"
    done = subprocess.run([sys.executable, "-c", code, str(tmp_path / "s.json")], capture_output=True, text=True, check=True)
    assert done.stdout.startswith("crumb_score (number")


@pytest.mark.parametrize("ending", ["csv", "parquet", "json", "md"])
def test_the_ledger_is_written_with_what_to_look_at_first(mill_run, tmp_path, ending):
    path = tmp_path / f"ledger.{ending}"
    mill_run.ledger.save(path)
    looks = {v.feature for v in mill_run.ledger.verdicts if v.verdict == "review"}
    if ending == "md":
        names = [line.split("|")[1].strip().replace("\\", "") for line in path.read_text().splitlines()[2:]]
    else:
        read = {"csv": pd.read_csv, "parquet": pd.read_parquet, "json": lambda p: pd.DataFrame(json.loads(p.read_text()))}[ending]
        names = read(path)["feature"].tolist()
    assert len(names) == len(mill_run.ledger.verdicts)
    first = [n in looks for n in names]
    assert first == sorted(first, reverse=True) and first[0]
    with pytest.raises(chaff.UsageError, match="a ledger is written as"):
        mill_run.ledger.save(tmp_path / "ledger.txt")
