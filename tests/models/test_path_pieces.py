"""What learners are built of: grids, choices of a penalty, twins, inner folds, draws of rows, pooled levels, the stopwatch."""

import numpy as np
import pytest

import chaff
from chaff.cli.console import Stopwatch
from chaff.models.forms import inner_splits, sample
from chaff.models.penalty_path import PenaltyPath, Twins, default_penalties
from chaff.models.tree_growth import COARSEST, FINEST, Drawing
from chaff.stats.penalised import Penalty
from chaff.work import Work


def path(losses, penalties=None):
    losses = np.array(losses, float)
    penalties = np.geomspace(1, 0.1, losses.shape[1]) if penalties is None else penalties
    return PenaltyPath(penalties, np.zeros((penalties.size, 3, 1)), np.zeros(penalties.size), losses)


def test_the_best_penalty_the_one_within_an_error_and_the_edges():
    middle = path([[3, 2, 1.0, 2], [3, 1.3, 1.2, 2], [3, 1.4, 1.1, 2]])
    assert middle.best == 2 and middle.at_edge == ""
    error = np.std([1.0, 1.2, 1.1], ddof=1) / np.sqrt(3)
    assert middle.one_standard_error == (1 if np.mean([2, 1.3, 1.4]) <= 1.1 + error else 2)
    assert path([[3, 2, 1.0], [3, 2, 1]]).at_edge == "low" and path([[1, 2, 3.0], [1, 2, 3]]).at_edge == "high"
    assert path([[1.0, 1.0, 2.0], [1.0, 1.0, 2.0]]).best == 0  # of two alike the larger penalty
    assert path([[2.0, 1.0]]).one_standard_error == 1  # one fold has no error


def test_the_order_of_entering_counts_a_category_once():
    coefficients = np.zeros((4, 4, 1))
    coefficients[2:, 0], coefficients[1:, 2], coefficients[3, 1] = 0.5, -0.1, 0.2
    walked = PenaltyPath(np.array([4.0, 3, 2, 1]), coefficients, np.zeros(4))
    assert walked.entered(np.array([0, 1, 3, 4])).tolist() == [2, 1, 4]


def test_default_penalties_begin_where_nothing_is_in():
    tall, wide = default_penalties(0.8, True), default_penalties(0.8, False)
    assert tall.size == wide.size == 100 and tall[0] == wide[0] == 0.8
    assert tall[-1] == pytest.approx(0.0008) and wide[-1] == pytest.approx(0.008)
    assert np.allclose(np.diff(np.log(tall)), np.log(tall[1] / tall[0]))


def test_blocks_know_their_lengths_their_columns_and_the_highest_penalty():
    penalty = Penalty(np.array([0, 2, 3, 6]), 0.5, np.array([1.0, 0.0, 2.0]))
    x = np.array([3.0, 4, 7, 0, 0, 6])
    assert penalty.lengths(x).tolist() == [5, 7, 6] and not penalty.single
    assert penalty.columns(np.array([True, False, True])).tolist() == [0, 1, 3, 4, 5]
    assert penalty.highest(x) == pytest.approx(max(5 / 1, 6 / 2) / 0.5)  # the free block sets no limit
    some = penalty.of(np.array([2, 3, 4, 5]))
    assert some.starts.tolist() == [0, 1, 4] and some.factors.tolist() == [0.0, 2.0]


def test_twins_share_a_coefficient_with_their_signs():
    rng = np.random.default_rng(0)
    Z = rng.normal(size=(40, 4))
    Z[:, 3] = -Z[:, 1]
    twins = Twins.of(Z)
    assert twins.stands.tolist() == [True, True, True, False]
    full = np.array([1.0, 0.6, 0.0, 0.0])[None, :, None]
    shared = twins.spread(full)[0, :, 0]
    assert shared.tolist() == pytest.approx([1.0, 0.3, 0.0, -0.3]) and np.allclose(Z @ shared, Z @ full[0, :, 0])


@pytest.mark.parametrize("kind", ["plain", "classes", "groups", "order"])
def test_inner_folds_follow_the_rows_as_the_outer_ones_do(kind):
    rng = np.random.default_rng(0)
    X, groups = rng.normal(size=(80, 2)), np.repeat(np.arange(16), 5)
    y = np.repeat(["a", "b"], [60, 20]) if kind == "classes" else rng.normal(size=80)
    roles = {"groups": {"groups": groups}, "order": {"order": np.arange(80)}}.get(kind, {})
    table = chaff.open_arrays(X, y, **roles)
    splits = inner_splits(sample(table, "design"), 5, Work(0, 1))
    assert len(splits) == 5 and all(not set(a) & set(b) for a, b in splits)
    if kind == "groups":
        assert all(not set(groups[a]) & set(groups[b]) for a, b in splits)
    if kind == "order":
        assert all(a.max() < b.min() for a, b in splits)
    if kind == "classes":
        assert all(np.mean(table.y[b]) == pytest.approx(np.mean(table.y)) for _, b in splits)
    again = inner_splits(sample(table, "bins"), 5, Work(0, 2))
    assert all((a == c).all() and (b == d).all() for (a, b), (c, d) in zip(splits, again, strict=True))


def test_few_rows_get_fewer_inner_folds_and_very_few_none():
    rng = np.random.default_rng(0)
    made = [inner_splits(sample(chaff.open_arrays(rng.normal(size=(n, 1)), rng.normal(size=n)), "design"), 5, Work()) for n in (9, 5, 3)]
    assert [len(s) for s in made] == [4, 2, 0]


def test_rows_count_once_or_as_often_as_they_weigh():
    once = Drawing.once(50, None)
    assert once.draws == -50 and once.counted == 1 and Drawing.once(50, None, 0.3).draws == -15
    weights = np.array([1.0, 2, 0, 4, 0.001])
    drawn = Drawing.once(5, weights)
    assert drawn.draws == 0 and drawn.times.tolist() == [FINEST // 4, FINEST // 2, 0, FINEST, 1]
    assert drawn.heaviest == drawn.times.sum() and drawn.counted == pytest.approx(drawn.times[drawn.times > 0].mean())
    many = Drawing.once(1 << 18, np.r_[2.0, np.ones((1 << 18) - 1)])  # too many for steps that tell weights apart: drawn by weight
    assert many.draws > 0 and not many.times.size and COARSEST < FINEST


def test_seconds_are_counted_by_stage_and_add_up():
    watch = Stopwatch()
    for stage in ("screen", "search", "screen"):
        watch.turn(stage)
    rows = watch.rows()
    assert [r[0] for r in rows] == ["start and reading", "screen", "search", "together"]
    assert float(rows[-1][1]) == pytest.approx(sum(watch.spent.values()), abs=0.01)
