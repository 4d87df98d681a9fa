"""Triage: the same columns as scoring all at once, whatever the blocks."""

import numpy as np
import pandas as pd
import pytest

import chaff


@pytest.fixture
def wide():
    rng = np.random.default_rng(0)
    y = rng.normal(size=120)
    frame = pd.DataFrame({f"sensor_{k}": rng.normal(size=120) + (0.02 * k if k % 37 == 0 else 0) * y for k in range(300)})
    frame["variety"] = np.where(y > 0.3, "a", rng.choice(["b", "c"], 120))
    return frame.assign(mill=rng.integers(0, 9, 120), y=y)


@pytest.mark.long
@pytest.mark.parametrize("by", ["effect_size", "mutual_information", "spearman_rho", "p"])
def test_blocks_change_nothing(wide, tmp_path, by):
    wide.to_parquet(tmp_path / "w.parquet", row_group_size=50)
    whole = (
        chaff.relevance(chaff.open_table(wide, "y", groups="mill"), "all" if by == "mutual_information" else "fitting")
        .ranked(by)
        .index[:15]
    )
    for source, block in ((wide, 7), (wide, None), (tmp_path / "w.parquet", 40)):
        found = chaff.triage(source, "y", top=15, by=by, block=block, groups="mill")
        assert list(found.frame.index) == list(whole) and found.settings["columns"] == 301
    assert "mill" not in found.frame.index and not any(c.endswith("_q") or c == "q" for c in found.frame)


def test_it_says_how_far_it_is_and_what_it_passed_over(wide):
    told = []
    found = chaff.triage(wide, "y", top=5, by="kendall_tau", block=100, ignore="mill", watch=lambda done, of: told.append((done, of)))
    assert told[-1] == (300, 301) or told[-1] == (301, 301)
    assert len(found.frame) == 5


def test_csv_kinds_and_refusals(wide, tmp_path):
    wide.to_csv(tmp_path / "w.csv", index=False)
    found = chaff.triage(tmp_path / "w.csv", "y", top=3, block=50, kinds={"mill": "category"}, missing="NA")
    assert len(found.frame) == 3
    for bad, error in (
        ({"target": "z"}, chaff.UnknownColumn),
        ({"top": 0}, chaff.UsageError),
        ({"by": "kendal"}, chaff.UsageError),
        ({"by": "auc"}, chaff.DataError),
        ({"ignore": "nope"}, chaff.UnknownColumn),
    ):
        with pytest.raises(error):
            chaff.triage(wide, **{"target": "y", **bad})


def test_triage_reads_the_same_terms_as_open_table():
    frame = chaff.demo.lots(rows=120)
    frame.loc[::9, "ash_pct"] = -9
    terms = {"ignore": ["accepted", "grade"], "groups": "mill", "missing_codes": {"ash_pct": [-9]}, "costs": {"ash_pct": 3.0}}
    found = chaff.triage(frame, "loaf_volume", top=60, block=7, fill={"mycotoxin_ppb": 0}, **terms)
    whole = chaff.relevance(chaff.open_table(frame, "loaf_volume", fill={"mycotoxin_ppb": 0}, **terms))
    for name in ("ash_pct", "protein_pct"):
        assert found.frame.loc[name, "effect_size"] == pytest.approx(whole.frame.loc[name, "effect_size"], rel=1e-12)
    assert found.frame.loc["ash_pct", "rows"] == whole.frame.loc["ash_pct", "rows"] < 120
    with pytest.raises(chaff.UsageError, match="unknown key 'ignor'"):
        chaff.triage(frame, "loaf_volume", ignor=["grade"])
    with pytest.raises(chaff.UsageError, match="go together"):
        chaff.triage(frame, "loaf_volume", together={"both": ["ash_pct", "straw_pct"]})
