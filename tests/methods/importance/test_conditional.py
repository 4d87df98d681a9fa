"""Shuffling given the other features: what they say stays, and what is a feature's own is exchangeable."""

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.evaluate.setting import Setting
from chaff.methods.importance.permutation import Conditional, permuted_given_others, within_strata
from chaff.models.forms import BinsForm
from chaff.table.design import Design
from chaff.work import Work


def made(n=400, seed=0):
    rng = np.random.default_rng(seed)
    core = rng.normal(size=n)
    frame = pd.DataFrame({"real": core, "proxy": core + 0.5 * rng.normal(size=n), "alone": rng.normal(size=n)})
    frame["kind"] = np.where(core + 0.7 * rng.normal(size=n) > 0, "hard", "soft")
    return chaff.open_table(frame.assign(y=core + 0.6 * rng.normal(size=n)), target="y")


def test_what_is_a_columns_own_is_what_least_squares_on_the_others_leaves():
    table = made()
    found = Conditional.learn(table)
    Z = found.standard.apply(Design.of(table, table.features).X)
    own = found.own(Z, found.columns[1])[:, 0]
    others = np.delete(Z, found.columns[1], axis=1)
    plain = Z[:, found.columns[1][0]] - others @ np.linalg.lstsq(others, Z[:, found.columns[1][0]], rcond=None)[0]
    assert np.corrcoef(own, plain)[0, 1] > 0.998


def test_dealt_cells_keep_their_relation_to_the_others_and_lose_the_rest():
    table = made(3000)
    form = BinsForm.learn(table, Work())
    rows = form.apply(table)
    dealt = permuted_given_others(Conditional.learn(table), form.binning, rows, table, Work(1), 0)
    place = table.features.index("proxy")
    before, after = (s.data.codes[place].astype(float) for s in (rows, dealt))
    assert np.corrcoef(after, table.column("real").values)[0, 1] == pytest.approx(0.88, abs=0.04)
    assert np.corrcoef(before, after)[0, 1] < 0.9 and (np.sort(after) != after).any()
    kind = table.features.index("kind")
    moved = dealt.data.codes[kind] != rows.data.codes[kind]
    assert 0.05 < moved.mean() < 0.5 and (np.bincount(dealt.data.codes[kind]) == np.bincount(rows.data.codes[kind])).all()


def test_strata_move_rows_among_those_that_are_alike():
    said = np.arange(120.0)[:, None]
    order = within_strata(said, np.random.default_rng(0))
    assert sorted(order) == list(range(120)) and np.abs(order - np.arange(120)).max() < 12 and (order != np.arange(120)).mean() > 0.8


def test_a_proxy_has_importance_but_not_given_the_others():
    hits = []
    for seed in range(6):
        table = made(300, seed)
        frame = chaff.Importance(chaff.Forest(40)).judge(table, Setting.of(table)).frame
        assert frame.loc["real", "importance"] > frame.loc["alone", "importance"]
        hits.append(frame.loc["proxy", "p"] < 0.05)
        assert frame.loc["real", "p"] < 0.05
    assert sum(hits) <= 1


def test_repeats_count_a_row_once():
    rng = np.random.default_rng(2)
    table = chaff.open_arrays(rng.normal(size=(120, 4)), rng.normal(size=120))
    found = chaff.Importance(chaff.Forest(10)).judge(table, Setting.of(table, 5, 4))
    assert "120 rows" in " ".join(found.notes)
