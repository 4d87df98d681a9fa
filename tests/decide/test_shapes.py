"""How a column was spread, small enough for a file: odd columns, many batches, and what is too long to keep."""

import dataclasses
import json

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from chaff.decide.distributions import MOST_LEVELS, STEPS, Tally, shape_of, stability_index
from chaff.decide.selection_parts import ShapePart
from chaff.table.kinds import Column


def number(values):
    return Column("x", "number", np.asarray(values, float))


def words(values, levels):
    return Column("x", "category", np.asarray(values, float), tuple(levels))


@pytest.mark.parametrize(
    "values",
    [[3.0] * 50, [0.0, 1.0] * 20, [np.nan] * 10 + [2.0], list(range(7)), [1e300, -1e300] * 9, [1e-320 * k for k in range(40)], [5.0]],
)
def test_a_column_against_itself_has_not_moved_and_survives_the_file(values):
    shape = shape_of(number(values))
    back = ShapePart.model_validate(json.loads(shape.model_dump_json()))
    tally = Tally(back)
    tally.add_numbers(np.asarray(values, float))
    drift = tally.drift()
    assert drift.stability == pytest.approx(0, abs=1e-5) and drift.distance == pytest.approx(0, abs=1e-5)
    assert tally.outside == 0 and len(shape.steps) <= STEPS + 1 and drift.missing[0] == pytest.approx(drift.missing[1], abs=1e-6)


def test_a_column_of_nothing_has_no_spread():
    shape = shape_of(number([np.nan] * 5))
    assert shape.rows == 5 and shape.missing_share == 1 and not shape.steps
    tally = Tally(shape)
    tally.add_numbers(np.arange(4.0))
    assert np.isnan(tally.drift().stability) and tally.drift().missing == (1.0, 0.0) and tally.outside == 0


def test_steps_are_shares_of_rows_by_hand():
    values = np.array([1.0, 2, 2, 2, 5, 9, 9, 10])
    for value, below, upto in shape_of(number(values)).steps:
        assert below == pytest.approx((values < value).mean(), abs=1e-6) and upto == pytest.approx((values <= value).mean(), abs=1e-6)
    assert shape_of(number(values)).steps[0][0] == 1 and shape_of(number(values)).steps[-1][0] == 10


def test_a_code_with_very_many_levels_keeps_the_common_ones():
    rng = np.random.default_rng(0)
    codes = np.concatenate([np.repeat(np.arange(10), 100), 10 + np.arange(2600)])
    shape = shape_of(words(codes, [f"v{k}" for k in range(2610)]))
    assert len(shape.levels) == MOST_LEVELS and {f"v{k}" for k in range(10)} <= set(shape.levels)
    tally = Tally(shape)
    counts = np.bincount(rng.permutation(codes), minlength=2610)
    tally.add_words({f"v{k}": int(n) for k, n in enumerate(counts)})
    assert tally.drift().stability < 0.01  # what was not kept is together as frequent as it was


@settings(max_examples=80, deadline=None)
@given(
    st.lists(st.one_of(st.floats(-1e6, 1e6), st.just(float("nan")), st.integers(-3, 3).map(float)), min_size=3, max_size=120),
    st.lists(st.one_of(st.floats(-1e6, 1e6), st.just(float("nan")), st.integers(-3, 3).map(float)), min_size=1, max_size=120),
    st.integers(1, 9),
)
def test_batches_add_up_to_the_whole(old, new, pieces):
    shape = shape_of(number(old))
    whole, parts = Tally(shape), Tally(shape)
    whole.add_numbers(np.asarray(new))
    for some in np.array_split(np.asarray(new), pieces):
        parts.add_numbers(some)
    np.testing.assert_equal(dataclasses.astuple(whole.drift()), dataclasses.astuple(parts.drift()))
    assert whole.outside == parts.outside and whole.rows == len(new)
    if len(shape.steps):
        low, high = np.nanmin(old), np.nanmax(old)
        seen = np.asarray(new)[~np.isnan(new)]
        assert whole.outside == pytest.approx(((seen < low) | (seen > high)).mean() if seen.size else 0)


@given(st.lists(st.floats(0.001, 1), min_size=2, max_size=8), st.lists(st.floats(0.001, 1), min_size=8, max_size=8))
def test_stability_is_symmetric_never_below_zero_and_zero_only_where_alike(a, b):
    p, q = np.array(a) / sum(a), np.array(b[: len(a)]) / sum(b[: len(a)])
    assert stability_index(p, q) == pytest.approx(stability_index(q, p)) and stability_index(p, q) >= -1e-12
    assert stability_index(p, p) == 0
