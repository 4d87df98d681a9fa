"""A walk that grows tells what sweeping whole tables tells, and what scoring each set by itself tells."""

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.evaluate.growing_walk import GrowingWalk, can_grow
from chaff.evaluate.walk import ClosedWalk


def many(seed=0, n=150, p=40, classes=0, constant=False):
    rng = np.random.default_rng(seed)
    X = rng.normal(size=(n, p)) @ (np.eye(p) + 0.2 * rng.normal(size=(p, p))) + 3
    if constant:
        X[:, 4] = 0.0
        X[:6, 4] = 1.0  # without spread in the training rows of some fold, when rows stand in order
    y = X[:, :6].sum(1) + 4 * rng.normal(size=n)
    frame = pd.DataFrame(X, columns=[f"c{j:02d}" for j in range(p)])
    frame["y"] = pd.qcut(y, classes, labels=[f"k{j}" for j in range(classes)]).astype(str) if classes else y
    return chaff.open_table(frame, "y")


@pytest.mark.parametrize("metric", ["r2", "rmse"])
@pytest.mark.parametrize("model", [chaff.LeastSquares(), chaff.Ridge(0.2)])
@pytest.mark.parametrize("seed", range(3))
def test_it_tells_what_sweeping_tells_on_the_way_up_and_back(seed, model, metric):
    t = many(seed, p=36)
    scorer = chaff.SubsetScorer(t, model, metric, folds=4)
    grows, sweeps = scorer.engine.walk(frozenset()), ClosedWalk(scorer.engine, scorer.engine.splits, frozenset())
    assert isinstance(grows, GrowingWalk)
    rng = np.random.default_rng(seed)
    for _ in range(14):
        np.testing.assert_allclose(grows.changes().by_fold, sweeps.changes().by_fold, rtol=1e-8, atol=1e-10)
        np.testing.assert_allclose(grows.score.values, sweeps.score.values, rtol=1e-9, atol=1e-11)
        inside = sorted(grows.features)
        out = inside and rng.random() < 0.3
        name = rng.choice(inside) if out else rng.choice(sorted(set(t.features) - grows.features))
        grows.toggle(str(name))
        sweeps.toggle(str(name))
    some = grows.changes()
    for name in list(t.features)[::5]:
        np.testing.assert_allclose(some[name].values, scorer(grows.features ^ {name}).values, atol=1e-9)
        assert some[name].features == grows.features ^ {name}


def test_classes_have_several_targets():
    t = many(3, classes=3)
    scorer = chaff.SubsetScorer(t, chaff.Ridge(0.1), "r2", folds=3)
    walk = scorer.engine.walk(frozenset({"c01", "c05"}))
    assert isinstance(walk, GrowingWalk)
    for name in ("c03", "c01", "c20"):
        np.testing.assert_allclose(walk.changes([name])[name].values, scorer(walk.features ^ {name}).values, atol=1e-9)
        walk.toggle(name)


def test_it_hands_over_when_the_set_is_large_or_singular():
    t = many(1, p=20)
    scorer = chaff.SubsetScorer(t, chaff.LeastSquares(), folds=3)
    walk = scorer.engine.walk(frozenset())
    for name in t.features[:12]:
        walk.toggle(name)
        np.testing.assert_allclose(walk.score.values, scorer(walk.features).values, atol=1e-9)
    assert walk._whole is not None and isinstance(scorer.engine.walk(frozenset(t.features)), ClosedWalk)
    frame = t.source.arrow.to_pandas()
    frame["copy"] = 2 * frame["c02"]
    twins = chaff.open_table(frame, "y")
    scorer = chaff.SubsetScorer(twins, chaff.LeastSquares(), folds=3)
    walk = scorer.engine.walk(frozenset({"c02"}))
    np.testing.assert_allclose(walk.changes(["copy"])["copy"].values, scorer(["c02"]).values, atol=1e-9)
    walk.toggle("copy")
    np.testing.assert_allclose(walk.score.values, scorer(["c02"]).values, atol=1e-9)
    walk.toggle("c02")
    np.testing.assert_allclose(walk.score.values, scorer(["copy"]).values, atol=1e-9)


def test_columns_without_spread_in_a_fold_add_nothing_there():
    t = many(2, constant=True)
    folds = chaff.SubsetScorer(t, chaff.Ridge(), folds=5).folds
    scorer = chaff.SubsetScorer(t, chaff.Ridge(), folds=folds)
    walk = scorer.engine.walk(frozenset({"c00"}))
    for name in ("c04", "c09"):
        np.testing.assert_allclose(walk.changes([name])[name].values, scorer({*walk.features, name}).values, atol=1e-9)
        walk.toggle(name)
        np.testing.assert_allclose(walk.changes(["c04"])["c04"].values, scorer(walk.features ^ {"c04"}).values, atol=1e-9)


def test_categories_are_left_to_sweeping_and_unknown_names_refused():
    frame = many(0).source.arrow.to_pandas()
    frame["level"] = np.random.default_rng(0).choice(["a", "b", "c"], len(frame))
    scorer = chaff.SubsetScorer(chaff.open_table(frame, "y"), chaff.Ridge())
    assert isinstance(scorer.engine.walk(frozenset()), ClosedWalk) and not can_grow(scorer.engine.splits, 0)
    walk = chaff.SubsetScorer(many(0), chaff.Ridge()).walk()
    with pytest.raises(chaff.UnknownColumn, match="c0"):
        walk.changes(["c0x"])
    with pytest.raises(chaff.UsageError, match="no feature to change"):
        walk.changes([])
