"""Correlations, associations, clusters, inflation, dependencies and components on tables."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
import scipy.stats as st

import chaff
from tests.conftest import make_mixed


@pytest.fixture(scope="module")
def table() -> chaff.Table:
    return chaff.open_table(make_mixed(), "y", ignore=["mill", "day", "lot_weight"])


@pytest.mark.parametrize(("method", "scipy"), [("pearson", st.pearsonr), ("spearman", st.spearmanr), ("kendall", st.kendalltau)])
def test_correlations_are_those_of_shared_rows(table, method, scipy):
    found = chaff.correlations(table, method, limit=0.2)
    matrix, rows = found.more["matrix"], found.more["rows"]
    for a, b in (("assay_1", "gap_a"), ("gap_a", "gap_b"), ("assay_0", "assay_2")):
        x, y = table.column(a).values, table.column(b).values
        both = ~np.isnan(x) & ~np.isnan(y)
        assert rows.loc[a, b] == both.sum() and matrix.loc[a, b] == pytest.approx(scipy(x[both], y[both])[0], rel=1e-9, abs=1e-12)
        assert matrix.loc[a, b] == matrix.loc[b, a]
    value = found.more["pairs"].columns[2]
    pairs = found.more["pairs"]
    assert (pairs[value].abs() > 0.2).all() and pairs[value].abs().is_monotonic_decreasing
    assert (pairs[f"{value}_low"] <= pairs[value]).all() and (pairs[value] <= pairs[f"{value}_high"]).all()


def test_limits_groups_target_partial_complete_and_shrinkage(table):
    found = chaff.correlations(chaff.demo.table(), limit=0.9, limits=[0.5, 0.9, 0.99])
    limits = found.more["limits"]
    assert limits["pairs"].is_monotonic_decreasing and limits.loc[0.9, "groups"] == found.frame["group"].max() == 3
    assert found.more["groups"]["size"].tolist() == [4, 2, 2]
    with_target = chaff.correlations(table, with_target=True)
    assert "y" in with_target.frame.index and "y" not in chaff.correlations(table).frame.index
    complete = chaff.correlations(table, rows="complete")
    frame = make_mixed()[["assay_1", "gap_a", "gap_b"]].dropna()
    assert (
        complete.more["matrix"].loc["assay_1", "gap_a"] == pytest.approx(frame.corr().loc["assay_1", "gap_a"])
        and "complete rows" in complete.notes[1]
    )
    partial = chaff.correlations(table, partial=True).more["matrix"].loc["assay_1", "gap_a"]
    assert partial != complete.more["matrix"].loc["assay_1", "gap_a"]
    wide = chaff.open_arrays(np.random.default_rng(0).normal(size=(20, 50)), np.arange(20.0))
    shrunk = chaff.correlations(wide)
    assert any("columns outnumber rows" in n for n in shrunk.notes) and np.linalg.eigvalsh(shrunk.more["matrix"])[0] > 0


def test_what_correlations_cannot_take_is_refused(table):
    for call, words in (
        (lambda: chaff.correlations(table, features=["variety", "assay_0"]), "chaff.associations takes every kind"),
        (lambda: chaff.correlations(table, "odd"), "method must be"),
        (lambda: chaff.correlations(table, limit=2), "between 0 and 1"),
        (lambda: chaff.correlations(table, rows="some"), "pairwise or complete"),
        (lambda: chaff.correlations(table, features=["nope"]), "not in"),
    ):
        with pytest.raises((chaff.UsageError, chaff.UnknownColumn), match=words):
            call()
    still = chaff.open_table(pd.DataFrame({"a": [1.0, 1, 1], "b": [2.0, 2, 2], "y": [1.0, 2, 3]}), "y")
    with pytest.raises(chaff.DataError, match="no column of numbers with any spread"):
        chaff.correlations(still)


def test_associations_put_every_kind_on_one_scale(table):
    matrix = chaff.associations(table).more["matrix"]
    assert matrix.loc["assay_0", "assay_1"] == pytest.approx(abs(np.corrcoef(make_mixed()[["assay_0", "assay_1"]].T)[0, 1]))
    x, levels = table.column("assay_2").values, table.column("variety").values
    there = ~np.isnan(levels)
    groups = [x[there][levels[there] == k] for k in np.unique(levels[there])]
    f = st.f_oneway(*groups)[0]
    k, n = len(groups), there.sum()
    assert matrix.loc["assay_2", "variety"] == pytest.approx(np.sqrt(max((f - 1) * (k - 1) / ((f - 1) * (k - 1) + n), 0)), abs=1e-9)
    noise = pd.DataFrame(
        {
            "many": [f"l{k}" for k in np.random.default_rng(0).integers(0, 300, 600)],
            "x": np.random.default_rng(1).normal(size=600),
            "y": np.arange(600.0),
        }
    )
    assert chaff.associations(chaff.open_table(noise, "y")).more["matrix"].loc["many", "x"] < 0.35  # eta would be 0.7
    same = pd.DataFrame({"a": list("xyz") * 40, "b": list("pqr") * 40, "y": np.arange(120.0)})
    assert chaff.associations(chaff.open_table(same, "y")).more["matrix"].loc["a", "b"] == pytest.approx(1)


def test_of_each_pair_the_weaker_claim_goes():
    frame = chaff.prune_correlations(chaff.demo.table(), pins=[chaff.pin_keep("protein_nir_pct", because="cheap")]).frame
    assert frame.loc["protein_pct", "verdict"] == "drop" and frame.loc["protein_pct", "partner"] == "protein_nir_pct"
    gone = frame[frame["verdict"] == "drop"]
    assert len(gone) == 5 and not set(gone["partner"]) & set(gone.index)  # no column goes for one that went


@pytest.mark.parametrize("linkage", ["average", "complete"])
def test_one_column_of_each_cluster_stays_and_says_why(linkage):
    table = chaff.demo.table()
    found = chaff.clusters(table, limit=0.9, linkage=linkage)
    assert found.frame.groupby("cluster")["stays"].sum().eq(1).all()
    gluten = found.frame.loc[["gluten_wet_pct", "gluten_dry_pct", "gluten_washed_g", "gluten_machine_pct"]]
    assert (
        gluten["cluster"].nunique() == 1
        and gluten.loc["gluten_wet_pct", "stays"]
        and "more relevant" in gluten.loc["gluten_dry_pct", "why"]
    )
    with pytest.raises(chaff.UsageError):
        chaff.clusters(table, linkage="single")


def test_inflation_equals_regressions_and_names_who_explains():
    rng = np.random.default_rng(0)
    X = rng.normal(size=(300, 6))
    X[:, 5] = X[:, 0] + X[:, 1] + 0.3 * rng.normal(size=300)
    table = chaff.open_arrays(X + 50, rng.normal(size=300))
    frame = chaff.inflation(table).frame
    for k in range(6):
        D = np.column_stack([np.ones(300), np.delete(X, k, 1)])
        e = X[:, k] - D @ np.linalg.lstsq(D, X[:, k], rcond=None)[0]
        r2 = 1 - e @ e / ((X[:, k] - X[:, k].mean()) ** 2).sum()
        assert frame.loc[f"x{k + 1}", "r_squared"] == pytest.approx(r2) and frame.loc[f"x{k + 1}", "tolerance"] == pytest.approx(1 - r2)
    assert {w.split()[0] for w in frame.loc["x6", "explained_by"].split(", ")} == {"x1", "x2"}


@pytest.mark.long
def test_every_member_of_an_exact_dependency_is_infinite_gaps_or_not():
    table = chaff.demo.table()  # other columns have missing values
    vif = chaff.inflation(table).frame["vif"].drop("farm_code")  # too many levels to take part unasked
    assert (
        np.isinf(vif[["sieve_coarse_pct", "sieve_medium_pct", "sieve_fine_pct"]]).all()
        and np.isfinite(vif.drop(["sieve_coarse_pct", "sieve_medium_pct", "sieve_fine_pct"])).all()
    )
    with pytest.raises(chaff.UsageError, match="a linear form does not use"):
        chaff.inflation(table, features=["delivered_on"])


def test_the_path_of_an_elimination_equals_fresh_factorisations():
    rng = np.random.default_rng(1)
    Z = rng.normal(size=(500, 12))
    X = np.column_stack([Z, Z @ rng.normal(size=(12, 8)) + 0.2 * rng.normal(size=(500, 8))])
    table = chaff.open_arrays(X, rng.normal(size=500))
    found = chaff.prune_inflation(table, 5)
    path, trail = found.more["path"], found.more["trail"]
    left = list(range(20))
    for k, column in enumerate(path.columns):
        if k:
            left.remove(int(column[1:]) - 1)
        fresh = np.diagonal(np.linalg.inv(np.corrcoef(X[:, left].T)))
        np.testing.assert_allclose(path[column].dropna(), fresh, rtol=1e-8)
    assert (path.iloc[:, -1].dropna() <= 5).all() and trail["largest_left"].iloc[-1] <= 5 and len(trail) == len(path.columns) - 1
    pinned = chaff.prune_inflation(table, 5, pins=[chaff.pin_keep(f"x{k}", because="test") for k in range(1, 21)])
    assert pinned.more["trail"].empty and (pinned.frame["verdict"] == "keep").all()


def test_dependencies_are_written_out_and_near_singular_directions_named():
    table = chaff.demo.table()
    found = chaff.dependencies(table)
    equations = found.more["equations"].set_index("column")["equation"]
    assert equations["sieve_fine_pct"] == "sieve_fine_pct = 100 - sieve_coarse_pct - sieve_medium_pct"
    assert equations["test_weight_lb_bu"] == "test_weight_lb_bu = 0.7769 × test_weight_kg_hl"
    assert found.frame.loc["sieve_coarse_pct", "equation"] == equations["sieve_fine_pct"]
    near = found.more["directions"][found.more["directions"]["near_singular"]]
    assert any("test_weight_kg_hl" in c and "test_weight_lb_bu" in c for c in near["columns"]) and "(intercept)" in near["columns"].iloc[0]
    np.testing.assert_allclose(found.more["proportions"].sum(), 1, rtol=1e-8)
    clean = chaff.open_arrays(np.random.default_rng(0).normal(size=(100, 4)), np.arange(100.0))
    assert chaff.dependencies(clean).more["equations"].empty and not chaff.dependencies(clean).more["directions"]["near_singular"].any()
    with pytest.raises(chaff.UsageError):
        chaff.dependencies(clean, tolerance=2)


def test_components_count_what_is_beyond_chance():
    rng = np.random.default_rng(2)
    X = rng.normal(size=(400, 10))
    X[:, :5] += 2 * rng.normal(size=(400, 1))
    table = chaff.open_arrays(X, rng.normal(size=400))
    found = chaff.components(table, share=0.8)
    parts = found.more["components"]
    assert (
        found.settings["significant"] == 1
        and parts["explained"].sum() == pytest.approx(1)
        and parts["cumulative"].iloc[found.settings["reach"] - 1] >= 0.8
    )
    np.testing.assert_allclose(parts["eigenvalue"], np.sort(np.linalg.eigvalsh(np.corrcoef(X.T)))[::-1])
    assert set(found.ranked().index[:5]) == {"x1", "x2", "x3", "x4", "x5"} and any("they do not select them" in n for n in found.notes)
    assert chaff.components(table, shuffles=0).more["components"]["chance"].isna().all()
    pd.testing.assert_frame_equal(
        chaff.components(table, workers=1).more["components"], chaff.components(table, workers=2).more["components"]
    )
    with pytest.raises(chaff.UsageError):
        chaff.components(table, share=0)


@pytest.mark.parametrize("trouble", ["wide", "two rows", "pair without a shared row", "constant"])
def test_odd_tables(trouble):
    rng = np.random.default_rng(3)
    frame = pd.DataFrame(rng.normal(size=(30, 4)), columns=list("abcd")).assign(y=rng.normal(size=30))
    if trouble == "wide":
        frame = frame.assign(**{f"w{k}": rng.normal(size=30) for k in range(50)})
    elif trouble == "two rows":
        frame = frame.iloc[:2].copy()
    elif trouble == "pair without a shared row":
        frame.loc[:14, "a"], frame.loc[15:, "b"] = np.nan, np.nan
    else:
        frame["a"] = 1.0
    table = chaff.open_table(frame, "y")
    if trouble == "two rows":
        assert chaff.correlations(table).more["matrix"].shape == (4, 4)
        assert chaff.inflation(table).frame["vif"].notna().all()
        return
    matrix = chaff.correlations(table).more["matrix"]
    if trouble == "pair without a shared row":
        vif = chaff.inflation(table).frame["vif"]
        assert np.isnan(matrix.loc["a", "b"]) and vif.isna().sum() == 1 and vif[["c", "d"]].notna().all()
        assert any("too many gaps, so left out: a, b" in n for n in chaff.dependencies(table).notes)
        return
    assert chaff.components(table).frame["communality"].between(0, 1 + 1e-9).all()
    vif = chaff.inflation(table).frame["vif"]
    assert np.isinf(vif).all() if trouble == "wide" else vif.notna().all()
    assert len(chaff.dependencies(table).more["equations"]) == (54 - 29 if trouble == "wide" else 0)


@pytest.mark.parametrize("size", [1e-130, 1e130])
def test_columns_of_any_size_have_the_components_and_directions_of_their_shape(size):
    rng = np.random.default_rng(0)
    X, y = rng.normal(size=(60, 3)), rng.normal(size=60)
    plain, scaled = (chaff.overlaps(chaff.open_arrays(Z, y, names=list("abc"))) for Z in (X, X * size))
    np.testing.assert_allclose(
        scaled.components.more["components"].to_numpy(float), plain.components.more["components"].to_numpy(float), rtol=1e-7
    )
    np.testing.assert_allclose(scaled.inflation.frame["vif"], plain.inflation.frame["vif"])


@pytest.mark.parametrize("size", [1e-170, 1e-300])
@pytest.mark.parametrize("gap", [False, True])
def test_columns_whose_squares_are_nothing_are_refused_like_those_whose_squares_are_endless(size, gap):
    """They would have a variance inflation of 1 and no correlation with anything."""
    X = np.random.default_rng(0).normal(size=(60, 2)) * size
    X[0, 0] = np.nan if gap else X[0, 0]
    with pytest.raises(chaff.DataError, match="its square underflows"):
        chaff.overlaps(chaff.open_arrays(X, np.arange(60.0)))
