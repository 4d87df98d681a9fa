"""Walks over tables of rare levels and rare flags: every score and every change equals a refit, whatever the order of moves."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as some

import chaff
from chaff.methods.linear.linear_form import linear_form
from chaff.methods.linear.swept_model import Swept


def table_of(seed: int, rows: int = 70) -> chaff.Table:
    """Levels and flags so rare that in some fold they share no row with one another, or are not there at all."""
    rng = np.random.default_rng(seed)
    frame = pd.DataFrame(
        {
            "x": rng.normal(size=rows),
            "word": rng.choice(list("abcde"), rows, p=[0.5, 0.3, 0.1, 0.06, 0.04]),
            "flag": (rng.random(rows) < 0.08).astype(int),
            "other": rng.choice(["yes", "no"], rows, p=[0.1, 0.9]),
            "gap": np.where(rng.random(rows) < 0.2, np.nan, rng.normal(size=rows)),
        }
    )
    frame.loc[0, "flag"], frame.loc[1, "flag"], frame.loc[0, "other"], frame.loc[1, "other"] = 0, 1, "yes", "no"
    frame["y"] = frame["x"] + 2.0 * (frame["word"] == "b") + frame["flag"] + rng.normal(size=rows)
    return chaff.open_table(frame, "y")


@pytest.mark.long
@given(some.integers(0, 10_000), some.permutations(["x", "word", "flag", "other", "gap"]))
@settings(max_examples=60, deadline=None)
def test_a_walk_scores_like_a_fit_of_the_same_set(seed, order):
    table = table_of(seed)
    scorer = chaff.SubsetScorer(table, chaff.LeastSquares(), folds=4)
    walk = scorer.walk()
    for name in order:
        walk.toggle(name)
        np.testing.assert_allclose(walk.score.values, scorer(walk.features).values, rtol=1e-7, atol=1e-9)
    changes = walk.changes()
    for name in order:
        np.testing.assert_allclose(changes[name].values, scorer(walk.features ^ {name}).values, rtol=1e-7, atol=1e-9)
    for name in order[::-1][:3]:
        walk.toggle(name)
        np.testing.assert_allclose(walk.score.values, scorer(walk.features).values, rtol=1e-7, atol=1e-9)


@pytest.mark.parametrize("seed", range(6))
def test_the_order_of_features_in_the_table_is_nobody_s_business(seed):
    table = table_of(seed)
    back = table.with_features(table.features[::-1])
    folds = chaff.Setting.of(table, 4).folds
    one, two = (chaff.SubsetScorer(t, chaff.Ridge(), folds=folds).walk(t.features) for t in (table, back))
    np.testing.assert_allclose(one.score.values, two.score.values, rtol=1e-9, atol=1e-12)


@given(some.integers(0, 10_000), some.lists(some.integers(0, 4), min_size=1, max_size=12))
@settings(max_examples=40, deadline=None)
def test_a_swept_model_equals_a_plain_fit_after_any_moves(seed, moves):
    form = linear_form(table_of(seed))
    swept = Swept(form)
    for k in moves:
        swept.toggle(form.features[k % len(form.features)])  # a draw may leave a column with one level
    inside = np.isin(form.owner, [form.features.index(f) for f in swept.features])
    D = np.column_stack([np.ones(form.y.size), form.X[:, inside]])
    e = form.y - D @ np.linalg.lstsq(D, form.y, rcond=None)[0]
    assert swept.rss == pytest.approx(float(e @ e) / float(((form.y - form.y.mean()) ** 2).sum()), rel=1e-7)
    for name, (fall, _) in swept.gains().items():
        more = np.isin(form.owner, [form.features.index(f) for f in (*swept.features, name)])
        D = np.column_stack([np.ones(form.y.size), form.X[:, more]])
        e = form.y - D @ np.linalg.lstsq(D, form.y, rcond=None)[0]
        expected = float(e @ e) / float(((form.y - form.y.mean()) ** 2).sum())
        assert swept.rss - fall == pytest.approx(expected, rel=1e-6, abs=1e-9)
