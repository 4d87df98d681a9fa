"""The shuffled target: by hand, its promised rates, whatever the table, and the mistake that it must catch."""

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.evaluate.setting import Setting
from chaff.methods.chance.measures import StatisticMeasure
from chaff.methods.chance.shuffled_target import ChanceBaseline
from chaff.methods.relevance.stage import Relevance
from chaff.table.shuffle import constant_within, target_orders, varies_within, with_target_order
from chaff.work import Work


def made(n=150, seed=0, noise=6, classes=0, **roles):
    rng = np.random.default_rng(seed)
    frame = pd.DataFrame({f"noise{k}": rng.normal(size=n) for k in range(noise)})
    frame["signal"] = rng.normal(size=n)
    frame["kind"] = rng.choice(["hard", "soft", "durum"], n)
    z = frame["signal"] + (frame["kind"] == "soft") + rng.normal(size=n)
    frame["y"] = z if not classes else np.array(["a", "b", "c"])[np.digitize(z, [0] if classes == 2 else [-0.5, 1])]
    if "groups" in roles:
        frame["mill"] = rng.integers(0, 10, n)
    if "order" in roles:
        frame["day"] = np.arange(n)
    if "weights" in roles:
        frame["lots"] = rng.integers(1, 5, n)
    return chaff.open_table(frame, "y", **roles)


ROLES = [{}, {"groups": "mill"}, {"order": "day"}, {"weights": "lots"}, {"groups": "mill", "order": "day"}]


@pytest.mark.parametrize("roles", ROLES, ids=lambda r: "-".join(r) or "plain")
@pytest.mark.parametrize("classes", [0, 2, 3])
def test_signals_are_beyond_chance_whatever_the_roles_and_the_target(classes, roles):
    found = chaff.chance_baseline(made(classes=classes, **roles), keep={"maximum": 0.05})
    frame = found.frame
    assert found.ranked().index[0] == "signal" and frame.loc["signal", "verdict"] == "keep"
    assert (frame.loc[[f for f in frame.index if f.startswith("noise")], "standard_score"] < 4.5).all()
    assert (frame["p"] >= 1 / 51).all() and (frame["family_p"] >= frame["p"]).all() and frame["q"].isna().all()
    assert found.more["shuffles"].shape == (8, 50) and (frame["importance_sd"].notna()).all()


def test_shuffling_by_hand_says_the_same():
    table = made(60, noise=2).with_features(["signal", "noise0", "noise1"])
    found = chaff.chance_baseline(table, "pearson_r", shuffles=12, keep=None)
    orders = target_orders(table, 12, Work(0), "chance").orders
    for f in table.features:
        x = table.column(f).values
        by_hand = [abs(np.corrcoef(x, table.y[o])[0, 1]) for o in orders]
        np.testing.assert_allclose(found.more["shuffles"].loc[f], by_hand, rtol=1e-9)
        real = abs(np.corrcoef(x, table.y)[0, 1])
        assert found.frame.loc[f, "p"] == pytest.approx((1 + sum(v >= real for v in by_hand)) / 13)
        assert found.frame.loc[f, "standard_score"] == pytest.approx((real - np.mean(by_hand)) / np.std(by_hand, ddof=1))


@pytest.mark.parametrize("by", ["permutation", "impurity", "coefficient", "mutual_information", "kruskal_h"])
def test_any_importance_or_statistic_is_held_against_chance(by):
    table = made(120, noise=2, classes=2 if by == "kruskal_h" else 0).with_features(["signal", "noise0", "noise1"])
    model = "ridge" if by in ("coefficient", "permutation") else chaff.Forest(trees=15)
    found = chaff.chance_baseline(table, by, model, shuffles=15, seeds=2, keep={"standard_deviations": 3})
    assert found.ranked().index[0] == "signal" and found.frame.loc["signal", "verdict"] == "keep"
    assert found.settings["by"] == by


def test_the_answer_knows_neither_workers_nor_the_order_of_the_columns_nor_how_many_shuffles_follow():
    table = made(classes=3)
    one, two, eight = (chaff.chance_baseline(table, workers=w).frame for w in (1, 2, 8))
    pd.testing.assert_frame_equal(one, two)
    pd.testing.assert_frame_equal(one, eight)
    back = chaff.chance_baseline(table.with_features(table.features[::-1])).frame
    pd.testing.assert_frame_equal(one, back.loc[one.index])
    fewer = chaff.chance_baseline(table, shuffles=20)
    more = chaff.chance_baseline(table, shuffles=50)
    np.testing.assert_array_equal(fewer.more["shuffles"], more.more["shuffles"].iloc[:, :20])


def test_chance_counts_itself_at_every_limit():
    found = chaff.chance_baseline(made(), keep={"standard_deviations": 2.2})
    limits = found.more["limits"]
    assert 2.2 in limits.index and limits["beyond"].is_monotonic_decreasing
    scores = found.more["chance_scores"].to_numpy()
    assert limits.loc[2.2, "by_chance"] == pytest.approx((scores > 2.2).sum() / 50)
    assert limits.loc[2.2, "beyond"] == (found.frame["verdict"] == "keep").sum()
    assert list(found.try_limits([2.2], by="standard_score")["stay"]) == [limits.loc[2.2, "beyond"]]


def test_independent_draws_agree_with_shared_ones():
    table = made(300, noise=12)
    shared, apart = (chaff.chance_baseline(table, draws=d).frame["standard_score"] for d in ("shared", "independent"))
    assert np.corrcoef(shared, apart)[0, 1] > 0.95


KINDS = ["numbers", "levels", "groups", "in time"]


def noise(kind, rng, n=80, p=10):
    frame = pd.DataFrame(rng.normal(size=(n, p)), columns=[f"c{j}" for j in range(p)])
    roles = {}
    y = rng.normal(size=n)
    if kind == "levels":
        frame = pd.DataFrame({f"c{j}": rng.choice([f"k{k}" for k in range(2 + 4 * j)], n) for j in range(p)})
    if kind == "groups":
        mill = rng.integers(0, 8, n)
        frame, y = frame + rng.normal(size=(8, p))[mill], y + rng.normal(size=8)[mill]
        frame["mill"], roles = mill, {"groups": "mill"}
    if kind == "in time":
        frame = frame.rolling(4, min_periods=1).sum()
        frame["day"], y, roles = np.arange(n), pd.Series(y).rolling(4, min_periods=1).sum().to_numpy(), {"order": "day"}
    return chaff.open_table(frame.assign(y=y), "y", kinds={f"c{j}": "category" for j in range(p)} if kind == "levels" else None, **roles)


@pytest.mark.long
@pytest.mark.parametrize("kind", KINDS)
def test_nothing_is_beyond_the_maximum_of_chance_too_often(kind):
    tables, wrong, beyond, said = 60, 0, 0, 0.0
    for seed in range(tables):
        found = chaff.chance_baseline(noise(kind, np.random.default_rng(seed + 500)), keep={"maximum": 0.05}, trees=200, seed=seed)
        wrong += (found.frame["verdict"] == "keep").any()
        beyond, said = beyond + found.more["limits"].loc[3, "beyond"], said + found.more["limits"].loc[3, "by_chance"]
    assert wrong / tables <= 0.05 + 2 * np.sqrt(0.05 * 0.95 / tables)
    assert beyond <= said + 3 * np.sqrt(said) + 2  # what the shuffles say chance keeps


def best_cut(x, y):
    """The mistake: a bin edge where the real target changes most."""
    cuts = np.quantile(x, np.linspace(0.1, 0.9, 30))
    gap = [abs(y[x > c].mean() - y[x <= c].mean()) * np.sqrt((x > c).mean() * (x <= c).mean()) for c in cuts]
    return (x > cuts[int(np.argmax(gap))]).astype(float)


@pytest.mark.long
def test_chance_on_bins_that_saw_the_target_is_caught():
    wrong = {"saw": 0, "did not": 0}
    for seed in range(40):
        rng = np.random.default_rng(seed)
        raw, y = rng.normal(size=(90, 8)), rng.choice([0.0, 1.0], 90)
        saw = np.column_stack([best_cut(x, y) for x in raw.T])
        for name, X in (("saw", saw), ("did not", raw)):
            frame = pd.DataFrame(X, columns=[f"c{j}" for j in range(8)])
            table = chaff.open_table(frame.assign(y=np.where(y > 0, "good", "poor")), "y")
            wrong[name] += bool((chaff.chance_baseline(table, shuffles=40, trees=60, seeds=1).frame["family_p"] <= 0.05).any())
    assert wrong["did not"] <= 5  # 5 % of 40 and two standard errors: 4.8
    assert wrong["saw"] > 15


def test_bins_that_see_the_target_are_cut_anew_on_every_shuffle():
    table = made(classes=2, noise=2).with_features(["signal", "noise0", "noise1"])
    stage = Relevance(["mutual_information"], by="mutual_information", confidence=None, bin_kind="supervised")
    orders = target_orders(table, 4, Work(0)).orders
    _, shuffled = StatisticMeasure(stage, "mutual_information").measure(table, orders, 1, Setting.unfolded(table, Work(0, 1)))
    for order, said in zip(orders, shuffled, strict=True):
        dealt = with_target_order(table, order)
        alone = stage.values(stage.view(dealt, Work(0, 1)), "mutual_information")
        np.testing.assert_allclose(said, alone)


def test_deals_stay_within_groups_and_are_never_the_target_itself():
    table = made(groups="mill")
    found = target_orders(table, 20, Work(3))
    assert found.how == "within groups" and not found.all_there_are
    for order in found.orders:
        assert (table.groups[order] == table.groups).all() and (table.y[order] != table.y).any()
        assert sorted(order) == list(range(len(table)))
    series = made(order="day")
    turned = target_orders(series, 5, Work(3)).orders[0]
    assert set(np.diff(turned) % len(series)) == {1}


def test_whole_groups_swap_where_the_target_is_theirs_and_features_of_groups_are_told_apart():
    rng = np.random.default_rng(0)
    mill = np.repeat(np.arange(30), 5)
    frame = pd.DataFrame({"x": rng.normal(size=150), "of_mill": rng.normal(size=30)[mill], "mill": mill})
    own = chaff.open_table(frame.assign(y=frame["of_mill"] + 0.1 * rng.normal(size=30)[mill]), "y", groups="mill")
    assert not varies_within(own)
    found = chaff.chance_baseline(own, keep={"maximum": 0.05})
    assert "whole groups swap" in found.notes[0] and found.frame.loc["of_mill", "verdict"] == "keep"
    within = chaff.open_table(frame.assign(y=rng.normal(size=150)), "y", groups="mill")
    blind = chaff.chance_baseline(within)
    assert blind.frame.loc["of_mill", "verdict"] == "review" and blind.frame.loc["of_mill", "stays"]
    assert any("not tested" in n and "of_mill; constant within every group" in n for n in blind.notes)
    assert blind.frame.loc["of_mill", "not_judged"] and blind.frame["not_judged"].sum() == 1
    assert constant_within(np.array([1.0, 1.0, np.nan, np.nan]), np.array([0, 0, 1, 1]))
    assert not constant_within(np.array([1.0, np.nan]), np.array([0, 0]))


def test_fewer_shuffles_than_asked_for_are_all_taken_and_it_is_said():
    rng = np.random.default_rng(1)
    y = np.zeros(24)
    y[[5, 7]] = 1
    table = chaff.open_table(pd.DataFrame(rng.normal(size=(24, 3)), columns=list("abc")).assign(y=np.where(y, "bad", "good")), "y")
    found = chaff.chance_baseline(table, shuffles=400, keep=None)
    assert found.settings["shuffles"] == 275 and any("only 275 differ" in n for n in found.notes)  # 24 over 2, less itself
    assert found.frame["p"].min() >= 1 / 276


def test_enough_shuffles_give_adjusted_p_values():
    table = made(noise=1).with_features(["signal", "noise0"])
    found = chaff.chance_baseline(table, shuffles=60, keep=None)
    assert found.frame["q"].notna().all() and not any("too few to adjust" in n for n in found.notes)


@pytest.mark.parametrize(
    ("settings", "words"),
    [
        ({"keep": {"beyond": 3}}, "unknown rule 'beyond'"),
        ({"keep": {"maximum": 2}}, "between 0 and 1"),
        ({"keep": {"maximum": 0.1, "standard_deviations": 3}}, "one rule and its number"),
        ({"shuffles": 1}, "shuffles must be 3 or more"),
        ({"by": "permutatoin"}, "Did you mean 'permutation'"),
        ({"draws": "some"}, "draws must be"),
        ({"alpha": 0}, "alpha must be between"),
    ],
)
def test_wrong_settings_are_said(settings, words):
    with pytest.raises(chaff.UsageError, match=words):
        chaff.chance_baseline(made(), **settings)


def test_what_no_shuffle_can_change_and_too_few_rows_are_refused_in_words():
    rng = np.random.default_rng(2)
    frame = pd.DataFrame({"x": rng.normal(size=40), "mill": "one", "y": 1.0})
    same = chaff.open_table(frame.assign(y=rng.normal(size=40), mill=np.arange(40)), "y", groups="mill")
    assert chaff.chance_baseline(same, shuffles=5).settings["how"] == "whole groups swap"
    two = frame.assign(mill=np.repeat(["a", "b"], 20), y=np.repeat([1.0, 2.0], 20))
    with pytest.raises(chaff.DataError, match="only 1 permutations of y differ|shuffling cannot change y"):
        chaff.chance_baseline(chaff.open_table(two, "y", groups="mill"))
    with pytest.raises(chaff.DataError, match="12 rows are too few"):
        chaff.chance_baseline(made(12))


def test_pins_beat_chance_and_a_plan_applies_what_it_kept(tmp_path):
    table = made()
    pinned = chaff.chance_baseline(table, pins=[chaff.pin_keep("noise0", because="asked for"), chaff.pin_drop("signal", because="late")])
    assert pinned.frame.loc["noise0", "by"] == "pin" and not pinned.frame.loc["signal", "stays"]
    plan = chaff.Plan((chaff.ChanceBaseline(keep={"maximum": 0.05}, trees=300), chaff.Search("ridge")))
    run = chaff.select(table, plan=plan)
    assert set(run.features) <= {"signal", "kind", "noise3"} and "signal" in run.features
    assert run.ledger.of("noise1")[0].by == "chance"
    run.selection.save(tmp_path / "selection.json")
    assert list(chaff.read_selection(tmp_path / "selection.json").apply(made(30, seed=9).source.arrow.to_pandas()).columns)[
        : len(run.features)
    ]
    text = tmp_path / "plan.toml"
    text.write_text(
        '[table]\ntarget = "y"\n[[stage]]\nuse = "chance"\nkeep = { standard_deviations = 3 }\nshuffles = 30\n[[stage]]\nuse = "search"\n'
    )
    read = chaff.read_plan(text)
    assert isinstance(read.stages[0], ChanceBaseline) and read.stages[0].keep == {"standard_deviations": 3}


def test_a_weight_goes_with_its_target():
    table = made(weights="lots")
    order = target_orders(table, 1, Work(0)).orders[0]
    dealt = with_target_order(table, order)
    assert (dealt.y == table.y[order]).all() and (dealt.weights == table.weights[order]).all()


def test_one_column_is_enough():
    found = chaff.chance_baseline(made().with_features(["signal"]), shuffles=25)
    assert found.frame.loc["signal", "verdict"] == "keep" and found.frame["q"].notna().all()
