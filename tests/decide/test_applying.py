"""Apply at the edges: many batches, decimal commas, compression, dictionaries, other endings."""

import gzip

import numpy as np
import pandas as pd
import pyarrow as pa
import pytest

import chaff


@pytest.fixture(scope="module")
def selection():
    rng = np.random.default_rng(0)
    frame = pd.DataFrame(
        {"protein": rng.normal(12, 1, 200), "variety": rng.choice(["Alba", "Borka", "Cerio"], 200), "waste": rng.normal(size=200)}
    )
    frame["y"] = frame["protein"] + 2 * (frame["variety"] == "Alba") + 0.1 * rng.normal(size=200)
    run = chaff.select(chaff.open_table(frame, target="y"), chaff.Plan((chaff.Search(),)))
    assert run.features == ("protein", "variety")
    return run.selection


def rows(n, seed=1):
    rng = np.random.default_rng(seed)
    return pd.DataFrame({"variety": rng.choice(["Alba", "Dunja"], n), "waste": 1.0, "protein": rng.normal(12, 1, n).round(6), "y": 5.5})


@pytest.mark.long
def test_a_file_of_many_batches_comes_out_whole(selection, tmp_path):
    frame = rows(200_000)
    frame.to_parquet(tmp_path / "big.parquet", row_group_size=30_000)
    frame.to_csv(tmp_path / "big.csv", index=False)
    for name in ("big.parquet", "big.csv"):
        for ending in (".csv", ".parquet"):
            out = tmp_path / ("out" + ending)
            selection.apply(tmp_path / name, out)
            back = pd.read_csv(out) if ending == ".csv" else pd.read_parquet(out)
            pd.testing.assert_frame_equal(back, frame[["y", "protein", "variety"]], check_dtype=False)


def test_other_ways_of_writing_the_same_rows(selection, tmp_path):
    frame = rows(60)
    wanted = frame[["y", "protein", "variety"]]
    frame.to_csv(tmp_path / "semi.csv", sep=";", decimal=",", index=False)
    with gzip.open(tmp_path / "zip.csv.gz", "wt") as file:
        frame.to_csv(file, index=False)
    frame.to_feather(tmp_path / "lots.feather")
    frame.to_json(tmp_path / "lots.jsonl", orient="records", lines=True)
    for name in ("semi.csv", "zip.csv.gz", "lots.feather", "lots.jsonl"):
        pd.testing.assert_frame_equal(selection.apply(tmp_path / name), wanted, check_dtype=False)
    coded = pa.Table.from_pandas(frame.assign(variety=frame["variety"].astype("category")), preserve_index=False)
    selection.apply(coded, tmp_path / "coded.csv")
    pd.testing.assert_frame_equal(pd.read_csv(tmp_path / "coded.csv"), wanted, check_dtype=False)


def test_words_that_look_like_numbers_stay_words(selection, tmp_path):
    rows(30).assign(variety=[f"{k:03d}" for k in range(30)]).to_csv(tmp_path / "n.csv", index=False)
    assert selection.apply(tmp_path / "n.csv")["variety"].tolist()[:2] == ["000", "001"]


def test_text_late_in_a_number_column_is_found_and_nothing_is_left(selection, tmp_path):
    frame = rows(150_000).astype({"protein": object})
    frame.loc[149_999, "protein"] = "spilt"
    frame.to_csv(tmp_path / "late.csv", index=False)
    with pytest.raises(chaff.DataError, match="column 'protein' .*text values.*spilt"):
        selection.apply(tmp_path / "late.csv", tmp_path / "out.csv")
    assert [p.name for p in tmp_path.iterdir()] == ["late.csv"]


def test_broken_and_missing_inputs(selection, tmp_path):
    (tmp_path / "broken.parquet").write_bytes(b"PAR1 nonsense")
    with pytest.raises(chaff.DataError, match="cannot be read as parquet"):
        selection.apply(tmp_path / "broken.parquet", tmp_path / "out.csv")
    with pytest.raises(chaff.DataError, match="no such file"):
        selection.apply(tmp_path / "gone.csv", tmp_path / "out.csv")
    (tmp_path / "empty.csv").write_bytes(b"")
    with pytest.raises(chaff.DataError, match="is empty"):
        selection.apply(tmp_path / "empty.csv", tmp_path / "out.csv")
    assert not (tmp_path / "out.csv").exists()


def test_a_file_with_a_header_only_gives_a_header_only(selection, tmp_path):
    rows(3).iloc[:0].to_parquet(tmp_path / "none.parquet")
    selection.apply(tmp_path / "none.parquet", tmp_path / "out.csv")
    assert (tmp_path / "out.csv").read_text().strip() == "y,protein,variety"
