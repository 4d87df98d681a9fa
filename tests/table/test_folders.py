"""A table in many files is the table: whatever it is cut into, in the order of names; what does not fit names the file and the column."""

import numpy as np
import pandas as pd
import pytest

import chaff
from tests.commands import run
from tests.conftest import make_mixed


@pytest.fixture(scope="module")
def frame():
    return make_mixed(210)


def cut(frame, folder, pieces, ending="parquet"):
    folder.mkdir()
    for k, part in enumerate(np.array_split(np.arange(len(frame)), pieces)):
        some = frame.iloc[part]
        path = folder / f"part-{k:03d}.{ending}"
        some.to_parquet(path) if ending == "parquet" else some.to_csv(path, index=False)
    return folder


def same(a, b):
    assert a.features == b.features and len(a) == len(b) and a.kinds == b.kinds
    for f in a.features:
        np.testing.assert_array_equal(a.column(f).values, b.column(f).values)
        assert a.levels(f) == b.levels(f)
    np.testing.assert_array_equal(a.y, b.y)


@pytest.mark.parametrize("pieces", [1, 7, 100])
@pytest.mark.parametrize("ending", ["parquet", "csv"])
def test_a_folder_is_the_table_that_it_was_cut_from(frame, tmp_path, pieces, ending):
    whole = tmp_path / f"whole.{ending}"
    frame.to_parquet(whole) if ending == "parquet" else frame.to_csv(whole, index=False)
    folder = cut(frame, tmp_path / "many", pieces, ending)
    same(chaff.open_table(folder, "y"), chaff.open_table(whole, "y"))
    same(chaff.open_table(sorted(folder.iterdir()), "y"), chaff.open_table(whole, "y"))


def test_partitions_are_columns(frame, tmp_path):
    for mill, part in frame.groupby("mill"):
        place = tmp_path / "lots" / f"mill={mill}"
        place.mkdir(parents=True)
        part.drop(columns="mill").to_parquet(place / "a.parquet")
    (tmp_path / "lots" / "_notes.csv").write_text("not,a,table\n")
    (tmp_path / "lots" / ".hidden.parquet").write_text("no")
    table = chaff.open_table(tmp_path / "lots", "y", groups="mill")
    assert len(table) == len(frame) and np.unique(table.groups).size == frame["mill"].nunique()
    assert table.label == "lots"


def test_files_without_rows_take_no_part(frame, tmp_path):
    folder = cut(frame, tmp_path / "many", 3)
    frame.head(0).to_parquet(folder / "part-001b.parquet")
    same(chaff.open_table(folder, "y"), chaff.open_table(frame, "y"))


@pytest.mark.parametrize(
    "change, words",
    [
        (lambda p: p.write_bytes(b""), "part-001.parquet is empty"),
        (lambda p: p.write_bytes(p.read_bytes()[:200]), "part-001.parquet cannot be read as parquet"),
        (lambda p: pd.read_parquet(p).drop(columns="gap_a").to_parquet(p), "part-001.parquet lacks column 'gap_a' of part-000"),
        (lambda p: pd.read_parquet(p).assign(more=1).to_parquet(p), "part-001.parquet has a column 'more'"),
        (
            lambda p: pd.read_parquet(p).assign(assay_1="many").to_parquet(p),
            "column 'assay_1' holds .*string in part-001.parquet and double in part-000",
        ),
    ],
)
def test_what_does_not_fit_names_the_file_and_the_column(frame, tmp_path, change, words):
    folder = cut(frame, tmp_path / "many", 3)
    change(folder / "part-001.parquet")
    with pytest.raises(chaff.DataError, match=words):
        chaff.open_table(folder, "y")


def test_a_folder_without_a_table(tmp_path):
    (tmp_path / "empty").mkdir()
    with pytest.raises(chaff.DataError, match="a folder without a table in it"):
        chaff.open_table(tmp_path / "empty", "y")
    with pytest.raises(chaff.DataError, match="no such file"):
        chaff.open_table([tmp_path / "gone.parquet"], "y")


@pytest.mark.long
def test_selecting_from_a_folder_is_selecting_from_its_table(frame, tmp_path):
    cut(frame, tmp_path / "lots", 7)
    frame.to_parquet(tmp_path / "lots.parquet")
    asked = ("--target", "y", "--ignore", "lot_weight", "--groups", "mill", "--plan", "quick", "--repeats", "1", "--no-state")
    for source, out in (("lots", "a"), ("lots.parquet", "b")):
        run("select", source, *asked, "--out", out, cwd=tmp_path)
    a, b = (chaff.read_selection(tmp_path / k / "selection.json") for k in ("a", "b"))
    assert a.features == b.features and a.scores == b.scores and a.data.fingerprint == b.data.fingerprint
    run("apply", "a/selection.json", "lots", "-o", "r.parquet", cwd=tmp_path)
    assert len(pd.read_parquet(tmp_path / "r.parquet")) == len(frame)
    run("screen", "lots", "--target", "y", cwd=tmp_path)


@pytest.mark.parametrize("ending", ["tsv", "jsonl", "feather", "csv.gz"])
def test_every_kind_of_file_may_be_in_many_pieces(frame, tmp_path, ending):
    place = tmp_path / "many"
    place.mkdir()
    some = frame[["assay_0", "organic", "y"]]
    for k, part in enumerate(np.array_split(np.arange(len(some)), 3)):
        piece, path = some.iloc[part].reset_index(drop=True), place / f"p{k}.{ending}"
        if ending == "tsv":
            piece.to_csv(path, index=False, sep="\t")
        elif ending == "jsonl":
            piece.to_json(path, orient="records", lines=True, double_precision=15)
        elif ending == "feather":
            piece.to_feather(path)
        else:
            piece.to_csv(path, index=False)
    table = chaff.open_table(place, "y")
    np.testing.assert_allclose(table.column("assay_0").values, some["assay_0"].to_numpy(), rtol=1e-12)
    assert table.levels("organic") == chaff.open_table(some, "y").levels("organic")


def test_values_of_partitions_are_unquoted_and_a_missing_one_is_missing(frame, tmp_path):
    for name in ("mill=north%20west", "mill=__HIVE_DEFAULT_PARTITION__"):
        (tmp_path / "lots" / name).mkdir(parents=True)
        frame.head(40).drop(columns="mill").to_parquet(tmp_path / "lots" / name / "a.parquet")
    column = chaff.open_table(tmp_path / "lots", "y", kinds={"mill": "category"}).column("mill")
    assert column.levels == ("north west",) and column.missing.sum() == 40
    (tmp_path / "twice" / "mill=3").mkdir(parents=True)
    frame.to_parquet(tmp_path / "twice" / "mill=3" / "a.parquet")
    with pytest.raises(chaff.DataError, match="is in the file and in the name of its folder"):
        chaff.open_table(tmp_path / "twice", "y")


def test_whole_numbers_in_one_file_and_fractions_in_the_next_are_numbers(tmp_path):
    for k, values in enumerate(([1, 2, 3] * 20, [1.5, 2.5, 3.5] * 20)):
        pd.DataFrame({"a": values, "y": np.arange(60) * 1.0}).to_parquet(tmp_path / f"{k}.parquet")
    table = chaff.open_table(tmp_path, "y")
    assert table.kind("a") == "number" and table.column("a").values[[0, 60]].tolist() == [1.0, 1.5]


@pytest.mark.parametrize(
    ("folders", "words"),
    [
        ("year=2025/year=2026", "two folders above it say 'year'"),
        ("mill=A%2", "broken escape"),
        ("mill=%FF", "no letters"),
        ("m%zz=1", "broken"),
    ],
)
def test_partition_folders_that_contradict_themselves_or_are_broken_are_refused(tmp_path, folders, words):
    place = tmp_path / "lots" / folders
    place.mkdir(parents=True)
    pd.DataFrame({"a": range(30), "y": range(30)}).to_csv(place / "part.csv", index=False)
    with pytest.raises(chaff.DataError, match=words):
        chaff.open_table(tmp_path / "lots", "y")
