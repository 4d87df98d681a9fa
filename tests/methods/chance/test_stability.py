"""Half-samples: bounds by their formulas and on noise, stability of sets against its definition, stand-ins."""

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.decide.stages import stage_as_plain
from chaff.methods.chance.stability import Stability, as_chooser, halves
from chaff.stats.stability import accidental_picks, in_turn, picks_at, set_stability
from chaff.work import Work
from tests.methods.chance.test_shuffled_target import made

R = chaff.Relevance(["pearson_r"], by="pearson_r")


def test_bounds_are_those_of_the_papers():
    pairs, mb = accidental_picks(0.9, 10, 100, 50)
    assert mb == pytest.approx(0.1 * 10 / 0.8)
    assert pairs == pytest.approx(4 * (1 - 0.9 + 0.01) / 1.02 * 0.1 * 10)
    assert accidental_picks(0.7, 10, 100, 50)[0] == pytest.approx(0.1 * 10 / (2 * (0.4 - 0.01)))
    assert np.isnan(accidental_picks(0.5, 10, 100, 50)[0])
    wide = accidental_picks(0.8, 70, 100, 50)  # more than one in root three: only the bound that supposes nothing holds
    assert wide[0] == wide[1] == pytest.approx(0.7 * 70 / 0.6)


def test_set_stability_is_its_definition_and_covers():
    rng = np.random.default_rng(0)
    z = rng.random((30, 12)) < 0.3
    p, k = z.mean(0), z.sum(1).mean()
    assert set_stability(z).value == pytest.approx(1 - (30 / 29 * p * (1 - p)).mean() / (k / 12 * (1 - k / 12)))
    assert np.isnan(set_stability(np.ones((5, 3), bool)).value)
    share = rng.random(20) * 0.8
    mean = share.mean()
    truth = 1 - (share * (1 - share)).mean() / (mean * (1 - mean))
    inside = [s.low <= truth <= s.high for s in (set_stability(rng.random((60, 20)) < share) for _ in range(300))]
    assert np.mean(inside) > 0.9


def test_columns_chosen_in_turn_are_found():
    rng = np.random.default_rng(1)
    first = rng.random(200) < 0.5
    z = np.column_stack([first, ~first, np.ones(200, bool), rng.random(200) < 0.5])
    found = in_turn(z, 0.15, 0.6)
    assert [(i, j) for i, j, *_ in found] == [(0, 1)] and found[0][2:] == (1.0, 0.0)
    assert picks_at(z.mean(0), 0.9) == 1


@pytest.mark.long
@pytest.mark.parametrize("size", [2, 4])
def test_accidental_picks_on_noise_stay_below_the_bound(size):
    picks, bound = [], 0.0
    for seed in range(40):
        rng = np.random.default_rng(seed)
        table = chaff.open_arrays(rng.normal(size=(60, 20)), rng.normal(size=60))
        found = chaff.stability(table, R, size, pairs=10, threshold=0.7, seed=seed)
        picks.append((found.frame["verdict"] == "keep").sum())
        bound = found.settings["accidental_at_most"]
    assert np.mean(picks) <= bound + 2 * np.std(picks) / np.sqrt(40)


def test_two_copies_stand_in_for_each_other_and_a_signal_is_always_chosen():
    rng = np.random.default_rng(2)
    core, n = rng.normal(size=200), 200
    frame = pd.DataFrame(
        {"twice1": core + 0.05 * rng.normal(size=n), "twice2": core + 0.05 * rng.normal(size=n), "clear": rng.normal(size=n)}
    )
    for k in range(5):
        frame[f"noise{k}"] = rng.normal(size=n)
    table = chaff.open_table(frame.assign(y=2 * frame["clear"] + core + rng.normal(size=n)), "y")
    lasso = {"use": "importance", "model": {"name": "lasso", "penalty": 0.1}, "by": {"name": "coefficient", "resamples": 0}}
    found = chaff.stability(table, lasso, size=2, pairs=15)
    assert found.frame.loc["clear", "selection_frequency"] == 1 and found.frame.loc["twice1", "interchangeable_with"] == "twice2"
    assert any("are interchangeable" in n for n in found.notes)
    assert found.more["pairs"].iloc[0]["both_share"] < 0.2 and found.frame.loc["twice1", "reason"] == "interchangeable with twice2"


@pytest.mark.parametrize("roles", [{}, {"groups": "mill"}, {"order": "day"}], ids=lambda r: "-".join(r) or "plain")
def test_halves_are_complementary_and_follow_the_data(roles):
    table = made(101, classes=2, **roles)
    found = halves(table, 3, Work(0))
    assert len(found) == 6
    for a, b in zip(found[::2], found[1::2], strict=True):
        assert sorted([*a, *b]) == list(range(101)) and min(len(a), len(b)) > 35
        if "groups" in roles:
            assert not set(table.groups[a]) & set(table.groups[b])
    share = chaff.stability(table, "relevance", 2, pairs=4).frame["selection_frequency"]
    assert share.idxmax() in ("signal", "kind") and share.sum() == pytest.approx(2)


@pytest.mark.parametrize(
    "stage",
    ["relevance", "chance", chaff.Search("ridge", chaff.Forward(size=3)), {"use": "importance", "model": "ridge", "by": "permutation"}],
)
def test_any_stage_that_chooses(stage):
    table = made(120, noise=3)
    found = chaff.stability(table, stage, size=2, pairs=3)
    assert found.frame["selection_frequency"].idxmax() in ("signal", "kind") and found.more["halves"].shape == (5, 6)


def test_workers_and_the_order_of_columns_change_nothing():
    table = made(100)
    one, two = (chaff.stability(table, R, 2, pairs=5, workers=w).frame for w in (1, 2))
    pd.testing.assert_frame_equal(one, two)
    back = chaff.stability(table.with_features(table.features[::-1]), R, 2, pairs=5).frame
    pd.testing.assert_series_equal(one["selection_frequency"], back.loc[one.index, "selection_frequency"])


@pytest.mark.parametrize(
    ("settings", "words"),
    [
        ({"stage": "screen"}, "does not choose features"),
        ({"stage": "relevanc"}, "Did you mean 'relevance'"),
        ({"stage": {"use": "relevance", "bin": 3}}, "unknown key 'bin'"),
        ({"size": 8}, "chooses nothing"),
        ({"size": 0}, "size 1 or more"),
        ({"threshold": 0.5}, "above 0.5"),
        ({"pairs": 1}, "pairs must be 2"),
    ],
)
def test_wrong_settings_are_said(settings, words):
    with pytest.raises(chaff.ChaffError, match=words):
        chaff.stability(made(), **settings)


def test_a_plan_says_it_and_says_it_again(tmp_path):
    stage = Stability({"use": "relevance", "by": ""}, size=2, pairs=5, threshold=0.7)
    assert stage_as_plain(stage)["stage"] == {"use": "relevance"} and as_chooser(stage.stage) == chaff.Relevance()
    file = tmp_path / "plan.toml"
    file.write_text(
        '[[stage]]\nuse = "stability"\nstage = { use = "importance", model = "ridge", by = "permutation" }\nsize = 2\npairs = 3\n'
    )
    read = chaff.read_plan(file)
    assert stage_as_plain(read.stages[0])["stage"] == {"use": "importance", "model": "ridge", "by": "permutation"}
    stage = Stability(R, size=2, pairs=2)
    run = chaff.select(made(150), plan=chaff.Plan((stage, chaff.Search("ridge"))), honest="quick")
    assert "signal" in run.features and run.ledger.of("noise0")[0].by == "stability"
    with pytest.raises(chaff.DataError, match="too few to halve"):
        chaff.stability(made(16), R, 2)
