"""Variance inflation where the table makes trouble: gaps, shared gaps, levels that others fix, many levels, few shared rows."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import chaff


def repeats(n: int, p: int, rng: np.random.Generator) -> np.ndarray:
    common = rng.normal(size=(n, 3))
    return np.column_stack([common[:, [k % 3]] + 0.38 * rng.normal(size=(n, 1)) for k in range(p)])


def test_gaps_give_the_size_that_complete_rows_say():
    ratios = []
    for seed in range(12):
        rng = np.random.default_rng(seed)
        X, y = repeats(150, 10, rng), rng.normal(size=150)
        whole = chaff.inflation(chaff.open_arrays(X, y)).frame["vif"].max()
        gaps = np.where(rng.random(X.shape) < 0.4, np.nan, X)
        found = chaff.inflation(chaff.open_arrays(gaps, y))
        ratios.append(found.frame["vif"].max() / whole)
        if found.frame["vif"].max() > 1000:
            pytest.fail(f"{found.frame['vif'].max():.3g} where complete rows say {whole:.3g}")
    assert 0.4 < np.median(ratios) < 3
    assert any("shrunk by" in n for n in found.notes)


def test_too_few_shared_rows_are_not_judged():
    rng = np.random.default_rng(0)
    frame = pd.DataFrame(rng.normal(size=(100, 5)), columns=list("abcde")).assign(y=rng.normal(size=100))
    frame.loc[10:, "e"] = np.nan
    found = chaff.inflation(chaff.open_table(frame, "y"))
    assert np.isnan(found.frame.loc["e", "vif"]) and found.frame.loc[list("abcd"), "vif"].notna().all()
    assert any("not judged" in n and "e" in n for n in found.notes)
    assert chaff.prune_inflation(chaff.open_table(frame, "y")).frame.loc["e", "stays"]


def test_complete_rows_are_complete_for_inflation_too():
    rng = np.random.default_rng(1)
    X = repeats(400, 6, rng)
    gaps = np.where(rng.random(X.shape) < 0.1, np.nan, X)
    y = rng.normal(size=400)
    complete = ~np.isnan(gaps).any(1)
    expected = chaff.inflation(chaff.open_arrays(X[complete], y[complete])).frame["vif"]
    found = chaff.inflation(chaff.open_arrays(gaps, y), rows="complete").frame["vif"]
    np.testing.assert_allclose(found, expected, rtol=1e-8)


def test_gaps_that_categories_share_are_no_combination():
    rng = np.random.default_rng(2)
    n = 300
    gone = rng.random(n) < 0.3
    frame = pd.DataFrame({f"word_{k}": np.where(gone, None, rng.choice(["a", "b", "c"], n)) for k in range(3)})
    found = chaff.inflation(chaff.open_table(frame.assign(x=rng.normal(size=n), y=rng.normal(size=n)), "y"))
    assert found.frame["vif"].max() < 1.5


def test_a_level_that_others_fix_does_not_condemn_its_category():
    rng = np.random.default_rng(3)
    n = 400
    variety = rng.choice(["Alba", "Borka", "Cerio", "Doria"], n)
    region = np.where(variety == "Doria", "south", rng.choice(["east", "west"], n))  # "south" is "Doria"
    frame = pd.DataFrame({"variety": variety, "region": region, "x": rng.normal(size=n), "y": rng.normal(size=n)})
    found = chaff.inflation(chaff.open_table(frame, "y"))
    assert found.frame["vif"].max() < 2 and any("south" in n or "Doria" in n for n in found.notes)
    flag = chaff.inflation(chaff.open_table(frame.assign(is_alba=np.where(variety == "Alba", "yes", "no")).drop(columns="region"), "y"))
    assert np.isinf(flag.frame.loc["is_alba", "vif"]) and np.isfinite(flag.frame.loc["variety", "vif"])


def test_a_category_of_many_levels_takes_part_where_it_is_named():
    rng = np.random.default_rng(4)
    frame = pd.DataFrame({"code": rng.integers(0, 80, 900).astype(str), "x": rng.normal(size=900), "y": rng.normal(size=900)})
    table = chaff.open_table(frame, "y", kinds={"code": "category"})
    assert np.isnan(chaff.inflation(table).frame.loc["code", "vif"])
    assert chaff.inflation(table, features=["code", "x"]).frame["vif"].notna().all()


def test_who_goes_is_who_has_the_weaker_claim_unless_the_largest_is_asked_for():
    rng = np.random.default_rng(5)
    a, b = rng.normal(size=(2, 500))
    frame = pd.DataFrame({"strong": a + b, "weak": a + 0.2 * rng.normal(size=500), "other": b + 0.2 * rng.normal(size=500)})
    table = chaff.open_table(frame.assign(y=a + b + 0.1 * rng.normal(size=500)), "y")
    vif = chaff.inflation(table).frame["vif"]
    assert vif.idxmax() == "strong" and vif.min() > 10
    assert chaff.prune_inflation(table).more["trail"]["feature"].tolist()[0] != "strong"
    assert chaff.prune_inflation(table, order="largest").more["trail"]["feature"].tolist() == ["strong"]
    with pytest.raises(chaff.UsageError, match="order"):
        chaff.prune_inflation(table, order="first")


def test_levels_that_are_about_as_many_as_the_rows_are_said_and_not_inverted():
    rng = np.random.default_rng(6)
    frame = pd.DataFrame({f"code_{k}": rng.integers(0, 14, 40).astype(str) for k in range(3)} | {"x": rng.normal(size=40)})
    table = chaff.open_table(frame.assign(y=rng.normal(size=40)), "y", kinds={f"code_{k}": "category" for k in range(3)})
    found = chaff.inflation(table)
    assert np.isfinite(found.frame.loc["x", "vif"]) and not np.isinf(found.frame["vif"]).any()
    assert any("about as many columns as rows" in n for n in found.notes)
