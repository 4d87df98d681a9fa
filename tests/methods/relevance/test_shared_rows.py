"""Relevance where rows hang together: which p-values there are, what they are made of, what is blank, and which test leads."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from scipy.stats import ks_2samp

import chaff
from chaff.cli.tables import with_interval
from chaff.kernels.counts import shuffled_sums
from chaff.methods.relevance.relevance_data import MOST_LEVELS, RelevanceData, indicators
from chaff.stats.information import shuffled_chi_square_p, tail_bound
from chaff.stats.paired_loss import Units
from chaff.stats.ranks import average_ranks
from chaff.stats.score_test import score_p
from chaff.work import Work

COUNT, EACH = 40, 6


def frame(seed: int = 0) -> pd.DataFrame:
    rng = np.random.default_rng(seed)
    mill = np.repeat(np.arange(COUNT), EACH)
    own = rng.normal(size=COUNT)[mill]
    out = pd.DataFrame({"mill": mill, "x": own + rng.normal(size=mill.size), "variety": rng.choice(["Alba", "Borka", "Cerio"], mill.size)})
    out["organic"] = np.where(rng.random(mill.size) < 0.4, "yes", "no")
    out.loc[rng.random(mill.size) < 0.1, "x"] = np.nan
    out["y"] = np.nan_to_num(out["x"]) + rng.normal(size=COUNT)[mill] + rng.normal(size=mill.size)
    out["day"], out["w"] = rng.permutation(mill.size), np.exp(rng.normal(size=mill.size))
    out["grade"] = pd.qcut(out["y"], 3, labels=["low", "mid", "high"]).astype(str)
    return out


def opened(target: str = "y", **roles: str) -> chaff.Table:
    data = frame()
    other = {"y": "grade", "grade": "y"}[target]
    unused = [c for c in ("mill", "day", "w") if c not in roles.values()]
    return chaff.open_table(data, target, ignore=[other, *unused], **roles)


@pytest.mark.parametrize("roles", [{"groups": "mill"}, {"order": "day"}, {"weights": "w"}, {"groups": "mill", "order": "day"}])
def test_p_of_a_number_is_the_score_test_of_its_values_and_of_its_ranks(roles: dict[str, str]):
    table = opened(**roles)
    found = chaff.relevance(table).frame.loc["x"]
    x = table.column("x").values
    some = ~np.isnan(x)
    units = table.units.take(some)
    assert found["pearson_r_p"] == pytest.approx(score_p(x[some][None], table.y[some][None], units))
    assert found["f_p"] == found["pearson_r_p"] == found["p"]
    if "weights" not in roles:
        ranks = score_p(average_ranks(x[some])[None], average_ranks(table.y[some])[None], units)
        assert found["spearman_rho_p"] == pytest.approx(ranks) and found["kendall_tau_p"] == pytest.approx(ranks)


def test_with_groups_and_an_order_the_larger_p_counts():
    both = chaff.relevance(opened(groups="mill", order="day"), ["pearson_r"]).frame["pearson_r_p"].dropna()
    alone = [chaff.relevance(opened(**r), ["pearson_r"]).frame["pearson_r_p"].dropna() for r in ({"groups": "mill"}, {"order": "day"})]
    pd.testing.assert_series_equal(both, np.maximum(*alone))


def test_levels_and_classes_are_judged_together_and_an_area_class_by_class():
    table = opened("grade", groups="mill")
    found = chaff.relevance(table).frame
    variety = table.column("variety")
    A, B = indicators(variety.values.astype(int)), indicators(table.y.astype(int))
    assert found.loc["variety", "chi_square_p"] == pytest.approx(score_p(A, B, table.units))
    x = table.column("x").values
    some = ~np.isnan(x)
    ranks, classes, units = average_ranks(x[some])[None], table.y[some], table.units.take(some)
    each = [score_p(ranks, (classes == k)[None].astype(float), units) for k in range(3)]
    assert found.loc["x", "auc_p"] == pytest.approx(min(1.0, 3 * min(each)))


def test_what_has_no_such_form_is_blank_with_the_reason_and_the_value_stays():
    found = chaff.relevance(opened(groups="mill"))
    row = found.frame.loc["x"]
    assert np.isnan(row["distance_correlation_p"]) and row["distance_correlation"] > 0
    assert np.isnan(found.frame.loc["variety", "welch_f_p"]) and found.frame.loc["variety", "welch_f"] > 0
    assert any("no p-value for" in n and "distance_correlation" in n and "the groups" in n for n in found.notes)
    assert any(f"{COUNT} groups as the independent units, not the rows" in n for n in found.notes)
    assert np.isnan(found.frame.loc["variety", "omega_squared_low"])
    assert not any("the independent units" in n for n in chaff.relevance(opened()).notes)


def test_bounds_of_r_grow_by_what_a_group_shares():
    plain, shared = (chaff.relevance(opened(**r), ["pearson_r"]).frame.loc["x"] for r in ({}, {"groups": "mill"}))
    assert plain["pearson_r"] == shared["pearson_r"]
    width = [r["pearson_r_high"] - r["pearson_r_low"] for r in (plain, shared)]
    assert width[1] > width[0]


def test_indicators_leave_the_commonest_out_and_pool_the_rarest():
    codes = np.r_[np.zeros(5), np.ones(9), np.full(2, 3)].astype(int)
    flags = indicators(codes)
    assert flags.shape == (2, 16) and (flags.sum(1) == [5, 2]).all()
    many = indicators(np.repeat(np.arange(MOST_LEVELS + 20), 2))
    assert many.shape[0] == MOST_LEVELS and many[-1].sum() == 2 * 20 + 2 - 2


def test_a_bend_is_judged_without_the_line_in_it():
    rng = np.random.default_rng(1)
    mill = np.repeat(np.arange(60), 5)
    x = rng.normal(size=300)
    for target, bends in ((2 * x, False), (x**2, True)):
        data = pd.DataFrame({"x": x, "mill": mill, "y": target + rng.normal(size=300)})
        p = chaff.relevance(chaff.open_table(data, "y", groups="mill"), ["correlation_ratio"]).frame.loc["x", "curve_f_p"]
        assert bool(p < 0.001) is bends


# ------------------------------------------------------------------ which test leads


def leading(x: np.ndarray, y: np.ndarray) -> tuple[str, str]:
    found = chaff.relevance(chaff.open_arrays(np.c_[x, np.random.default_rng(9).normal(size=x.size)], y), "leading")
    return str(found.frame["statistic"].iloc[0]), " ".join(found.notes)


def test_ranks_lead_where_a_few_rows_would_carry_r_and_only_there():
    rng = np.random.default_rng(2)
    tails, plain = np.exp(2 * rng.normal(size=(2, 300))), rng.normal(size=(2, 300))
    statistic, notes = leading(tails[0], tails[1])
    assert statistic == "spearman_rho" and "rank test used for x1" in notes
    for x, y in ((plain[0], plain[1]), (tails[0], plain[1]), (plain[0], tails[1])):  # one side alone does no harm
        statistic, notes = leading(x, y)
        assert statistic == "pearson_r" and "ranks lead" not in notes


def test_a_rare_class_and_long_tails_are_judged_by_ranks():
    rng = np.random.default_rng(3)
    rare = (np.arange(400) < 12).astype(int)
    found = chaff.relevance(chaff.open_arrays(np.c_[np.exp(2 * rng.normal(size=400)), rng.normal(size=400)], rare), "leading").frame
    assert found["statistic"].tolist() == ["kruskal_h", "f"]
    assert found["effect_size"].between(0, 1).all() and found["p"].between(0, 1).all()


@pytest.mark.long
def test_the_leading_p_holds_under_tails_where_r_alone_would_lie():
    rng, lead = np.random.default_rng(4), []
    for _ in range(20):
        X, y = np.exp(2.2 * rng.normal(size=(120, 20))), np.exp(2.2 * rng.normal(size=120))
        lead += chaff.relevance(chaff.open_arrays(X, y), "leading").frame["p"].tolist()
    assert np.mean(np.array(lead) < 0.01) < 0.01 + 3 * np.sqrt(0.01 * 0.99 / 400)


@pytest.mark.long
def test_a_sparse_table_of_counts_has_its_p_from_shuffles():
    rng = np.random.default_rng(5)
    data = pd.DataFrame(
        {"code": [f"v{k}" for k in rng.integers(0, 40, 120)], "z": rng.normal(size=120), "y": rng.choice(["a", "b", "c"], 120)}
    )
    p = chaff.relevance(chaff.open_table(data, "y"), ["chi_square"]).frame.loc["code", "chi_square_p"]
    again = chaff.relevance(chaff.open_table(data, "y"), ["chi_square"]).frame.loc["code", "chi_square_p"]
    draws = np.random.default_rng(6)
    codes, classes = data["code"].to_numpy(), data["y"].to_numpy()

    def statistic(of: np.ndarray) -> float:
        table = pd.crosstab(codes, of).to_numpy()
        return float((table**2 / np.outer(table.sum(1), table.sum(0))).sum())

    shuffled = [statistic(draws.permutation(classes)) for _ in range(300)]
    assert p == again and abs(p - np.mean(np.array(shuffled) >= statistic(classes) - 1e-12)) < 0.15


def test_a_view_without_roles_has_no_units():
    view = RelevanceData(opened(), Work(), 10, "equal counts", None, 0.95, 0.0, 3, 5000, 30)
    assert view.units is None and view.units_of(np.ones(COUNT * EACH, bool)) is None
    assert isinstance(opened(weights="w").units, Units)


def counted(levels, classes):
    return pd.crosstab(levels, classes).to_numpy(float)


@pytest.mark.long
def test_sparse_p_is_uniform_under_no_effect():
    p = []
    for seed in range(300):
        rng = np.random.default_rng(10**6 + seed)
        p.append(shuffled_chi_square_p(counted(rng.integers(0, 40, 150), rng.integers(0, 6, 150)), seed)[0])
    for level in (0.01, 0.05, 0.2):
        assert np.mean(np.array(p) <= level) <= level + 3 * np.sqrt(level * (1 - level) / 300)


@pytest.mark.parametrize(("levels", "classes", "rows"), [(40, 6, 150), (200, 19, 800), (300, 3, 400)])
def test_the_tail_beyond_the_shuffles_is_bounded_from_above(levels, classes, rows):
    """Against two hundred thousand shuffles: never below what they show, and not a hundred times above."""
    rng = np.random.default_rng(1)
    table = counted(rng.integers(0, levels, rows), rng.integers(0, classes, rows))
    ends, sizes = np.cumsum(table.sum(1)).astype(np.int64), table.sum(0).astype(np.int64)
    sums = np.empty(200_000)
    shuffled_sums(np.repeat(np.arange(sizes.size), sizes), ends, 1 / sizes, 5, np.zeros(sizes.size, np.int64), sums)
    sums = np.sort(sums)[::-1]
    for place in (20, 100):
        bound = tail_bound(np.sort(rng.choice(sums, 4000))[::-1], float(sums[place]))
        assert place / 200_000 <= bound <= 100 * place / 200_000


def test_shuffled_sums_are_those_of_plain_shuffles():
    rng = np.random.default_rng(2)
    table = counted(rng.integers(0, 9, 60), rng.integers(0, 3, 60))
    rows, sizes = table.sum(1).astype(int), table.sum(0).astype(int)
    out = np.empty(4000)
    shuffled_sums(np.repeat(np.arange(3), sizes), np.cumsum(rows), 1 / sizes, 3, np.zeros(3, np.int64), out)
    classes, levels = np.repeat(np.arange(3), sizes), np.repeat(np.arange(9), rows)
    plain = []
    for _ in range(4000):
        drawn = np.bincount(levels * 3 + rng.permutation(classes), minlength=27).reshape(9, 3)
        plain.append((drawn**2 / np.outer(rows, sizes)).sum())
    assert ks_2samp(out, plain).pvalue > 0.001


def test_strong_evidence_of_words_is_not_stopped_at_the_number_of_shuffles():
    rng = np.random.default_rng(3)
    code = rng.integers(0, 60, 500)
    y = np.where(rng.random(500) < 0.5, code % 10, rng.integers(0, 10, 500))
    data = pd.DataFrame({"code": [f"v{k}" for k in code], "z": rng.normal(size=500), "y": [f"g{k}" for k in y]})
    row = chaff.relevance(chaff.open_table(data, "y"), ["chi_square"]).frame.loc["code"]
    assert row["chi_square_p"] < 1e-20 and row["p_at_most"] == 1 and row["p"] == row["chi_square_p"]
    assert with_interval("chi_square_p", row.copy()).startswith(("≤ ", "<1e-16"))
