"""Very many columns: a cut by relevance first, part of the search and said; nothing that stands every column beside every other."""

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.parquet as pq
import pytest

import chaff
from chaff.decide import plan as plans
from tests.commands import run


def many(rows, columns, seed=0):
    rng = np.random.default_rng(seed)
    X = rng.normal(size=(columns, rows))
    y = 2 * X[5] - X[77] + rng.normal(size=rows)
    return pa.table({**{f"assay_{k:05d}": x for k, x in enumerate(X)}, "loaf_volume": y})


@pytest.mark.long
def test_relevance_cuts_first_where_there_are_very_many(monkeypatch):
    table = chaff.open_table(many(200, 120), "loaf_volume")
    assert plans.plan_for(table) == chaff.built_in_plan()
    monkeypatch.setattr(plans, "WIDE", 100)
    assert plans.plan_for(table) == chaff.named_plan("wide")
    monkeypatch.setattr(plans, "LET_THROUGH", 20)
    seen = chaff.select(table, state=False, honest="quick")
    assert len(seen.stages[0].kept) == 20 and {"assay_00005", "assay_00077"} <= set(seen.features)
    assert seen.ledger.last("assay_00003").by in ("triage", "search")


@pytest.mark.long
def test_the_cut_is_made_anew_inside_the_folds():
    rng = np.random.default_rng(3)  # nothing predicts: a cut that saw the test rows would seem to
    noise = pa.table({**{f"assay_{k:04d}": rng.normal(size=120) for k in range(800)}, "loaf_volume": rng.normal(size=120)})
    stage = chaff.Relevance("leading", cut={"top": 20}, name="triage")
    plan = chaff.Plan((stage, chaff.Screen(), chaff.Search(model="ridge")))
    found = chaff.select(chaff.open_table(noise, "loaf_volume"), plan, holdout=0, state=False)
    assert found.honest.mean < 0.1


@pytest.mark.long
def test_a_wide_file_on_the_command_line(tmp_path):
    pq.write_table(many(120, 300), tmp_path / "wide.parquet")
    (tmp_path / "small.toml").write_text(
        '[[stage]]\nuse = "relevance"\nname = "triage"\nstatistics = "leading"\ncut = { top = 50 }\n\n[[stage]]\nuse = "search"\nmodel = "ridge"\n'
    )
    said = run(
        "select", "wide.parquet", "--target", "loaf_volume", "--plan", "small.toml", "--repeats", "1", "--quick", "--no-state", cwd=tmp_path
    )
    assert "300 → 50" in said and "assay_00005" in said


@pytest.mark.parametrize("name", ["wide"])
def test_it_is_a_plan_by_name(name):
    assert [s.name or s.use for s in chaff.named_plan(name).stages][:2] == ["triage", "screen"]


@pytest.mark.long
def test_what_only_measures_is_not_run_again_inside_the_folds(monkeypatch):
    from chaff.methods.importance.stage import Importance

    judged, real = [], Importance.judge
    monkeypatch.setattr(Importance, "judge", lambda self, table, setting: judged.append(len(table)) or real(self, table, setting))
    table = chaff.demo.table(rows=300)
    cut, search = chaff.Relevance("tests", cut={"top": 6}), chaff.Search(chaff.Ridge())
    measured = chaff.Plan((cut, chaff.Importance(chaff.Forest(trees=5), "impurity"), search))
    a = chaff.select(table, plan=measured, workers=1, state=False)
    assert len(judged) == 1
    b = chaff.select(table, plan=chaff.Plan((cut, search)), workers=1, state=False)
    assert a.features == b.features and a.honest.mean == b.honest.mean
    chaff.select(
        table, plan=chaff.Plan((cut, chaff.Importance(chaff.Forest(trees=5), "impurity", cut={"top": 3}), search)), workers=1, state=False
    )
    assert len(judged) > 2  # what cuts is


@pytest.mark.long
def test_units_that_are_offered_different_columns_make_sums_of_their_own(monkeypatch):
    from chaff.methods.search import search_data as grounds

    rng = np.random.default_rng(5)
    frame = pd.DataFrame(rng.normal(size=(240, 60)), columns=[f"sieve_{k}" for k in range(60)])
    frame["y"] = frame["sieve_3"] - frame["sieve_4"] + rng.normal(size=240)
    table = chaff.open_table(frame, "y")
    plan = chaff.Plan((chaff.Relevance("tests", cut={"top": 6}), chaff.Search(lenses="linear")))
    together = chaff.select(table, plan=plan, state=False)
    monkeypatch.setattr(grounds, "FEW_TO_SHARE", 0)
    monkeypatch.setattr(grounds.SearchData, "moments", property(lambda self: pytest.fail("sums over what all folds offer were made")))
    apart = chaff.select(table, plan=plan, state=False)
    assert apart.features == together.features and {"sieve_3", "sieve_4"} <= set(apart.features)
    assert apart.honest.mean == pytest.approx(together.honest.mean, abs=1e-12)


def test_the_closed_form_keeps_to_the_memory_that_was_said(tmp_path):
    rng = np.random.default_rng(6)
    frame = pd.DataFrame(rng.normal(size=(90, 40)), columns=[f"sieve_{k}" for k in range(40)])
    frame.assign(y=frame["sieve_3"]).to_parquet(tmp_path / "lots.parquet")
    table = chaff.open_table(tmp_path / "lots.parquet", "y", scratch=tmp_path / "s")
    assert chaff.SubsetScorer(table, chaff.Ridge(), folds=3).engine.fits_whole
    object.__setattr__(table.source.limit, "memory", 8.0 * 41 * 41)
    with pytest.raises(chaff.DataError, match="40 features need .* GiB in closed form"):
        chaff.search(table, "ridge", "forward", folds=3)
