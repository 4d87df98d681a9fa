"""The answers of a whole day on the demo mill are those of the golden files: words to the letter, numbers to 1e-9."""

import difflib
import gzip
import json

import pytest

import chaff
from tests.golden.day import HERE, SEEDS, TARGETS, day, differences, lines_of, read


@pytest.mark.long
@pytest.mark.parametrize("seed", SEEDS)
@pytest.mark.parametrize("target", TARGETS)
def test_a_day_on_the_mill_answers_as_it_did(target, seed, monkeypatch, tmp_path):
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))  # reads of the holdout are counted there
    monkeypatch.setenv("COLUMNS", "110")
    monkeypatch.setenv("NO_COLOR", "1")
    old, new = read(target, seed), day(target, seed)
    assert list(differences(old["numbers"], new["numbers"]))[:20] == []
    for name, words in old["words"].items():
        lines = difflib.unified_diff(lines_of(words), lines_of(new["words"][name]), lineterm="", n=0)
        assert list(lines) == [], name


def test_a_selection_of_version_2_is_read_applied_and_explained(tmp_path):
    text = gzip.decompress((HERE / "selection_version_2.json.gz").read_bytes()).decode("utf-8")
    (tmp_path / "old.json").write_text(text, encoding="utf-8")
    old = chaff.read_selection(tmp_path / "old.json")
    raw = json.loads(text)
    assert [k["name"] for k in raw["kept"]] == list(old.features) and old.version == 3
    assert [(x["name"], x["barred"]) for x in raw["look"]] == [(x.name, x.blocked) for x in old.review]
    assert old.selection_frequencies == raw["kept_shares"] and old.ranks == raw["places"]
    assert "accepted" in old.apply(chaff.demo.lots(rows=40)).columns and not old.drift(chaff.demo.lots(rows=300)).moved
    assert "blocked" in {t.fate for t in old.explain().columns}
    old.save(tmp_path / "new.json")
    assert chaff.read_selection(tmp_path / "new.json") == old
    (tmp_path / "changed.json").write_text(text.replace('"seed": 0', '"seed": 7'), encoding="utf-8")
    with pytest.raises(chaff.DataError, match='remove its line "seal"'):
        chaff.read_selection(tmp_path / "changed.json")


def test_a_difference_is_found_whatever_it_is():
    old = {"a": [1.0, {"b": "x"}], "seconds": 1, "c": 2}
    assert list(differences(old, {"a": [1.0 + 1e-12, {"b": "x"}], "seconds": 2, "c": 2})) == []
    assert list(differences(old, {"a": [1.0 + 1e-6, {"b": "y"}], "d": 2})) == [
        "/a/0: 1.0 → 1.000001", "/a/1/b: 'x' → 'y'", "/c: only in the old one", "/d: only in the new one",
    ]  # fmt: skip
