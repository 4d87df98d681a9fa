"""Every test against chance on tables that are odd in one way: a finding for every feature, or a sentence that says what does not fit."""

import warnings

import numpy as np
import pandas as pd
import pytest

import chaff
from tests.models.test_odd_tables import tables

SMALL = chaff.Forest(trees=15, columns_per_split=3, leaf_rows=5, depth=4)
CALLS = {
    "chance": lambda t: chaff.chance_baseline(t, shuffles=12, trees=60),
    "chance of a statistic": lambda t: chaff.chance_baseline(t, "mutual_information", shuffles=6),
    "twins": lambda t: chaff.twin_test(t, SMALL, rounds=10, keep_share=0.5),
    "twins out of bag": lambda t: chaff.twin_test(t, SMALL, "out of bag", rounds=8, keep_share=0.5),
    "stability": lambda t: chaff.stability(t, {"use": "chance", "shuffles": 4, "trees": 30}, 1, pairs=2),
    "knockoffs": lambda t: chaff.knockoffs(t, 0.4, runs=1, statistic="forest difference"),
}


def more_tables():
    rng = np.random.default_rng(1)
    n = 80
    y = rng.normal(size=n)
    frame = pd.DataFrame({"x": y + rng.normal(size=n), "wild": rng.standard_cauchy(n) ** 3, "empty": np.nan})
    frame.loc[:1, "empty"] = [1.0, 2.0]
    words = pd.DataFrame({f"k{k}": rng.choice([f"v{j}" for j in range(k + 1)], n) for k in range(1, 5)})
    return {
        **tables(),
        "wild tails and gaps": chaff.open_table(frame.assign(y=np.where(np.arange(n) == 7, 1e6, y)), "y"),
        "words only": chaff.open_table(words.assign(y=rng.choice(["a", "b"], n)), "y"),
        "twenty classes": chaff.open_table(
            frame[["x", "wild"]].assign(y=[f"c{k % 20:02}" for k in range(n)]), "y", kinds={"y": "category"}
        ),
        "a code a row": chaff.open_table(frame[["x"]].assign(code=[f"r{k}" for k in range(n)], y=y), "y", kinds={"code": "category"}),
    }


TABLES = more_tables()


@pytest.mark.long
@pytest.mark.parametrize("name", TABLES)
def test_every_test_copes(name):
    table = TABLES[name]
    for label, call in CALLS.items():
        with warnings.catch_warnings():
            warnings.simplefilter("error")
            try:
                found = call(table)
            except chaff.ChaffError as error:
                assert len(str(error)) > 30 and "Traceback" not in str(error), label
                continue
        assert list(found.frame.index) == list(table.features), label
        assert found.frame["verdict"].isin(["keep", "drop", "review"]).all() and str(found), label
        values = found.values().to_numpy(float)
        assert not np.isinf(values[~np.isnan(values)]).any() or label.startswith("chance"), label


@pytest.mark.long
def test_which_odd_tables_are_refused_and_by_whom():
    refused = {}
    for name, table in TABLES.items():
        for label, call in CALLS.items():
            try:
                call(table)
            except chaff.ChaffError:
                refused.setdefault(label, set()).add(name)
    assert refused["chance"] == {"twelve rows"} == refused["twins"]
    assert {"groups", "in time", "weights of nothing", "words only", "more columns than rows", "twelve rows"} <= refused["knockoffs"]


def test_findings_are_saved_read_and_cut_again(tmp_path):
    table = TABLES["words only"]
    for label, call in CALLS.items():
        if label == "knockoffs":
            continue
        found = call(table)
        found.save(tmp_path / f"{label}.json")
        again = chaff.read_findings(tmp_path / f"{label}.json")
        assert list(again.frame.index) == list(found.frame.index) and again.notes == found.notes and set(again.more) == set(found.more)
        found.save(tmp_path / f"{label}.csv")
        assert found.stays({"top": 2}) == again.stays({"top": 2})
        assert "<table" in found._repr_html_()
