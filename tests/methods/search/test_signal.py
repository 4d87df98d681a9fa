"""Whether there is anything to find: single columns, and all at once."""

import numpy as np
import pandas as pd
import pytest
from scipy import stats

import chaff
from chaff.methods.search.signal import MOST_CELLS, family_p, joint_p


def weak(seed, r2=0.15, n=200):
    rng = np.random.default_rng([seed, 31])
    x = rng.normal(size=(n, 10))
    f = x[:, :5].sum(1) / np.sqrt(5)
    frame = pd.DataFrame(x, columns=[f"assay_{k}" for k in range(10)])
    frame["y"] = np.sqrt(r2) * f + np.sqrt(1 - r2) * rng.normal(size=n)
    return frame


@pytest.mark.long
def test_many_weak_columns_are_seen_together_where_none_is_alone():
    tables = [chaff.open_table(weak(s), target="y") for s in range(30)]
    alone = np.mean([family_p(t)[1] < 0.0075 for t in tables])
    together = np.mean([joint_p(t) < 0.0075 for t in tables])
    assert together >= alone + 0.1 and together >= 0.75


@pytest.mark.long
def test_noise_is_called_a_signal_no_more_often_than_its_level_allows():
    p = [joint_p(chaff.open_table(weak(s, r2=0.0, n=120), target="y")) for s in range(200)]
    assert np.mean(np.array(p) < 0.05) < 0.05 + 3 * np.sqrt(0.05 * 0.95 / 200)
    assert stats.kstest(p, "uniform").pvalue > 1e-3


def test_with_many_rows_it_is_near_the_f_test_of_least_squares():
    frame = weak(3, r2=0.02, n=4000)
    X = np.column_stack([np.ones(4000), frame.iloc[:, :10]])
    rest = frame["y"] - X @ np.linalg.lstsq(X, frame["y"], rcond=None)[0]
    total = ((frame["y"] - frame["y"].mean()) ** 2).sum()
    f = ((total - (rest**2).sum()) / 10) / ((rest**2).sum() / (4000 - 11))
    assert joint_p(chaff.open_table(frame, target="y")) == pytest.approx(stats.f.sf(f, 10, 3989), rel=0.5, abs=1e-6)


def test_it_holds_by_groups_and_is_not_asked_of_tables_that_tell_by_the_curve(monkeypatch):
    rng = np.random.default_rng(5)
    p = []
    for _ in range(60):  # a level of its own in every group, in features and target: 25 witnesses, not 250
        mill = np.repeat(np.arange(25), 10)
        frame = pd.DataFrame(rng.normal(size=(25, 6))[mill] + 0.1 * rng.normal(size=(250, 6)), columns=list("abcdef"))
        frame["y"], frame["mill"] = rng.normal(size=25)[mill] + 0.1 * rng.normal(size=250), mill
        p.append(joint_p(chaff.open_table(frame, target="y", groups="mill")))
    assert np.mean(np.array(p) < 0.05) < 0.05 + 3 * np.sqrt(0.05 * 0.95 / 60)
    monkeypatch.setattr("chaff.methods.search.signal.MOST_CELLS", 100)
    assert MOST_CELLS > 100 and np.isnan(joint_p(chaff.open_table(weak(0), target="y")))
