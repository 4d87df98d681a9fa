"""What the screen let through is remembered for the same cells, and for nothing else."""

import json

import numpy as np
import pytest

import chaff
from chaff.cli.screen_cache import ENTRIES, cache_folder, remembered
from tests.commands import ENV, call


@pytest.fixture
def folder(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    return cache_folder()


def table(**changed):
    lots = chaff.demo.lots(rows=120)[["protein_pct", "ash_pct", "mill", "loaf_volume"]]
    return chaff.open_table(lots.assign(**changed.pop("cells", {})), target="loaf_volume", **changed)


def looks(*of):
    """How often the screen ran for these (table, pins, seed)."""
    ran = []
    for t, pins, seed in of:

        def screen(t=t):
            ran.append(t)
            return t.features[:1]

        assert remembered(t, pins, seed, screen) == t.features[:1]
    return len(ran)


def test_the_same_cells_are_screened_once(folder):
    assert looks((table(), {}, 0), (table(), {}, 0)) == 1
    assert len(list(folder.glob("*.json"))) == 1


def test_whatever_the_screen_could_see_makes_another_key(folder):
    one = table().with_features(["protein_pct", "ash_pct"])
    pin = {"ash_pct": chaff.pin_keep("ash_pct", because="sold by it")}
    lots = chaff.demo.lots(rows=120)
    moved = lots["ash_pct"].to_numpy() + np.eye(1, 120, 7)[0] * 1e-9
    others = [
        (one, {}, 1),
        (one, pin, 0),
        (table(groups="mill").with_features(["protein_pct", "ash_pct"]), {}, 0),
        (table(cells={"ash_pct": moved}).with_features(["protein_pct", "ash_pct"]), {}, 0),
        (one.with_features(["ash_pct"]), {}, 0),
        (one.take(np.arange(119)), {}, 0),
        (table(cells={"loaf_volume": lots["loaf_volume"] + 1.0}).with_features(["protein_pct", "ash_pct"]), {}, 0),
    ]
    assert looks((one, {}, 0), *others) == 1 + len(others)


def test_without_a_target_the_words_of_a_category_count_too(folder):
    lots = chaff.demo.lots(rows=120)[["protein_pct", "mill"]]
    assert looks((chaff.open_table(lots), {}, 0), (chaff.open_table(lots), {}, 0)) == 1
    words = lots.assign(mill=lots["mill"].astype(str).str.upper() + "x")
    assert looks((chaff.open_table(words), {}, 0)) == 1


def test_a_damaged_entry_and_a_folder_that_cannot_be_are_as_if_not_there(folder, monkeypatch, tmp_path):
    assert looks((table(), {}, 0)) == 1
    (entry,) = folder.glob("*.json")
    for text in ("", "{", "3", '["another"]', "[[1]]"):
        entry.write_text(text)
        assert looks((table(), {}, 0)) == 1
        assert json.loads(entry.read_text()) == ["protein_pct"]
    (tmp_path / "file").write_text("")
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "file"))
    assert looks((table(), {}, 0), (table(), {}, 0)) == 2


def test_old_entries_go(folder):
    folder.mkdir(parents=True)
    for k in range(ENTRIES + 5):
        (folder / f"{k}.json").write_text("[]")
    looks((table(), {}, 0))
    assert len(list(folder.glob("*.json"))) == ENTRIES


def test_a_command_says_the_same_with_and_without(folder, tmp_path):
    chaff.demo.lots(rows=200).to_csv(tmp_path / "lots.csv", index=False)
    env = {**ENV, "XDG_CACHE_HOME": str(tmp_path)}
    words = ("relevance", tmp_path / "lots.csv", "--target", "loaf_volume", "--format", "json")

    def answer(*more):
        return {k: v for k, v in json.loads(call(*words, *more, env=env).stdout).items() if k != "seconds"}

    first, again, anew = (answer(*more) for more in ((), (), ("--no-cache",)))
    assert first == again == anew and "ash_pct" in str(first)
    (entry,) = folder.glob("*.json")
    entry.write_text(json.dumps([f for f in json.loads(entry.read_text()) if f != "ash_pct"]))
    assert answer() != first  # it is read
    assert answer("--no-cache") == first
