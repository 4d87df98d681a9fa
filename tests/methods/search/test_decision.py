"""The curve, the rule, the gate and the promise on tables whose answer is known."""

from dataclasses import replace

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.evaluate.setting import Setting
from chaff.methods.search.lens import curves_of_lenses
from chaff.methods.search.linear_lens import LinearLens
from chaff.methods.search.search_data import SearchData
from chaff.methods.search.size_choice import SizeCurve, SizeRule, Sizes, bound_of, choose
from chaff.results.verdict import Pin
from chaff.work import Work


def decided(table, stage=None, repeats=1, **fields):
    setting = Setting.of(table, 5, repeats, **fields)
    stage = stage or chaff.Search()
    trail = stage.judge(table, setting)
    return trail, {v.feature: v for v in stage.verdicts(trail, setting)}


def line_table(n=200, p=12, seed=0, r2=0.6):
    rng = np.random.default_rng(seed)
    X = rng.normal(size=(n, p))
    f = X[:, 0] + X[:, 1] - X[:, 2]
    return chaff.open_arrays(X, f + rng.normal(size=n) * f.std() * np.sqrt((1 - r2) / r2))


@pytest.fixture(scope="module")
def data():
    table = line_table(120, 4)
    return SearchData.of(table, Setting.of(table), [chaff.Ridge()])


def curve(data, values, label="linear"):
    """A curve whose scores in every split are given: rows lose what makes it so."""
    values = np.array(values, float)
    sizes = tuple(range(len(values)))
    losses = np.empty((len(values), 1, len(data.table)))
    for k, split in enumerate(data.splits):
        losses[:, 0, data.folds.rows(split)[1]] = 1.0 - values[:, k : k + 1]
    sets = tuple(frozenset(data.table.features[:s]) for s in sizes)
    means = np.array([data.mean_losses(x) for x in losses])
    return SizeCurve(label, chaff.Ridge(), sizes, values, losses, means, sets, (sets,) * 5)


def with_losses(data, c, losses):
    return replace(c, losses=losses, mean_losses=np.array([data.mean_losses(x) for x in losses]))


def never():
    return False


def chosen(data, curves, rule=None, signal=never, **more):
    return choose(Sizes(curves, data, [[True] * len(c.sizes) for c in curves]), rule or SizeRule(), signal, **more)


def test_the_bound_is_one_error_from_two_to_ten_per_cent_of_the_gain():
    assert [bound_of(se, 1.0) for se in (0.0, 0.01, 0.05, 0.1, float("nan"))] == [0.02, 0.02, 0.05, 0.1, 0.02]
    assert bound_of(0.11, 1.0) == 0.03  # scores so noisy tell no sizes apart


def test_the_smallest_size_within_the_bound(data):
    # Three per cent less in every row without any noise: two per cent are allowed, not three.
    c = curve(data, [np.zeros(5), np.full(5, 0.3), np.full(5, 0.485), np.full(5, 0.495), np.full(5, 0.5)])
    assert chosen(data, [c]).place == 3
    # The same differences with noise about them: one error is allowed, at most ten per cent.
    wobble = np.array([0.05, -0.05, 0.05, -0.05, 0.0])
    c = curve(data, [np.zeros(5), np.full(5, 0.44) + 4 * wobble, np.full(5, 0.485) + 4 * wobble, np.full(5, 0.495), np.full(5, 0.5)])
    assert chosen(data, [c]).place == 2
    by_hand = [
        (SizeRule(margin=0.07), 1), (SizeRule(size=1), 1), (SizeRule(keep_share=0.98), 3), (SizeRule(keep_share=0.8), 1), (SizeRule(keep_share=1), 4),
    ]  # fmt: skip
    for rule, place in by_hand:
        assert chosen(data, [c], rule).place == place, rule
    assert chosen(data, [c], floor=4).place == 4


def test_nothing_is_the_answer_when_nothing_beats_it_and_no_column_tells(data):
    noise = [[0.01, -0.02, 0.03, -0.03, 0.02], [0.0, -0.04, 0.02, -0.05, 0.01]]
    c = curve(data, [np.zeros(5), *noise])
    nothing = chosen(data, [c])
    assert nothing.nothing and nothing.place == 0
    assert chosen(data, [c], signal=lambda: True).place > 0


def test_of_all_curves_the_smallest_set_within_the_bound_of_the_best_is_taken(data):
    line = curve(data, [np.zeros(5), np.full(5, 0.3), np.full(5, 0.495), np.full(5, 0.4)])
    forest = curve(data, [np.zeros(5), np.full(5, 0.2), np.full(5, 0.4), np.full(5, 0.5)], "forest")
    found = chosen(data, [forest, line])
    assert (found.curve, found.place, found.leader) == (1, 2, (0, 3))
    worse = curve(data, [np.zeros(5), np.full(5, 0.3), np.full(5, 0.45), np.full(5, 0.45)])
    assert chosen(data, [forest, worse]).curve == 0


def test_only_a_set_that_is_worse_than_the_full_one_is_enlarged(data):
    none = float(np.nanmean(data.none.losses[0]))
    c = curve(data, [np.zeros(5), np.full(5, 0.5), np.full(5, 0.5), np.full(5, 0.5), np.full(5, 0.5)])
    losses = c.losses.copy()
    rng = np.random.default_rng(1)
    for k, more in ((1, 0.07), (2, 0.04), (3, 0.01), (4, 0.0)):
        losses[k] = 0.2 * none + more * 0.8 * none * (1 + 0.1 * rng.normal(size=losses[k].shape))
    losses[0] = none
    c = with_losses(data, c, losses)
    found = chosen(data, [c])
    assert (found.ruled, found.place) == (3, 3)  # two per cent: seven and four are too many
    losses[4] += 0.8 * none * np.where(np.arange(losses.shape[2]) % 2, 0.9, -0.9)  # one error is eight per cent
    noisy = chosen(data, [with_losses(data, c, losses)])
    assert noisy.place <= 2 and noisy.place == noisy.ruled


@pytest.mark.long
def test_every_lens_has_nothing_and_the_full_set_and_is_honest_about_noise():
    rng = np.random.default_rng(3)
    table = chaff.open_arrays(rng.normal(size=(150, 60)), rng.normal(size=150))
    trail, said = decided(table)
    assert trail.choice.nothing and not trail.chosen and all(v.verdict == "drop" for v in said.values())
    for c in trail.curves:
        assert c.sizes[0] == 0 and c.sizes[-1] == 60 and c.values[0].mean() == pytest.approx(0, abs=1e-9)
        assert c.values[1:].mean(1).max() < 0.02  # searched anew inside each fold: no luck is left
    assert trail.strongest[1] > 0.01


def test_each_fold_chooses_without_its_own_rows():
    """The promise of a fold is the loss of the set that its own training rows gave: refitted here the plain way."""
    table = line_table(150, 6)
    trail, _ = decided(table, chaff.Search("ridge"))
    data, honest_losses = trail.data, trail.honest_losses
    for k, split in enumerate(data.splits):
        train, test = data.folds.rows(split)
        kept = sorted(honest_losses.sets[k])
        X = np.column_stack([table.column(f).values for f in kept])
        mean, sd = X[train].mean(0), X[train].std(0)
        Z = (X - mean) / sd
        A = Z[train].T @ Z[train]
        beta = np.linalg.solve(A + chaff.Ridge().penalty * np.diag(np.diag(A)), Z[train].T @ (table.y[train] - table.y[train].mean()))
        predicted = table.y[train].mean() + Z[test] @ beta
        np.testing.assert_allclose(honest_losses.kept[0, test], (table.y[test] - predicted) ** 2, rtol=1e-8)
        assert len({"x1", "x2", "x3"} & honest_losses.sets[k]) >= 2
    assert honest_losses.selection_frequency("x1") == 1.0


@pytest.mark.long
def test_a_cut_before_the_search_is_run_anew_inside_the_folds():
    rng = np.random.default_rng(8)
    frame = pd.DataFrame(rng.normal(size=(120, 150)), columns=[f"c{j:03d}" for j in range(150)]).assign(y=rng.normal(size=120))
    table = chaff.open_table(frame, target="y")
    cut = chaff.Relevance("leading", cut={"top": 10})
    plan = chaff.Plan((cut, chaff.Search("ridge")), chaff.Scoring(repeats=1))
    run = chaff.select(table, plan, holdout=0)
    trail = run.result("search")
    inside = [set().union(*c) for c in trail.decided.inside]
    assert any(s - set(trail.offered) for s in inside) or all(len(s) <= 10 for s in inside)
    assert len(set(map(frozenset, trail.data.offered_inside))) > 1
    assert trail.decided.values.mean(1)[1:].max() < 0.05  # the ten luckiest of 150 look like 0.3 where the cut has seen the fold


def test_pinned_features_are_in_every_set_of_every_lens_whether_they_help_or_not():
    table = line_table(160, 8)
    trail, said = decided(table, pins={"x8": Pin("x8", "keep", "asked for")})
    for c in trail.curves:
        assert all("x8" in s for s in c.sets if s) and all("x8" in s for fold in c.inside for s in fold if s)
    assert "x8" in trail.chosen and said["x8"].verdict == "keep"
    noise = chaff.open_arrays(np.random.default_rng(0).normal(size=(90, 5)), np.random.default_rng(1).normal(size=90))
    trail, _ = decided(noise, pins={"x3": Pin("x3", "keep", "asked for")})
    assert trail.chosen == ("x3",)


def test_proxies_stay_out_and_what_only_the_other_lens_sees_comes_in():
    rng = np.random.default_rng(2)
    n = 500
    x = rng.normal(size=(n, 10))
    x[:, 3] = 0.85 * x[:, 0] + np.sqrt(1 - 0.85**2) * rng.normal(size=n)  # a proxy
    y = 1.5 * x[:, 0] + x[:, 1] + 0.45 * x[:, 5] * x[:, 6] + 0.8 * rng.normal(size=n)
    trail, said = decided(chaff.open_arrays(x, y))
    assert trail.decided.label == "linear" and {"x1", "x2"} <= set(trail.chosen) and "x4" not in trail.chosen
    assert all("the second model needs it" in said[f].reason for f in trail.added)
    assert not {f"x{j}" for j in (3, 4, 5, 8, 9, 10)} & set(trail.added)


def test_two_columns_that_give_the_target_away_together_are_looked_at():
    rng = np.random.default_rng(4)
    X = rng.normal(size=(200, 6))
    trail, said = decided(chaff.open_arrays(X, X[:, 2] + X[:, 4]))
    assert trail.suspects == ("x3", "x5") and said["x3"].verdict == "review" and said["x3"].stays
    assert "with x5 predicts" in said["x3"].reason
    trail, _ = decided(line_table())
    assert not trail.suspects


def test_columns_that_are_kept_in_turn_are_told():
    rng = np.random.default_rng(6)
    n = 120
    core = rng.normal(size=n)
    frame = pd.DataFrame({"a": core + 0.3 * rng.normal(size=n), "b": core + 0.3 * rng.normal(size=n), "c": rng.normal(size=n)})
    frame["y"] = core + frame["c"] + 0.6 * rng.normal(size=n)
    trail, _ = decided(chaff.open_table(frame, target="y"), chaff.Search("ridge", size=2), repeats=10)
    honest_losses = trail.honest_losses
    assert honest_losses.selection_frequency("a") + honest_losses.selection_frequency("b") == pytest.approx(1.0, abs=0.1)
    if 0.2 <= honest_losses.selection_frequency("a") <= 0.8:
        assert honest_losses.interchangeable() == (("a", "b"),)


def test_results_do_not_depend_on_workers():
    table = line_table(110, 6)
    found = [chaff.Search().judge(table, Setting.of(table, work=Work(3, w))) for w in (1, 2)]
    for a, b in zip(*(t.curves for t in found), strict=True):
        np.testing.assert_array_equal(a.values, b.values)
    assert found[0].chosen == found[1].chosen


def test_a_metric_by_which_rows_have_no_loss_still_decides():
    table = chaff.demo.table(rows=200, target="accepted").with_features(["protein_pct", "ash_pct", "lab_temp_c"])
    run = chaff.select(table, chaff.Plan((chaff.Search("logistic"),), chaff.Scoring(metric="auc", repeats=1)), holdout=0)
    assert run.honest.metric == "auc" and 0.5 < run.honest.mean < 1 and run.honest.keep_up.answer


def test_a_model_that_fails_in_one_fold_says_so():
    class Fails:
        label, learns, reads, gives = "brittle", "design", "design", frozenset({"values"})

        def fit(self, train, work):
            raise ZeroDivisionError("no way")

    table = line_table(60, 3)
    with pytest.raises(chaff.ModelError, match="brittle failed on fold"):
        chaff.Search(Fails()).judge(table, Setting.of(table))


def test_curves_of_a_lens_hold_their_size_when_fewer_features_are_offered_inside(data):
    lens = LinearLens((chaff.Ridge(),))
    seen = curves_of_lenses([lens], data, "test")[0]
    assert seen.curves[0].sizes == (0, 1, 2, 3, 4) and seen.curves[0].frame(data)["comes"].map(len).sum() >= 4


def test_separation_is_said():
    rng = np.random.default_rng(0)
    x = rng.normal(size=(120, 3))
    frame = pd.DataFrame(x, columns=list("abc")).assign(y=np.where(x[:, 0] > 0, "up", "down"))
    trail, _ = decided(chaff.open_table(frame, target="y"), chaff.Search("logistic"))
    assert "a" in trail.chosen and any("linearly separable" in note for note in trail.notes)
    noisy = frame.assign(y=np.where(x[:, 0] + rng.normal(size=120) > 0, "up", "down"))
    trail, _ = decided(chaff.open_table(noisy, target="y"), chaff.Search("logistic"))
    assert not any("linearly separable" in note for note in trail.notes)


def test_logistic_needs_classes_before_anything_runs():
    with pytest.raises(chaff.PlanError, match="logistic needs classes"):
        chaff.select(line_table(60, 3), chaff.Plan((chaff.Search("logistic"),)))
    with pytest.raises(chaff.PlanError, match="logistic needs classes"):
        chaff.select(line_table(60, 3), chaff.Plan((chaff.Search(),), chaff.Scoring(model="logistic")))
