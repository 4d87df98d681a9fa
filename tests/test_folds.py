import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.folds import make_folds, one_split, split_holdout
from tests.conftest import make_mixed

WORK = chaff.Work(seed=5)


def opened(classes=0, **roles):
    return chaff.open_table(make_mixed(230, classes=classes), target="y", **roles)


def test_every_row_is_tested_once_a_repeat_and_never_learned_from_there():
    table = opened()
    folds = make_folds(table, 5, 3, WORK)
    assert folds.count == 15 and folds.how == "5 folds × 3"
    for r in range(3):
        tested = np.concatenate([folds.rows(s)[1] for s in folds.splits if s.repeat == r])
        assert sorted(tested) == list(range(230))
    for s in folds.splits:
        train, test = folds.rows(s)
        assert not set(train) & set(test) and len(train) + len(test) == 230
    assert folds.test_share == pytest.approx(0.25, rel=0.01)
    assert not np.array_equal(folds.parts[0], folds.parts[1])


def test_classes_are_stratified_and_parts_even():
    folds = make_folds(opened(classes=3), 5, 1, WORK)
    y = opened(classes=3).y
    table = np.array([[((folds.parts[0] == k) & (y == c)).sum() for c in range(3)] for k in range(5)])
    assert np.ptp(table, axis=0).max() <= 1 and np.ptp(table.sum(1)) <= 1


def test_groups_stay_whole_in_folds_and_holdout():
    table = opened(groups="mill")
    folds = make_folds(table, 4, 2, WORK)
    for part in folds.parts:
        assert all(np.unique(part[table.groups == g]).size == 1 for g in np.unique(table.groups))
        assert np.bincount(part).min() > 30
    train, held = split_holdout(table, 0.2, WORK)
    assert not set(table.groups[train]) & set(table.groups[held]) and 0.1 < held.size / 230 < 0.3


def test_time_order_is_respected_and_beats_groups():
    table = opened(order="day", groups="mill")
    folds = make_folds(table, 5, 1, WORK)
    assert folds.how == "5 folds in time order" and len(np.unique(folds.parts[0])) == 6 and folds.count == 5
    for s in folds.splits:
        train, test = folds.rows(s)
        assert table.order[train].max() < table.order[test].min()
    train, held = split_holdout(table, 0.2, WORK)
    assert table.order[train].max() < table.order[held].min() and abs(held.size - 46) <= 1
    with pytest.raises(chaff.UsageError, match="repeats must be 1"):
        make_folds(table, 5, 2, WORK)


def test_rows_of_one_moment_stay_together():
    frame = make_mixed(200).assign(day=np.repeat(np.arange(20), 10))
    table = chaff.open_table(frame, target="y", order="day")
    part = make_folds(table, 4, 1, WORK).parts[0]
    assert all(np.unique(part[table.order == d]).size == 1 for d in range(20))
    with pytest.raises(chaff.DataError, match="too few distinct moments"):
        make_folds(chaff.open_table(frame.assign(day=frame["day"] // 10), target="y", order="day"), 5)


def test_holdout_of_classes_keeps_their_shares():
    table = opened(classes=3)
    _, held = split_holdout(table, 0.3, WORK)
    shares = np.bincount(table.y[held].astype(int)) / held.size
    np.testing.assert_allclose(shares, np.bincount(table.y.astype(int)) / 230, atol=0.01)


def test_same_seed_same_folds_other_seed_other_folds():
    a, b, c = (make_folds(opened(), 5, 1, chaff.Work(seed=s)).parts[0] for s in (1, 1, 2))
    assert np.array_equal(a, b) and not np.array_equal(a, c)


def test_one_split_is_the_holdout_in_folds_clothing():
    table = opened()
    folds = one_split(table, np.arange(100), np.arange(150, 230))
    train, test = folds.rows(folds.splits[0])
    assert train.tolist() == list(range(100)) and test.tolist() == list(range(150, 230))


@pytest.mark.parametrize("rows, folds, words", [(7, 5, "7 rows are too few for 5 folds"), (30, 1, "folds must be 2 or more")])
def test_too_few_rows_or_folds(rows, folds, words):
    frame = pd.DataFrame({"a": np.arange(rows * 1.0), "y": np.arange(rows) ** 1.5})
    with pytest.raises(chaff.ChaffError, match=words):
        make_folds(chaff.open_table(frame, target="y"), folds)


def test_too_few_groups_and_silly_holdouts():
    frame = make_mixed(60).assign(mill=np.arange(60) % 3)
    table = chaff.open_table(frame, target="y", groups="mill")
    with pytest.raises(chaff.DataError, match="3 groups are too few for 5 folds"):
        make_folds(table, 5)
    with pytest.raises(chaff.UsageError, match="share between 0 and 1"):
        split_holdout(table, 1.2, WORK)
    one = chaff.open_table(frame.assign(mill=1, other=2.0), target="y", groups="mill")
    with pytest.raises(chaff.DataError, match="one group only"):
        split_holdout(one, 0.2, WORK)
