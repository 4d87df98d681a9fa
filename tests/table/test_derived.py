"""Missing flags and fills: made, recorded, and made again by apply; targets made from a number."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pyarrow as pa
import pytest

import chaff
from chaff.table.opening import open_on

PLAN = chaff.Plan((chaff.Search(),))


def lots(rows=200, seed=0) -> pd.DataFrame:
    rng = np.random.default_rng(seed)
    x, gap = rng.normal(size=rows), rng.random(rows) < 0.3
    frame = pd.DataFrame(
        {"x": x, "tested": np.where(gap, np.nan, rng.normal(5, 1, rows)), "word": np.where(gap, None, rng.choice(["a", "b"], rows))}
    )
    return frame.assign(y=x + 3 * gap + 0.3 * rng.normal(size=rows))


def test_a_flag_stands_behind_its_column_and_says_what_is_missing():
    table = chaff.open_table(lots(), "y").with_missing_flags(["tested"])
    assert table.features == ("x", "tested", "tested_missing", "word")
    flag = table.column("tested_missing")
    assert flag.kind == "binary" and (flag.values == table.column("tested").missing).all()
    assert table.meaning("tested_missing").text == "whether tested is missing"
    half = table.take(np.arange(0, 200, 2))
    assert (half.column("tested_missing").values == lots()["tested"].isna()[::2]).all()


def test_fills_replace_gaps_and_flags_still_know():
    table = chaff.open_table(lots(), "y", fill={"tested": 0, "word": "none"}, missing_flags="tested")
    assert not table.column("tested").missing.any() and (table.column("tested").values == 0).sum() == lots()["tested"].isna().sum()
    assert table.column("word").levels == ("a", "b", "none") and table.kind("word") == "category"
    assert table.column("tested_missing").values.sum() == lots()["tested"].isna().sum()
    same = chaff.open_table(lots(), "y").with_fill({"word": "b"})
    assert same.column("word").levels == ("a", "b") and same.kind("word") == "binary"


@pytest.mark.parametrize(
    ("call", "error", "words"),
    [
        (lambda t: t.with_missing_flags(["x"]), chaff.DataError, "no missing cell"),
        (lambda t: t.with_missing_flags(["nope"]), chaff.UnknownColumn, "not in"),
        (lambda t: t.with_missing_flags(["tested"]).with_missing_flags(["tested"]), chaff.DataError, "exists already"),
        (lambda t: t.with_fill({"tested": "zero"}), chaff.UsageError, "holds numbers"),
        (lambda t: t.with_fill({"tested": float("nan")}), chaff.UsageError, "cannot be filled"),
    ],
)
def test_what_cannot_be_derived_is_refused(call, error, words):
    with pytest.raises(error, match=words):
        call(chaff.open_table(lots(), "y"))


@pytest.mark.parametrize("ending", ["frame", "csv", "parquet"])
def test_apply_makes_them_again(tmp_path, ending):
    table = chaff.open_table(lots(), "y", fill={"tested": 0, "word": "none"}, missing_flags=["tested"])
    run = chaff.select(table, PLAN, pins=[chaff.pin_keep(n, because="test") for n in table.features], holdout=0)
    assert {d.name for d in run.selection.derived} <= {"tested", "tested_missing", "word"} and "tested_missing" in run.features
    run.selection.save(tmp_path / "s.json")
    again, new = chaff.read_selection(tmp_path / "s.json"), lots(seed=1)
    if ending == "frame":
        out = again.apply(new)
    else:
        path = tmp_path / f"new.{ending}"
        new.to_csv(path, index=False) if ending == "csv" else new.to_parquet(path)
        again.apply(path, tmp_path / f"out.{ending}")
        out = pd.read_csv(tmp_path / "out.csv") if ending == "csv" else pd.read_parquet(tmp_path / "out.parquet")
    assert list(out.columns) == ["y", *run.features]
    assert (out["tested_missing"].to_numpy() == new["tested"].isna()).all()
    if "tested" in run.features:
        np.testing.assert_allclose(out["tested"], new["tested"].fillna(0))
    if "word" in run.features:
        assert (out["word"] == new["word"].fillna("none")).all()


@pytest.mark.long
def test_a_flag_alone_is_made_from_a_column_that_did_not_stay():
    table = chaff.open_table(lots(), "y").with_missing_flags(["tested"]).with_features(["x", "tested_missing"])
    run = chaff.select(table, PLAN, holdout=0)
    assert run.features == ("x", "tested_missing")
    out = run.selection.apply(lots(seed=2))
    assert list(out.columns) == ["y", "x", "tested_missing"]
    with pytest.raises(chaff.DataError, match="lacks kept column 'tested'"):
        run.selection.apply(lots().drop(columns="tested"))
    dictionary = pa.Table.from_pandas(lots()).set_column(2, "word", pa.array(lots()["word"]).dictionary_encode())
    filled = chaff.select(
        chaff.open_table(dictionary, "y", fill={"word": "none"}), PLAN, pins=[chaff.pin_keep("word", because="test")], holdout=0
    )
    assert "none" in set(filled.selection.apply(dictionary)["word"])


def test_apply_to_an_array_makes_them_too():
    X = lots()[["x", "tested"]].to_numpy()
    table = chaff.open_arrays(X, lots()["y"], names=["x", "tested"]).with_missing_flags(["tested"]).with_fill({"tested": 0})
    run = chaff.select(table, PLAN, pins=[chaff.pin_keep(n, because="test") for n in table.features], holdout=0)
    out = run.selection.apply(X)
    assert not np.isnan(out).any() and out.shape == (200, len(run.features))


def test_a_plan_can_say_them():
    from chaff.decide.plan import plan_from

    plan = plan_from({"table": {"missing_flags": ["tested"], "fill": {"tested": 0.0}}, "stage": [{"use": "search"}]})
    table = open_on(lots(), plan.table.changed_by(target="y"))
    run = chaff.select(table, plan, holdout=0)
    assert run.selection.plan["table"]["missing_flags"] == ["tested"] and run.selection.plan["table"]["fill"] == {"tested": 0.0}


def test_a_target_made_from_a_number_leaves_its_source_out():
    table = chaff.derive_target(chaff.demo.lots(rows=100), "loaf_volume", above=400, ignore=["accepted", "grade"])
    assert table.target.name == "loaf_volume_above_400" and "loaf_volume" not in table.features and "loaf_volume" in table.ignored
    assert table.y.sum() == (chaff.demo.lots(rows=100)["loaf_volume"] > 400).sum() and "is therefore ignored" in table.notes[-1]
    three = chaff.derive_target(chaff.demo.lots(rows=100), "loaf_volume", cuts=[390, 410], labels=["low", "mid", "high"], name="class")
    assert set(three.target.classes) == {"low", "mid", "high"}
    for bad in ({}, {"above": 1, "cuts": [1]}, {"cuts": [3, 2]}, {"cuts": [1], "labels": ["a"]}, {"above": float("inf")}):
        with pytest.raises(chaff.UsageError):
            chaff.derive_target(chaff.demo.lots(rows=60), "loaf_volume", **bad)
    with pytest.raises(chaff.DataError, match="one class"):
        chaff.derive_target(chaff.demo.lots(rows=60), "loaf_volume", above=1e6)
    with pytest.raises(chaff.UnknownColumn, match="Did you mean 'loaf_volume'"):
        chaff.derive_target(chaff.demo.lots(rows=60), "loaf_volumes", above=400)
