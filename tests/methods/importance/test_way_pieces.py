"""What the ways are built of: cells of other rows in every form, what findings hold, scales, half-samples, two models beside."""

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.methods.importance.permutation import clusters, likeness, with_cells
from chaff.methods.importance.stage import side_by_side
from chaff.methods.importance.way import as_way, importance_findings
from chaff.methods.importance.ways.coefficient import half_of
from chaff.methods.importance.ways.pooled import on_scale, skill
from chaff.models.fitted_trees import chances
from chaff.models.forms import learn_form, sample, take_rows
from chaff.work import Work


def lots(n=60, seed=0, **more):
    rng = np.random.default_rng(seed)
    frame = pd.DataFrame({"a": rng.normal(size=n), "b": rng.normal(size=n), "k": rng.choice(["x", "y", "z"], n)})
    frame.loc[4, "b"] = np.nan
    return chaff.open_table(frame.assign(y=frame["a"] + rng.normal(size=n)), target="y", **more)


@pytest.mark.parametrize("form", ["design", "bins", "frame"])
def test_cells_of_other_rows_move_whole_features_and_nothing_else(form):
    rows = sample(lots(), form)
    order = np.random.default_rng(1).permutation(60)
    moved = with_cells(rows, ["b", "k"], order)

    def cells(s):
        if form == "bins":
            return {f: s.data.codes[k] for k, f in enumerate(s.features)}
        if form == "frame":
            return {f: s.data[f].astype(object).where(s.data[f].notna(), "gap").to_numpy() for f in s.features}
        starts = s.data.layout.starts
        return {f: np.nan_to_num(s.data.X[:, starts[k] : starts[k + 1]], nan=-9.0) for k, f in enumerate(s.features)}

    before, after = cells(rows), cells(moved)
    assert (before["a"] == after["a"]).all()
    for f in ("b", "k"):
        assert (after[f] == before[f][order]).all() and (after[f] != before[f]).any()


@pytest.mark.parametrize("form", ["design", "bins", "frame"])
def test_some_rows_of_a_sample_are_those_of_a_smaller_table(form):
    table, which = lots(), np.array([3, 4, 7, 50])
    prepared = learn_form(form, table, Work())
    fewer, other = take_rows(prepared.apply(table), which), prepared.apply(table.take(which))
    assert (fewer.targets == other.targets).all() and len(fewer.table) == 4
    if form == "frame":
        pd.testing.assert_frame_equal(fewer.data.reset_index(drop=True), other.data.reset_index(drop=True))
    else:
        name = "codes" if form == "bins" else "X"
        np.testing.assert_array_equal(getattr(fewer.data, name), getattr(other.data, name))


def test_likeness_is_a_correlation_for_numbers_and_the_share_of_levels_for_categories():
    rng = np.random.default_rng(0)
    x = rng.normal(size=500)
    frame = pd.DataFrame(
        {"x": x, "near": x + 0.05 * rng.normal(size=500), "band": np.where(x > 0, "high", "low"), "free": rng.normal(size=500)}
    )
    bins = sample(chaff.open_table(frame.assign(y=x), target="y", kinds={"band": "category"}), "bins").data
    like = likeness(bins)
    assert np.allclose(like, like.T) and (np.diagonal(like) == 1).all()
    assert like[0, 1] == pytest.approx(abs(np.corrcoef(bins.codes[0], bins.codes[1])[0, 1]))
    means = [bins.codes[0][bins.codes[2] == c].mean() for c in np.unique(bins.codes[2])]
    sizes = [np.sum(bins.codes[2] == c) for c in np.unique(bins.codes[2])]
    between = np.average((np.array(means) - bins.codes[0].mean()) ** 2, weights=sizes)
    assert like[0, 2] == pytest.approx(np.sqrt(between / bins.codes[0].var()))
    assert sorted(map(sorted, clusters(bins, 0.95))) == [[0, 1], [2], [3]]
    assert sorted(map(sorted, clusters(bins, 0.7))) == [[0, 1, 2], [3]]


def test_findings_hold_mean_spread_scale_and_a_corrected_test():
    table = lots()
    by_fold = np.array([[0.4, 0.01, -0.1], [0.5, -0.01, -0.2], [0.6, 0.02, 0.1], [0.5, 0.0, 0.0], [0.45, -0.02, -0.1]])
    folds = chaff.Setting.of(table, 5).folds
    found = importance_findings(as_way("permutation"), by_fold, table, folds, {}, tested=True)
    mean, sd = by_fold.mean(0), by_fold.std(0, ddof=1)
    assert found.frame["importance"].to_numpy() == pytest.approx(mean) and found.frame["importance_sd"].to_numpy() == pytest.approx(sd)
    assert found.frame["scaled"].tolist() == [1.0, pytest.approx(0.0), 0.0]
    from scipy import stats

    t = mean / (sd * np.sqrt(1 / 5 + folds.test_share))
    assert found.frame["p"].to_numpy() == pytest.approx(stats.t.sf(t, 4))
    assert found.frame["low"].iloc[0] == pytest.approx(mean[0] - stats.t.ppf(0.975, 4) * mean[0] / t[0])
    assert found.frame["significant"].tolist() == [True, False, False] and found.notes[0] == as_way("permutation").says
    assert list(found.more["by_fold"].columns) == [f"fold {k}" for k in range(1, 6)]


def test_scales_put_the_best_at_one_and_shares_add_up():
    values = np.array([3.0, -1.0, 0.5, 3.0])
    assert on_scale(values, "ranks").tolist() == pytest.approx([2.5 / 3, 0.0, 1 / 3, 2.5 / 3])
    assert on_scale(values, "shares").tolist() == pytest.approx([3 / 6.5, 0.0, 0.5 / 6.5, 3 / 6.5])
    assert on_scale(-values - 9, "shares").tolist() == [0.0] * 4


def test_the_weight_of_a_model_is_the_share_of_the_loss_that_it_saves():
    table = lots(200)
    setting = chaff.Setting.of(table, 4)
    r2 = chaff.SubsetScorer(table, chaff.Tree(), folds=setting.folds)
    saved = r2.losses([table.features])[0]
    loss, none = (
        sum(float((r.weights * x).sum()) for r, x in zip(saved, xs, strict=True))
        for xs in ([r.loss for r in saved], [r.none for r in saved])
    )
    assert skill(table, chaff.Tree(), setting) == pytest.approx(1 - loss / none)


def test_half_samples_are_half_of_every_class_or_half_of_the_groups():
    rng = np.random.default_rng(0)
    X, groups = rng.normal(size=(90, 2)), np.repeat(np.arange(9), 10)
    classes = chaff.open_arrays(X, np.repeat(["a", "b", "c"], [60, 20, 10]))
    rows = half_of(classes, Work(1), 0)
    assert np.bincount(classes.y[rows].astype(int)).tolist() == [30, 10, 5] and (half_of(classes, Work(1), 1) != rows).any()
    grouped = chaff.open_arrays(X, rng.normal(size=90), groups=groups)
    taken = groups[half_of(grouped, Work(1), 0)]
    assert np.unique(taken).size == 4 and (np.unique(taken, return_counts=True)[1] == 10).all()


def test_chances_of_coming_first_add_up_to_one_over_all_sets():
    from math import comb, factorial

    table = chances(8)
    for m in range(1, 9):
        assert table[m, :m].tolist() == pytest.approx([factorial(s) * factorial(m - s - 1) / factorial(m) for s in range(m)])
        assert sum(comb(m - 1, s) * table[m, s] for s in range(m)) == pytest.approx(1)


def test_two_models_stand_side_by_side_with_what_each_keeps():
    table = lots(120)
    one, two = (chaff.importance(table, m, "permutation", cut={"top": 1}) for m in ("ridge", "tree"))
    both = side_by_side(one, two, "ridge", "tree")
    frame = both.more["against"]
    assert frame["ridge"].tolist() == one.frame["importance"].tolist() and frame["tree"].tolist() == two.frame["importance"].tolist()
    assert "only by ridge" in both.notes[-1] and set(frame["kept by"]) <= {"both", "ridge", "tree", "neither"}
    twice = side_by_side(one, one, "ridge", "ridge").more["against"]
    assert list(twice.columns[:2]) == ["ridge (first)", "ridge (second)"] and (twice["kept by"] != "ridge (first)").all()


def test_findings_of_every_way_survive_a_file(tmp_path):
    table = lots(120)
    for model, by in (("lasso", "coefficient"), ("tree", "shapley"), ("tree", "pooled")):
        found = chaff.importance(table, model, by, cut={"top": 2})
        found.save(tmp_path / "found.json", "importance")
        again = chaff.read_findings(tmp_path / "found.json")
        np.testing.assert_allclose(again.frame["importance"], found.frame["importance"])
        assert set(again.more) == set(found.more) and again.notes == found.notes and again.frame["stays"].sum() == 2
