"""Numbers of a text file are read fast where they are plainly written, and as the slow reader reads them everywhere else."""

import numpy as np
import pandas as pd
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import chaff
from chaff.decide.apply_kinds import read_numbers
from chaff.table.kinds import all_whole, numbers_of

WRITTEN = [
    "1",
    "-2",
    "+5",
    "007",
    "1.5",
    "-.5",
    "1.",
    "1e3",
    "1E-3",
    " 5",
    "5 ",
    "0x1F",
    "1_000",
    "nan",
    "inf",
    "-inf",
    "1e999",
    "1,5",
    "1.234,5",
    "a",
    "12b",
    "٣",
]


def column(words):
    return pa.chunked_array([pa.array(words, pa.string())])


def slow(words):
    """(values, first word that is none) as the one reader of numbers in words says it."""
    there = [w for w in words if w is not None]
    values = dict(zip(there, numbers_of(there, "."), strict=True))
    wrong = next((w for w in there if values[w] != values[w]), "")
    return [None if w is None else values[w] for w in words], wrong


@pytest.mark.parametrize("word", WRITTEN)
@pytest.mark.parametrize("exact", [True, False])
def test_every_way_to_write_a_number(word, exact):
    values, wrong = slow([word, "2.5", None])
    got, said = read_numbers(column([word, "2.5", None]), ".", exact)
    assert said == wrong
    if not wrong:
        np.testing.assert_array_equal(np.array(got.to_pylist()[:2], float), np.array(values[:2], float))
        assert got.to_pylist()[2] is None


@settings(max_examples=300, deadline=None)
@given(
    st.lists(
        st.one_of(
            st.none(),
            st.sampled_from(WRITTEN),
            st.integers(-(10**18) + 1, 10**18 - 1).map(str),
            st.floats(allow_nan=False, allow_infinity=False).map(repr),
        ),
        min_size=1,
        max_size=12,
    )
)
def test_any_mix_reads_as_the_slow_reader_reads_it(words):
    values, wrong = slow(words)
    got, said = read_numbers(column(words), ".", True)
    assert said == wrong
    if not wrong:
        for a, b in zip(got.to_pylist(), values, strict=True):
            assert (a is None) == (b is None) and (a is None or float(a) == b)


def test_whole_numbers_stay_exact_and_whole():
    words = ["9007199254740993", "1", None]
    got, _ = read_numbers(column(words), ".", True)
    assert pa.types.is_integer(got.type) and got.to_pylist() == [9007199254740993, 1, None] and all_whole(words[:2])
    assert pa.types.is_floating(read_numbers(column(["1.0", "2"]), ".", True)[0].type)


def test_decimal_commas_take_the_slow_way():
    got, wrong = read_numbers(column(["1,5", "1.234,5"]), ",", True)
    assert not wrong and got.to_pylist() == [1.5, 1234.5]


@pytest.fixture(scope="module")
def selection():
    rng = np.random.default_rng(0)
    frame = pd.DataFrame({"assay": rng.normal(size=300), "count": rng.integers(0, 9, 300), "variety": rng.choice(["u", "v"], 300)})
    frame["y"] = frame["assay"] + frame["count"] + 2 * (frame["variety"] == "u") + rng.normal(0, 0.3, 300)
    return chaff.select(chaff.open_table(frame, "y"), chaff.Plan((chaff.Screen(), chaff.Search(model="ridge"))), state=False).selection


@pytest.mark.parametrize("rows", [1, 5, 300_000])
def test_parquet_from_small_blocks_of_text_holds_every_row_in_its_order(selection, tmp_path, rows):
    rng = np.random.default_rng(1)
    frame = pd.DataFrame(
        {"count": rng.integers(0, 9, rows), "variety": rng.choice(["u", "v"], rows), "assay": np.round(rng.normal(size=rows), 4)}
    )
    frame.loc[0, "count"] = 3
    frame.to_csv(tmp_path / "in.csv", index=False)
    selection.apply(tmp_path / "in.csv", tmp_path / "out.parquet")
    back = pd.read_parquet(tmp_path / "out.parquet")
    assert list(back.columns) == list(selection.features) and len(back) == rows
    for c in back:
        np.testing.assert_array_equal(back[c].to_numpy(), frame[c].to_numpy())


def test_a_late_fraction_and_a_late_word(selection, tmp_path):
    lines = [f"{k % 9},u,0.5" for k in range(200_000)]
    (tmp_path / "late.csv").write_text("count,variety,assay\n" + "\n".join([*lines, "2.5,v,1"]) + "\n")
    selection.apply(tmp_path / "late.csv", tmp_path / "out.parquet")
    assert pd.read_parquet(tmp_path / "out.parquet")["count"].iloc[-1] == 2.5
    (tmp_path / "word.csv").write_text("count,variety,assay\n" + "\n".join([*lines, "many,v,1"]) + "\n")
    with pytest.raises(chaff.DataError, match="such as 'many'"):
        selection.apply(tmp_path / "word.csv", tmp_path / "no.parquet")
    assert not (tmp_path / "no.parquet").exists()
