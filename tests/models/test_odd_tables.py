"""Every learner on tables that are odd in one way: finite scores, or a sentence that says what does not fit."""

import tracemalloc

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.methods.importance.way import fits
from chaff.models import memory_needs
from chaff.models.named import MODELS, as_model


def tables():
    rng = np.random.default_rng(0)
    X = rng.normal(size=(60, 3))
    y = X[:, 0] + rng.normal(size=60)
    words = np.where(y > 0, "a", "b")
    flat = X.copy()
    flat[:, 1] = 0
    flat[5, 1] = 1
    frame = pd.DataFrame(X, columns=list("abc")).assign(w=np.r_[np.zeros(20), np.ones(40)])
    empty = pd.DataFrame(X, columns=list("abc")).assign(b=np.nan)
    empty.loc[[3, 4], "b"] = [1.0, 2.0]
    return {
        "flat in a fold": chaff.open_arrays(flat, y),
        "flat in a fold, classes": chaff.open_arrays(flat, words),
        "weights of nothing": chaff.open_table(frame.assign(y=y), "y", weights="w"),
        "weights of nothing, three classes": chaff.open_table(frame.assign(y=np.where(y < -1, "c", words)), "y", weights="w"),
        "nearly all missing": chaff.open_table(empty.assign(y=y), "y"),
        "one feature": chaff.open_arrays(X[:, :1], y),
        "more columns than rows": chaff.open_arrays(rng.normal(size=(30, 90)), rng.normal(size=30)),
        "more columns than rows, classes": chaff.open_arrays(rng.normal(size=(30, 90)), np.repeat(["a", "b", "c"], 10)),
        "twelve rows": chaff.open_arrays(X[:12], y[:12]),
        "huge": chaff.open_arrays(X * 1e12, y * 1e9),
        "tiny": chaff.open_arrays(X * 1e-12, y * 1e-9),
        "equal and opposite columns": chaff.open_arrays(np.c_[X, X[:, 0], -X[:, 1]], words),
        "groups": chaff.open_arrays(X, y, groups=np.repeat(np.arange(6), 10)),
        "in time": chaff.open_arrays(X, words, order=np.arange(60)),
    }


TABLES = tables()
FEW = (0.3, 0.05)  # penalties, so that a path is short
SMALL = {
    "forest": chaff.Forest(trees=10), "extremely random forest": chaff.ExtremelyRandomForest(trees=10), "boosting": chaff.Boosting(rounds=10),
    "lasso": chaff.Lasso(penalties=FEW), "elastic net": chaff.ElasticNet(penalties=FEW), "group lasso": chaff.GroupLasso(penalties=FEW),
}  # fmt: skip


@pytest.mark.long
@pytest.mark.parametrize("name", TABLES)
def test_every_learner_copes(name):
    table = TABLES[name]
    for label in MODELS.choices:
        model = SMALL.get(label) or as_model(label)
        try:
            values = chaff.SubsetScorer(table, model)(table.features).values
        except chaff.ModelError as error:
            assert "needs classes" in str(error) and not table.target.classes
        else:
            assert np.isfinite(values).all(), label


def test_a_category_of_thousands_of_levels_is_pooled_in_linear_learners():
    rng = np.random.default_rng(0)
    frame = pd.DataFrame({"x": rng.normal(size=2000), "code": rng.choice([f"k{k}" for k in range(1500)], 2000)})
    table = chaff.open_table(frame.assign(y=frame["x"] + rng.normal(size=2000)), "y", kinds={"code": "category"})
    for model in (chaff.Lasso(penalty=0.01), chaff.GroupLasso(penalty=0.01), chaff.LinearMargin(), chaff.Boosting(rounds=30)):
        assert chaff.SubsetScorer(table, model, folds=3)(table.features).mean > 0.3
    assert chaff.models.fit(table, chaff.Lasso(penalty=0.01)).standard.used.size == 50


@pytest.mark.parametrize(
    "model", [chaff.Lasso(penalties=FEW), chaff.GroupLasso(penalties=FEW), chaff.LinearMargin(), chaff.Neighbours(), chaff.Forest(trees=10)]
)
@pytest.mark.long
def test_memory_is_said_beforehand_and_the_peak_stays_within_a_fifth_of_it(model):
    rng = np.random.default_rng(0)
    X = rng.normal(size=(6000, 80))
    for y in (X[:, 0] + rng.normal(size=6000), np.where(X[:, 0] > 0, "a", "b")):
        table = chaff.open_arrays(X, y)
        for f in table.features:
            table.column(f)
        setting = chaff.Setting.of(table, 5)
        tracemalloc.start()
        fits(table, model, setting)
        peak = tracemalloc.get_traced_memory()[1]
        tracemalloc.stop()
        assert peak <= 1.2 * memory_needs.bytes_needed(table, model, 5)


def test_what_does_not_fit_is_refused_with_what_would(monkeypatch):
    monkeypatch.setattr(memory_needs, "machine_bytes", lambda: 2.2e7)
    with pytest.raises(chaff.DataError, match=r"ridge over 5 folds needs about .* GB.*features of these would fit"):
        chaff.importance(chaff.demo.table(rows=2000), "ridge", "permutation")


def test_out_of_bag_scores_of_noise_are_about_nothing_and_groups_are_drawn_whole():
    rng = np.random.default_rng(0)
    mill = np.repeat(np.arange(20), 15)
    shift = rng.normal(size=20)[mill]
    x = np.c_[mill + 0.01 * rng.normal(size=300), rng.normal(size=300)]
    known, whole = (chaff.open_arrays(x, shift + 0.2 * rng.normal(size=300), groups=g) for g in (None, mill))
    # Rows of one mill give one another away; drawn whole they do not.
    assert chaff.models.out_of_bag(known) > 0.5 > 0.3 > chaff.models.out_of_bag(whole)
    assert abs(chaff.models.out_of_bag(chaff.open_arrays(rng.normal(size=(400, 3)), rng.normal(size=400)))) < 0.2
    with pytest.raises(chaff.ModelError, match="draws no rows"):
        chaff.models.out_of_bag(known, "boosting")


def test_a_plan_holds_a_way_with_its_settings_and_says_them_again(tmp_path):
    plan = tmp_path / "plan.toml"
    plan.write_text(
        '[[stage]]\nuse = "importance"\nmodel = { name = "lasso", penalty = 0.05 }\nby = { name = "permutation", together = 0.9 }\n'
        "cut = { top = 2 }\n"
    )
    read = chaff.read_plan(plan)
    assert read.stages[0].by == chaff.Permutation(together=0.9) and read.stages[0].model == chaff.Lasso(penalty=0.05)
    again = tmp_path / "again.toml"
    again.write_text(read.to_toml())
    assert chaff.read_plan(again).stages[0].by == chaff.Permutation(together=0.9)
    plan.write_text(plan.read_text().replace("together", "togehter"))
    with pytest.raises(chaff.PlanError, match="Did you mean 'together'"):
        chaff.read_plan(plan)
    table = chaff.demo.table(rows=150).with_features(["protein_pct", "ash_pct", "lab_temp_c", "falling_number_s"])
    assert len(chaff.select(table, read, holdout=0, honest="quick", state=False).features) == 2
