"""Statistics that were named rank and cut; what they do not fit is not judged."""

import numpy as np
import pandas as pd
import pytest

import chaff


@pytest.fixture(scope="module")
def mixed():
    rng = np.random.default_rng(4)
    n = 200
    frame = pd.DataFrame(
        {"down": rng.normal(size=n), "up": rng.normal(size=n), "noise": rng.normal(size=n), "kind": rng.choice(list("abc"), n)}
    )
    frame["y"] = 2 * frame["up"] - 3 * frame["down"] + rng.normal(size=n)
    return chaff.open_table(frame, "y")


def test_the_first_statistic_that_was_named_ranks_and_cuts_with_its_sign(mixed):
    found = chaff.relevance(mixed, ["pearson_r", "mutual_information"], cut={"above": 0.3})
    assert found.lead == "pearson_r" and found.ranked().index[:2].tolist() == ["down", "up"]
    assert found.frame.loc["down", "pearson_r"] < -0.3 and found.frame.loc["down", "verdict"] == "keep"
    assert found.frame.loc["noise", "verdict"] == "drop" and "not in above 0.3 by pearson_r" in found.frame.loc["noise", "reason"]


def test_a_kind_that_it_does_not_fit_is_not_judged_and_stays(mixed):
    found = chaff.relevance(mixed, ["pearson_r"], cut={"top": 1})
    assert found.frame["stays"].to_dict() == {"down": True, "up": False, "noise": False, "kind": True}
    assert "not judged: pearson_r does not fit a category" in found.frame.loc["kind", "reason"]
    assert any("pearson_r does not fit kind: not judged, and stay" in note for note in found.notes)
    every = chaff.relevance(mixed, ["pearson_r", "f"], by="effect_size", cut={"top": 2})
    assert not every.frame.loc["kind", "stays"]


def test_a_test_without_a_statistic_ranks_by_its_p():
    rng = np.random.default_rng(1)
    frame = pd.DataFrame({"a": rng.integers(0, 2, 90), "b": rng.integers(0, 2, 90)})
    frame["y"] = np.where(rng.random(90) < 0.2, 1 - frame["a"], frame["a"])
    found = chaff.relevance(chaff.open_table(frame, "y"), ["fisher_exact"], cut={"top": 1})
    assert found.lead == "fisher_exact_p" and found.kept == ("a",)


def test_a_column_without_a_value_is_said_to_have_none():
    frame = pd.DataFrame({"a": np.arange(40.0), "flat": 1.0, "y": np.arange(40.0) ** 2})
    found = chaff.relevance(chaff.open_table(frame, "y"), ["pearson_r"], cut={"top": 1})
    assert found.frame.loc["flat", "reason"] == "no value of pearson_r" and "nan" not in found.frame.loc["flat", "figure"]


@pytest.mark.parametrize(
    ("usual", "ours"), [("Spearman", "spearman_rho"), ("anova", "f"), ("MI", "mutual_information"), ("kendall", "kendall_tau")]
)
def test_the_usual_names_lead_to_ours(mixed, usual, ours):
    assert chaff.Relevance([usual]).ranked_by == ours and chaff.Relevance(usual, by=usual).by == ours
    assert ours in chaff.relevance(mixed, [usual]).frame.columns


@pytest.mark.long
def test_a_stage_that_only_measures_gives_no_verdict(mixed):
    found = chaff.importance(mixed, "lasso", "coefficient")
    assert set(found.frame["verdict"]) == {"measured"}
    pinned = chaff.importance(mixed, "lasso", "coefficient", pins=[chaff.pin_drop("noise", "asked")])
    assert pinned.frame.loc["noise", "verdict"] == "drop"
    assert set(chaff.importance(mixed, "lasso", "coefficient", cut={"top": 2}).frame["verdict"]) == {"keep", "drop"}
