"""Per-row losses are what an engine gives; scores are made of them, and the closed form gives the same as refits."""

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.evaluate.scorer import SubsetScorer
from chaff.models.forms import sample
from tests.oracles import parts_of_r2


@pytest.fixture(scope="module", params=["number", "two classes", "four classes"])
def table(mixed, request):
    frame = mixed
    if request.param != "number":
        count = 2 if request.param == "two classes" else 4
        frame = mixed.assign(y=pd.qcut(mixed["y"], count, labels=[f"c{k}" for k in range(count)]).astype(str))
    return chaff.open_table(frame, target="y", weights="lot_weight", ignore=["mill", "day"])


SETS = [(), ("assay_0",), ("gap_b", "variety"), ("assay_0", "assay_2", "gap_a", "organic", "variety")]


@pytest.mark.parametrize("trees", [0, 7], ids=["closed form", "forest"])
def test_scores_are_made_of_the_losses_of_the_rows(table, trees):
    model = chaff.Forest(trees=trees, leaf_rows=5) if trees else chaff.Ridge(0.2)
    scorer = SubsetScorer(table, model)
    losses = scorer.losses(SETS)
    scores = scorer.many(SETS)
    for of_set, score in zip(losses, scores, strict=True):
        assert len(of_set) == scorer.folds.count
        for split, rows in zip(scorer.folds.splits, of_set, strict=True):
            assert rows.loss.shape == (len(scorer.folds.rows(split)[1]),)
        lost, none, weight = np.array([(r.weights @ r.loss, r.weights @ r.none, r.weights.sum()) for r in of_set]).T
        r2 = scorer.metric.name == "r2"
        np.testing.assert_allclose(score.values, parts_of_r2(lost, none, weight) if r2 else lost / weight, atol=1e-9)


def test_the_closed_form_gives_the_losses_of_a_refit(table):
    closed = SubsetScorer(table, chaff.Ridge(0.2))
    features = list(SETS[-1])
    for k, split in enumerate(closed.folds.splits):
        train, test = (table.take(rows) for rows in closed.folds.rows(split))
        fitted = chaff.Ridge(0.2).fit(sample(train.with_features(features), "moments"), closed.work)
        predicted = fitted.predict(sample(test.with_features(features), "design"))
        want = closed.metric.row_loss(test.targets, predicted)
        np.testing.assert_allclose(closed.losses([features], [k])[0][0].loss, want, atol=1e-9)
