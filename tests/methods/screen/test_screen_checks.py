"""The screen's checks: repeats, the target in another form, disguised missing, rows, advice, and switching each off."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import chaff

N = 400
RNG = np.random.default_rng(0)
BASE = pd.DataFrame({"z": RNG.normal(size=N), "y": RNG.normal(400, 30, N)})


def screened(target="y", order=None, pins=(), limits=None, task="auto", **columns):
    frame = BASE.assign(**columns)
    table = chaff.open_table(frame, target, order=order, task=task, ignore=["y"] if target != "y" else [])
    return chaff.screen(table, pins=pins, **(limits or {}))


def row(found, name="x"):
    return found.frame.loc[name]


@pytest.mark.parametrize(
    ("make", "words"),
    [(lambda x: x.copy(), "cell by cell"), (lambda x: 3 - 2 * x, "as 3 - 2 times it"), (lambda x: x * 0.7769, "times 0.7769")],
)
def test_a_column_that_is_another_one_is_dropped_and_says_how(make, words):
    x = RNG.normal(10, 2, N)
    found = screened(x=x, x_twin=make(x))
    assert row(found, "x_twin")["verdict"] == "drop" and words in row(found, "x_twin")["reason"] and row(found)["verdict"] == "keep"
    pinned = screened(x=x, x_twin=make(x), pins=[chaff.pin_keep("x_twin", because="the lab's own")])
    assert row(pinned, "x_twin")["stays"] and row(pinned)["verdict"] == "drop" and row(pinned)["repeats_of"] == "x_twin"
    assert row(screened(x=x, x_twin=make(x), limits={"repeats": False}), "x_twin")["verdict"] == "keep"


def test_renamed_levels_and_gaps_elsewhere():
    word = RNG.choice(["a", "b", "c"], N)
    found = screened(a=word, code=pd.Series(word).map({"a": 7, "b": 1, "c": 4}))
    assert "with its values renamed" in row(found, "code")["reason"]
    x = RNG.normal(size=N)
    assert row(screened(x=x, gap=np.where(np.arange(N) == 3, np.nan, x)), "gap")["repeats_of"] == ""  # not the same cells


@pytest.mark.long
def test_the_target_in_another_form_is_barred():
    y = BASE["y"]
    for x, words in (
        (np.log(y), "another scale"),
        (-y, "another scale"),
        (np.digitize(y, [380, 400, 420]), "cut into 4 pieces"),
        (np.array(["low", "mid", "high"])[np.digitize(y, [390, 410])], "cut into 3 pieces"),
    ):
        r = row(screened(x=x))
        assert r["verdict"] == "review" and not r["stays"] and words in r["reason"], words
    assert "alone" in row(screened(x=np.log(y), limits={"echoes": False}))["reason"]
    assert row(screened(x=y + RNG.normal(0, 5, N), limits={"too_good": None, "far_above": None}))["verdict"] == "keep"


def test_what_a_class_was_cut_from_and_levels_that_give_it_away():
    y = BASE["y"].to_numpy()
    high = np.where(y > 405, "yes", "no")
    r = row(screened("high", high=high, x=y))
    assert not r["stays"] and "reproduce the classes" in r["reason"] and "40" in r["reason"]
    assert "under other names" in row(screened("high", high=high, x=np.where(y > 405, "1st", "2nd")))["reason"]
    three = np.where(y > 405, np.where(RNG.random(N) < 0.5, "p", "q"), "r")
    assert "each level has one class" in row(screened("high", high=high, x=three))["reason"]


@pytest.mark.parametrize(("away", "stays", "words"), [(1, False, "1 row later"), (-2, True, "2 rows earlier")])
def test_with_an_order_the_target_shifted_in_time_is_seen(away, stays, words):
    shifted = BASE["y"].shift(-away).fillna(400.0)
    r = row(screened(order="day", day=np.arange(N), x=shifted))
    assert r["verdict"] == "review" and bool(r["stays"]) is stays and words in r["reason"]
    assert row(screened(day=np.arange(N), x=shifted))["echo"] == ""  # without an order nobody knows


@pytest.mark.parametrize(
    ("column", "words"),
    [
        (np.where(np.arange(N) % 40 == 0, 999, RNG.normal(12, 1, N)), "999 (10 times)"),
        (np.where(np.arange(N) % 50 == 0, 0.0, RNG.normal(78, 2, N)), "0 (8 times)"),
        (np.where(np.arange(N) % 50 == 0, -1, RNG.integers(9, 60, N)), "-1 (8 times)"),
        (np.where(np.arange(N) % 4 == 0, "n/a", RNG.choice(["a", "b"], N)), "'n/a' (100 times)"),
    ],
)
def test_disguised_missing_is_pointed_at_and_stays(column, words):
    r = row(screened(x=column))
    assert r["verdict"] == "review" and r["stays"] and words in r["reason"] and "missing_codes=" in r["advice"]
    assert row(screened(x=column, limits={"sentinels": False}))["verdict"] == "keep"


def test_zeros_and_nines_that_belong_are_left_alone():
    assert row(screened(x=np.maximum(RNG.normal(0, 1, N), 0)))["sentinel"] == ""
    assert row(screened(x=RNG.integers(0, 20, N)))["sentinel"] == ""
    assert row(screened(x=RNG.normal(1000, 30, N).round()))["sentinel"] == ""


def test_numbers_with_units_codes_and_near_ids_get_advice():
    r = row(screened(x=[f"{v:.1f} kg".replace(".", ",") for v in RNG.normal(12, 2, N)]))
    assert r["verdict"] == "review" and r["stays"] and "unit" in r["reason"] and "strip the unit" in r["advice"]
    codes = RNG.integers(1, 6, N)
    speaks = chaff.open_table(BASE.assign(x=codes, y=np.where(codes % 2, 1.0, -1.0) + RNG.normal(size=N)), "y")
    assert "kinds={'x': 'category'}" in row(chaff.screen(speaks))["advice"]
    assert row(screened(x=codes))["advice"] == ""  # nothing says that they are codes
    near = 50_000 + RNG.integers(0, N, N)
    r = row(screened(x=near))
    assert r["verdict"] == "review" and r["stays"] and "id with repeats" in r["reason"]
    dates = pd.Timestamp("2024-01-01") + pd.to_timedelta(RNG.integers(0, 300, N), unit="D")
    assert "month" in row(screened(x=dates.strftime("%Y-%m-%d")))["advice"]
    text = [f"the lot smelled of rain and came late, note {k}, so the miller asked again" for k in range(N)]
    assert "length" in row(screened(x=text))["advice"]


def test_facts_equal_their_definitions():
    x = np.round(RNG.gamma(2, 3, N), 1)
    x[:30] = np.nan
    r = row(screened(x=x))
    seen = x[30:]
    q1, q3 = np.quantile(seen, [0.25, 0.75])
    assert r["rows"] == N - 30 and r["missing_share"] == pytest.approx(30 / N) and r["distinct"] == np.unique(seen).size
    assert (r["low"], r["high"]) == (seen.min(), seen.max()) and r["quartile_range"] == pytest.approx(q3 - q1)
    assert r["skew"] == pytest.approx(pd.Series(seen).sub(seen.mean()).pow(3).mean() / seen.std() ** 3)
    assert r["outlying_share"] == pytest.approx(((seen < q1 - 1.5 * (q3 - q1)) | (seen > q3 + 1.5 * (q3 - q1))).mean())
    assert r["spread"] == pytest.approx(seen.std()) and r["top_share"] == pytest.approx(pd.Series(seen).value_counts().iloc[0] / seen.size)


def test_limits_and_spread_of_zero():
    still = np.full(N, 5.0)
    assert row(screened(x=still))["verdict"] == "drop"
    assert row(screened(x=still, limits={"top_share": None, "spread": None, "least_steps": None}))["verdict"] == "keep"
    assert row(screened(x=RNG.normal(0, 0.2, N), limits={"spread": 0.5}))["figure"].startswith("spread")
    with pytest.raises(chaff.UsageError, match="missing_share must be between"):
        screened(x=still, limits={"missing_share": 2})
    with pytest.raises(chaff.UsageError, match="Did you mean 'missing_share'"):
        screened(x=still, limits={"missing_shares": 0.2})


def test_rows_duplicates_contradictions_and_what_no_model_can_exceed():
    a, b = RNG.integers(0, 2, 200), RNG.integers(0, 3, 200)
    y = a * 2.0 + RNG.normal(size=200)
    frame = pd.DataFrame({"a": a, "b": b, "y": y})
    checks = chaff.screen(chaff.open_table(frame, "y")).more["rows"]
    means = frame.groupby(["a", "b"])["y"].transform("mean")
    ceiling = 1 - ((y - means) ** 2).sum() / ((y - y.mean()) ** 2).sum()
    assert checks.loc["contradictions", "count"] == 200 and f"R² {ceiling:.3f}" in checks.loc["contradictions", "words"]
    twice = pd.concat([frame.assign(c=RNG.normal(size=200))] * 2, ignore_index=True)
    checks = chaff.screen(chaff.open_table(twice, "y")).more["rows"]
    assert checks.loc["equal rows", "count"] == 200 and checks.loc["contradictions", "count"] == 0
    words = np.where(y > 1, "hi", "lo")
    checks = chaff.screen(chaff.open_table(frame.assign(y=words), "y")).more["rows"]
    best = frame.assign(w=words).groupby(["a", "b"])["w"].agg(lambda s: s.value_counts().iloc[0]).sum() / 200
    assert f"accuracy {best:.3f}" in checks.loc["contradictions", "words"] and checks.loc["class hi", "share"] == pytest.approx(
        (y > 1).mean()
    )


def test_outlying_targets_and_rare_classes_are_counted():
    y = BASE["y"].to_numpy().copy()
    y[:3] = 9000
    checks = chaff.screen(chaff.open_table(BASE.assign(y=y, x=RNG.normal(size=N)), "y")).more["rows"]
    assert checks.loc["target outliers", "count"] == 3
    rare = np.where(np.arange(N) < 10, "rare", "usual")
    checks = chaff.screen(chaff.open_table(BASE.assign(g=rare), "g", ignore="y")).more["rows"]
    assert "use log loss" in checks.loc["class rare", "words"] and "rare," not in checks.loc["class usual", "words"]


@pytest.mark.long
def test_verdicts_on_the_mill_follow_its_truth():
    found = chaff.screen(chaff.demo.table())
    truth = chaff.demo.truth()["role"]
    for name, r in found.frame.iterrows():
        words = {"id": "review", "leak": "review", "absence tells": "review", "signal": "keep", "repeat": "keep", "noise": "keep"}
        expected = "review" if name == "organic" else "keep" if name == "line_voltage_v" else words.get(truth[name], "drop")
        assert r["verdict"] == expected, name
    assert (
        chaff.screen(chaff.demo.table(rows=200), pins=[chaff.pin_drop("ash_pct", because="too dear")]).frame.loc["ash_pct", "reason"]
        == "pinned: too dear"
    )


def test_whole_numbers_that_name_rows_are_told_from_those_that_measure():
    amount = RNG.permutation(900_000)[:N]
    found = screened(turnover=amount, account_no=amount[::-1].copy(), billNumber=RNG.permutation(900_000)[:N])
    assert row(found, "turnover")["verdict"] == "review" and row(found, "turnover")["stays"]
    for named in ("account_no", "billNumber"):
        assert "its name says so" in row(found, named)["reason"] and not row(found, named)["stays"], named
    predicts = (1000 * (BASE["y"] + RNG.normal(0, 20, N))).round().astype(int)
    assert row(screened(account_no=predicts), "account_no")["verdict"] == "keep"
    assert row(screened(account_no=amount, limits={"id_share": None}), "account_no")["verdict"] == "keep"


def test_a_rounded_measurement_that_predicts_is_no_group():
    """About ten rows a value, a steep line: values differ, as those next to them let expect."""
    x = RNG.integers(0, 40, N)
    steep = BASE.assign(x=x, y=np.exp(x / 8) + RNG.normal(0, 1, N))
    assert row(chaff.screen(chaff.open_table(steep, "y")))["groups_words"] == ""
    farm = RNG.normal(0, 3, 40)[x]  # of real groups neighbours say nothing
    grouped = BASE.assign(x=x, y=farm + RNG.normal(0, 1, N))
    assert "40 values of about 10 rows" in row(chaff.screen(chaff.open_table(grouped, "y")))["groups_words"]


def test_minus_one_is_a_code_only_where_it_stands_apart():
    assert row(screened(x=RNG.choice([-1, 0, 1, 2, 3, 4, 5], N)))["sentinel"] == ""
    assert row(screened(x=np.where(RNG.random(N) < 0.03, -1, RNG.integers(0, 30, N))))["sentinel"] == ""
    away = np.where(RNG.random(N) < 0.05, -1.0, RNG.normal(40, 5, N))
    assert "-1 (" in row(screened(x=away))["sentinel"]
    once = np.r_[-1.0, RNG.normal(40, 5, N - 1)]
    assert row(screened(x=once))["sentinel"] == ""


def test_the_coefficient_of_variation_can_be_the_limit():
    found = screened(x=RNG.normal(100, 5, N), w=RNG.normal(100, 30, N), limits={"relative_spread": 0.1})
    assert "relative_spread 0.0" in row(found)["figure"] and row(found)["limit"] == "0.1" and row(found, "w")["verdict"] == "keep"
    tried = found.try_limits([0.1], "relative_spread")
    assert int(tried["stay"].iloc[0]) == 2  # w and z: as the limit says
    assert row(screened(x=RNG.normal(100, 5, N)))["verdict"] == "keep"
