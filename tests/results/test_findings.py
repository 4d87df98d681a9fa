"""Findings: ranks, cuts, what-if, and files that come back as they went."""

from __future__ import annotations

import json

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.results.findings import Findings


@pytest.fixture(scope="module")
def found() -> Findings:
    return chaff.relevance(chaff.demo.table(rows=300, target="accepted"))


def made(**columns) -> Findings:
    frame = pd.DataFrame(columns, index=pd.Index([f"f{k}" for k in range(len(next(iter(columns.values()))))], name="feature"))
    return Findings("made", frame, "score", better={"score": "higher", "r": "magnitude", "p": "lower", "auc": "magnitude"})


def test_every_column_ranks_its_own_way():
    f = made(score=[1.0, 3, 2], r=[-0.9, 0.1, 0.5], p=[0.5, 0.01, 0.2], auc=[0.1, 0.55, 0.8])
    assert f.ranked().index.tolist() == ["f1", "f2", "f0"]
    assert f.ranked("r").index[0] == "f0" and f.ranked("p").index[0] == "f1"
    assert f.ranked("auc").index.tolist() == ["f0", "f2", "f1"]  # 0.1 is as far from chance as 0.9
    assert f.rank("p").tolist() == [3, 1, 2]
    assert f.values("auc").tolist() == pytest.approx([0.9, 0.55, 0.8])
    scaled = f.scaled()
    assert scaled["score"].tolist() == [0, 1, 0.5] and scaled["r"].max() == 1 and "p" not in scaled


def test_cuts_follow_the_way_and_a_share_rounds_up():
    f = made(score=[1.0, 3, 2], r=[-0.9, 0.1, 0.5], p=[0.5, 0.01, np.nan], auc=[0.1, 0.55, 0.8])
    assert f.stays({"above": 0.4}, "r") == ("f0", "f2")
    assert f.stays({"below": 0.3}, "p") == ("f1",)
    assert f.stays({"share": 0.34}) == ("f1", "f2")
    assert f.stays(chaff.Cut("top", 2), "auc") == ("f0", "f2")
    assert f.stays({"times_mean": 1.2}) == ("f1",)


def test_limits_are_tried_without_computing_again(found):
    tried = found.try_limits([0.05, 0.1, 0.2], by="effect_size")
    for limit, row in tried.iterrows():
        expected = found.frame.index[found.frame["effect_size"] > limit]
        assert set(row["features"]) == set(expected) and row["stay"] == len(expected)
    assert set(tried.loc[0.2, "goes_here"]) == set(tried.loc[0.1, "features"]) - set(tried.loc[0.2, "features"])
    assert found.try_limits([0.01], by="q").index.name == "limit"
    assert found.try_limits([5, 10], rule="top")["stay"].tolist() == [5, 10]
    with pytest.raises(chaff.UsageError, match="no limit"):
        found.try_limits([])
    with pytest.raises(chaff.UsageError, match="no column 'effect'.*Did you mean 'effect_size'"):
        found.try_limits([0.1], by="effect")


def test_a_saved_file_comes_back_and_can_be_cut_by_another_measure(found, tmp_path):
    found.save(tmp_path / "found.json")
    back = chaff.read_findings(tmp_path / "found.json")
    pd.testing.assert_frame_equal(back.frame, found.frame, check_dtype=False)
    assert back.better == dict(found.better) and back.notes == found.notes and set(back.more) == set(found.more)
    assert back.stays({"top": 7}, "auc") == found.stays({"top": 7}, "auc")
    json.loads((tmp_path / "found.json").read_text(), parse_constant=lambda c: pytest.fail(f"{c} is not JSON"))


def test_infinite_values_survive_the_file(tmp_path):
    f = made(score=[np.inf, 1.0, np.nan], r=[0.0] * 3, p=[0.0] * 3, auc=[0.5] * 3)
    f.save(tmp_path / "f.json")
    assert chaff.read_findings(tmp_path / "f.json").frame["score"].tolist()[:2] == [np.inf, 1.0]
    assert f.scaled()["score"].iloc[0] == 1.0


def test_tables_are_written_sorted_and_rounded(found, tmp_path):
    found.save(tmp_path / "f.csv", by="p", decimals=3)
    sheet = pd.read_csv(tmp_path / "f.csv", index_col="feature")
    assert sheet.index[0] == found.ranked("p").index[0] and (sheet["effect_size"].dropna() * 1000 % 1).round(6).isin([0, 1]).all()
    found.save(tmp_path / "f.parquet")
    assert list(pd.read_parquet(tmp_path / "f.parquet").columns) == list(found.frame.columns)
    with pytest.raises(chaff.UsageError, match=r"\.json, \.csv or \.parquet"):
        found.save(tmp_path / "f.xlsx")


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("{", "not JSON"),
        ("[1]", "holds no findings"),
        ('{"format": "chaff findings", "version": 9}', "update Chaff"),
        ('{"format": "chaff findings", "version": 1}', "damaged"),
    ],
)
def test_broken_files_are_refused_in_words(tmp_path, text, words):
    (tmp_path / "f.json").write_text(text)
    with pytest.raises(chaff.DataError, match=words):
        chaff.read_findings(tmp_path / "f.json")
    with pytest.raises(chaff.DataError, match="no such findings"):
        chaff.read_findings(tmp_path / "none.json")
