"""Relevance on tables: against SciPy column by column, gaps, weights, bins, what is refused, and the mill's truth."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
import scipy.stats as st

import chaff
from chaff.methods.relevance.catalogue import ALL
from tests.conftest import make_mixed


def opened(classes: int = 0, rows: int = 240, **options) -> chaff.Table:
    frame = make_mixed(rows, classes=classes)
    return chaff.open_table(frame, "y", ids=[], ignore=["mill", "day", *([] if options.get("weights") else ["lot_weight"])], **options)


def present(table, name):
    x = table.column(name).values
    return x[~np.isnan(x)], table.y[~np.isnan(x)]


def test_numbers_against_a_number_equal_scipy_gaps_included():
    table = opened()
    frame = chaff.relevance(table, ["pearson_r", "spearman_rho", "kendall_tau", "f", "distance_correlation", "correlation_ratio"]).frame
    for name in ("assay_0", "gap_a", "gap_b", "organic"):
        x, y = present(table, name)
        row = frame.loc[name]
        assert row["rows"] == x.size
        for column, theirs in (
            ("pearson_r", st.pearsonr(x, y)),
            ("spearman_rho", st.spearmanr(x, y)),
            ("kendall_tau", st.kendalltau(x, y)),
        ):
            assert row[column] == pytest.approx(theirs[0], rel=1e-10), column
            assert np.log(row[f"{column}_p"]) == pytest.approx(np.log(theirs[1]), rel=1e-8), column
        assert row["f"] == pytest.approx(st.linregress(x, y).rvalue ** 2 * (x.size - 2) / (1 - st.linregress(x, y).rvalue ** 2), rel=1e-9)
        assert row["pearson_r_low"] < row["pearson_r"] < row["pearson_r_high"]
    assert frame.loc["variety", ["pearson_r", "kendall_tau"]].isna().all()
    assert "y" not in frame.index


@pytest.mark.parametrize("rows", [240, 2000])
def test_numbers_between_classes_equal_scipy(rows):
    table = opened(3, rows)
    frame = chaff.relevance(table).frame
    for name in ("assay_0", "assay_3", "gap_a", "gap_b"):
        x, y = present(table, name)
        groups = [x[y == k] for k in range(3)]
        row = frame.loc[name]
        f, p = st.f_oneway(*groups)
        assert row["f"] == pytest.approx(f, rel=1e-10) and np.log(row["f_p"]) == pytest.approx(np.log(p), rel=1e-8)
        h, p = st.kruskal(*groups)
        assert row["kruskal_h"] == pytest.approx(h, rel=1e-10) and row["kruskal_h_p"] == pytest.approx(p, rel=1e-8)
        aucs = [st.mannwhitneyu(x[y == k], x[y != k]).statistic / ((y == k).sum() * (y != k).sum()) for k in range(3)]
        assert row[[f"auc of class {k}" for k in range(3)]].astype(float).tolist() == pytest.approx(aucs)
        assert abs(row["auc"] - 0.5) == pytest.approx(max(abs(a - 0.5) for a in aucs)) and row["auc_class"] in table.target.classes
    assert "ks" not in frame.columns  # two classes only, so "fitting" leaves it out


def test_categories_are_tested_from_their_counts():
    table = opened(2)
    frame = chaff.relevance(table).frame
    column = table.column("variety")
    codes = np.where(column.missing, len(column.levels), np.nan_to_num(column.values)).astype(int)
    counts = pd.crosstab(codes, table.y).to_numpy()
    row = frame.loc["variety"]
    x2 = st.chi2_contingency(counts, correction=False)
    assert row["chi_square"] == pytest.approx(x2.statistic) and row["chi_square_p"] == pytest.approx(x2.pvalue) and row["rows"] == 240
    assert row["chi_square_df"] == x2.dof == len(column.levels)  # missing is a level of its own
    without = chaff.relevance(table, ["chi_square"], missing_level=False).frame.loc["variety"]
    assert without["chi_square_df"] == x2.dof - 1 and without["rows"] == (~column.missing).sum()
    two = st.fisher_exact(pd.crosstab(table.column("organic").values, table.y))[1]
    assert frame.loc["organic", "fisher_exact_p"] == pytest.approx(two) and np.isnan(row["fisher_exact_p"])
    pooled = chaff.relevance(table, ["chi_square"], pool_below=5).frame.loc["variety"]
    assert pooled["chi_square_df"] <= x2.dof and pooled["sparse_share"] == 0 < row["sparse_share"]


def test_a_category_against_a_number_equals_scipy():
    table = opened()
    row = chaff.relevance(table, ["f", "welch_f", "kruskal_h"], missing_level=False).frame.loc["variety"]
    x, y = present(table, "variety")
    groups = [y[x == k] for k in np.unique(x)]
    assert row["f"] == pytest.approx(st.f_oneway(*groups)[0]) and row["kruskal_h"] == pytest.approx(st.kruskal(*groups)[0])
    assert row["omega_squared_low"] <= row["omega_squared"] <= row["omega_squared_high"] and 0 <= row["omega_squared"] < row["eta_squared"]


def test_weights_of_whole_numbers_equal_repeated_rows_where_defined():
    frame = make_mixed(150, classes=2).drop(columns=["mill", "day"])
    frame["lot_weight"] = np.random.default_rng(0).integers(1, 4, 150)
    many = frame.loc[frame.index.repeat(frame["lot_weight"])].drop(columns="lot_weight").reset_index(drop=True)
    names = ["auc", "ks", "mutual_information", "information_gain", "fisher_score"]
    weighted = chaff.relevance(chaff.open_table(frame, "y", weights="lot_weight", positive="class 1"), names).frame
    repeated = chaff.relevance(chaff.open_table(many, "y", positive="class 1"), names).frame
    for column in ("auc", "ks", "fisher_score"):
        np.testing.assert_allclose(weighted[column], repeated[column], rtol=1e-9)
    fitting = chaff.relevance(chaff.open_table(frame, "y", weights="lot_weight"))
    assert "kruskal_h" not in fitting.frame and "fisher_exact_p" not in fitting.frame and "chi_square" in fitting.frame
    with pytest.raises(chaff.UsageError, match="does not support row weights"):
        chaff.relevance(chaff.open_table(frame, "y", weights="lot_weight"), ["kruskal_h"])


def test_a_statistic_that_fits_nothing_names_those_that_do():
    table = opened()
    with pytest.raises(chaff.UsageError, match=r"ROC AUC.*does not fit.*choose from pearson_r"):
        chaff.relevance(table, ["auc"])
    with pytest.raises(chaff.UsageError, match=r"unknown statistic 'pearsen_r'.*Did you mean 'pearson_r'"):
        chaff.relevance(table, ["pearsen_r"])
    with pytest.raises(chaff.UsageError, match="needs two classes, not 3"):
        chaff.relevance(opened(3), ["ks"])
    with pytest.raises(chaff.UsageError, match="unknown argument 'bin'.*Did you mean 'bins'"):
        chaff.relevance(table, bin=4)
    with pytest.raises(chaff.UsageError, match="supervised bins need classes"):
        chaff.relevance(table, bin_kind="supervised")
    for settings in ({"bins": 1}, {"bin_kind": "wide"}, {"confidence": 1.0}, {"shuffles": -1}, {"adjust": "none"}):
        with pytest.raises(chaff.UsageError):
            chaff.relevance(table, **settings)


def test_every_statistic_has_a_source_a_direction_and_is_computed_somewhere():
    seen = set()
    for classes in (0, 2, 3):
        found = chaff.relevance(opened(classes), "all")
        seen |= set(found.more["statistics"].index)
        assert (found.more["statistics"]["source"].str.contains(r"\d{4}")).all()
        for name in found.more["statistics"].index:
            column = "fisher_exact_p" if name == "fisher_exact" else name
            assert found.frame[column].notna().any(), name
            assert found.rank(column).min() == 1
    assert seen == {s.name for s in ALL}


def test_effect_sizes_stand_on_one_scale_with_intervals_around_them():
    frame = chaff.relevance(opened(), "leading").frame
    known = frame["effect_size"].notna()
    assert known.all() and frame["effect_size"].between(0, 1).all()
    r = frame[frame["statistic"] == "pearson_r"]
    assert (r["effect_size_low"] <= r["effect_size"] + 1e-12).all() and (r["effect_size"] <= r["effect_size_high"] + 1e-12).all()
    assert (frame["q"] >= frame["p"]).all()


def test_bins_of_every_kind():
    table = opened(2)
    by_kind = {
        k: chaff.relevance(table, ["mutual_information"], bin_kind=k).frame["mutual_information"]
        for k in ("equal counts", "equal width", "supervised")
    }
    assert (by_kind["equal counts"] != by_kind["equal width"]).any()
    noise = chaff.open_arrays(np.random.default_rng(0).normal(size=(400, 3)), np.random.default_rng(1).integers(0, 2, 400))
    found = chaff.relevance(noise, ["mutual_information"], bin_kind="supervised")
    assert (found.frame["mutual_information"] == 0).all() and "mutual_information_p" not in found.frame  # no cut pays for itself
    gaps = chaff.relevance(table, ["information_gain"], missing_level=True).frame.loc["gap_b", "information_gain"]
    assert gaps != chaff.relevance(table, ["information_gain"]).frame.loc["gap_b", "information_gain"]


def test_shuffles_give_a_p_where_theory_gives_none():
    rng = np.random.default_rng(2)
    X = rng.normal(size=(300, 6))
    table = chaff.open_arrays(X, X[:, 0] ** 2 + 0.5 * rng.normal(size=300))
    found = chaff.relevance(table, ["mutual_information"], shuffles=60)
    frame = found.frame
    assert frame.loc["x1", "mutual_information_p"] == frame.loc["x1", "mutual_information_family_p"] == 1 / 61
    assert (frame.loc["x2":, "mutual_information_family_p"] > 0.05).all()
    assert (frame["mutual_information_family_p"] >= frame["mutual_information_p"]).all()
    assert any("too few to adjust" in n for n in chaff.relevance(table, ["mutual_information"], shuffles=9).notes)
    same = chaff.relevance(table, ["mutual_information"], shuffles=60, workers=1).frame
    pd.testing.assert_frame_equal(same, frame)


def test_mrmr_picks_like_the_plain_loop():
    table = opened(2)
    found = chaff.relevance(table, ["mrmr_difference", "mrmr_quotient", "mutual_information"], places=4)
    picks = found.more["mrmr_difference"]
    assert len(picks) == 4 and picks.loc[0, "feature"] == found.frame["mutual_information"].idxmax()
    assert picks["score"].iloc[1:].to_numpy() == pytest.approx((picks["relevance"] - picks["redundancy"]).iloc[1:].to_numpy())
    copy = make_mixed(240, classes=2).assign(twin=lambda f: f["assay_0"])
    found = chaff.relevance(chaff.open_table(copy, "y", ignore=["mill", "day", "lot_weight"]), ["mrmr_difference"], places=3)
    assert found.frame.loc[["assay_0", "twin"], "mrmr_difference"].notna().sum() == 1  # the copy tells nothing new


def test_relief_sees_what_only_works_in_company():
    rng = np.random.default_rng(3)
    X = rng.normal(size=(600, 6))
    number = chaff.open_arrays(X, X[:, 0] * X[:, 1] + 0.1 * rng.normal(size=600))
    assert set(chaff.relevance(number, ["relief"]).ranked("relief").index[:2]) == {"x1", "x2"}
    assert (chaff.relevance(number, ["pearson_r"]).frame["pearson_r"].abs() < 0.15).all()
    classes = chaff.open_arrays(X, (X[:, 0] * X[:, 1] > 0).astype(int))
    assert set(chaff.relevance(classes, ["relief"]).ranked("relief").index[:2]) == {"x1", "x2"}


@pytest.mark.long
def test_on_the_mill_curves_levels_and_leaks_are_told_apart():
    found = chaff.relevance(chaff.demo.table())
    frame, truth = found.frame, chaff.demo.truth()
    assert frame.loc["falling_number_s", "curve_f_q"] < 0.03  # a plateau; twenty mills tell no more
    assert frame.loc["protein_pct", "curve_f_q"] > 0.05  # a straight line
    noise = [f for f in frame.index if truth.loc[f, "role"] == "noise"]
    assert (frame.loc[noise, "q"] < 0.05).sum() <= 1
    assert any("crumb_score possible leakage" in n for n in found.notes)
    assert frame.loc["variety", "effect_size"] > 0.1 and frame.loc["variety", "statistic"] == "f"


def test_with_many_rows_the_effect_leads_and_a_loose_p_is_warned_about():
    rng = np.random.default_rng(4)
    table = chaff.open_arrays(rng.normal(size=(50_000, 2)), rng.normal(size=50_000))
    found = chaff.relevance(table, "leading", by="p", cut={"below": 0.5})
    assert any("rank by effect size" in n for n in found.notes) and any("keeps many null features" in n for n in found.notes)
    assert found.lead == "p" and found.ascending("p")


@pytest.mark.parametrize("trouble", ["all missing", "constant", "two rows present", "group of one", "rigid", "huge", "case"])
def test_odd_columns_give_defined_results_and_no_warnings(trouble):
    rng = np.random.default_rng(5)
    n = 60
    x, y = rng.normal(size=n), rng.integers(0, 2, n)
    if trouble == "all missing":
        x[:] = np.nan
    elif trouble == "constant":
        x[:] = 3.0
    elif trouble == "two rows present":
        x[2:] = np.nan
    elif trouble == "group of one":
        y = np.r_[1, 1, np.zeros(n - 2, int)]
        x[0] = np.nan
    elif trouble == "rigid":
        x = y.astype(float) * 2 + 0.5
        x[0] = x[0]  # zero variance within both groups
    elif trouble == "huge":
        x = x * 1e150
    frame = pd.DataFrame({"x": x, "X" if trouble == "case" else "z": rng.normal(size=n), "word": rng.choice(["a", "b", "c"], n)})
    for target in (y, rng.normal(size=n)):
        row = chaff.relevance(chaff.open_arrays(frame, target, target="goal"), "all").frame.loc["x"]
        assert set(row["kind"]) and row["rows"] == int((~np.isnan(x)).sum())
        if trouble in ("all missing", "constant", "two rows present"):
            assert np.isnan(row["p"]) or row["p"] >= 0
        if trouble == "rigid" and target is y:
            assert row["p"] < 1e-10
        if trouble == "huge":
            assert row["rows"] == n


def test_infinite_f_of_a_column_without_spread_within_the_classes():
    y = np.repeat([0, 1, 2], 20)
    frame = chaff.relevance(chaff.open_arrays(pd.DataFrame({"x": y * 1.5, "z": np.arange(60.0) % 7}), np.array(list("abc"))[y])).frame
    assert np.isinf(frame.loc["x", "f"]) and frame.loc["x", "f_p"] == 0 and np.isinf(frame.loc["x", "fisher_score"])
    assert np.isinf(frame.loc["x", "welch_f"]) and frame.loc["x", "auc"] in (0.0, 1.0)


def test_scale_shift_and_the_order_of_columns_change_nothing():
    table = opened()
    frame = make_mixed()
    moved = frame.assign(**{f"assay_{k}": frame[f"assay_{k}"] * 1e6 - 1e9 for k in range(4)})[list(frame.columns[::-1])]
    other = chaff.open_table(moved, "y", ignore=["mill", "day", "lot_weight"])
    a = chaff.relevance(table, ["pearson_r", "spearman_rho", "kendall_tau", "correlation_ratio", "mutual_information"]).frame
    b = chaff.relevance(other, ["pearson_r", "spearman_rho", "kendall_tau", "correlation_ratio", "mutual_information"]).frame.loc[a.index]
    for column in ("pearson_r", "spearman_rho", "kendall_tau", "correlation_ratio", "mutual_information"):
        np.testing.assert_allclose(a[column], b[column], rtol=1e-6, atol=1e-9)


def test_relabelled_levels_change_no_statistic():
    frame = make_mixed(classes=2)
    other = frame.assign(variety=frame["variety"].map({"Alba": "z9", "Borka": "m4", "Cerio": "a1", "Rara": "q"}))
    names = ["chi_square", "g", "mutual_information", "gini_gain"]
    a, b = (chaff.relevance(chaff.open_table(f, "y"), names).frame.loc["variety", names].astype(float) for f in (frame, other))
    np.testing.assert_allclose(a, b, rtol=1e-10)
