"""Rows that repeat one another are found, told from coincidence, and kept together."""

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.folds import make_folds, split_holdout, units_of
from chaff.table.repeated_rows import repeated_rows
from chaff.work import Work


def twice(rows=80, **more):
    rng = np.random.default_rng(0)
    frame = pd.DataFrame({"a": rng.normal(size=rows), "b": rng.integers(0, 3, rows), "y": rng.normal(size=rows)}).assign(**more)
    frame.loc[::7, "a"] = np.nan
    return pd.concat([frame, frame.iloc[:25]], ignore_index=True)


def test_equal_rows_share_a_unit_and_others_do_not():
    found = repeated_rows(chaff.open_table(twice(), target="y"))
    assert found.count == 25 and not found.coincidence and "25 rows repeat another one" in found.words
    assert (found.units[80:] == found.units[:25]).all() and np.unique(found.units).size == 80


def test_where_values_are_few_equal_rows_are_coincidence():
    rng = np.random.default_rng(1)
    frame = pd.DataFrame({"a": rng.integers(0, 3, 300), "b": rng.integers(0, 3, 300), "y": rng.integers(0, 2, 300)})
    found = repeated_rows(chaff.open_table(frame.astype({"y": str}), target="y"))
    assert found.units is None and found.coincidence and found.count > 200 and "to be expected" in found.words
    assert repeated_rows(chaff.demo.table(rows=100)).words == ""


@pytest.mark.parametrize("classes", [False, True])
def test_folds_and_holdout_never_part_them(classes):
    frame = twice()
    if classes:
        frame["y"] = np.where(frame["y"] > 0, "high", "low")
    table = chaff.open_table(frame, target="y")
    for part in make_folds(table, 5, 3).parts:
        assert (part[80:] == part[:25]).all() and np.bincount(part).min() >= 12
        if classes:
            assert min(np.bincount(part[table.y == k], minlength=5).min() for k in (0, 1)) >= 5
    train, held = split_holdout(table, 0.2, Work())
    side = np.isin(np.arange(105), held)
    assert (side[80:] == side[:25]).all() and 12 <= held.size <= 32 and train.size + held.size == 105


def test_groups_that_share_a_repeated_row_are_one_unit():
    frame = twice(mill=np.repeat(np.arange(16), 5))
    frame.loc[80:, "mill"] = 99
    table = chaff.open_table(frame, target="y", groups="mill")
    units = units_of(table)
    assert np.unique(units[80:]).size == 1 and np.unique(units[:25]).size == 1 and units[80] == units[0] != units[40]
