"""Who goes first among repeats, and whether absence tells: small cases with known answers."""

import numpy as np
import pandas as pd
import pytest
import scipy.stats as ss

import chaff
from chaff.evaluate.setting import Setting
from chaff.methods.repeats import Priority, priorities, why_stays
from chaff.methods.screen.facts import column_facts
from chaff.methods.screen.missingness_signal import missingness_signals
from chaff.results.verdict import Pin

RNG = np.random.default_rng(2)


def test_repeats_stay_by_pin_gaps_cost_relevance_and_name():
    base = Priority(False, 0.5, 0.1, 2.0, 3)
    better = [
        Priority(True, 0.0, 0.9, 9.0, 9),
        Priority(False, 0.4, 0.0, 9.0, 9),
        Priority(False, 0.4, 0.101, 1.0, 9),  # a tenth of a per cent is no difference
        Priority(False, 0.6, 0.1, 2.0, 9),
        Priority(False, 0.5, 0.1, 2.0, 1),
    ]
    words = ["pinned", "fewer missing values", "cheaper", "more relevant", "alphabetically first"]
    for one, word in zip(better, words, strict=True):
        assert one.repeating() < base.repeating() and word in why_stays(one, base)
    assert Priority(False, 0.6, 0.9, 9.0, 9).going() < base.going()


def test_priorities_read_the_table_and_the_pins():
    frame = pd.DataFrame({"a": RNG.normal(size=80), "b": RNG.normal(size=80)})
    frame["y"] = frame["a"] + 0.1 * RNG.normal(size=80)
    frame.loc[:19, "b"] = np.nan
    table = chaff.open_table(frame, target="y", costs={"a": 4.0})
    claim = priorities(table, Setting.of(table, pins={"b": Pin("b", "keep", "x")}))
    assert claim["a"].relevance > 0.9 and claim["a"].cost == 4.0 and claim["b"].missing == 0.25 and claim["b"].pinned


def told(table):
    return missingness_signals(table, [column_facts(table, f) for f in table.features], 0.01, 0.1)


def test_absence_is_tested_by_ranks_for_numbers():
    n = 400
    hidden = RNG.random(n) < 0.7
    y = RNG.normal(size=n) + 2.0 * hidden
    frame = pd.DataFrame(
        {
            "told": np.where(hidden, np.nan, RNG.normal(size=n)),
            "mute": np.where(RNG.random(n) < 0.7, np.nan, 1.5 * RNG.normal(size=n)),
            "y": y,
        }
    )
    row = told(chaff.open_table(frame, target="y"))
    assert row.loc["told", "absence_tells"] and not row.loc["mute", "absence_tells"]
    assert row.loc["told", "absence_p"] == pytest.approx(ss.mannwhitneyu(y[hidden], y[~hidden]).pvalue, rel=1e-6)
    assert "higher" in row.loc["told", "absence_words"]


def test_absence_is_tested_by_chi_square_for_classes():
    n = 500
    y = RNG.choice(["no", "yes"], n)
    hidden = RNG.random(n) < np.where(y == "yes", 0.8, 0.4)
    table = chaff.open_table(pd.DataFrame({"x": np.where(hidden, np.nan, RNG.normal(size=n)), "y": y}), target="y")
    row = told(table).loc["x"]
    counts = pd.crosstab(hidden, y)
    assert row["absence_p"] == pytest.approx(ss.chi2_contingency(counts, correction=False).pvalue, rel=1e-9)
    assert row["absence_tells"] and "of the missing rows are 'yes'" in row["absence_words"].replace("'no'", "'yes'")


def test_many_mute_columns_are_not_told_by_chance():
    n, said = 300, 0
    for seed in range(8):
        rng = np.random.default_rng(seed)
        X = np.where(rng.random((n, 30)) < 0.7, np.nan, rng.normal(size=(n, 30)))
        said += int(told(chaff.open_arrays(X, rng.normal(size=n)))["absence_tells"].sum())
    assert said <= 1  # 240 tests, Holm-adjusted by thirties at one in a hundred


def test_full_and_empty_columns_are_asked_nothing():
    frame = pd.DataFrame({"full": RNG.normal(size=40), "empty": np.full(40, np.nan), "y": RNG.normal(size=40)})
    row = told(chaff.open_table(frame, target="y"))
    assert row["absence_p"].isna().all() and not row["absence_tells"].any()
