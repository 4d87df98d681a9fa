"""Only the features that are named, by name, pattern or file."""

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.decide.named_features import features_in


@pytest.fixture(scope="module")
def frame():
    rng = np.random.default_rng(2)
    frame = pd.DataFrame(rng.normal(size=(80, 5)), columns=["gluten_wet", "gluten_dry", "ash", "lot", "y"])
    return frame.assign(**{f"kind_{c}": (np.arange(80) % 3 == k).astype(int) for k, c in enumerate("abc")})


def test_names_and_patterns(frame):
    assert chaff.open_table(frame, "y", features=["ash", "gluten_*"]).features == ("gluten_wet", "gluten_dry", "ash")
    table = chaff.open_table(frame, "y", together={"kind": ["kind_*"]}, features=["kind", "ash"])
    assert table.features == ("ash", "kind") and table.column("kind").levels == ("kind_a", "kind_b", "kind_c")
    assert chaff.open_table(frame, "y", ignore=["kind_?", "lot"]).features == ("gluten_wet", "gluten_dry", "ash")
    with pytest.raises(chaff.UnknownColumn, match="no column of .* is like 'gluton_\\*'"):
        chaff.open_table(frame, "y", features=["gluton_*"])
    with pytest.raises(chaff.UnknownColumn, match="'ahs'.*Did you mean 'ash'"):
        chaff.open_table(frame, "y", features=["ahs"])
    for role in ("y", "lot"):
        with pytest.raises(chaff.UsageError, match=f"'{role}' cannot be a feature"):
            chaff.open_table(frame, "y", ids=["lot"], features=["ash", role])


def test_the_selection_and_its_plan_hold_them(frame, tmp_path):
    table = chaff.open_table(frame, "y", features=["ash", "gluten_*"])
    run = chaff.select(table, chaff.Plan((chaff.Search(model="ridge", size=2),)), holdout=0, honest="quick")
    assert run.selection.terms.features == ("ash", "gluten_wet", "gluten_dry")
    run.selection.save(tmp_path / "s.json")
    assert features_in(tmp_path / "s.json") == list(run.features)
    assert run.selection.apply(frame).columns.tolist() == ["y", *run.features]


def test_files_that_hold_features(frame, tmp_path):
    table = chaff.open_table(frame, "y")
    found = chaff.relevance(table, "tests", cut={"top": 2})
    found.save(tmp_path / "f.json")
    assert set(features_in(tmp_path / "f.json")) == {str(f) for f in found.frame.index[found.frame["stays"]]}
    trail = chaff.search(table, "ridge", "forward")
    trail.save(tmp_path / "t.json", {"size": 3})
    assert features_in(tmp_path / "t.json") == list(trail.choose({"size": 3}).features)
    (tmp_path / "l.txt").write_text("ash, lot\ngluten_dry\n")
    assert features_in(tmp_path / "l.txt") == ["ash", "lot", "gluten_dry"]
    (tmp_path / "l.json").write_text('["ash"]')
    assert features_in(tmp_path / "l.json") == ["ash"]
    for text in ("{", "{}", '{"format": 3}', "3"):
        (tmp_path / "bad.json").write_text(text)
        with pytest.raises(chaff.DataError):
            features_in(tmp_path / "bad.json")
    (tmp_path / "empty.txt").write_text("\n")
    for name in ("empty.txt", "nowhere.txt"):
        with pytest.raises(chaff.DataError):
            features_in(tmp_path / name)


def test_triage_and_recheck_keep_to_them(frame):
    found = chaff.triage(frame, "y", top=3, block=2, features=["ash", "gluten_*"])
    assert set(found.frame.index) == {"ash", "gluten_wet", "gluten_dry"}
    table = chaff.open_table(frame, "y", features=["ash", "gluten_*"])
    run = chaff.select(table, chaff.Plan((chaff.Search(model="ridge", size=1),)), holdout=0, honest="quick")
    gone = next(f for f in table.features if f not in run.features)
    checked = chaff.recheck(run.selection, frame.drop(columns=gone))  # a column that was offered and is no more
    assert checked.verdict in ("stay", "refit", "reselect")


def test_pins_of_a_plan_beside_named_features(frame):
    table = chaff.open_table(frame, "y", features=["ash", "gluten_*"])
    found = chaff.screen(table, pins=[chaff.pin_drop("lot", "written down later")])
    assert set(found.frame.index) == {"ash", "gluten_wet", "gluten_dry"}  # what is not offered need not go
    with pytest.raises(chaff.UsageError, match="'lot' is pinned in, but it is not among the features"):
        chaff.screen(table, pins=[chaff.pin_keep("lot", "asked for")])
    with pytest.raises(chaff.UnknownColumn, match="'lott' is not a feature"):
        chaff.screen(table, pins=[chaff.pin_drop("lott", "asked for")])
