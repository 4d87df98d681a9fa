"""Of equals the one with the weakest claim goes and the strongest comes, in every strategy: its score alone, then its name."""

import numpy as np
import pytest

import chaff
from chaff.methods.search.model_lens import weakest, without_weakest

TREE = chaff.Tree(depth=4)


@pytest.fixture(scope="module")
def table():
    """`z_true` and `y_true` carry the class; `a` and `b` never change a tree, and come first by name."""
    rng = np.random.default_rng(0)
    z, y = rng.normal(size=(2, 120))
    flat = np.where(np.arange(120) < 2, 1.0, 0.0)
    words = np.where(z + 0.7 * y > 0, "good", "poor")
    return chaff.open_arrays(np.column_stack([flat, flat[::-1], z, y]), words, names=["a", "b", "z_true", "y_true"])


STRATEGIES = ["forward", "backward", "both", "floating", "recursive", "exhaustive", "swap", {"name": "floating", "direction": "backward"}]


@pytest.mark.parametrize("strategy", STRATEGIES, ids=str)
def test_true_columns_come_before_noise_and_leave_after_it(table, strategy):
    how = {"name": "swap", "size": 2} if strategy == "swap" else strategy
    trail = chaff.search(table, TREE, how, metric="accuracy", honest=False)
    two = trail.moves[trail.best_by_size()[2]]
    assert two.features == {"z_true", "y_true"}, [(m.action, m.feature) for m in trail.moves]
    one = trail.best_by_size().get(1)
    assert one is None or trail.moves[one].features == {"z_true"}
    going = [m.feature for m in trail.moves if m.action == "remove" and m.direction != "forward"]
    assert not going or set(going[:2]) == {"a", "b"}


def test_several_at_a_time_part_equals_by_their_score_alone(table):
    trail = chaff.search(table, TREE, {"name": "backward", "step": 2}, metric="accuracy", honest=False)
    assert set(trail.moves[1].feature.split(", ")) == {"a", "b"}
    trail = chaff.search(table, TREE, {"name": "recursive", "step": 2}, metric="accuracy", honest=False)
    assert set(trail.moves[1].feature.split(", ")) == {"a", "b"}


def test_an_elimination_looks_claims_up_only_where_equals_are_parted():
    asked = []

    def claims(names):
        asked.append(list(names))
        return {"a": 0.9, "b": 0.1, "c": 0.5}

    assert weakest(["a", "b", "c"], {"a": 0.0, "b": 0.0, "c": 0.0}, 1, claims) == ["b"] and asked == [["a", "b", "c"]]
    assert weakest(["a", "b", "c"], {"a": 0.0, "b": 0.0, "c": 1.0}, 2, claims) == ["a", "b"] and len(asked) == 1
    assert without_weakest(["a", "b", "c"], {"b"}, {"a": 0.0, "b": 0.0, "c": 0.0}, claims) == ["a", "b"]


@pytest.mark.parametrize("model", ["forest", TREE])
def test_a_run_keeps_the_true_columns_whatever_their_names(table, model):
    plan = chaff.Plan((chaff.Screen(), chaff.Search(model=model)), chaff.Scoring(metric="accuracy", repeats=1))
    trail = chaff.select(table, plan, holdout=0, state=False).result("search")
    at_two = dict(zip(trail.decided.sizes, trail.decided.sets, strict=True)).get(2)
    assert at_two is None or at_two == {"z_true", "y_true"}
