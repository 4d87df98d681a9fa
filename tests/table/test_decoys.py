"""Decoys and wrong targets: what they are made of, that they are noise, that nothing writes them out."""

import json

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.results.findings import DecoyRate, best_decoy
from tests.methods.chance.test_shuffled_target import made


def test_decoys_look_like_their_originals_and_say_what_they_are():
    table = made(200).with_decoys(8, seed=3)
    assert len(table.decoys) == 8 and len(set(table.decoys)) == 8
    for k, name in enumerate(table.decoys, 1):
        assert name.startswith(f"decoy_{k:02}_{'shuffled' if k % 2 else 'drawn_like'}_")
        original = name.split("shuffled_")[-1].split("drawn_like_")[-1]
        assert table.kind(name) == table.kind(original) and table.levels(name) == table.levels(original)
        a, b = table.column(name).values, table.column(original).values
        if k % 2:
            assert sorted(a) == sorted(b) and (a != b).any()
        elif table.kind(name) == "number":
            assert np.nanstd(a) == pytest.approx(np.nanstd(b), rel=0.3)
    again = made(200).with_decoys(8, seed=3)
    assert again.decoys == table.decoys and (again.column(again.decoys[0]).values == table.column(table.decoys[0]).values).all()
    assert made(200).with_decoys(3, seed=4).decoys != table.decoys[:3]


def test_more_decoys_than_columns_and_gaps():
    frame = pd.DataFrame({"x": np.r_[np.nan, np.arange(39.0)], "y": np.arange(40.0)})
    table = chaff.open_table(frame, "y").with_decoys(3)
    assert [d.rsplit("_", 1)[1] for d in table.decoys] == ["x"] * 3
    assert np.isnan(table.column(table.decoys[0]).values).sum() == 1


def test_decoys_hang_together_as_their_originals_do():
    rng = np.random.default_rng(0)
    mill = np.repeat(np.arange(40), 6)
    frame = pd.DataFrame({"of_mill": rng.normal(size=40)[mill], "mill": mill, "y": rng.normal(size=240)})
    table = chaff.open_table(frame, "y", groups="mill").with_decoys(2)
    for d in table.decoys[:1]:
        cells = table.column(d).values
        assert all(np.unique(cells[mill == k]).size == 1 for k in range(40)) and (cells != frame["of_mill"]).any()
    series = chaff.open_table(
        pd.DataFrame({"x": np.cumsum(rng.normal(size=300)), "day": range(300), "y": rng.normal(size=300)}), "y", order="day"
    )
    for d in series.with_decoys(2).decoys:
        x = series.with_decoys(2).column(d).values
        assert np.corrcoef(x[1:], x[:-1])[0, 1] > 0.9


@pytest.mark.long
def test_decoys_have_nothing_to_do_with_the_target():
    high = 0
    for seed in range(40):
        table = made(120, seed=seed).with_decoys(6, seed=seed)
        found = chaff.relevance(table.with_features(table.decoys), "leading")
        high += (found.frame["p"] < 0.05).sum()
    assert high / 240 <= 0.05 + 3 * np.sqrt(0.05 * 0.95 / 240)


def test_names_and_counts_are_checked():
    table = made()
    with pytest.raises(chaff.DataError, match="is in .* already"):
        table.with_decoys(4).with_decoys(4)
    clash = table.source.arrow.to_pandas()
    clash[table.with_decoys(1).decoys[0]] = 1.5
    with pytest.raises(chaff.DataError, match="already: rename it"):
        chaff.open_table(clash, "y").with_features(table.features).with_decoys(1)
    with pytest.raises(chaff.UsageError, match="count must be 1"):
        table.with_decoys(0)
    with pytest.raises(chaff.UsageError, match="nothing to copy"):
        table.with_features(()).with_decoys(2)


def test_label_noise_moves_a_share_of_the_targets_in_view_only():
    table = made(200)
    view = table.take(np.arange(50, 150))
    noisy = view.with_label_noise(0.3, seed=1)
    assert (noisy.y != view.y).sum() <= 30 and (noisy.y != view.y).sum() > 20
    assert sorted(noisy.y) == sorted(view.y)
    outside = np.setdiff1d(np.arange(200), np.arange(50, 150))
    assert (noisy.y_all[outside] == table.y_all[outside]).all()
    with pytest.raises(chaff.UsageError, match="above 0"):
        table.with_label_noise(0)


def test_a_method_is_told_its_own_false_keeps():
    table = made(200).with_decoys(10)
    found = chaff.chance_baseline(table, keep={"maximum": 0.05})
    assert found.settings["decoys"]["planted"] == 10 and "noise features were kept (false-keep rate" in found.notes[-1]
    measured = chaff.relevance(table, "leading")
    assert "the best noise feature (decoy_" in measured.notes[-1]
    loose = chaff.relevance(table, "leading", cut={"top": 15})
    rate = loose.settings["decoys"]
    assert rate["rate"] == len(rate["kept"]) / 10 and rate["low"] <= rate["rate"] <= rate["high"] and rate["rate"] > 0.3


def test_the_rate_and_its_interval_in_words():
    rate = DecoyRate.of(["a", "b", "c", "d"], {"b", "x"})
    assert rate.kept == ("b",) and rate.rate == 0.25
    assert str(rate) == "1 of 4 noise features were kept (false-keep rate 0.25, 95 %: 0.01 to 0.81): b"
    assert best_decoy(["x", "d1", "y"], {"d1"}).startswith("the best noise feature (d1) comes 2. of 3") and best_decoy(["x"], {"d1"}) == ""


def test_a_run_carries_decoys_counts_them_and_writes_none_out(tmp_path):
    table = made(200).with_decoys(6)
    run = chaff.select(table, plan=chaff.Plan((chaff.Search("ridge", size=9),)), honest="quick")
    assert run.decoys is not None and len(run.decoys.planted) == 6 and len(run.decoys.kept) >= 1
    assert not set(run.features) & set(table.decoys) and "noise features" in str(run)
    run.selection.save(tmp_path / "selection.json")
    text = (tmp_path / "selection.json").read_text()
    assert "decoy_" not in json.dumps({k: v for k, v in json.loads(text).items() if k in ("kept", "dropped", "review", "scores", "data")})
    reduced = chaff.read_selection(tmp_path / "selection.json").apply(made(50, seed=2).source.arrow.to_pandas())
    assert not [c for c in reduced.columns if str(c).startswith("decoy_")]
    assert run.as_plain()["decoys"]["planted"] == 6
    assert chaff.select(made(200), plan=chaff.Plan((chaff.Search("ridge"),)), honest="quick").decoys is None
