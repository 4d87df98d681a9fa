"""What can be asked of a search: sizes seen and honest, choices, elimination, runs, limits, prices, progress."""

import json

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.evaluate.limits import used_rows
from chaff.methods.search.choice_rules import Points, Rule, criteria, place_of
from tests.methods.search.test_strategies import table


@pytest.fixture(scope="module")
def lots():
    names = ["protein_pct", "protein_nir_pct", "ash_pct", "falling_number_s", "straw_pct", "lab_temp_c", "variety"]
    return chaff.demo.table(rows=300, priced=True).with_features(names)


def by_hand(values, **criteria):
    v = np.asarray(values, float)
    return Points(np.arange(1, len(v) + 1), v, 0.0, criteria, 0.25)


def test_rules_on_curves_made_by_hand():
    flat = by_hand(np.column_stack([[0.2, 0.5, 0.595, 0.6, 0.55]] * 4))
    assert place_of(Rule.parse("best"), flat) == 3
    assert place_of(Rule.parse("one standard error"), flat) == 3  # without any spread nothing short of the best is within an error
    assert place_of(Rule.parse({"share": 0.98}), flat) == 2 and place_of(Rule.parse({"share": 0.8}), flat) == 1
    assert place_of(Rule.parse("knee"), flat) == 1
    assert place_of(Rule.parse({"size": 5}), flat) == 4
    rng = np.random.default_rng(0)
    noisy = by_hand(np.array([[0.2], [0.5], [0.59], [0.6], [0.55]]) + 0.05 * rng.normal(size=(5, 5)))
    ok = [k for k in range(5) if _within_an_error(noisy.values, k)]
    assert place_of(Rule.parse("one standard error"), noisy) == ok[0]
    smallest = max(place_of(Rule.parse("one standard error"), noisy), place_of(Rule.parse({"share": 0.98}), noisy))
    assert place_of(Rule.parse("smallest"), noisy) == smallest
    assert place_of(Rule.parse("aic"), by_hand(np.zeros((3, 2)), aic=np.array([5.0, 3.0, 4.0]))) == 1


def _within_an_error(values, k):
    d = values[values.mean(1).argmax()] - values[k]
    return d.mean() <= np.sqrt(d.var(ddof=1) * (1 / d.size + 0.25))


@pytest.mark.parametrize(
    ("rule", "words"),
    [
        ("bst", "Did you mean 'best'"),
        ({"share": 2}, "share must be over 0"),
        ({"size": 2.5}, "size must be a whole number"),
        ({"size": 2, "share": 0.5}, "a choice is"),
        ({"cost": -1}, "cost must be 0 or more"),
        (7, "a choice is"),
        ({"size": 40}, "no set of 40 features"),
    ],
)
def test_rules_that_make_no_sense_are_refused(lots, rule, words):
    with pytest.raises(chaff.UsageError, match=words):
        chaff.search(lots, "ridge", "forward", honest=False).choose(rule)


def test_the_honest_score_of_each_size_is_that_of_a_loop_by_hand(lots):
    """The forward search written out: inside each training fold on its own inner folds, its sets scored on the rows left out."""
    trail = chaff.search(lots, chaff.Ridge(0.1), "forward", folds=4)
    scorer = chaff.SubsetScorer(lots, chaff.Ridge(0.1), folds=trail.scorer.folds)
    for k in range(4):
        inner, current = scorer.inside(k), frozenset()
        for row, size in enumerate(trail.sizes.index):
            best = max(sorted(set(lots.features) - current), key=lambda f: round(inner(current | {f}).mean, 12))
            current = current | {best}
            assert trail.honest.sets[k][row] == current and len(current) == size
            assert trail.honest.values[row, k] == pytest.approx(scorer.on_split(k, [current])[0])
    frame = trail.sizes
    np.testing.assert_allclose(frame["optimism"], frame["seen"] - frame["honest"])
    assert frame["features"].map(len).tolist() == list(frame.index)


def test_recursive_inside_the_folds_is_a_loop_by_hand(lots):
    numbers = lots.with_features([f for f in lots.features if f != "variety"])
    trail = chaff.search(numbers, "ridge", chaff.Recursive("coefficient", step=1), folds=3)
    from chaff.evaluate.setting import Setting
    from chaff.methods.importance.way import as_way

    scorer = chaff.SubsetScorer(numbers, chaff.Ridge(), folds=trail.scorer.folds)
    way = as_way({"name": "coefficient", "resamples": 0, "over_folds": False})
    for k in range(3):
        train = scorer.folds.rows(scorer.folds.splits[k])[0]
        some, folds = used_rows(numbers, scorer.inside(k).folds)
        assert len(some) == len(train)  # nothing of the rows left out is there to be seen
        current, by_size = list(numbers.features), {}
        while current:
            by_size[len(current)] = frozenset(current)
            importance = way.measure(some.with_features(tuple(current)), chaff.Ridge(), Setting(folds)).frame["importance"]
            current.remove(min(current, key=lambda f: (importance[f], f)))
        for row, size in enumerate(trail.sizes.index):
            assert trail.honest.sets[k][row] == by_size[size]


def test_the_order_of_elimination_holds_every_column(lots):
    trail = chaff.search(lots, "ridge", chaff.Recursive("coefficient", step=0.3), honest=False)
    order = trail.elimination
    assert sorted(order.index) == sorted(lots.features) and order["round"].dropna().is_monotonic_increasing
    first = order.index[0]
    assert first not in trail.moves[1].features and order.loc[first, "importance"] == min(trail.moves[1].facts["importances"].values())
    assert set(order.index[order["round"].isna()]) == trail.moves[-1].features
    other = chaff.search(lots, "ridge", chaff.Recursive("impurity", model=chaff.Forest(trees=20)), honest=False)
    assert "importance is that of forest" in other.notes[1]
    both = chaff.runs([trail, other], {"size": 3})
    assert both.shared.loc[0, "both"] + both.shared.loc[0, "only_first"] == 3
    assert chaff.search(lots, "ridge", "backward", honest=False).elimination.index[-1] == "protein_pct"
    with pytest.raises(chaff.UsageError, match="removed no feature"):
        _ = chaff.search(lots, "ridge", "forward", honest=False).elimination
    pooled = chaff.search(lots, "ridge", chaff.Recursive("pooled", step=4), honest=False)
    assert pooled.elimination["importance"].notna().all()


def test_criteria_of_a_line_are_those_of_its_fit(lots):
    numbers = lots.with_features(["protein_pct", "straw_pct", "lab_temp_c"])
    assert not any(numbers.column(f).missing.any() for f in numbers.features)
    scorer = chaff.SubsetScorer(numbers, chaff.LeastSquares())
    found = criteria(scorer, [frozenset(numbers.features), frozenset({"straw_pct"})])
    for some, features in zip(found, (list(numbers.features), ["straw_pct"]), strict=True):
        fit = chaff.linear_summary(numbers.with_features(features))
        assert some.adjusted_r2 == pytest.approx(fit.adjusted_r2 if hasattr(fit, "adjusted_r2") else fit.fit.adjusted)
        assert some.aic == pytest.approx(fit.aic if hasattr(fit, "aic") else fit.fit.aic)
        assert some.bic == pytest.approx(fit.bic if hasattr(fit, "bic") else fit.fit.bic)


def test_ridge_spends_fewer_degrees_of_freedom_and_logistic_has_criteria_too(lots):
    full = frozenset(lots.features)
    plain, ridge = (criteria(chaff.SubsetScorer(lots, m), [full])[0] for m in (chaff.LeastSquares(), chaff.Ridge(0.5)))
    n = len(lots)
    assert (ridge.bic - ridge.aic) / (np.log(n) - 2) < (plain.bic - plain.aic) / (np.log(n) - 2) - 0.5
    classes = chaff.demo.table(rows=300, target="accepted").with_features(["protein_pct", "lab_temp_c", "ash_pct"])
    trail = chaff.search(classes, "logistic", "forward", honest=False)
    assert "aic" in trail.sizes and trail.choose("bic").features and "adjusted_r2" not in trail.sizes
    with pytest.raises(chaff.UsageError, match="adjusted R² exists for"):
        trail.choose("adjusted_r2")
    X = chaff.models.fit(classes, chaff.Logistic(1e-6))
    near = criteria(chaff.SubsetScorer(classes, chaff.Logistic(1e-6)), [frozenset(classes.features)])[0]
    assert (near.bic - near.aic) / (np.log(len(classes)) - 2) == pytest.approx(4, abs=1e-3) and X is not None


def test_runs_compare_on_the_same_footing_and_share_evaluations(lots):
    one = chaff.search(lots, "ridge", "floating")
    two = chaff.search(lots, "ridge", "exhaustive", after=one)
    three = chaff.search(lots, chaff.Tree(depth=3), chaff.Forward(size=3), folds=one.scorer.folds, honest=False)
    again = chaff.search(lots, "ridge", "exhaustive", after=two, honest=False)
    assert again.evaluations == 0 and again.saved == 2**7 - 1
    found = chaff.runs([one, two, three], "best")
    assert found.frame["strategy"].tolist() == ["floating", "exhaustive", "forward"] and found.frame["settings"].tolist()[2] == "size 3"
    a, b = set(found.frame.loc["1", "features"]), set(found.frame.loc["3", "features"])
    row = found.shared.set_index(["first", "second"]).loc[("1", "3")]
    assert (row["both"], row["only_first"], row["only_second"]) == (len(a & b), len(a - b), len(b - a))
    assert row["alike"] == pytest.approx(len(a & b) / len(a | b))
    assert found.features().sum().tolist() == found.frame["size"].tolist()
    assert "3 searches on the same folds" in str(found) and "<table" in found._repr_html_() and json.dumps(found.as_plain(), default=str)
    with pytest.raises(chaff.UsageError, match="different rows or folds"):
        chaff.runs([one, chaff.search(lots, "ridge", "forward", seed=1, honest=False)])
    with pytest.raises(chaff.UsageError, match="use one metric"):
        chaff.runs([one, chaff.search(lots, "ridge", "forward", metric="rmse", honest=False)])
    with pytest.raises(chaff.UsageError, match="list of trails"):
        chaff.runs([])
    with pytest.raises(chaff.UsageError, match="after= must be a search on the same"):
        chaff.search(lots, chaff.Ridge(0.5), "forward", after=one)


@pytest.mark.long
def test_a_total_cost_binds_every_strategy(lots):
    total = 12.0
    prices = {"protein_pct": 14.0, "protein_nir_pct": 2.0, "ash_pct": 9.0, "falling_number_s": 6.0}

    def cost(features):
        return sum(prices.get(f, 0.0) for f in features)

    best = max(
        (m for m in chaff.search(lots, "ridge", "exhaustive", honest=False).moves if cost(m.features) <= total),
        key=lambda m: m.values.mean(),
    )
    for strategy in ("forward", "floating", "exhaustive", "genetic", "random", "annealing", chaff.Swap(3), "branch and bound"):
        trail = chaff.search(lots, "ridge", strategy, total_cost=total, honest=False)
        chosen = trail.choose("best")
        assert 0 <= chosen.cost <= total and chosen.cost == cost(chosen.features), strategy
        assert all(cost(m.features) <= total for m in trail.moves), strategy
        assert chosen.seen <= best.values.mean() + 1e-9
        if strategy in ("exhaustive", "genetic"):
            assert chosen.seen == pytest.approx(best.values.mean())
    assert trail.frame["score_per_cost"].notna().any()
    with pytest.raises(chaff.UsageError, match="backward visited no set that costs 12 or less; use forward"):
        chaff.search(lots, "ridge", "backward", total_cost=total)
    front = chaff.search(lots, "ridge", "exhaustive", honest=False).cost_front
    assert front["score"].is_monotonic_increasing and front.index.is_monotonic_increasing
    for c, row in front.iterrows():
        assert cost(row["features"]) == c
    assert chaff.search(lots, "ridge", "exhaustive", honest=False).choose({"cost": 12}, by="seen").seen == pytest.approx(best.values.mean())


def test_a_panel_is_paid_once():
    from chaff.table.set_costs import Prices

    t = chaff.demo.table(rows=100, priced=True)
    prices = Prices.of(t)
    assert prices.of_set(["gluten_wet_pct"]) == prices.of_set(["gluten_wet_pct", "gluten_dry_pct", "gluten_washed_g"]) == 12
    assert prices.of_set(["gluten_wet_pct", "ash_pct", "lab_temp_c"]) == 21 and not Prices.of(chaff.demo.table(rows=100))


@pytest.mark.parametrize(
    ("terms", "words"),
    [
        ({"costs": {"a": -1.0}}, "cost of 'a' must be 0 or more"),
        ({"costs": {"pannel": 1.0}, "panels": {"panel": ["a"]}}, "Did you mean 'panel'"),
        ({"panels": {"a": ["b"]}}, "a column of that name exists already"),
        ({"panels": {"p": ["zz"]}}, "in panel 'p'"),
        ({"panels": {"p": ["a"], "q": ["a", "b"]}}, "in two panels, 'p' and 'q'"),
    ],
)
def test_prices_that_make_no_sense_are_refused(terms, words):
    frame = pd.DataFrame(np.random.default_rng(0).normal(size=(30, 3)), columns=["a", "b", "y"])
    with pytest.raises(chaff.ChaffError, match=words):
        chaff.open_table(frame, "y", **terms)


def test_budgets_that_nothing_fits_are_refused(lots):
    some = lots.with_features(["protein_pct", "ash_pct"])
    with pytest.raises(chaff.UsageError, match="no feature is within the total cost of 3: the cheapest feature, 'ash_pct', costs 9"):
        chaff.search(some, "ridge", "forward", total_cost=3)
    with pytest.raises(chaff.UsageError, match="pinned in costs 14 already"):
        chaff.search(some, "ridge", "forward", total_cost=10, pins=[chaff.pin_keep("protein_pct", because="asked for")])
    with pytest.raises(chaff.UsageError, match="needs to know what features cost"):
        chaff.search(table(), "ridge", "forward", total_cost=10)
    with pytest.raises(chaff.UsageError, match="total_cost must be 0 or more"):
        chaff.search(lots, total_cost=-1)
    with pytest.raises(chaff.UsageError, match="the table knows no costs"):
        _ = chaff.search(table(), "ridge", "forward", honest=False).cost_front


@pytest.mark.long
def test_evaluations_and_time_end_a_search_with_the_best_so_far(lots):
    for strategy in ("floating", "genetic", "exhaustive", "annealing", "recursive"):
        whole = chaff.search(lots, chaff.Tree(depth=3), strategy, honest=False, folds=3)
        short = chaff.search(lots, chaff.Tree(depth=3), strategy, evaluations=5, folds=3)
        assert short.evaluations <= 5 and short.stopped.startswith("stopped after 5 scored sets") and short.stopped in short.notes
        walked = [m.features for m in short.moves if m.action != "try"]
        assert walked == [m.features for m in whole.moves if m.action != "try"][: len(walked)] and short.honest is not None
        assert len({m.features for m in short.moves}) == 5 and short.choose("best", by="seen").seen == pytest.approx(short.means.max())
    slow = chaff.search(lots, chaff.Forest(trees=200), "exhaustive", seconds=0.4, honest=False)
    assert "stopped after 0.4 s" in slow.stopped and 0 < slow.evaluations < 2**7 - 1 and slow.seconds < 20
    with pytest.raises(chaff.UsageError, match="evaluations must be over 0"):
        chaff.search(lots, evaluations=0)


def test_sizes_out_of_range_are_refused_before_anything_runs(lots):
    with pytest.raises(chaff.UsageError, match="size 40 is more than the 7 features there are"):
        chaff.search(lots, "ridge", chaff.Forward(size=40))
    pins = [chaff.pin_keep(f, because="x") for f in ("ash_pct", "protein_pct", "straw_pct")]
    with pytest.raises(chaff.UsageError, match="size 2 is less than the 3 features that are pinned in"):
        chaff.search(lots, "ridge", chaff.Floating(size=2), pins=pins)
    with pytest.raises(chaff.UsageError, match="smallest 6 is more than size 3"):
        chaff.search(lots, "ridge", chaff.Genetic(size=3, smallest=6))
    with pytest.raises(chaff.UsageError, match="is more than the 7 features"):
        chaff.select(lots, plan=chaff.Plan((chaff.Search("ridge", chaff.Forward(size=40)),)))
    with pytest.raises(chaff.UsageError, match="nothing to search"):
        chaff.search(lots, pins=[chaff.pin_drop(f, because="x") for f in lots.features])
    with pytest.raises(chaff.UsageError, match="Did you mean 'floating'"):
        chaff.search(lots, "ridge", "floatin")
    with pytest.raises(chaff.UsageError, match="log_loss"):
        chaff.search(lots, "ridge", "forward", metric="log_loss")
    with pytest.raises(chaff.UsageError, match="unknown metric|no metric|there are"):
        chaff.search(lots, "ridge", "forward", metric="r3")


def test_whoever_watches_is_told_of_every_move(lots):
    seen = []
    trail = chaff.search(lots, "ridge", "forward", folds=3, progress=seen.append)
    mine = [p for p in seen if p.phase == "forward"]
    assert [p.move for p in mine] == list(range(1, 8)) and mine[-1].left == 0 and mine[-1].best == pytest.approx(trail.means.max())
    assert mine[3].left > 0 and mine[3].evaluations == 7 + 6 + 5 + 4
    assert {p.phase for p in seen} == {"forward", *(f"forward, inside fold {k} of 3" for k in (1, 2, 3))}
    assert "best" in str(mine[2]) and "sets scored" in str(mine[2])


def test_findings_say_why_each_column_stayed_or_went(lots):
    pins = [chaff.pin_keep("straw_pct", because="asked for"), chaff.pin_drop("protein_nir_pct", because="broken")]
    trail = chaff.search(lots, "ridge", "forward", pins=pins)
    found = trail.findings({"size": 3})
    frame = found.frame
    assert frame.loc["straw_pct", "by"] == "pin" and "asked for" in frame.loc["straw_pct", "reason"]
    assert frame.loc["protein_nir_pct", "verdict"] == "drop" and "broken" in frame.loc["protein_nir_pct", "reason"]
    chosen = trail.choose({"size": 3})
    assert set(frame.index[frame["chosen"]]) == set(chosen.features)
    scorer = trail.scorer.free()
    for f in trail.offered:
        less = scorer(set(chosen.features) ^ {f}).mean - chosen.seen
        assert frame.loc[f, "worth"] == pytest.approx(-less if f in chosen.features else less, abs=1e-9)
        assert frame.loc[f, "selection_frequency"] == trail.honest.selection_frequency(3, f)
    tree = chaff.search(lots, chaff.Tree(depth=2), chaff.Forward(size=2), folds=3).findings()
    assert tree.frame["worth"].isna().all() and tree.lead == "selection_frequency"


def test_a_trail_is_saved_and_shown(lots, tmp_path):
    trail = chaff.search(lots, chaff.Ridge(0.1), {"name": "floating", "size": 4})
    trail.save(tmp_path / "trail.json")
    told = json.loads((tmp_path / "trail.json").read_text())
    assert told["model"] == {"name": "ridge", "penalty": 0.1} and told["strategy"] == {"name": "floating", "size": 4}
    assert len(told["moves"]) == len(trail.moves) and told["sizes"][0]["size"] == 1 and told["moves"][0]["features"]
    trail.save(tmp_path / "trail.csv")
    trail.save(tmp_path / "trail.parquet")
    assert len(pd.read_csv(tmp_path / "trail.csv")) == len(pd.read_parquet(tmp_path / "trail.parquet")) == len(trail.moves)
    with pytest.raises(chaff.UsageError, match=r"\.json, \.csv or \.parquet"):
        trail.save(tmp_path / "trail.txt")
    assert "floating · ridge · " in str(trail) and "cost" in str(trail) and "<table" in trail._repr_html_()
    with pytest.raises(chaff.UsageError, match="has no generations"):
        _ = trail.generations
    with pytest.raises(chaff.UsageError, match="there is no generation 3"):
        trail.front(3)
    front = trail.front()
    assert front["score"].is_monotonic_increasing and front.index[0] == 1


def test_too_many_columns_for_the_closed_form_are_refused_beforehand(lots, monkeypatch):
    import chaff.evaluate.closed as closed

    monkeypatch.setattr(closed, "CLOSED_FORM_BYTES", 1000)
    with pytest.raises(chaff.DataError, match="7 features need .* GiB in closed form"):
        chaff.search(lots, "ridge", "forward")


def test_processes_score_what_threads_score(lots):
    from concurrent.futures import ProcessPoolExecutor

    from chaff.table.set_costs import Prices

    assert Prices.of(lots)
    for model in ("ridge", chaff.Tree(depth=3)):
        threads = chaff.search(lots, model, chaff.Forward(size=2), folds=3)
        with ProcessPoolExecutor(2) as pool:
            processes = chaff.search(lots, model, chaff.Forward(size=2), folds=3, executor=pool)
        assert [m.features for m in threads.moves] == [m.features for m in processes.moves]
        np.testing.assert_allclose(threads.honest.values, processes.honest.values, rtol=1e-12)


def test_annealing_starts_hot_and_ends_cold():
    t = table(3, p=9)
    trail = chaff.search(t, "ridge", chaff.Annealing(steps=400), honest=False)
    heat = trail.frame["temperature"].dropna()
    assert heat.is_monotonic_decreasing and heat.iloc[-1] < 0.05 * heat.iloc[0]
    falls = -np.diff(trail.means)
    assert (falls[: len(falls) // 3] > 1e-9).any()  # worse sets are taken while it is hot
    best = chaff.search(t, "ridge", "exhaustive", honest=False).means.max()
    found = [
        chaff.search(t, "ridge", chaff.Annealing(steps=400), honest=False, seed=k, folds=trail.scorer.folds).means.max() for k in range(10)
    ]
    assert np.mean([f >= best - 1e-9 for f in found]) >= 0.8
    sized = chaff.search(t, "ridge", chaff.Annealing(steps=100, size=3), honest=False)
    assert max(len(m.features) for m in sized.moves) <= 3
    short = chaff.search(t, "ridge", chaff.Annealing(steps=5000, patience=30), honest=False)
    assert len(short.moves) < 1500
    for wrong in ({"taken_at_first": 1.0}, {"exchanges": 2.0}, {"steps": 0}):
        with pytest.raises(chaff.UsageError):
            chaff.Annealing(**wrong)


def test_branch_and_bound_on_a_table_is_the_best_of_each_size_and_takes_pins():
    t = table(6, p=9)
    scorer = chaff.SubsetScorer(t, chaff.LeastSquares(), folds=4)
    whole = scorer.engine.on_all_rows
    trail = chaff.search(t, chaff.LeastSquares(), "branch and bound", folds=scorer.folds, honest=False)
    from itertools import combinations

    place = scorer.engine.place
    for size, k in trail.by_size.items():
        best = min(combinations(t.features, size), key=lambda s: whole.error_of([place[f] for f in s]))
        assert trail.moves[k].features == frozenset(best)
    several = chaff.search(t, "ridge", chaff.BranchAndBound(sets=5), honest=False)
    assert max(pd.Series([len(m.features) for m in several.moves]).value_counts()) == 5
    pinned = chaff.search(t, "ridge", "branch and bound", pins=[chaff.pin_keep("c7", because="x")], honest=False)
    assert all("c7" in m.features for m in pinned.moves)
    rng = np.random.default_rng(0)
    wide = chaff.open_arrays(rng.normal(size=(100, 61)), rng.normal(size=100))
    with pytest.raises(chaff.UsageError, match="61 features are more than 60"):
        chaff.search(wide, "ridge", "branch and bound")
    with pytest.raises(chaff.UsageError, match=r"61 features would take about|would take over a million years"):
        chaff.search(wide, "ridge", "exhaustive")


def test_logistic_fits_that_start_near_end_where_they_would_have():
    t = chaff.demo.table(rows=300, target="accepted").with_features(["protein_pct", "ash_pct", "variety", "lab_temp_c", "straw_pct"])
    trail = chaff.search(t, "logistic", "forward", honest=False)
    fresh = chaff.SubsetScorer(t, chaff.Logistic(), folds=trail.scorer.folds)
    for move in trail.moves:
        np.testing.assert_allclose(move.values, fresh(move.features).values, rtol=1e-7)


@pytest.mark.long
def test_time_groups_weights_and_classes_are_searched_too():
    rng = np.random.default_rng(1)
    frame = pd.DataFrame(rng.normal(size=(160, 4)), columns=list("abcd"))
    frame["when"], frame["who"], frame["heavy"] = np.arange(160), np.arange(160) // 8, rng.uniform(0.5, 2, 160)
    frame["y"] = frame["a"] + rng.normal(size=160)
    for roles in ({"order": "when"}, {"groups": "who"}, {"weights": "heavy"}):
        some = chaff.open_table(frame, "y", ignore=[c for c in ("when", "who", "heavy") if c not in roles.values()], **roles)
        trail = chaff.search(some, "ridge", "forward")
        assert trail.choose("best").features[0] == "a" and np.isfinite(trail.sizes["honest"]).all()
    frame["y"] = pd.cut(frame["y"], 3, labels=["low", "mid", "high"]).astype(str)
    classes = chaff.open_table(frame[["a", "b", "c", "d", "y"]], "y")
    for model in ("logistic", "ridge", chaff.Tree(depth=2)):
        trail = chaff.search(classes, model, chaff.Forward(size=2), folds=3)
        assert "a" in trail.choose("best").features
