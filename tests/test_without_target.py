"""A table without a target can be screened and its overlap be seen; whatever needs one says so."""

from __future__ import annotations

import json

import numpy as np
import pandas as pd
import pytest

import chaff
from tests.commands import run

RNG = np.random.default_rng(3)


@pytest.fixture(scope="module")
def frame():
    x = RNG.normal(size=(300, 3))
    return pd.DataFrame({"a": x[:, 0], "a_again": x[:, 0], "b": x[:, 0] + 0.05 * x[:, 1], "c": x[:, 2], "still": 1, "lot_no": range(300)})


def test_screen_says_what_needs_no_target(frame):
    table = chaff.open_table(frame)
    assert not table.has_target and "no target" in str(table)
    found = chaff.screen(table)
    assert found.frame["verdict"].to_dict() == {
        "a": "keep", "a_again": "drop", "b": "keep", "c": "keep", "still": "drop", "lot_no": "review",
    }  # fmt: skip
    assert found.frame["single_r2"].isna().all() and "no target" in found.notes[0]
    with_target = chaff.screen(chaff.open_table(frame, "c"))
    same = ["kind", "rows", "missing_share", "distinct", "spread", "skew"]
    pd.testing.assert_frame_equal(found.frame.loc[["a", "b"], same], with_target.frame.loc[["a", "b"], same])


def test_overlap_is_that_of_a_table_with_a_target(frame):
    free, aimed = (
        chaff.open_table(frame[["a", "b", "c"]]),
        chaff.open_table(frame.assign(y=RNG.normal(size=300)), "y", features=list("abc")),
    )
    for call in (chaff.correlations, chaff.inflation):
        first, second = call(free), call(aimed)
        numbers = first.frame.select_dtypes("number").columns
        np.testing.assert_allclose(first.frame[numbers].to_numpy(), second.frame[numbers].to_numpy())
    found = chaff.overlaps(free)
    assert found.elimination.more["trail"]["feature"].tolist() == ["b"]  # of equals the first by name stays
    assert found.elimination.more["trail"]["r_squared_after"].isna().all()
    assert chaff.associations(free).frame.loc["a", "partner"] == "b"


@pytest.mark.parametrize(
    "call", ["relevance", "importance", "search", "compare", "select", "linear_summary", "stability", "by_hand", "prune_linear"]
)
def test_what_needs_a_target_says_so(frame, call):
    with pytest.raises(chaff.UsageError, match=r"needs a target.*--target NAME"):
        getattr(chaff, call)(chaff.open_table(frame))


def test_the_command_line_looks_without_a_target(frame, tmp_path):
    frame.to_csv(tmp_path / "t.csv", index=False)
    out = run("screen", "t.csv", cwd=tmp_path)
    assert "no target" in out and "leaks, informative missingness" in out and "next: chaff overlap t.csv" in out and "R²" not in out
    out = run("overlap", "t.csv", cwd=tmp_path)
    assert "a_again" not in out.partition("Stepwise")[2] and "R² of the target" not in out and "next:" not in out
    assert "needs a target" in run("overlap", "t.csv", "--with-target", cwd=tmp_path, code=2)
    assert "missing --target NAME" in run("relevance", "t.csv", cwd=tmp_path, code=2)
    plain = json.loads(run("screen", "t.csv", "--format", "json", cwd=tmp_path))
    assert plain["table"]["target"]["name"] == "" and plain["table"]["rows"] == 300
