"""Pins beat everything, everywhere: each call that judges says `drop` of what is pinned out and `keep` of what is pinned in."""

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff import pin_drop, pin_keep

OUT, IN = "copy", "noise"  # `copy` repeats `real`; `noise` would go by every rule there is


@pytest.fixture(scope="module")
def table():
    rng = np.random.default_rng(5)
    real, other = rng.normal(size=(2, 400))
    frame = pd.DataFrame({"real": real, "copy": real + 0.001 * rng.normal(size=400), "other": other, "noise": rng.normal(size=400)})
    frame["twin"] = frame["noise"] + 0.001 * rng.normal(size=400)
    frame["y"] = real + 0.5 * other + rng.normal(size=400)
    return chaff.open_table(frame, target="y")


PINS = [pin_drop("real", because="dear to measure"), pin_keep("noise", because="asked for by the miller")]
CALLS = {
    "screen": lambda t: chaff.screen(t, pins=PINS),
    "relevance": lambda t: chaff.relevance(t, by="effect_size", pins=PINS),
    "prune_correlations": lambda t: chaff.prune_correlations(t, 0.9, pins=PINS),
    "clusters": lambda t: chaff.clusters(t, pins=PINS),
    "prune_inflation": lambda t: chaff.prune_inflation(t, pins=PINS),
    "overlaps, pairs": lambda t: chaff.overlaps(t, pins=PINS).cut,
    "overlaps, inflation": lambda t: chaff.overlaps(t, pins=PINS).elimination,
    "importance": lambda t: chaff.importance(t, model=chaff.Forest(trees=8, leaf_rows=5), pins=PINS),
}


@pytest.mark.parametrize("call", CALLS)
def test_what_is_pinned_out_is_dropped_and_what_is_pinned_in_stays(table, call):
    frame = CALLS[call](table).frame
    assert set(frame.index) == set(table.features)
    assert (frame.loc["real", "verdict"], frame.loc["real", "by"]) == ("drop", "pin")
    assert "dear to measure" in frame.loc["real", "reason"]
    assert frame.loc["noise", "verdict"] in ("keep", "measured") and frame.loc["noise", "stays"]
    if frame.loc["noise", "by"] == "pin":  # where the stage alone would have said otherwise
        assert "asked for by the miller" in frame.loc["noise", "reason"]


@pytest.mark.parametrize("call", [lambda t, pins: chaff.search(t, "ridge", pins=pins).findings(), chaff.prune_linear])
def test_walks_hold_to_the_pins(table, call):
    found = call(table, pins=PINS)
    frame = found.frame
    assert (frame.loc["real", "verdict"], frame.loc["real", "by"]) == ("drop", "pin")
    assert frame.loc["noise", "verdict"] == "keep"
    trail = found.more["trail"]
    assert "real" not in set(trail["feature"])
    assert "noise" not in set(trail.loc[trail["action"] == "remove", "feature"])


def test_a_copy_does_not_go_for_a_feature_that_is_pinned_out(table):
    for call in ("prune_correlations", "prune_inflation", "clusters"):
        frame = CALLS[call](table).frame
        assert frame.loc["copy", "verdict"] == "keep", call  # `real` is not there to repeat
        assert frame.loc["twin", "verdict"] == "drop", call  # `noise` is pinned in, and is repeated


def test_contrary_pins_are_refused(table):
    with pytest.raises(chaff.UsageError, match="real"):
        chaff.prune_inflation(table, pins=[pin_drop("real", because="a"), pin_keep("real", because="b")])
