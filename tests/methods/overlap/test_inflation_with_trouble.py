"""Variance inflation where the table makes trouble: gaps, shared gaps, levels that others fix, many levels, few shared rows."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from scipy.optimize import minimize
from scipy.stats import multivariate_normal

import chaff
from chaff.stats.correlation import correlations_with_gaps


def repeats(n: int, p: int, rng: np.random.Generator) -> np.ndarray:
    common = rng.normal(size=(n, 3))
    return np.column_stack([common[:, [k % 3]] + 0.38 * rng.normal(size=(n, 1)) for k in range(p)])


def punched(X: np.ndarray, kind: str, share: float, rng: np.random.Generator) -> np.ndarray:
    """Gaps at random, or where another column, which has none, is high."""
    gone = rng.random(X.shape) < share
    if kind == "by another column":
        gone = (X[:, [0]] + rng.normal(size=X.shape) > np.quantile(X[:, 0], 1 - share)) & (np.arange(X.shape[1]) > 0)
    return np.where(gone, np.nan, X)


@pytest.mark.parametrize("kind", ["at random", "by another column"])
def test_gaps_give_the_size_that_complete_rows_say(kind):
    ratios = []
    for seed in range(12):
        rng = np.random.default_rng(seed)
        X, y = repeats(300, 10, rng), rng.normal(size=300)
        whole = chaff.inflation(chaff.open_arrays(X, y)).frame["vif"]
        found = chaff.inflation(chaff.open_arrays(punched(X, kind, 0.25, rng), y))
        ratios.append(found.frame["vif"] / whole)
    worst = [r.max() for r in ratios]
    assert 0.85 < np.median(np.concatenate(ratios)) < 1.2 and np.max(worst) < 2.5, worst
    assert any("maximum likelihood" in n for n in found.notes)


def test_columns_that_contradict_one_another_pair_by_pair_keep_a_sober_size():
    """Nine of twelve columns with gaps that follow the season: what pairs of columns share differs from pair to pair."""
    rng = np.random.default_rng(3)
    n = 600
    season = np.sin(np.arange(n) / 58)
    X = np.column_stack([season + 0.25 * rng.normal(size=n) for _ in range(6)] + [rng.normal(size=n) for _ in range(6)])
    gaps = X.copy()
    for k in range(9):
        gaps[(season > 0.9 - 0.2 * k) & (rng.random(n) < 0.7), k] = np.nan
    true = chaff.inflation(chaff.open_arrays(X, rng.normal(size=n))).frame["vif"]
    found = chaff.inflation(chaff.open_arrays(gaps, rng.normal(size=n))).frame
    np.testing.assert_allclose(found["vif"], true, rtol=0.35)


def test_complete_rows_stand_beside_it_where_enough_are_left():
    rng = np.random.default_rng(4)
    X = repeats(400, 5, rng)
    X[rng.random(X.shape) < 0.05] = np.nan
    y = rng.normal(size=400)
    complete = ~np.isnan(X).any(1)
    found = chaff.inflation(chaff.open_arrays(X, y)).frame
    np.testing.assert_allclose(found["vif_complete"], chaff.inflation(chaff.open_arrays(X[complete], y[complete])).frame["vif"])
    assert "vif_complete" not in chaff.inflation(chaff.open_arrays(X[:60], y[:60])).frame


@pytest.mark.long
def test_maximum_likelihood_equals_a_search_for_it_on_a_small_case():
    rng = np.random.default_rng(6)
    X = rng.multivariate_normal([1, 2, -1], [[2, 1.4, 0.3], [1.4, 1.5, 0.2], [0.3, 0.2, 1]], size=60)
    X[rng.random(X.shape) < 0.2] = np.nan
    X = X[~np.isnan(X).all(1)]

    def minus_log_likelihood(v):
        L = np.zeros((3, 3))
        L[np.tril_indices(3)] = v[3:]
        S = L @ L.T + 1e-12 * np.eye(3)
        out = 0.0
        for row in X:
            there = ~np.isnan(row)
            out -= multivariate_normal.logpdf(row[there], v[:3][there], S[np.ix_(there, there)])
        return out

    best = minimize(minus_log_likelihood, np.r_[np.nanmean(X, 0), np.eye(3)[np.tril_indices(3)]], method="BFGS")
    L = np.zeros((3, 3))
    L[np.tril_indices(3)] = best.x[3:]
    S = L @ L.T
    expected = S / np.sqrt(np.outer(np.diagonal(S), np.diagonal(S)))
    np.testing.assert_allclose(correlations_with_gaps(X), expected, atol=2e-4)


def test_an_exact_combination_with_gaps_is_huge_and_ends():
    rng = np.random.default_rng(7)
    X = rng.normal(size=(200, 3))
    X = np.column_stack([X, X.sum(1)])
    X[rng.random(X.shape) < 0.1] = np.nan
    assert chaff.inflation(chaff.open_arrays(X, rng.normal(size=200))).frame["vif"].min() > 1e4


@pytest.mark.parametrize("order", ["claim", "largest"])
def test_what_explains_a_column_was_still_there_and_r_squared_is_that_of_what_is_left(order):
    rng = np.random.default_rng(8)
    n = 200
    a, b = rng.normal(size=(2, n))
    columns = {"a": a, "a1": a + 0.05 * rng.normal(size=n), "a2": a + 0.06 * rng.normal(size=n), "b": b, "b1": b + 0.1 * rng.normal(size=n)}
    frame = pd.DataFrame(columns).assign(word=rng.choice(["x", "z", "w"], n), y=a + b + rng.normal(size=n))
    trail = chaff.prune_inflation(chaff.open_table(frame, "y"), order=order).more["trail"]
    gone: list[str] = []
    left = [*columns, "word"]

    def r_squared(names):
        D = pd.get_dummies(frame[names], columns=["word"], drop_first=True).to_numpy(float)
        A = np.column_stack([np.ones(n), D])
        y = frame["y"].to_numpy()
        return 1 - ((y - A @ np.linalg.lstsq(A, y, rcond=None)[0]) ** 2).sum() / ((y - y.mean()) ** 2).sum()

    assert len(trail) == 3
    for _, row in trail.iterrows():
        assert not set(row["explained_by"].split(", ")) & set(gone)
        assert row["r_squared_before"] == pytest.approx(r_squared(left), abs=1e-10)
        gone.append(row["feature"])
        left.remove(row["feature"])
        assert row["r_squared_after"] == pytest.approx(r_squared(left), abs=1e-10)


def test_too_few_shared_rows_are_not_judged():
    rng = np.random.default_rng(0)
    frame = pd.DataFrame(rng.normal(size=(100, 5)), columns=list("abcde")).assign(y=rng.normal(size=100))
    frame.loc[10:, "e"] = np.nan
    found = chaff.inflation(chaff.open_table(frame, "y"))
    assert np.isnan(found.frame.loc["e", "vif"]) and found.frame.loc[list("abcd"), "vif"].notna().all()
    assert any("not assessed" in n and "e" in n for n in found.notes)
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
    assert any("dummy columns nearly equal" in n for n in found.notes)
