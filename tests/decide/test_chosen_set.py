"""A set from findings, a search or a list is a selection: it is applied, explained, rechecked and named in a search."""

from __future__ import annotations

import json

import numpy as np
import pandas as pd
import pytest

import chaff
from tests.commands import run

NAMES = ["protein_pct", "ash_pct", "straw_pct", "lab_temp_c", "falling_number_s", "variety"]


@pytest.fixture(scope="module")
def lots():
    return chaff.open_table(chaff.demo.lots(rows=300), "loaf_volume", features=NAMES)


def test_findings_with_a_cut_become_a_selection(lots, tmp_path):
    found = chaff.relevance(lots, cut={"top": 2})
    chosen = chaff.make_selection(lots, found)
    assert set(chosen.features) == set(found.kept)
    again = chaff.read_selection(chosen.save(tmp_path / "s.json") or tmp_path / "s.json")
    assert again.features == chosen.features
    reduced = again.apply(chaff.demo.lots(rows=20, seed=3))
    assert set(again.features) <= set(reduced.columns) and len(reduced) == 20
    gone = next(t for t in again.explain().columns if t.feature == "lab_temp_c")
    assert gone.fate == "drop" and gone.steps[0].stage == "relevance" and "top 2" in gone.steps[0].limit
    with pytest.raises(chaff.UsageError, match="drop nothing: give them a cut"):
        chaff.make_selection(lots, chaff.relevance(lots))


def test_a_search_and_a_list_do_too_and_can_be_rechecked(lots):
    trail = chaff.search(lots, "ridge", "forward", honest=False)
    chosen = chaff.make_selection(lots, trail, rule={"size": 3})
    assert set(chosen.features) == set(trail.choose({"size": 3}).features) and chosen.model == "ridge"
    by_name = chaff.make_selection(lots, ["ash_pct", "protein_pct"], because="the lab has only these", model="ridge")
    assert by_name.features == ("protein_pct", "ash_pct")  # in the order of the table
    assert "the lab has only these" in by_name.explain("ash_pct").columns[0].steps[0].reason
    new = chaff.demo.lots(rows=300, seed=8)
    said = chaff.recheck(by_name, new)
    table = chaff.open_table(new, "loaf_volume", features=NAMES)
    expected = chaff.SubsetScorer(table, "ridge")(["protein_pct", "ash_pct"]).mean
    assert abs(said.now[0] - expected) < 0.1 and said.verdict in ("stay", "refit", "reselect")
    with pytest.raises(chaff.UnknownColumn, match="ashes"):
        chaff.make_selection(lots, ["ashes"])
    with pytest.raises(chaff.UsageError, match="nothing stays"):
        chaff.make_selection(lots, [])


@pytest.mark.long
@pytest.mark.parametrize(
    "words",
    [
        ("relevance", "--top", "3"),
        ("importance", "--model", "ridge", "--by", "coefficient", "--top", "3"),
        ("linear", "--features", "protein_pct,ash_pct,lab_temp_c", "--prune", "bic", "--splits", "0"),
        ("search", "--strategy", "forward", "--size", "2", "--quick"),
        ("compare", "--method", "leading", "--method", "forward", "--sizes", "1,2,4", "--at", "2"),
    ],
)
def test_every_command_that_chooses_hands_its_set_on(words, tmp_path):
    frame = chaff.demo.lots(rows=200)[[*NAMES, "loaf_volume"]]
    frame.to_csv(tmp_path / "lots.csv", index=False)
    command, *rest = words
    out = run(command, "lots.csv", "--target", "loaf_volume", *rest, "--save-selection", "s.json", cwd=tmp_path)
    assert "s.json" in out
    kept = chaff.read_selection(tmp_path / "s.json").features
    assert 0 < len(kept) < len(NAMES)
    run("apply", "s.json", "lots.csv", "-o", "r.csv", cwd=tmp_path)
    assert set(kept) <= set(pd.read_csv(tmp_path / "r.csv").columns)
    assert "dropped" in run("explain", "s.json", cwd=tmp_path)
    again = json.loads(run("relevance", "lots.csv", "--target", "loaf_volume", "--features", "@s.json", "--format", "json", cwd=tmp_path))
    assert set(again["table"]["features"]) == set(kept)


def test_without_a_choice_there_is_nothing_to_save(tmp_path):
    rng = np.random.default_rng(0)
    pd.DataFrame(rng.normal(size=(80, 3)), columns=["a", "b", "y"]).to_csv(tmp_path / "t.csv", index=False)
    for words, why in (
        (("relevance",), "give them a cut"),
        (("linear",), "goes with --prune"),
        (("compare", "--method", "forward"), "goes with --at"),
    ):
        assert why in run(*words[:1], "t.csv", "--target", "y", *words[1:], "--save-selection", "s.json", cwd=tmp_path, code=2)
        assert not (tmp_path / "s.json").exists()


def test_a_screen_that_an_earlier_version_wrote_keeps_its_meaning():
    from chaff.decide.stages import stage_from, with_new_names

    written = {"use": "screen", "relative_spread": 0.01, "sentinels": True, "missing_share": 0.7}
    problems: list[str] = []
    assert stage_from(with_new_names(written, []), "stage 1", problems) == chaff.Screen(missing_share=0.7) and not problems
    off = stage_from(with_new_names(written | {"relative_spread": False}, []), "stage 1", problems)
    assert off == chaff.Screen(missing_share=0.7, least_steps=None)
    mine = stage_from(with_new_names({"use": "screen", "relative_spread": 0.1}, []), "stage 1", problems)
    assert mine == chaff.Screen(relative_spread=0.1)


def test_a_share_stands_for_a_size_in_every_place():
    table = chaff.open_table(chaff.demo.lots(rows=160), "loaf_volume", features=NAMES)
    half = chaff.select(table, chaff.Plan((chaff.Search(model="ridge", size=0.5),)), honest="quick", holdout=0, state=False)
    three = chaff.select(table, chaff.Plan((chaff.Search(model="ridge", size=3),)), honest="quick", holdout=0, state=False)
    assert half.features == three.features and len(half.features) == 3  # of six
    stable = [chaff.stability(table, chaff.Relevance(["f"], by="f"), size=s, pairs=4).frame["selection_frequency"] for s in (0.5, 3)]
    pd.testing.assert_series_equal(*stable)
    for wrong in (1.5, -1):
        with pytest.raises(chaff.UsageError, match="size must be a whole number"):
            chaff.Search(size=wrong)
