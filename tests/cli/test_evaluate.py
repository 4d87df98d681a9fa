"""`chaff select --evaluate` in a process of its own."""

import json

import pandas as pd
import pytest

from tests.commands import run
from tests.conftest import make_mixed


@pytest.mark.long
def test_the_final_model_side_by_side(tmp_path):
    make_mixed(240, classes=2).to_csv(tmp_path / "t.csv", index=False)
    required = ("select", "t.csv", "--target", "y", "--ignore", "lot_weight", "--groups", "mill", "--model", "logistic", "--repeats", "1")
    said = run(*required, "--evaluate", "--threshold", "0.4", "--out", "o", cwd=tmp_path)
    for words in ("ROC AUC", "kept − full", "from a probability of 0.4", "with the largest loss", "positive class"):
        assert words in " ".join(said.split())
    rows = pd.read_csv(tmp_path / "o" / "holdout_predictions.csv")
    assert {"row", "mill", "true", "predicted_kept", "share_kept", "loss"} <= set(rows.columns)
    assert (tmp_path / "o" / "evaluation.png").stat().st_size > 10_000
    found = json.loads(run(*required, "--evaluate", "--out", "o2", "--format", "json", cwd=tmp_path))["evaluation"]
    assert found["rows"] == len(rows) == sum(map(sum, found["confusion"]))


def test_what_does_not_fit_is_said_before_any_work(tmp_path):
    make_mixed(80).to_csv(tmp_path / "t.csv", index=False)
    required = ("select", "t.csv", "--target", "y", "--out", "o")
    assert "goes with --evaluate" in run(*required, "--threshold", "0.4", cwd=tmp_path, code=2)
    assert "two classes" in run(*required, "--evaluate", "--threshold", "0.4", cwd=tmp_path, code=2)
    assert "needs a holdout" in run(*required, "--evaluate", "--holdout", "0", cwd=tmp_path, code=2)
    assert not (tmp_path / "o" / "selection.json").exists()
