import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.decide.ledger import Ledger
from chaff.results.cuts import Cut
from chaff.results.findings import Findings
from chaff.results.score import corrected_error, paired_difference
from chaff.results.trail import Move, Trail
from chaff.results.verdict import drop, keep, review


def test_paired_difference_cancels_what_makes_a_fold_hard():
    hard = np.array([0.1, 0.5, 0.9, 0.3, 0.7])
    gap = paired_difference(hard + 0.02, hard, 0.25)
    assert gap.mean == pytest.approx(0.02) and gap.se == pytest.approx(0, abs=1e-12)
    assert corrected_error(hard, 0.25) == pytest.approx(hard.std(ddof=1) * np.sqrt(0.2 + 0.25))
    assert np.isnan(corrected_error(hard[:1], 0.25))


@pytest.mark.parametrize(
    "spec, stay",
    [
        ({"top": 2}, "ca"),
        ({"share": 0.3}, "ca"),
        ({"share": 0.25}, "c"),
        ({"above": 1.0}, "ca"),
        ({"below": 1.0}, "bd"),
        ({"times_mean": 1.0}, "ca"),
        ({"top": 99}, "abcd"),
    ],
)
def test_cuts(spec, stay):
    values = pd.Series({"a": 2.0, "b": 0.5, "c": 3.0, "d": 0.1, "e": np.nan})
    if "share" in spec:
        values = values.drop("e")
    got = Cut.from_mapping(spec).stays(values)
    assert set(got.index[got]) == set(stay)
    assert str(Cut.from_mapping(spec))


def test_cuts_of_measures_where_lower_is_better_and_bad_cuts():
    values = pd.Series({"a": 0.2, "b": 0.01})
    assert Cut("top", 1).stays(values, higher_is_better=False).tolist() == [False, True]
    for wrong in ({}, {"top": 1, "above": 2}, {"best": 3}):
        with pytest.raises(chaff.UsageError):
            Cut.from_mapping(wrong)


def trail(*scores, higher=True):
    moves = [Move("add", f"f{k}", frozenset(f"f{j}" for j in range(k + 1)), np.array(s, float), "forward") for k, s in enumerate(scores)]
    return Trail("test", tuple(moves), tuple(f"f{k}" for k in range(len(scores))), "r2", higher, 0.25)


def test_where_lower_is_better_everything_turns_round():
    t = trail([0.9, 0.9, 0.9], [0.5, 0.5, 0.5], [0.6, 0.6, 0.6], higher=False)
    assert t.best_move() == 1
    assert list(t.best_by_size()) == [1, 2, 3] and t.frame["score"].tolist() == pytest.approx([0.9, 0.5, 0.6])


def test_findings_rank_and_print_their_head():
    frame = pd.DataFrame({"vif": np.arange(30.0)}, index=[f"c{k}" for k in range(30)])
    f = Findings("inflation", frame, "vif", {"vif": "lower"}, shown_first="worst")
    assert f.ranked().index[0] == "c0" and f.shown().index[0] == "c29" and "… and 10 more" in str(f)
    with pytest.raises(chaff.UsageError, match="Did you mean 'vif'"):
        f.ranked("viff")


def test_the_ledger_tells_what_decided(tmp_path):
    ledger = Ledger().and_then([keep("a", "screen"), review("b", "screen", "r 1", "0.9", "possible leakage", stays=False)])
    ledger = ledger.and_then([drop("a", "search", "+0", "", "not needed")])
    assert ledger.last("a").by == "search" and ledger.last("b").blocked and ledger.last("z") is None
    ledger.save(tmp_path / "ledger.csv")
    back = pd.read_csv(tmp_path / "ledger.csv")
    assert back["feature"].tolist() == ["b", "a", "a"] and list(back.columns)[:4] == ["feature", "stage", "verdict", "stays"]
