"""Does it hold everywhere, at its level and with power; and what the kept columns tell of what must not be used."""

import json

import numpy as np
import pandas as pd
import pytest
from scipy.signal import lfilter

import chaff
from chaff.methods.evaluation.everywhere import parts_of
from chaff.methods.evaluation.protection import asking_for
from chaff.stats.part_differences import means_differ, slopes_differ, stretches
from tests.commands import run

PLAN = chaff.Plan((chaff.Screen(), chaff.Search(model="ridge", size=3)), chaff.Scoring(repeats=1))


def mills(seed=0, rows=600, turned=(), noise=1.0):
    """Ten mills of unequal size; in those of `turned` the second assay works the other way round."""
    rng = np.random.default_rng(seed)
    frame = pd.DataFrame(rng.normal(size=(rows, 3)), columns=["assay_0", "assay_1", "assay_2"])
    mill = rng.choice(10, rows, p=np.arange(1, 11) / 55)
    sign = np.where(np.isin(mill, turned), -1.0, 1.0)
    frame["y"] = frame["assay_0"] + sign * frame["assay_1"] + 0.5 * frame["assay_2"] + rng.normal(0, noise, rows)
    frame["mill"] = [f"mill {m}" for m in mill]
    return frame


def selected(frame, **terms):
    return chaff.select(chaff.open_table(frame, "y", **({"groups": "mill"} | terms)), PLAN, state=False, honest="quick", holdout=0)


@pytest.mark.parametrize("kind", ["plain", "heavy tails", "unequal noise", "few rows"])
@pytest.mark.long
def test_mills_that_do_not_differ_are_told_apart_as_often_as_promised(kind):
    """Over one column: 5 % at most, but for what 200 tables leave open."""
    hits = [0, 0]
    for seed in range(200):
        rng = np.random.default_rng(seed)
        n = 150 if kind == "few rows" else 500
        parts = np.sort(rng.choice(6, n, p=[0.1, 0.1, 0.15, 0.15, 0.2, 0.3]))
        if np.bincount(parts, minlength=6).min() < 5:
            continue
        x = rng.normal(size=n) + 0.5 * parts
        spread = np.where(parts == 5, 2.5, 1.0) if kind == "unequal noise" else 1.0
        e = rng.standard_t(3, n) if kind == "heavy tails" else rng.normal(size=n)
        y = 0.7 * x - parts + spread * e
        hits[0] += slopes_differ(x, y, parts, 99, rng).p <= 0.05
        hits[1] += means_differ(e**2, parts, 99, rng).p <= 0.05
    assert hits[0] <= 20 and hits[1] <= 20, hits


def test_slopes_by_hand():
    rng = np.random.default_rng(1)
    parts = np.repeat([0, 1, 2], [40, 60, 80])
    x = rng.normal(size=180)
    y = np.array([0.5, 1.0, -1.0])[parts] * x + rng.normal(0, 0.3, 180) + 3 * parts
    found = slopes_differ(x, y, parts, 199, rng)
    for k in range(3):
        assert found.values[k] == pytest.approx(np.polyfit(x[parts == k], y[parts == k], 1)[0])
    assert found.p == pytest.approx(1 / 200)
    np.testing.assert_allclose(means_differ(y, parts, 9, rng).values, [y[parts == k].mean() for k in range(3)])


@pytest.mark.long
def test_tables_without_a_difference_name_nothing():
    named = [bool(selected(mills(seed)).holds_everywhere(shuffles=199).some_only) for seed in range(25)]
    assert sum(named) <= 4


def test_a_column_that_works_the_other_way_round_in_some_mills_is_named():
    found = selected(mills(2, turned=(8, 9))).holds_everywhere()
    assert found.some_only == ("assay_1",) and "assay_1" in found.headline and found.words[0].startswith("assay_1: slope")
    row = found.features.loc["assay_1"]
    assert row["lowest"] < 0 < row["highest"] and row["lowest_in"] in ("mill 8", "mill 9") and row["same_way"] <= 0.9
    assert set(found.behind) <= {"mill 8", "mill 9"} and found.behind and found.score_p < 0.05


def test_scores_by_part_are_those_of_the_rows_by_hand():
    run_ = selected(mills(3))
    found = run_.holds_everywhere(shuffles=9)
    counts = pd.Series(mills(3)["mill"]).value_counts()
    assert found.parts["rows"].to_dict() == counts[counts >= 12].to_dict()
    scorer = chaff.SubsetScorer(run_.train, run_.final_scores.deciding, "r2")
    overall = 1 - ((1 - found.parts["gain"]) * found.parts["rows"]).sum() / found.parts["rows"].sum()
    assert overall == pytest.approx(scorer(run_.features).mean, abs=0.05)


@pytest.mark.long
def test_periods_columns_of_words_and_classes():
    frame = mills(4).assign(day=np.arange(600), shift=["early", "late", "night"] * 200)
    late = selected(frame.drop(columns="mill"), groups=None, order="day", ignore=["shift"])
    assert late.holds_everywhere(shuffles=49).parts.index.str.startswith("period").all()
    by_shift = selected(frame, ignore=["day"]).holds_everywhere("shift", shuffles=49)
    assert set(by_shift.parts.index) == {"early", "late", "night"}
    three = frame.assign(y=pd.qcut(frame["y"], 3, labels=["u", "v", "w"]).astype(str)).drop(columns=["day", "shift"])
    run_ = chaff.select(
        chaff.open_table(three, "y", groups="mill"),
        chaff.Plan((chaff.Screen(), chaff.Search(model="logistic"))),
        state=False,
        honest="quick",
    )
    assert len(run_.holds_everywhere(shuffles=49).features) == len(run_.features)


def test_what_cannot_be_asked():
    plain = selected(mills(5).drop(columns="mill"), groups=None)
    with pytest.raises(chaff.UsageError, match="everywhere needs parts"):
        plain.holds_everywhere()
    with pytest.raises(chaff.UsageError, match="column of words"):
        plain.holds_everywhere("assay_0")
    with pytest.raises(chaff.UnknownColumn, match="Did you mean"):
        plain.holds_everywhere("assay_9")
    tiny = chaff.open_table(mills(6, rows=60).assign(mill=[f"m{k}" for k in range(60)]), "y", groups="mill")
    with pytest.raises(chaff.DataError, match="fewer than two parts"):
        chaff.select(tiny, PLAN, state=False, honest="quick", holdout=0).holds_everywhere()
    assert parts_of(tiny, None)[0] == "mill"


# ---- protected columns


def regions(seed=0, rows=500, tells=True):
    rng = np.random.default_rng(seed)
    region = rng.integers(0, 3, rows)
    frame = pd.DataFrame(
        {"soil": rng.normal(size=rows) + (1.5 * region if tells else 0), "rain": rng.normal(size=rows), "depth": rng.normal(size=rows)}
    )
    frame["grower_region"] = np.array(["north", "south", "west"])[region]
    frame["y"] = frame["soil"] + frame["rain"] + 0.5 * frame["depth"] + rng.normal(0, 1, rows)
    return frame


def protected(frame, **terms):
    table = chaff.open_table(frame, "y", protected="grower_region", **terms)
    assert "grower_region" not in table.features
    return chaff.select(table, PLAN, state=False, honest="quick")


@pytest.mark.long
def test_a_stand_in_is_found_with_who_carries_it_and_what_it_costs():
    found = protected(regions()).protection()
    row = found.frame.loc["grower_region"]
    assert found.telling == ("grower_region",) and row["carriers"] == ("soil",) and row["explained"] > 0.2
    assert row["score_without"] < row["kept_score"] - 0.1 and row["loss_without"] > 2 * row["loss_se"]
    assert found.carriers["lost"].max() > 0.8 and "mainly through soil" in found.words[0]
    json.dumps(found.as_plain())


def test_the_selection_keeps_what_protection_found_and_explains_it(tmp_path):
    table = chaff.open_table(regions(), "y", protected="grower_region")
    made = chaff.select(table, PLAN, state=False)
    made.selection.save(tmp_path / "s.json")
    again = chaff.read_selection(tmp_path / "s.json")
    part, found = again.protected["grower_region"], made.protection()
    assert part.significant and list(part.carriers) == ["soil"] and part.explained == found.frame.loc["grower_region", "explained"]
    assert found is made.protection()  # what was found is not measured again
    says = again.explain("soil").columns[0].says
    assert any("predicts the protected column grower_region" in words for words in says)
    assert not any("protected" in words for words in again.explain("rain").columns[0].says)


@pytest.mark.long
def test_nothing_told_is_said_to_tell_nothing():
    told = [bool(protected(regions(seed, tells=False)).protection().telling) for seed in range(20)]
    assert sum(told) <= 3


def test_a_protected_number_a_rare_level_and_whole_groups():
    frame = regions(3).assign(height=lambda f: 2 * f["soil"] + np.random.default_rng(0).normal(0, 0.3, 500))
    table = chaff.open_table(frame, "y", protected=["height"], ignore="grower_region")
    assert protected_of(table).frame.loc["height", "explained"] > 0.8
    rare = regions(4)
    rare.loc[:4, "grower_region"] = "islands"
    run_ = protected(rare)
    assert asking_for(run_.train, "grower_region", run_.features).target.classes == ("north", "south", "west")
    with pytest.raises(chaff.DataError, match="no column is protected"):
        selected(mills(7)).protection()


def protected_of(table):
    return chaff.select(table, PLAN, state=False, honest="quick").protection()


def test_a_protected_column_is_never_a_feature_whoever_asks():
    table = chaff.open_table(regions(), "y", protected=["grower_region"])
    with pytest.raises(chaff.UsageError, match="is protected"):
        table.with_features(["grower_region", "soil"])
    assert "protected grower_region" in table.roles_text
    with pytest.raises(chaff.UnknownColumn, match="Did you mean 'grower_region'"):
        chaff.open_table(regions(), "y", protected=["grower_regio"])


@pytest.mark.long
def test_both_on_the_command_line(tmp_path):
    regions().assign(mill=[f"mill {k % 6}" for k in range(500)]).to_csv(tmp_path / "t.csv", index=False)
    asked = ("select", "t.csv", "--target", "y", "--groups", "mill", "--protected", "grower_region", "--model", "ridge", "--repeats", "1")
    said = " ".join(run(*asked, "--everywhere", "--report", "--out", "o", cwd=tmp_path).split())
    assert (
        "predict protected columns significantly: grower_region" in said and "none of 3 slopes differs between the 5 parts by mill" in said
    )
    page = (tmp_path / "o" / "report.html").read_text()
    assert "Slopes and score by mill" in page and "Features that predict protected columns" in page
    assert "--by goes with --everywhere" in run(*asked, "--by", "mill", "--out", "o2", cwd=tmp_path, code=2)
    plain = ("select", "t.csv", "--target", "y", "--everywhere", "--out", "o3")
    assert "needs parts" in run(*plain, cwd=tmp_path, code=2)


def ar(rng, n, phi):
    e = rng.normal(size=n + 200)
    return lfilter([np.sqrt(1 - phi**2)], [1, -phi], e)[200:]


def alarms(make, runs=60):
    return sum(make(np.random.default_rng(s)) <= 0.05 for s in range(runs)) / runs


@pytest.mark.long
def test_periods_of_a_series_that_remembers_are_told_apart_no_more_than_chance_says():
    parts, time = np.arange(500) // 100, np.arange(500.0)

    def slopes(rng, dealt=True):
        x = ar(rng, 500, 0.8)
        y = 0.7 * x + ar(rng, 500, 0.8)
        units = stretches(x * (y - 0.7 * x), time, parts) if dealt else None
        return slopes_differ(x, y, parts, 99, rng, units).p

    assert alarms(slopes) <= 0.05 + 2 * np.sqrt(0.05 * 0.95 / 60) < alarms(lambda rng: slopes(rng, False))


@pytest.mark.long
def test_parts_of_whole_groups_are_told_apart_no_more_than_chance_says():
    groups = np.repeat(np.arange(30), 10)

    def slopes(rng, dealt=True):
        parts = rng.permutation(np.arange(30) % 5)[groups]
        x, e = (0.8 * rng.normal(size=30)[groups] + 0.6 * rng.normal(size=300) for _ in range(2))
        return slopes_differ(x, 0.7 * x + e, parts, 99, rng, groups if dealt else None).p

    assert alarms(slopes) <= 0.05 + 2 * np.sqrt(0.05 * 0.95 / 60) < alarms(lambda rng: slopes(rng, False))


def test_a_relation_that_turns_round_is_seen_in_time_and_in_groups():
    rng = np.random.default_rng(0)
    x, parts = ar(rng, 600, 0.5), np.arange(600) // 120
    y = np.where(parts == 2, -1, 1) * x + ar(rng, 600, 0.5)
    assert slopes_differ(x, y, parts, 199, rng, stretches(x * (y - x), np.arange(600.0), parts)).p <= 0.01
    groups = np.arange(600) // 10
    assert slopes_differ(x, y, parts, 199, rng, groups).p <= 0.01


def test_too_few_stretches_or_groups_give_no_p_and_say_why():
    rng = np.random.default_rng(0)
    n = 100
    frame = pd.DataFrame({"x": ar(rng, n, 0.97), "day": np.arange(n)})
    table = chaff.open_table(frame.assign(y=frame["x"] + ar(rng, n, 0.97), z=rng.normal(size=n)), "y", order="day")
    run = chaff.select(
        table, chaff.Plan((chaff.Screen(), chaff.Search(model="ridge"))), pins=[chaff.pin_keep("x", because="kept")], holdout=0, state=False
    )
    found = run.holds_everywhere()
    assert np.isnan(found.features.loc["x", "p"]) and not found.some_only and "no test whether" in found.headline
    assert any("no p for x" in n and "stretches of time" in n for n in found.notes)
    assert "not tested" not in found.headline and not found.parts["behind"].any()


def test_equal_slopes_by_hand_with_units():
    """Cochran's Q with errors from sums over units, by loops."""
    rng = np.random.default_rng(2)
    units = np.repeat(np.arange(20), 6)
    parts = units % 4
    x, y = rng.normal(size=(2, 120))
    found = slopes_differ(x, y, parts, 9, rng, units)
    for k in range(4):
        here = parts == k
        cx, cy = x[here] - x[here].mean(), y[here] - y[here].mean()
        b = (cx @ cy) / (cx @ cx)
        sums = [((cy - b * cx) * cx)[units[here] == u].sum() for u in np.unique(units[here])]
        assert found.values[k] == pytest.approx(b)
        assert found.errors[k] == pytest.approx(np.sqrt(np.square(sums).sum() * 5 / 3) / (cx @ cx))
