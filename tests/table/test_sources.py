"""Every way in gives the same table, and every broken file gives a sentence."""

import gzip

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.feather as feather
import pyarrow.parquet as pq
import pytest

import chaff
from chaff.table.files.text_files import sniff_decimal, sniff_delimiter


@pytest.fixture
def frame():
    rng = np.random.default_rng(0)
    out = pd.DataFrame(
        {
            "protein_pct": rng.normal(12, 1, 40).round(2),
            "variety": rng.choice(["Alba", "Börka"], 40),
            "loaf": rng.normal(400, 30, 40).round(1),
        }
    )
    out.loc[3, "protein_pct"] = np.nan
    return out


def same(table, frame):
    np.testing.assert_array_equal(table.column("protein_pct").values, frame["protein_pct"].to_numpy())
    np.testing.assert_array_equal(table.y, frame["loaf"].to_numpy())
    assert table.kind("variety") == "binary" and table.levels("variety") == ("Alba", "Börka")


@pytest.mark.parametrize(
    "name, write",
    [
        ("lots.csv", lambda f, p: f.to_csv(p, index=False)),
        ("lots.csv", lambda f, p: f.to_csv(p, index=False, sep=";", decimal=",")),
        ("lots.tsv", lambda f, p: f.to_csv(p, index=False, sep="\t")),
        ("lots.csv", lambda f, p: f.to_csv(p, index=False, encoding="latin-1")),
        ("lots.csv", lambda f, p: f.to_csv(p, index=False, encoding="utf-16")),
        ("lots.csv", lambda f, p: f.to_csv(p, index=False, encoding="utf-8-sig")),
        ("lots.csv.gz", lambda f, p: f.to_csv(p, index=False, compression="gzip")),
        ("lots.csv.bz2", lambda f, p: f.to_csv(p, index=False, compression="bz2")),
        ("lots.parquet", lambda f, p: f.to_parquet(p)),
        ("lots.feather", lambda f, p: feather.write_feather(f, p)),
        ("lots.jsonl", lambda f, p: f.to_json(p, orient="records", lines=True, force_ascii=False)),
    ],
)
def test_every_file_format_reads_alike(tmp_path, frame, name, write):
    write(frame, tmp_path / name)
    table = chaff.open_table(tmp_path / name, target="loaf")
    same(table, frame)
    assert table.label == name


def test_frames_arrow_tables_and_capsules_read_alike(frame):
    class Capsule:
        def __init__(self, table):
            self.table = table

        def __arrow_c_stream__(self, requested_schema=None):
            return self.table.__arrow_c_stream__(requested_schema)

    arrow = pa.Table.from_pandas(frame, preserve_index=False)
    for source in (frame, arrow, Capsule(arrow), arrow.to_batches()[0]):
        same(chaff.open_table(source, target="loaf"), frame)


def test_dictionary_columns_and_pandas_categories_are_categories(frame):
    frame["variety"] = frame["variety"].astype("category")
    same(chaff.open_table(frame, target="loaf"), frame)


def test_told_delimiter_decimal_and_encoding_win_over_sniffing(tmp_path):
    path = tmp_path / "odd.csv"
    path.write_bytes("a|y\n1,5|1,0\n2,5|2,0\n3,5|4,0\n".encode("utf-16-le"))
    table = chaff.open_table(path, target="y", delimiter="|", decimal=",", encoding="utf-16-le")
    assert table.column("a").values.tolist() == [1.5, 2.5, 3.5]


def test_sniffing():
    assert sniff_delimiter("a;b;c\n1,5;2,5;3\n") == ";"
    assert sniff_delimiter('a,b\n"x;y",2\n') == ","
    assert sniff_decimal("a;b\n1,5;2\n", ";") == ","
    assert sniff_decimal("a,b\n1.5,2\n", ",") == "."


@pytest.mark.parametrize(
    "name, content, words",
    [
        ("empty.csv", b"", "is empty"),
        ("header.csv", b"a,b,y\n", "a header but no rows"),
        ("twins.csv", b"a,a,y\n1,2,3\n4,5,6\n", "more than one column named 'a'"),
        ("ragged.csv", b"a,y\n1,2\n1,2,3\n", "cannot be read as csv"),
        ("broken.parquet", b"PAR1 this is not parquet", "cannot be read as parquet"),
        ("broken.feather", b"nonsense", "cannot be read as feather"),
        ("broken.jsonl", b'{"a": 1, "y": \n', "cannot be read as jsonl"),
        ("lots.xlsx", b"PK", "do not know how to read '.xlsx'"),
    ],
)
def test_broken_files_are_told_in_words(tmp_path, name, content, words):
    (tmp_path / name).write_bytes(content)
    with pytest.raises(chaff.DataError, match=words.replace("(", r"\(")):
        chaff.open_table(tmp_path / name, target="y")


def test_missing_file_folder_broken_gzip_and_odd_objects(tmp_path):
    with pytest.raises(chaff.DataError, match="no such file"):
        chaff.open_table(tmp_path / "gone.csv", target="y")
    with pytest.raises(chaff.DataError, match="is a folder"):
        chaff.open_table(tmp_path, target="y")
    with gzip.open(tmp_path / "cut.csv.gz", "wb") as file:
        file.write(b"a,y\n1,2\n" * 9999)
    cut = tmp_path / "cut.csv.gz"
    cut.write_bytes(cut.read_bytes()[:60])
    with pytest.raises(chaff.DataError, match="cut.csv.gz"):
        chaff.open_table(cut, target="y")
    with pytest.raises(chaff.UsageError, match="open_arrays"):
        chaff.open_table([[1, 2], [3, 4]], target="y")


def test_frames_with_twins_or_mixed_cells_are_refused():
    with pytest.raises(chaff.DataError, match="more than one column named 'a'"):
        chaff.open_table(pd.DataFrame([[1, 2, 3]], columns=["a", "a", "y"]), target="y")
    mixed = pd.DataFrame({"a": [1, "two", 3.0], "y": [1.0, 2.0, 3.0]})
    with pytest.raises(chaff.DataError, match="column 'a' mixes"):
        chaff.open_table(mixed, target="y")


def test_parquet_round_trip_of_dates_and_decimals(tmp_path):
    import decimal

    table = pa.table(
        {
            "when": pa.array(pd.date_range("2025-01-01", periods=6)),
            "price": pa.array([decimal.Decimal("1.10")] * 5 + [None]),
            "flag": pa.array([True, False, None, True, True, False]),
            "nothing": pa.nulls(6),
            "y": np.arange(6.0),
        }
    )
    pq.write_table(table, tmp_path / "odd.parquet")
    opened = chaff.open_table(tmp_path / "odd.parquet", target="y")
    assert [opened.kind(f) for f in opened.features] == ["date", "number", "binary", "number"]
    assert np.diff(opened.column("when").values).tolist() == [1.0] * 5
    assert np.isnan(opened.column("nothing").values).all()
