"""A selection file without its checksum, damaged at every place in many ways: refused in words, or read and then good for everything."""

import copy
import json

import numpy as np
import pandas as pd
import pytest

import chaff

BAD = [None, "x", "", -1, 1.5, 1e300, float("nan"), float("inf"), [], {}, [1], ["x"], {"a": 1}, True, [[]]]
GONE = object()


@pytest.fixture(scope="module")
def made():
    rng = np.random.default_rng(0)
    frame = pd.DataFrame({"a": rng.normal(size=80), "k": rng.choice(["x", "z"], 80), "c": rng.normal(size=80), "same": 1.0})
    frame["y"] = frame["a"] + (frame["k"] == "x") + 0.3 * rng.normal(size=80)
    plan = chaff.Plan((chaff.Screen(), chaff.Search(model="ridge")), chaff.Scoring(repeats=1, folds=3))
    pins = [chaff.pin_keep("c", because="asked for")]
    return chaff.select(chaff.open_table(frame, "y"), plan, pins=pins, state=False).selection, frame


def places(thing, path=()):
    """Every place in the file, the first two of a list."""
    entries = thing.items() if isinstance(thing, dict) else enumerate(thing[:2]) if isinstance(thing, list) else ()
    for key, value in entries:
        yield (*path, key)
        yield from places(value, (*path, key))


def damaged(good, path, value):
    out = copy.deepcopy(good)
    inner = out
    for key in path[:-1]:
        inner = inner[key]
    if value is GONE:
        del inner[path[-1]]
    else:
        inner[path[-1]] = value
    return out


def uses(selection, other, frame):
    yield lambda: str(chaff.changes(selection, other))
    yield lambda: str(chaff.changes(other, selection))
    yield lambda: str(other.drift(frame))
    yield lambda: str(other.explain())
    yield lambda: other.apply(frame)


@pytest.mark.long
def test_every_damage_is_refused_or_does_no_harm(made, tmp_path):
    selection, frame = made
    good = json.loads(selection.to_json()) | {"checksum": ""}
    file, read, refused = tmp_path / "s.json", 0, 0
    for k, path in enumerate(places(good)):
        for value in (*BAD[k % 3 :: 3], GONE):  # each place meets a third of them
            file.write_text(json.dumps(damaged(good, path, value)))
            try:
                other = chaff.read_selection(file)
            except chaff.DataError as error:
                refused += 1
                assert "damaged selection" in str(error) or "version" in str(error) or "format" in str(error)
                continue
            read += 1
            for use in uses(selection, other, frame):
                try:
                    use()
                except chaff.ChaffError:
                    continue
    assert read > 100 and refused > 400


@pytest.mark.long
def test_recheck_of_every_damage_ends_in_words(made, tmp_path):
    selection, frame = made
    good = json.loads(selection.to_json()) | {"checksum": ""}
    for k, path in enumerate(p for p in places(good) if p[0] in ("plan", "scores", "target", "kept", "model", "derived", "seed")):
        for value in (*BAD[k % 5 :: 5], GONE):
            (tmp_path / "s.json").write_text(json.dumps(damaged(good, path, value)))
            try:
                chaff.recheck(chaff.read_selection(tmp_path / "s.json"), frame, workers=1)
            except chaff.ChaffError:
                continue
