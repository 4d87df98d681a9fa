"""Edges of the filter families: the catalogue, views, bins, and the screen on tables as users bring them."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.methods.relevance.catalogue import ALL, GROUPS, LEADS, NAMES, better, kind_of, resolve
from chaff.methods.relevance.stage import Relevance
from chaff.work import Work
from tests.conftest import make_mixed

IGNORED = ["mill", "day", "lot_weight"]


def table_of(classes: int = 0, **columns) -> chaff.Table:
    frame = make_mixed(classes=classes).assign(**columns)
    return chaff.open_table(frame, "y", ignore=IGNORED)


def test_every_pair_of_kinds_has_a_lead_that_fits_and_tests():
    by_name = {s.name: s for s in ALL}
    for pair, lead in LEADS.items():
        assert pair in by_name[lead].fits and by_name[lead].tests


def test_names_are_the_trade_s_and_unique():
    names = [s.name for s in ALL] + [a for s in ALL for a in s.aliases]
    assert len(set(names)) == len(names) == len(NAMES)
    for expected in ("pearson_r", "cramers_v", "welch_f", "kruskal_h", "gain_ratio", "omega_squared"):
        assert expected in NAMES


@pytest.mark.parametrize("group", list(GROUPS))
def test_groups_hold_only_what_fits(group):
    for classes in (0, 2, 3):
        table = table_of(classes)
        pairs = {(kind_of(table, f), table.target.task) for f in table.features}
        for name in resolve(group, table):
            statistic = next(s for s in ALL if s.name == name)
            assert pairs & set(statistic.fits)
            assert not (statistic.two_classes and classes == 3)
    assert set(resolve("leading", table_of())) < set(resolve("fitting", table_of())) < set(resolve("all", table_of()))


def test_asking_for_nothing_or_twice():
    with pytest.raises(chaff.UsageError, match="no statistic was asked for"):
        resolve([], table_of())
    assert resolve(["f", "eta_squared", "omega_squared"], table_of()) == ("f",)


@pytest.mark.parametrize(
    ("column", "way"),
    [
        ("p", "lower"),
        ("auc_q", "lower"),
        ("pearson_r", "magnitude"),
        ("auc", "magnitude"),
        ("gini_gain", "higher"),
        ("mrmr_quotient", "lower"),
    ],
)
def test_each_column_knows_which_way_is_better(column, way):
    assert better(column) == way


def test_levels_of_a_view_with_and_without_missing_as_one():
    table = table_of()
    word, gaps = table.column("variety"), int(table.column("variety").missing.sum())
    for asked, count, own in ((None, len(word.levels) + 1, gaps), (True, len(word.levels) + 1, gaps), (False, len(word.levels), 0)):
        view = Relevance(missing_level=asked).view(table, Work())
        levels, found = view.levels_of("variety")
        assert found == count and int((levels == len(word.levels)).sum()) == own
        assert int((levels < 0).sum()) == gaps - own


def test_equal_width_bins_have_equal_width():
    from chaff.methods.relevance.families.counts import coded

    rng = np.random.default_rng(0)
    table = chaff.open_arrays(np.column_stack([rng.gamma(1, size=500), rng.normal(size=500)]), rng.normal(size=500))
    view = Relevance(bins=5, bin_kind="equal width").view(table, Work())
    codes = coded(view, ["x1"]).codes[0]
    x = table.column("x1").values
    edges = np.linspace(x.min(), x.max(), 6)
    assert (codes == np.clip(np.searchsorted(edges[1:-1], x, side="left"), 0, 4) + 1).all()
    assert np.bincount(codes)[1] > 5 * np.bincount(codes)[5]  # skewed, so the counts are far from equal


def test_dates_and_text_stand_in_the_list_without_a_figure():
    dates = pd.date_range("2024-01-01", periods=240).strftime("%Y-%m-%d")
    found = chaff.relevance(table_of(when=dates), "all")
    assert found.frame.loc["when", "effect_size"] != found.frame.loc["when", "effect_size"]
    assert found.frame.loc["when", "statistic"] == "" and found.ranked().index[-1] == "when"
    assert "when" not in found.stays({"top": 100})


def test_a_table_of_dates_only_says_so_clearly():
    frame = pd.DataFrame({"when": pd.date_range("2024-01-01", periods=50).strftime("%Y-%m-%d"), "y": np.arange(50.0)})
    table = chaff.open_table(frame, "y")
    with pytest.raises(chaff.UsageError, match="does not fit"):
        chaff.relevance(table, ["pearson_r"])
    assert chaff.screen(table).frame.loc["when", "verdict"] == "drop"
    with pytest.raises(chaff.UsageError, match="two features"):
        chaff.interactions(table)


@pytest.mark.parametrize("rows", [4, 6, 12])
def test_very_few_rows_are_screened_without_a_crash(rows):
    rng = np.random.default_rng(rows)
    frame = pd.DataFrame({"x": rng.normal(size=rows), "w": ["a", "b", "a"] * (rows // 3) + ["a"] * (rows % 3), "y": rng.normal(size=rows)})
    table = chaff.open_table(frame, "y")
    folds = 2 if rows < 6 else 3
    found = chaff.screen(table, folds=folds)
    assert set(found.frame["verdict"]) <= {"keep", "review", "drop"} and "equal rows" in found.more["rows"].index
    scores = chaff.relevance(table)
    assert (scores.frame["rows"] == rows).all()


def test_what_needs_no_folds_takes_tables_that_cannot_be_folded():
    rng = np.random.default_rng(0)
    frame = pd.DataFrame({"x": rng.normal(size=12), "z": rng.normal(size=12), "mill": "only one", "y": rng.normal(size=12)})
    table = chaff.open_table(frame, "y", groups="mill")
    assert chaff.relevance(table).frame["effect_size"].notna().all()
    assert chaff.relevance(chaff.open_table(frame.head(3), "y", ignore="mill")).frame["rows"].tolist() == [3, 3]
    for call in (chaff.prune_correlations, chaff.clusters, chaff.prune_inflation):
        assert len(call(table).frame) == 2


def test_what_a_user_may_bring_is_refused_before_any_work():
    with pytest.raises(chaff.DataError, match="infinite"):
        chaff.relevance(chaff.open_arrays(np.array([[1.0], [np.inf], [2.0]]), [1.0, 2, 3]))
    with pytest.raises(chaff.DataError, match="there is nothing to predict"):
        chaff.screen(chaff.open_arrays(np.arange(6.0).reshape(3, 2), [1.0, 1, 1]))
    with pytest.raises(chaff.DataError, match="mixes numbers and text"):
        frame = pd.DataFrame({"x": ["1", "2", "3", "4", "five"] * 4, "y": np.arange(20.0)})
        chaff.screen(chaff.open_table(frame, "y"))
    with pytest.raises(chaff.DataError, match="more than one column|same name|twice"):
        chaff.open_arrays(np.ones((3, 2)), [1.0, 2, 3], names=["x", "x"])


def test_weights_change_effects_and_leave_rows_alone():
    frame = make_mixed(classes=2)
    plain = chaff.relevance(chaff.open_table(frame, "y", ignore=IGNORED)).frame
    weighted = chaff.relevance(chaff.open_table(frame, "y", ignore=["mill", "day"], weights="lot_weight")).frame
    assert (plain["rows"] == weighted["rows"]).all()
    assert not np.allclose(plain["effect_size"], weighted["effect_size"])
    assert weighted["auc_low"].isna().all() and plain["auc_low"].notna().any()  # no theory, no interval


def test_without_intervals_the_figures_are_the_same():
    table = table_of(2)
    one, two = (chaff.relevance(table, confidence=level).frame for level in (0.95, None))
    bounds = [c for c in one.columns if c.endswith(("_low", "_high"))]
    assert two[bounds].isna().all().all() and one[bounds].notna().any().any()
    pd.testing.assert_frame_equal(one.drop(columns=bounds), two.drop(columns=bounds))


def test_a_wider_confidence_gives_wider_intervals():
    table = table_of()
    narrow, wide = (chaff.relevance(table, confidence=level).frame for level in (0.8, 0.99))
    for name in ("pearson_r", "spearman_rho", "kendall_tau", "effect_size"):
        known = narrow[f"{name}_low"].notna()
        assert (wide.loc[known, f"{name}_low"] <= narrow.loc[known, f"{name}_low"] + 1e-12).all()
        assert (wide.loc[known, f"{name}_high"] >= narrow.loc[known, f"{name}_high"] - 1e-12).all()


@pytest.mark.parametrize("target", ["accepted", "grade"])
def test_verdicts_for_classes_follow_the_mill_s_truth(target):
    frame = chaff.screen(chaff.demo.table(target=target)).frame
    truth = chaff.demo.truth()["role"]
    assert frame.loc["crumb_score", "verdict"] == "review" and not frame.loc["crumb_score", "stays"]
    assert frame.loc["lot_no", "verdict"] == "review" and frame.loc["line_id", "verdict"] == "drop"
    signal = [f for f in frame.index if truth[f] in ("signal", "noise", "repeat")]
    assert (frame.loc[signal, "verdict"] == "keep").all()
    classes = [c for c in chaff.screen(chaff.demo.table(target=target)).more["rows"].index if c.startswith("class")]
    assert len(classes) == (2 if target == "accepted" else 3)


def test_facts_say_what_a_category_and_a_date_hold():
    dates = pd.date_range("2024-01-01", periods=240).strftime("%Y-%m-%d")
    frame = chaff.screen(table_of(when=dates)).frame
    assert frame.loc["variety", "top_value"] == "Alba" and frame.loc["variety", "distinct"] == 4
    assert np.isnan(frame.loc["variety", "spread"]) and frame.loc["when", "kind"] == "date"
    assert frame.loc["organic", "kind"] == "binary" and np.isnan(frame.loc["organic", "skew"])
    text = str(chaff.screen(table_of()))
    assert text.startswith("screen · ") and "features" in text


def test_tests_are_the_leading_statistics_alone(mill_table):
    few, leading = chaff.relevance(mill_table, "tests").frame, chaff.relevance(mill_table, "leading").frame
    assert "mutual_information" in leading and "mutual_information" not in few
    for column in ("statistic", "p", "effect_size", "effect_size_low", "effect_size_high"):
        assert few[column].sort_index().equals(leading[column].sort_index())


def test_where_nothing_fits_it_is_said():
    notes = chaff.open_table(
        pd.DataFrame({"note": [f"lot {k} of mill {k * 7}" for k in range(60)], "y": np.arange(60.0)}), "y", kinds={"note": "text"}
    )
    for group in ("tests", "leading", "fitting", "all"):
        with pytest.raises(chaff.UsageError, match="no statistic fits a column"):
            chaff.relevance(notes, group)
