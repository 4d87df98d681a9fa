"""Moments, Design and Bins against their definitions."""

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.table.bins import Binning, FeatureBinsLearner, equal_count_cuts
from chaff.table.design import Design, Layout
from chaff.table.levels import TrainedLevels
from chaff.table.moments import learn_shift, part_moments, table_moments
from chaff.work import Work
from tests.conftest import make_mixed

FEATURES = ("assay_0", "assay_1", "gap_a", "gap_b", "organic", "variety")


def expanded(table):
    """Design columns and target side by side, by pandas."""
    design = Design.of(table, FEATURES)
    return np.column_stack([design.X, table.y])


@pytest.fixture(params=[False, True], ids=["plain", "weighted"])
def table(request, mixed):
    return chaff.open_table(mixed, target="y", weights="lot_weight" if request.param else None)


def test_pairwise_moments_equal_their_definition(table):
    m = table_moments(table, FEATURES)
    Z = expanded(table) - m.shift
    w = np.ones(len(table)) if table.weights is None else table.weights
    seen = ~np.isnan(Z)
    X = np.nan_to_num(Z)
    W = seen * w[:, None]
    np.testing.assert_allclose(m.N, W.T @ seen, rtol=1e-12)
    np.testing.assert_allclose(m.S, (X * w[:, None]).T @ seen, atol=1e-9)
    np.testing.assert_allclose(m.Q, (X**2 * w[:, None]).T @ seen, atol=1e-9)
    np.testing.assert_allclose(m.P, (X * w[:, None]).T @ X, atol=1e-9)
    assert (m.present == seen.sum(0)).all() and m.rows == len(table)


def test_about_the_means_is_exact_mean_filling(table):
    m = table_moments(table, FEATURES)
    Z = expanded(table)
    w = np.ones(len(table)) if table.weights is None else table.weights
    mean = np.array([np.average(c[~np.isnan(c)], weights=w[~np.isnan(c)]) for c in Z.T])
    filled = np.where(np.isnan(Z), mean, Z) - mean
    np.testing.assert_allclose(m.about(m.means), (filled * w[:, None]).T @ filled, atol=1e-8)
    np.testing.assert_allclose(m.means + m.shift, mean, rtol=1e-12)


def test_parts_add_up_and_do_not_depend_on_workers(table):
    part = np.arange(len(table)) % 3
    one = part_moments(table, FEATURES, part, 3, Work(workers=1))
    two = part_moments(table, FEATURES, part, 3, Work(workers=2))
    whole = table_moments(table, FEATURES)
    total = one[0] + one[1] + one[2]
    for name in ("P", "sums", "sums_missing", "squares_missing", "weight_missing"):
        np.testing.assert_allclose(getattr(total, name), getattr(whole, name), atol=1e-8)
        for a, b in zip(one, two, strict=False):
            np.testing.assert_array_equal(getattr(a, name), getattr(b, name))


def test_shift_is_a_median_that_one_huge_cell_does_not_move(mixed):
    table = chaff.open_table(mixed, target="y")
    layout = Layout.of(table, FEATURES)
    before = learn_shift(table, layout)
    spoilt = mixed.copy()
    spoilt.loc[17, "assay_1"] = 1e9
    after = learn_shift(chaff.open_table(spoilt, target="y"), layout)
    assert np.abs(after - before).max() < 0.1


def test_layout_has_a_column_a_level_and_one_for_missing(mixed):
    table = chaff.open_table(mixed, target="y")
    layout = Layout.of(table, FEATURES)
    part, columns = layout.select(["variety"])
    names = list(part.columns)
    assert names == [layout.columns[c] for c in columns]
    assert names == ["variety = Alba", "variety = Borka", "variety = Cerio", "variety = Rara", "variety = (missing)"]
    assert [layout.columns[g] for g in layout.gaps] == ["gap_a", "gap_b"]
    X = Design.of(table, ["variety"]).X
    assert (X.sum(1) == 1).all()


def test_base_level_is_the_commonest_training_level_and_unseen_levels_have_no_column(mixed):
    table = chaff.open_table(mixed, target="y").with_features(["variety"])
    train = table.take(np.flatnonzero(mixed["variety"] != "Rara"))
    levels = TrainedLevels.learn(table_moments(train, ["variety"]))
    layout = Layout.of(table, ["variety"])
    assert [layout.columns[c] for c in levels.columns] == ["variety = Borka", "variety = Cerio", "variety = (missing)"]


def test_past_fifty_levels_the_rare_ones_share_a_column():
    rng = np.random.default_rng(0)
    codes = rng.geometric(0.03, 3000) % 80
    frame = pd.DataFrame({"farm": [f"F{k:02d}" for k in codes], "y": rng.normal(size=3000)})
    moments = table_moments(chaff.open_table(frame, target="y"), ["farm"])
    levels = TrainedLevels.learn(moments)
    counts = frame["farm"].value_counts()
    assert levels.columns.size == 49 and len(levels.pools) == 1  # base, 48 of their own, one pool
    pooled = {moments.layout.columns[c].split(" = ")[1] for c in levels.pools[0]}
    assert len(pooled) == counts.size - 49 and counts[list(pooled)].max() <= counts.iloc[48]
    C = levels.fold(moments.P.copy())
    assert C[levels.pools[0][0], levels.pools[0][0]] == counts[list(pooled)].sum()


def test_bins_of_few_values_are_the_values_and_of_many_have_equal_counts():
    assert equal_count_cuts(np.array([1.0, 2.0, 4.0]), np.array([5, 1, 3]), 10).tolist() == [1.5, 3.0]
    x = np.random.default_rng(0).normal(size=10_000)
    cuts = equal_count_cuts(*np.unique(x, return_counts=True), 10)
    assert cuts.size == 9
    np.testing.assert_allclose(np.bincount(np.searchsorted(cuts, x)), 1000, atol=1)
    assert equal_count_cuts(np.array([3.0]), np.array([7]), 10).size == 0


def test_codes_come_from_training_rows_only_and_missing_is_zero(mixed):
    table = chaff.open_table(mixed, target="y")
    train = table.take(np.arange(120))
    binning = Binning.learn(train, FEATURES, 8)
    before = binning.apply(train).codes
    spoilt = mixed.copy()
    spoilt.loc[120:, "assay_0"] *= 1e6
    again = Binning.learn(chaff.open_table(spoilt, target="y").take(np.arange(120)), FEATURES, 8)
    np.testing.assert_array_equal(before, again.apply(train).codes)
    bins = binning.apply(table)
    missing = np.isnan(table.column("gap_b").values)
    assert (bins.codes[3] == 0).tolist() == missing.tolist()
    assert bins.codes[0].max() <= 8 and bins.codes.dtype == np.uint8 and bins.codes.flags.c_contiguous
    assert bins.select(["variety"]).codes.tolist() == [bins.codes[5].tolist()]


def test_rare_levels_past_253_are_pooled_and_unseen_ones_are_as_missing():
    learner = FeatureBinsLearner(True, 400, 254)
    values = np.concatenate([np.repeat(np.arange(300.0), 3), np.arange(100.0)])
    half = FeatureBinsLearner(True, 400, 254)
    learner.add(values[:500])
    half.add(values[500:])
    learner.merge(half)
    bins = learner.finish()
    codes = bins.code(np.arange(400.0))
    assert codes[:100].tolist() == list(range(1, 101)) and bins.codes == 255
    assert (codes[253:300] == 254).all() and (codes[300:] == 0).all()


def test_values_between_cuts_fall_to_the_nearer_side():
    learner = FeatureBinsLearner(False, 0, 254)
    learner.add(np.array([1.0, 2.0, np.nan]))
    bins = learner.finish()
    assert bins.code(np.array([-9.0, 1.4, 1.6, 99.0, np.nan])).tolist() == [1, 1, 2, 2, 0]


def test_table_views(mixed):
    table = chaff.open_table(mixed, target="y")
    some = table.take([5, 3, 9])
    assert some.rows.tolist() == [3, 5, 9] and some.y.tolist() == mixed["y"][[3, 5, 9]].tolist()
    blocks = list(table.chunks(["assay_0", "gap_b"], size=100))
    assert [b.shape for _, b in blocks] == [(2, 100), (2, 100), (2, 40)]
    np.testing.assert_array_equal(np.concatenate([b[1] for _, b in blocks]), mixed["gap_b"].to_numpy())
    with pytest.raises(chaff.UnknownColumn):
        table.with_features(["assay_9"])
    assert make_mixed(60, classes=3)["y"].nunique() == 3
