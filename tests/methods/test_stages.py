"""Each stage on small tables whose answer is known or can be had the plain way."""

import numpy as np
import pandas as pd
import pytest
import scipy.stats as ss

import chaff
from chaff.decide.plan import plan_for
from chaff.evaluate.setting import Setting
from chaff.methods.screen.facts import column_facts
from chaff.methods.screen.single_feature_r2 import single_feature_r2
from chaff.methods.search.strategy import as_strategy, trail_of
from chaff.results.verdict import Pin
from tests.conftest import make_mixed

RNG = np.random.default_rng(11)


def judge(stage, table, **fields):
    setting = Setting.of(table, **fields)
    result = stage.judge(table, setting)
    return result, {v.feature: v for v in stage.verdicts(result, setting)}


# --- screen -----------------------------------------------------------------------------------------------------------


def screened(column, n=200, **options):
    table = chaff.open_table(pd.DataFrame({"x": column, "other": RNG.normal(size=n), "y": RNG.normal(size=n)}), target="y")
    return judge(chaff.Screen(**options), table)[1]["x"]


def test_measurements_without_ties_are_no_ids():
    assert screened(RNG.normal(size=200)).verdict == "keep"
    wide = screened(RNG.permutation(10**6)[:200])  # whole numbers from a wide range, of no relation to the target
    assert wide.verdict == "review" and wide.stays and "an id?" in wide.reason


@pytest.mark.parametrize(
    "column",
    [
        np.arange(200) + 5000,
        RNG.permutation(200),
        [f"L-{k:04d}" for k in range(200)],
        [f"{k:032x}" for k in RNG.permutation(10**6)[:200]],
        10**12 + RNG.choice(10**9, 200, replace=False),
    ],
    ids=["running", "shuffled", "words", "hash", "long number"],
)
def test_ids_are_barred(column):
    v = screened(column)
    assert v.blocked and "looks like an id" in v.reason


def test_a_limit_of_none_switches_a_check_off():
    assert screened(np.arange(200), id_share=None).verdict == "keep"
    gaps = np.where(np.arange(200) % 10 < 8, np.nan, RNG.normal(size=200))
    rare = np.r_[np.zeros(199), 1]
    assert screened(gaps, doubtful="drop").verdict == "drop" and screened(gaps, missing_share=None).verdict == "keep"
    assert screened(rare, doubtful="drop").verdict == "drop" and screened(rare, top_share=None).verdict == "keep"
    doubtful = screened(gaps)
    assert (
        doubtful.verdict == "review" and doubtful.stays and "80% missing; missingness is not associated with the target" in doubtful.reason
    )
    assert screened(293.15 + RNG.normal(size=200).round(2)).verdict == "keep"  # Kelvin: little spread for its size, many digits
    steps = 4000.0 + (RNG.random(200) < 0.2) - (RNG.random(200) < 0.2)
    assert screened(steps).figure.startswith("steps") and screened(steps, least_steps=None).verdict == "keep"
    assert screened(np.linspace(292, 294, 200).round(2), relative_spread=0.01).figure.startswith("relative_spread")


def test_spread_near_a_zero_mean_is_no_trouble():
    assert screened(RNG.normal(size=200) * 1e-7).verdict == "keep"


def test_a_rare_value_that_tells_is_not_dropped():
    n = 600
    rare = np.r_[np.ones(15), np.zeros(n - 15)]
    y = RNG.normal(size=n) + 6 * rare
    table = chaff.open_table(pd.DataFrame({"x": rare, "z": RNG.normal(size=n), "y": y}), target="y")
    v = judge(chaff.Screen(), table)[1]["x"]
    assert v.verdict == "review" and v.stays and "higher" in v.reason


def test_everything_missing_dates_and_text_are_dropped_with_words():
    n = 60
    frame = pd.DataFrame(
        {
            "a": RNG.normal(size=n),
            "none": np.full(n, np.nan),
            "day": pd.date_range("2025-01-01", periods=n),
            "note": [f"the miller wrote a rather long remark about lot {k // 2}" for k in range(n)],
            "y": RNG.normal(size=n),
        }
    )
    said = judge(chaff.Screen(), chaff.open_table(frame, target="y"))[1]
    assert [said[f].verdict for f in ("a", "none", "day", "note")] == ["keep", "drop", "drop", "drop"]
    assert "not used directly" in said["day"].reason and "every value is missing" in said["none"].reason


def test_screen_settings_are_checked():
    with pytest.raises(chaff.UsageError, match="missing_share must be between 0 and 1"):
        chaff.Screen(missing_share=7)


def test_single_feature_scores_are_cross_validated():
    n = 500
    frame = pd.DataFrame(
        {
            "line": RNG.normal(size=n),
            "curve": RNG.normal(size=n),
            "noise": RNG.normal(size=n),
            "level": RNG.choice(list("abcdefgh"), n),
            "many": [f"m{k}" for k in RNG.integers(0, 180, n)],
        }
    )
    frame["y"] = 2 * frame["line"] + 2 * frame["curve"] ** 2 + 2 * frame["level"].isin(["a", "b"])
    table = chaff.open_table(frame, target="y")
    got = dict(zip(table.features, single_feature_r2(table, table.features, Setting.of(table)), strict=True))
    assert got["line"] > 0.2 and got["curve"] > 0.3 and got["level"] > 0.01
    assert got["noise"] < 0.02 and got["many"] < 0.05  # 180 levels fit the training rows well, and nothing else


def test_facts_of_a_column():
    table = chaff.open_table(pd.DataFrame({"a": [1.0, 1, 1, 4, np.nan], "y": [1.0, 2, 3, 4, 5.5]}), target="y")
    facts = column_facts(table, "a")
    assert (facts.rows, facts.distinct, facts.top_value, facts.top_share) == (4, 2, "1", 0.75)
    assert facts.missing_share == pytest.approx(0.2)


# --- relevance --------------------------------------------------------------------------------------------------------


def test_relevance_of_numbers_equals_scipy():
    frame = make_mixed()
    frame["y"] = frame["y"].round(6)
    table = chaff.open_table(frame, target="y")
    result, _ = judge(chaff.Relevance(), table)
    for f in ("assay_0", "gap_a", "gap_b"):
        both = frame[[f, "y"]].dropna()
        wanted = ss.pearsonr(both[f], both["y"])
        row = result.frame.loc[f]
        assert row["pearson_r"] == pytest.approx(wanted.statistic, rel=1e-9)
        assert row["p"] == pytest.approx(wanted.pvalue, rel=1e-6) and row["rows"] == len(both)
    parts = [g["y"].to_numpy() for _, g in frame.assign(variety=frame["variety"].fillna("?")).groupby("variety")]
    assert result.frame.loc["variety", "f"] == pytest.approx(ss.f_oneway(*parts).statistic, rel=1e-9)
    assert result.frame.loc["variety", "omega_squared"] < result.frame.loc["variety", "eta_squared"]


@pytest.mark.parametrize("classes", [2, 3])
def test_relevance_for_classes_equals_scipy(classes):
    frame = make_mixed(300, classes=classes)
    table = chaff.open_table(frame, target="y")
    result, _ = judge(chaff.Relevance(), table)
    for f in ("assay_0", "gap_b"):
        parts = [g[f].dropna().to_numpy() for _, g in frame.groupby("y")]
        wanted = ss.f_oneway(*parts)
        assert result.frame.loc[f, "f"] == pytest.approx(wanted.statistic, rel=1e-8)
        assert result.frame.loc[f, "p"] == pytest.approx(wanted.pvalue, rel=1e-6)
    counts = pd.crosstab(frame["variety"].fillna("?"), frame["y"])
    assert result.frame.loc["variety", "chi_square"] == pytest.approx(ss.chi2_contingency(counts, correction=False).statistic)


def test_information_sees_a_curve_that_r_does_not():
    n = 1500
    x = RNG.normal(size=n)
    table = chaff.open_table(pd.DataFrame({"x": x, "noise": RNG.normal(size=n), "y": x**2}), target="y")
    frame = judge(chaff.Relevance(), table)[0].frame
    assert abs(frame.loc["x", "pearson_r"]) < 0.15 and frame.loc["x", "mutual_information"] > 0.5
    assert frame.loc["noise", "mutual_information"] < 0.03


def test_cuts_drop_and_measuring_drops_nothing():
    table = chaff.open_table(make_mixed(), target="y").with_features(["assay_0", "assay_1", "assay_2", "variety"])
    assert all(v.stays for v in judge(chaff.Relevance(), table)[1].values())
    result, said = judge(chaff.Relevance(cut={"top": 2}), table)
    assert sum(v.stays for v in said.values()) == 2 and said["assay_1"].verdict == "drop"
    assert list(result.ranked().index[:2]) == [f for f in result.ranked().index if said[f].stays]
    by_q = judge(chaff.Relevance(by="q", cut={"below": 0.01}), table)
    assert by_q[0].ascending("q") and by_q[1]["assay_0"].stays
    with pytest.raises(chaff.UsageError, match="unknown cut 'topp'.*Did you mean 'top'"):
        chaff.Relevance(cut={"topp": 2})
    with pytest.raises(chaff.UsageError, match="unknown measure 'pearsen'"):
        judge(chaff.Relevance(by="pearsen"), table)


def test_many_rows_bring_a_warning():
    n = 50_000
    table = chaff.open_arrays(RNG.normal(size=(n, 2)), RNG.normal(size=n))
    assert any("rank by effect size" in note for note in judge(chaff.Relevance(), table)[0].notes)


def test_weights_stand_for_repeated_rows():
    frame = make_mixed(150)
    w = RNG.integers(1, 4, 150)
    light = chaff.open_table(frame.assign(w=w), target="y", weights="w").with_features(["assay_0", "gap_b"])
    heavy = chaff.open_table(frame.loc[np.repeat(np.arange(150), w)].reset_index(drop=True), target="y").with_features(["assay_0", "gap_b"])
    a, b = (judge(chaff.Relevance(), t)[0].frame["pearson_r"] for t in (light, heavy))
    np.testing.assert_allclose(a, b, rtol=1e-9)


# --- overlap ----------------------------------------------------------------------------------------------------------


def overlapping(n=400):
    f = pd.DataFrame({"a": RNG.normal(size=n), "c": RNG.normal(size=n), "d": RNG.normal(size=n)})
    f["a2"] = f["a"] + 0.1 * RNG.normal(size=n)
    f["sum"] = f["a"] + f["c"] + f["d"] + 0.15 * RNG.normal(size=n)
    f["y"] = f["a"] + 0.5 * f["c"] + RNG.normal(size=n)
    return f


def test_of_a_pair_the_less_relevant_goes_and_pins_protect():
    table = chaff.open_table(overlapping(), target="y")
    result, said = judge(chaff.Correlation(), table)
    loser = next(f for f, v in said.items() if not v.stays)
    winner = {"a": "a2", "a2": "a"}[loser]
    assert winner in said[loser].reason and result.frame.loc[loser, "pearson_r"] > 0.95
    _, pinned = judge(chaff.Correlation(), table, pins={loser: Pin(loser, "keep", "told to")})
    assert pinned[loser].stays and not pinned[winner].stays


def test_completeness_and_cost_decide_between_equals():
    f = overlapping()
    f["b"] = f["a"]
    table = chaff.open_table(f[["a", "b", "y"]], target="y")
    said = judge(chaff.Correlation(), table)[1]
    assert said["a"].stays and "alphabetically first" in said["b"].reason
    dear = chaff.open_table(f[["a", "b", "y"]], target="y", costs={"a": 9.0})
    assert "cheaper" in judge(chaff.Correlation(), dear)[1]["a"].reason


def test_no_column_goes_for_a_partner_that_is_gone():
    for seed in range(12):
        rng = np.random.default_rng(seed)
        walk = np.cumsum(rng.normal(size=(9, 400)), axis=0) + 3 * rng.normal(size=400)  # neighbours repeat each other, far ones do not
        chain = pd.DataFrame({f"c{k}": row for k, row in enumerate(walk)})
        chain["y"] = chain["c4"] + chain["c1"] + 3 * rng.normal(size=400)
        result, said = judge(chaff.Correlation(limit=0.9), chaff.open_table(chain, target="y"))
        gone = [f for f, v in said.items() if not v.stays]
        assert gone
        for f in gone:
            assert said[result.frame.loc[f, "partner"]].stays, (seed, f)
        left = result.more["matrix"].loc[[f for f in said if f not in gone], [f for f in said if f not in gone]].to_numpy()
        assert np.abs(left - np.eye(len(left))).max() <= 0.9


def test_pairwise_correlations_are_never_mean_filled():
    f = overlapping()
    f.loc[RNG.random(len(f)) < 0.5, "a2"] = np.nan
    table = chaff.open_table(f, target="y")
    result, said = judge(chaff.Correlation(), table)
    both = f[["a", "a2"]].dropna()
    assert result.more["matrix"].loc["a", "a2"] == pytest.approx(np.corrcoef(both["a"], both["a2"])[0, 1], rel=1e-9)
    assert said["a"].stays != said["a2"].stays  # one repeats the other; mean filling would have shown r of about 0.7


def test_vif_with_gaps_still_finds_exact_sums_and_says_so():
    f = overlapping()[["a", "c", "d", "y"]]
    f["whole"] = 100 - f["a"] - f["c"]
    f["gappy"] = np.where(RNG.random(len(f)) < 0.2, np.nan, RNG.normal(size=len(f)))
    result, said = judge(chaff.Inflation(), chaff.open_table(f, target="y"))
    gone = [v for v in said.values() if not v.stays]
    assert len(gone) == 1 and gone[0].feature in ("a", "c", "whole") and "exact linear combination" in gone[0].reason
    assert np.isinf(result.frame.loc[["a", "c", "whole"], "vif"]).all() and result.notes


def test_overlap_drops_what_is_exact_and_proposes_the_rest_with_its_cost():
    frame = overlapping()
    frame["again"] = 3.0 * frame["a"] - 1.0  # an exact repeat
    table = chaff.open_table(frame, target="y")
    result, said = judge(chaff.Overlap(), table)
    gone = {v.feature: v for v in said.values() if not v.stays}
    assert gone and all("nothing is lost without it" in v.reason for v in gone.values())
    assert {"a", "again"} & set(gone) and (result.frame.loc[list(gone), "proposed"] == "exact").all()
    near = result.frame.index[result.frame["proposed"] == "near"]
    assert len(near) and result.frame.loc[near, "cost"].notna().all() and all(said[f].stays for f in near)
    for f in near:
        over = result.frame.loc[f, "cost"] > result.settings["allowed"]
        assert said[f].verdict == ("review" if over else "keep") and ("R² loss if removed" in said[f].reason) == over
    assert all(v.by == "overlap" for v in said.values())
    assert {"matrix", "trail", "costs"} <= set(result.more)
    for wrong in ({"pair_limit": 0.0}, {"vif_limit": 0.5}):
        with pytest.raises(chaff.UsageError):
            chaff.Overlap(**wrong)


def test_overlap_says_what_a_small_difference_of_near_equal_columns_is_worth():
    rng = np.random.default_rng(4)
    a = rng.normal(size=300)
    frame = pd.DataFrame({"a": a, "b": a + 0.2 * rng.normal(size=300), "other": rng.normal(size=300)})
    frame["y"] = 5 * (frame["b"] - frame["a"]) + 0.3 * rng.normal(size=300)
    result, said = judge(chaff.Overlap(), chaff.open_table(frame, target="y"))
    proposed = result.frame.index[result.frame["proposed"] == "near"]
    assert len(proposed) == 1 and said[proposed[0]].verdict == "review" and "R² loss if removed" in said[proposed[0]].reason
    assert result.more["costs"]["too_much"].all()


def test_overlap_eliminates_nothing_by_inflation_where_columns_outnumber_the_rows():
    table = chaff.open_arrays(RNG.normal(size=(60, 90)), RNG.normal(size=60))
    result, said = judge(chaff.Overlap(), table)
    assert all(v.stays for v in said.values()) and "no elimination by variance inflation" in " ".join(result.notes)


# --- importance and search --------------------------------------------------------------------------------------------


@pytest.mark.long
def test_importance_of_pure_noise_is_rarely_beyond_chance():
    false = 0
    for seed in range(12):
        rng = np.random.default_rng(seed)
        table = chaff.open_arrays(rng.normal(size=(250, 8)), rng.normal(size=250))
        false += int(judge(chaff.Importance(chaff.Forest(20)), table)[0].frame["significant"].any())
    assert false <= 3  # a family error of 5 % gives more than three of twelve once in five hundred


def test_importance_reads_groups_as_witnesses():
    rng = np.random.default_rng(0)
    mills = np.repeat(np.arange(12), 40)
    made = rng.normal(size=12)[mills]  # constant in each mill, as is the target's large part: few witnesses
    frame = pd.DataFrame({"made": made + 0.01 * rng.normal(size=480), "other": rng.normal(size=480), "mill": mills})
    frame["y"] = rng.normal(size=12)[mills] * 3 + rng.normal(size=480)
    table = chaff.open_table(frame, target="y", groups="mill")
    assert not judge(chaff.Importance(chaff.Forest(30)), table)[0].frame["significant"].any()


@pytest.mark.parametrize("classes", [0, 3])
def test_importance_ranks_signal_first_and_cuts(classes):
    table = chaff.open_table(make_mixed(400, classes=classes), target="y").with_features(
        ["assay_0", "assay_1", "assay_2", "assay_3", "variety"]
    )
    result, said = judge(chaff.Importance(chaff.Forest(40), cut={"top": 2}), table)
    assert set(result.ranked().index[:2]) <= {"assay_0", "assay_2"} and sum(v.stays for v in said.values()) == 2
    with pytest.raises(chaff.UsageError):
        chaff.Importance(shuffles=0)


def test_forward_and_backward_paths_equal_exhaustive_stepping():
    table = chaff.open_table(make_mixed(150), target="y").with_features(["assay_0", "assay_1", "assay_2", "gap_b", "variety"])
    scorer = chaff.SubsetScorer(table, chaff.Ridge())
    trail = trail_of(as_strategy("both"), scorer, frozenset(), chaff.Work())
    for direction, now in (("forward", frozenset()), ("backward", frozenset(table.features))):
        for move in [m for m in trail.moves if m.direction == direction and m.action != "start"]:
            options = [now ^ {f} for f in table.features if (f in now) == (direction == "backward")]
            now = max(options, key=lambda s: scorer(s).mean)
            assert move.features == now
    assert [m.action for m in trail.moves].count("start") == 1 and len(trail.frame) == len(trail.moves)


def test_search_keeps_pins_and_its_options_hold():
    table = chaff.open_table(make_mixed(), target="y").with_features(["assay_0", "assay_1", "assay_2", "assay_3", "variety"])
    trail, said = judge(chaff.Search(model="ridge"), table, pins={"assay_3": Pin("assay_3", "keep", "told to")})
    assert "assay_3" in trail.chosen and all("assay_3" in m.features for m in trail.moves if m.features)
    assert all("assay_3" in s for s in trail.honest_losses.sets)
    forward = judge(chaff.Search("ridge", chaff.Forward(size=2)), table)[0]
    assert [len(m.features) for m in forward.moves] == [0, 1, 2, 5]  # nothing and the full set are always on the curve
    for options, words in (
        ({"strategy": "sideways"}, "unknown strategy 'sideways'"),
        ({"model": "rigde"}, "Did you mean 'ridge'"),
        ({"strategy": {"name": "forward", "size": 0}}, "size must be 1 or more"),
        ({"strategy": {"name": "forward", "sise": 3}}, "Did you mean 'size'"),
        ({"margin": -1}, "0 or more"),
        ({"size": -1}, "0 or more"),
        ({"keep_share": 0}, "keep_share"),
    ):
        with pytest.raises(chaff.UsageError, match=words):
            chaff.Search(**options)


@pytest.mark.parametrize("options", [{"order": "day"}, {"groups": "mill"}, {"weights": "lot_weight"}])
def test_search_respects_roles(options):
    table = chaff.open_table(make_mixed(300), target="y", **options)
    table = table.with_features(["assay_0", "assay_1", "assay_2", "variety"])
    trail, _ = judge(chaff.Search(), table)
    assert "assay_0" in trail.chosen and {c.label for c in trail.best_curves()} == {"linear", "forest"}


@pytest.mark.parametrize("strategy", [None, "forward"])
def test_search_with_a_named_forest_looks_through_it_alone(strategy):
    table = chaff.open_table(make_mixed(160), target="y").with_features(["assay_0", "assay_1", "assay_2"])
    trail, _ = judge(chaff.Search(chaff.Forest(20), strategy), table)
    assert [len(m.features) for m in trail.moves] == [0, 1, 2, 3] and trail.chosen
    assert [c.model for c in trail.curves] == [chaff.Forest(20)]


def test_a_search_past_many_features_goes_forward_and_says_so(monkeypatch):
    table = chaff.open_arrays(RNG.normal(size=(120, 12)), RNG.normal(size=120))
    monkeypatch.setattr("chaff.methods.search.linear_lens.MANY_FEATURES", 10)
    monkeypatch.setattr("chaff.methods.search.linear_lens.FORWARD_TO", 5)
    trail, _ = judge(chaff.Search(), table)
    linear = trail.best_curves()[0]
    assert linear.sizes == (0, 1, 2, 3, 4, 5, 12) and "12 features: the linear model is searched forward only, to 5" in trail.notes[-1]


def test_a_search_that_cannot_fit_is_refused_with_what_would_help(monkeypatch):
    table = chaff.open_arrays(RNG.normal(size=(120, 12)), RNG.normal(size=120))
    monkeypatch.setattr("chaff.evaluate.closed.CLOSED_FORM_BYTES", 1000)
    with pytest.raises(chaff.DataError, match=r"12 features need .* GiB in closed form.*cut = \{ top = 1000 \}"):
        judge(chaff.Search(), table)


def test_too_many_columns_are_refused_before_anything_is_computed_or_go_the_wide_way(monkeypatch):
    table = chaff.open_arrays(RNG.normal(size=(120, 12)), RNG.normal(size=120))
    assert "triage" not in [s.name for s in plan_for(table).stages if isinstance(s, chaff.Relevance)]
    monkeypatch.setattr("chaff.evaluate.closed.CLOSED_FORM_BYTES", 1000)
    ran = []
    for plan in (chaff.Plan((chaff.Screen(), chaff.Search())), "built in"):
        with pytest.raises(chaff.DataError, match=r"12 features need .* GiB in closed form.*chaff select --plan wide"):
            chaff.select(table, plan, after_stage=ran.append)
    assert not ran
    assert "triage" in [s.name for s in plan_for(table).stages if isinstance(s, chaff.Relevance)]


@pytest.mark.parametrize("classes, metric", [(0, "mae"), (0, "rmse"), (3, "accuracy"), (3, "log_loss"), (2, "auc")])
def test_every_metric_can_decide(classes, metric):
    table = chaff.open_table(make_mixed(200, classes=classes), target="y").with_features(["assay_0", "assay_1", "assay_2"])
    trail, _ = judge(chaff.Search(), table, metric=metric)
    assert trail.metric == metric and all(c.values.shape == (len(c.sizes), 5) for c in trail.curves)
    assert "assay_0" in trail.chosen
