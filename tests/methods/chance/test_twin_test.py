"""Twin test: evidence that may be looked at at any time, twins, rounds, and what they make of noise and of signals."""

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.evaluate.setting import Setting
from chaff.methods.chance.twin_test import Record, TwinTest, rounds_to_decide, scale_of
from chaff.methods.chance.twins import TWIN, ForestRounds, rounds_of, with_twins
from chaff.stats.stability import exact_interval, log_evidence_above, log_evidence_below
from chaff.table.shuffle import order_of_rows
from chaff.work import Work
from tests.methods.chance.test_shuffled_target import made, noise

SMALL = chaff.Forest(trees=40, columns_per_split=4, leaf_rows=10, depth=6)


def test_evidence_is_the_even_average_of_likelihoods_over_those_at_the_limit():
    for hits, of, limit in ((7, 9, 0.5), (30, 31, 0.9), (0, 4, 0.5)):
        grid = np.linspace(limit, 1, 200_001)
        likelihood = grid**hits * (1 - grid) ** (of - hits)
        average = np.trapezoid(likelihood, grid) / (1 - limit)
        said = log_evidence_above(np.array([float(hits)]), np.array([float(of)]), limit)[0]
        assert said == pytest.approx(np.log(average) - hits * np.log(limit) - (of - hits) * np.log1p(-limit), abs=1e-6)
    assert log_evidence_below(np.array([1.0]), np.array([9.0]), 0.4) == pytest.approx(
        log_evidence_above(np.array([8.0]), np.array([9.0]), 0.6)
    )


def test_looking_after_every_round_is_wrong_no_more_often_than_the_level():
    rng = np.random.default_rng(0)
    n = np.arange(1, 301.0)
    for share in (0.5, 0.9):
        hits = np.cumsum(rng.random((1000, 300)) < share, axis=1).astype(float)
        ever = (log_evidence_above(hits, np.broadcast_to(n, hits.shape), share) >= np.log(20)).any(1).mean()
        assert ever <= 0.05 + 2 * np.sqrt(0.05 * 0.95 / 1000)
        below = (log_evidence_below(hits, np.broadcast_to(n, hits.shape), share) >= np.log(20)).any(1).mean()
        assert below <= 0.05 + 2 * np.sqrt(0.05 * 0.95 / 1000)


def test_looking_early_with_plain_intervals_would_be_wrong_far_more_often():
    rng = np.random.default_rng(1)
    hits = np.cumsum(rng.random((300, 200)) < 0.5, axis=1)
    wrong = sum(any(exact_interval(int(h[k]), k + 1, 0.9)[0] > 0.5 for k in range(5, 200, 3)) for h in hits) / 300
    assert wrong > 0.1


def test_exact_interval_covers():
    from scipy.stats import binomtest

    for hits, of in ((0, 10), (3, 10), (10, 10)):
        ci = binomtest(hits, of).proportion_ci(method="exact")
        assert exact_interval(hits, of) == pytest.approx((ci.low, ci.high))


@pytest.mark.parametrize("roles", [{}, {"groups": "mill"}, {"order": "day"}, {"weights": "lots"}], ids=lambda r: "-".join(r) or "plain")
@pytest.mark.parametrize("classes", [0, 2, 3])
def test_signals_beat_their_twins(classes, roles):
    found = chaff.twin_test(made(250, classes=classes, **roles), SMALL)
    frame = found.frame
    assert frame.loc["signal", "verdict"] == "keep" and frame.loc["signal", "rank"] <= 2
    kept = [f for f in frame.index if frame.loc[f, "verdict"] == "keep"]
    assert set(kept) <= {"signal", "kind"}
    assert (frame["hits"] <= frame["rounds"]).all() and sorted(frame["rank"]) == list(range(1, 9))
    assert found.more["history"].shape == (frame["rounds"].max(), 8) and len(found.more["twins"]) == frame["rounds"].max()


@pytest.mark.long
@pytest.mark.parametrize(
    ("model", "by"), [(SMALL, "out of bag"), ("ridge", "permutation"), (chaff.Lasso(penalty=0.05), "coefficient"), ("tree", "impurity")]
)
def test_any_model_and_way(model, by):
    table = made(150, noise=3).with_features(["signal", "noise0", "noise1", "noise2"])
    by = chaff.Coefficient(resamples=0) if by == "coefficient" else by
    found = chaff.twin_test(table, model, by, rounds=24, keep_share=0.8)
    assert found.ranked("beaten_share").index[0] == "signal" and found.frame.loc["signal", "beaten_share"] > 0.9
    assert found.frame.loc[["noise0", "noise1", "noise2"], "beaten_share"].mean() < 0.5


@pytest.mark.long
@pytest.mark.parametrize("kind", ["numbers", "levels", "groups", "in time"])
def test_noise_is_hardly_ever_kept(kind):
    tables, wrong = 25, 0
    for seed in range(tables):
        table = noise(kind, np.random.default_rng(seed + 900))
        found = chaff.twin_test(
            table, chaff.Forest(trees=25, columns_per_split=4, leaf_rows=8, depth=5), rounds=64, keep_share=0.9, seed=seed
        )
        wrong += bool((found.frame["verdict"] == "keep").any())
    assert wrong / tables <= 0.1 + 2 * np.sqrt(0.1 * 0.9 / tables)


def test_a_code_of_many_levels_does_not_win_by_its_levels():
    rng = np.random.default_rng(3)
    frame = pd.DataFrame({f"n{k}": rng.normal(size=300) for k in range(4)})
    frame["code"] = rng.choice([f"k{k:03}" for k in range(120)], 300)
    table = chaff.open_table(frame.assign(y=frame["n0"] + 0.5 * rng.normal(size=300)), "y", kinds={"code": "category"})
    found = chaff.twin_test(table, SMALL)
    assert found.frame.loc["n0", "verdict"] == "keep" and found.frame.loc["code", "verdict"] != "keep"


def test_the_answer_knows_neither_workers_nor_the_order_of_the_columns():
    table = made(150)
    one, two = (chaff.twin_test(table, SMALL, rounds=24, keep_share=0.8, workers=w).frame for w in (1, 2))
    pd.testing.assert_frame_equal(one, two)
    back = chaff.twin_test(table.with_features(table.features[::-1]), SMALL, rounds=24, keep_share=0.8).frame
    pd.testing.assert_frame_equal(one, back.loc[one.index])


def test_twins_take_their_cells_from_other_rows_all_from_the_same():
    table = made(60, groups="mill")
    order = order_of_rows(table, np.random.default_rng(0), within=True)
    beside = with_twins(table, order)
    for f in table.features:
        np.testing.assert_array_equal(beside.column(TWIN + f).values, table.column(f).values[order])
    assert (table.groups[order] == table.groups).all()
    with pytest.raises(chaff.DataError, match="already"):
        with_twins(beside, order)


def test_the_pool_of_twins_stays_whole_when_columns_drop_out():
    table = made(80)
    rounds = rounds_of(table, SMALL, "impurity", Setting.unfolded(table, Work(0, 1)))
    assert isinstance(rounds, ForestRounds)
    (few, twins), *_ = rounds.play(["signal"], [0])
    assert few.shape == (1,) and twins.shape == (len(table.features),)


def test_the_record_counts_decides_and_measures_by_own_twins():
    test = TwinTest(rounds=100, keep_share=0.5)
    record = Record.start(["a", "b"])
    rounds = [(np.array([9.0, 1.0]), np.array([1.0, 3.0])) for _ in range(12)]
    record = record.with_rounds(["a", "b"], rounds, test)
    frame = record.frame(test)
    assert frame["hits"].tolist() == [12, 0] and frame["decided"].tolist() == ["keep", "drop"]
    assert frame["worth"].tolist() == pytest.approx([9.0, 1 / 3]) and frame["to_beat"].tolist() == [1.0, 1.0]
    assert record.live().tolist() == [True, False] and record.decided() == 2
    assert scale_of(np.zeros((3, 2))).tolist() == [1, 1] and scale_of(np.array([[10.0, 0.0]])).tolist() == [10, 0.5]


def test_how_far_the_undecided_are():
    test = TwinTest()
    assert rounds_to_decide(70, 100, test) == float("inf")
    more = rounds_to_decide(40, 40, test)
    n = 40 + more
    assert log_evidence_above(np.array([n]), np.array([n]), 0.9) >= np.log(20)
    assert 0 < more < 60 and rounds_to_decide(49, 100, test) > 1000


@pytest.mark.parametrize(
    ("settings", "words"),
    [
        ({"rounds": 0}, "rounds must be 1 or more"),
        ({"percentile": 0}, "percentile above 0"),
        ({"keep_share": 0.3}, "drop_share at or below"),
        ({"by": "permutatoin"}, "Did you mean"),
        ({"model": "ridge", "by": "out of bag"}, "has no rows out of bag"),
        ({"model": "ridge", "by": "impurity"}, "has no splits"),
    ],
)
def test_wrong_settings_are_said(settings, words):
    with pytest.raises(chaff.ChaffError, match=words):
        chaff.twin_test(made(), **settings)


def test_odd_tables():
    one = chaff.twin_test(made(100).with_features(["signal"]), SMALL)
    assert one.frame.loc["signal", "verdict"] in ("keep", "review")
    with pytest.raises(chaff.DataError, match="too few"):
        chaff.twin_test(made(15), SMALL)
    everything = [chaff.pin_drop(f, because="late") for f in made().features]
    for call in (chaff.twin_test, chaff.stability):
        with pytest.raises(chaff.DataError, match="every feature is pinned out"):
            call(made(), pins=everything)
    pins = everything[:6] + everything[7:]
    pinned = chaff.twin_test(made(), SMALL, pins=pins)
    assert pinned.frame["stays"].sum() <= 1
    rng = np.random.default_rng(0)
    mill = np.repeat(np.arange(10), 12)
    frame = pd.DataFrame({"x": rng.normal(size=120), "of_mill": rng.normal(size=10)[mill], "mill": mill, "y": rng.normal(size=120)})
    blind = chaff.twin_test(chaff.open_table(frame, "y", groups="mill"), SMALL)
    assert blind.frame.loc["of_mill", "verdict"] == "review" and "permuting changes nothing" in blind.notes[-1]


@pytest.mark.long
def test_in_a_plan_it_sets_aside_what_is_no_better_than_its_twins():
    plan = chaff.Plan((chaff.TwinTest(SMALL, rounds=44), chaff.Search("ridge")))
    run = chaff.select(made(200), plan=plan, honest="quick")
    assert "signal" in run.features and run.ledger.of("noise0")[0].by == "twins"
