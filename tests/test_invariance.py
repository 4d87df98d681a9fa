"""What must not matter: the order of rows and columns, units, labels, appended noise, how cells were written down."""

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import chaff
from chaff.evaluate.setting import Setting
from chaff.folds import Folds, Split
from chaff.methods.search.strategy import as_strategy, trail_of
from chaff.table.moments import table_moments

FEATURE_SET = ["protein_pct", "protein_nir_pct", "variety", "ash_pct", "falling_number_s", "mycotoxin_ppb", "shift"]
FEATURES = ["assay_0", "assay_1", "assay_2", "gap_a", "gap_b", "organic", "variety"]


def fixed_folds(part):
    part = np.asarray(part)
    return Folds((part,), tuple(Split(0, k, tuple(j for j in range(4) if j != k)) for k in range(4)), "4 folds")


def path(frame, part, model=None, features=FEATURES):
    table = chaff.open_table(frame, target="y").with_features(features)
    trail = trail_of(
        as_strategy("both"), chaff.SubsetScorer(table, model or chaff.Ridge(), folds=fixed_folds(part)), frozenset(), chaff.Work()
    )
    return [(m.action, m.feature) for m in trail.moves], trail.means


PART = np.arange(240) % 4


def test_row_order_does_not_matter(mixed):
    order = np.random.default_rng(1).permutation(240)
    a, b = path(mixed, PART), path(mixed.iloc[order].reset_index(drop=True), PART[order])
    assert a[0] == b[0]
    np.testing.assert_allclose(a[1], b[1], atol=1e-10)


def test_column_order_does_not_matter(mixed):
    a, b = path(mixed, PART), path(mixed, PART, features=FEATURES[::-1])
    assert a[0] == b[0]
    np.testing.assert_allclose(a[1], b[1], atol=1e-10)


def test_units_of_columns_and_target_do_not_matter(mixed):
    other = mixed.assign(assay_0=mixed["assay_0"] * 1e6 - 3e7, gap_b=-0.001 * mixed["gap_b"] + 5, y=1e4 * mixed["y"] + 1e6)
    a, b = path(mixed, PART), path(other, PART)
    assert a[0] == b[0]
    np.testing.assert_allclose(a[1], b[1], atol=1e-8)


def test_names_of_levels_do_not_matter(mixed):
    other = mixed.assign(
        variety=mixed["variety"].map({"Alba": "z", "Borka": "a", "Cerio": "m", "Rara": "q"}),
        organic=mixed["organic"].map({"yes": "A", "no": "B"}),
    )
    a, b = path(mixed, PART), path(other, PART)
    assert a[0] == b[0]
    np.testing.assert_allclose(a[1], b[1], atol=1e-10)


def test_forests_do_not_see_monotone_changes_of_a_number(mixed):
    numbers = ["assay_0", "assay_1", "assay_2"]
    other = mixed.assign(assay_0=np.arcsinh(mixed["assay_0"]) * 7, assay_2=mixed["assay_2"] ** 3)
    a, b = (
        chaff.SubsetScorer(chaff.open_table(f, target="y").with_features(numbers), chaff.Forest(trees=30), folds=fixed_folds(PART))(numbers)
        for f in (mixed, other)
    )
    # Only test values that fall between two training values may change sides.
    assert a.mean == pytest.approx(b.mean, abs=0.02) and a.mean > 0.3


@settings(max_examples=25, deadline=None)
@given(st.integers(0, 10_000), st.floats(0.0, 0.9), st.integers(3, 80), st.booleans())
def test_moments_hold_for_any_pattern_of_gaps(seed, share, rows, weighted):
    rng = np.random.default_rng(seed)
    X = rng.normal(50, 3, (rows, 4))
    X[rng.random(X.shape) < share] = np.nan
    frame = pd.DataFrame(X, columns=list("abcd")).assign(y=rng.normal(size=rows), w=rng.uniform(0.1, 2, rows))
    table = chaff.open_table(frame, target="y", weights="w" if weighted else None, kinds=dict.fromkeys("abcd", "number"))
    m = table_moments(table, list("abcd"))
    w = frame["w"].to_numpy() if weighted else np.ones(rows)
    Z = np.column_stack([X, frame["y"]]) - m.shift
    seen, Z = ~np.isnan(Z), np.nan_to_num(Z)
    np.testing.assert_allclose(m.N, (seen * w[:, None]).T @ seen, atol=1e-9)
    np.testing.assert_allclose(m.S, (Z * w[:, None]).T @ seen, atol=1e-8)
    np.testing.assert_allclose(m.Q, (Z**2 * w[:, None]).T @ seen, atol=1e-7)


def test_a_search_on_all_rows_of_one_frame_written_two_ways_is_one_search(mixed, tmp_path):
    mixed.to_csv(tmp_path / "a.csv", index=False, sep=";", decimal=",")
    mixed.to_parquet(tmp_path / "b.parquet")
    paths = []
    for name in ("a.csv", "b.parquet"):
        table = chaff.open_table(tmp_path / name, target="y").with_features(FEATURES)
        trail = trail_of(
            as_strategy("forward"), chaff.SubsetScorer(table, chaff.Ridge(), folds=fixed_folds(PART)), frozenset(), chaff.Work()
        )
        paths.append(([m.feature for m in trail.moves], trail.means))
    assert paths[0][0] == paths[1][0]
    np.testing.assert_allclose(paths[0][1], paths[1][1], atol=1e-10)


@pytest.mark.long
def test_relevance_and_overlap_do_not_depend_on_row_order(mill_table):
    table = mill_table.take(np.arange(0, 1600, 2))
    setting = Setting.of(table)
    for stage in (chaff.Relevance(), chaff.Overlap()):
        first = stage.judge(table.with_features(FEATURE_SET), setting).frame
        shuffled = chaff.demo.lots().iloc[::2].sample(frac=1, random_state=1).reset_index(drop=True)
        other = chaff.open_table(shuffled, target="loaf_volume", groups="mill").with_features(FEATURE_SET)
        again = stage.judge(other, Setting.of(other)).frame
        for column in first.select_dtypes("number").columns.difference(["cost"]):  # folds are dealt to rows by their place
            np.testing.assert_allclose(first[column], again[column], rtol=1e-7, atol=1e-9)
