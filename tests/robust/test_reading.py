"""Files read right: kinds found late, dates in one format, words that stay words, large whole numbers, roles, guesses said."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import chaff

SEARCH = chaff.Plan((chaff.Search(),))


def lots(n: int = 240, seed: int = 0) -> pd.DataFrame:
    rng = np.random.default_rng(seed)
    frame = pd.DataFrame({"x": rng.normal(size=n).round(3), "z": rng.normal(size=n).round(3), "k": rng.choice(["a", "b", "c"], n)})
    frame["y"] = (2 * frame["x"] + frame["z"] + (frame["k"] == "a") + 0.3 * rng.normal(size=n)).round(3)
    return frame


# ------------------------------------------------------------------ apply reads as a table does


@pytest.mark.long
def test_a_column_that_is_whole_for_a_megabyte_and_has_decimals_later(tmp_path: Path):
    frame = lots()
    selection = chaff.select(chaff.open_table(frame, "y"), SEARCH).selection
    many = pd.concat([frame] * 700, ignore_index=True)
    many["x"] = 3.0
    lines = many.astype({"x": int}).to_csv(index=False) + "0.5,0.1,a,1.0\n"
    path = tmp_path / "late.csv"
    path.write_text(lines)
    assert path.stat().st_size > 2_000_000
    assert selection.apply(path)["x"].iloc[-1] == 0.5
    for out in ("out.csv", "out.parquet"):
        selection.apply(path, tmp_path / out)
    assert pd.read_parquet(tmp_path / "out.parquet")["x"].iloc[-1] == 0.5 == pd.read_csv(tmp_path / "out.csv")["x"].iloc[-1]


@pytest.mark.long
@pytest.mark.parametrize("form", ["quoted", "decimal comma", "hexadecimal", "spaces"])
def test_numbers_however_they_are_written(form: str, tmp_path: Path):
    frame = lots()
    frame["n"] = np.arange(len(frame)) % 60
    frame["y"] = frame["y"] + 0.2 * frame["n"]
    written, options = frame.astype(str), {}
    if form == "quoted":
        text = written.to_csv(index=False, quoting=1)
    elif form == "decimal comma":
        text = written.map(lambda v: v.replace(".", ",")).to_csv(index=False, sep=";")
    elif form == "hexadecimal":
        written["n"] = [hex(v) for v in frame["n"]]
        text = written.to_csv(index=False)
    else:
        written["x"] = " " + written["x"]
        text = written.to_csv(index=False)
    path = tmp_path / "lots.csv"
    path.write_text(text)
    table = chaff.open_table(path, "y", **options)
    assert {table.kind(c) for c in ("x", "z", "n")} == {"number"}
    np.testing.assert_allclose(table.column("n").values, frame["n"])
    selection = chaff.select(table, SEARCH).selection
    back = selection.apply(path)
    for name in {"x", "n"} & set(selection.features):
        np.testing.assert_allclose(back[name].astype(float), frame[name])


def test_carried_ids_and_numbers_are_copied_cell_by_cell(tmp_path: Path):
    frame = lots().astype(str)
    frame["lot"] = [f"{k:05d}" for k in range(len(frame))]
    frame["x"] = frame["x"] + "0"
    path, out = tmp_path / "lots.csv", tmp_path / "out.csv"
    frame.to_csv(path, index=False)
    chaff.select(chaff.open_table(path, "y", ids=["lot"]), SEARCH).selection.apply(path, out)
    back = pd.read_csv(out, dtype=str)
    assert (back["lot"] == frame["lot"]).all() and (back["x"] == frame["x"]).all()


@pytest.mark.long
def test_infinite_is_remembered(tmp_path: Path):
    frame = lots()
    frame.loc[3, "x"] = np.inf
    selection = chaff.select(chaff.open_table(frame, "y", infinite="missing"), SEARCH).selection
    assert np.isnan(selection.apply(frame)["x"].iloc[3])
    frame.to_csv(tmp_path / "lots.csv", index=False)
    assert np.isnan(selection.apply(tmp_path / "lots.csv")["x"].iloc[3])
    plain = chaff.select(chaff.open_table(lots(), "y"), SEARCH).selection
    with pytest.raises(chaff.DataError, match="infinite"):
        plain.apply(frame)


def test_ordered_words_and_missing_words_of_every_source(tmp_path: Path):
    frame = lots()
    frame["band"] = np.select([frame["x"] < -1, frame["x"] < 0, frame["x"] < 1], ["< 5", "5-9", "10-19"], "20+")
    frame.loc[:5, "z"] = -999.0
    table = chaff.open_table(frame, "y", kinds={"band": "ordered"}, missing=["-999"])
    assert table.kind("band") == "number" and table.column("z").missing.sum() == 6
    selection = chaff.select(table, SEARCH).selection
    frame.to_csv(tmp_path / "lots.csv", index=False)
    for source in (frame, tmp_path / "lots.csv"):
        back = selection.apply(source)
        if "z" in back:
            assert back["z"].isna().sum() == 6
    if "band" in selection.features:
        assert set(selection.apply(frame)["band"]) == set(frame["band"])


# ------------------------------------------------------------------ dates


def dated(words: list[str], **terms) -> chaff.Table:
    frame = lots(len(words))
    return chaff.open_table(frame.assign(when=words), "y", **terms)


def test_dates_have_one_format_for_the_column():
    words = [f"{d:02d}/01/2024" for d in range(1, 29)] * 2
    days = dated(words).column("when")
    assert days.kind == "date"
    np.testing.assert_array_equal(np.diff(days.values[:28]), 1.0)  # 04/01 and 13/01 are days of one month


def test_dates_that_fit_two_ways_have_to_be_told():
    words = [f"{d:02d}/0{d % 9 + 1}/2024" for d in range(1, 12)] * 4
    assert dated(words).kind("when") == "category"
    with pytest.raises(chaff.DataError, match="different days.*--date when="):
        dated(words, kinds={"when": "date"}).column("when")
    told = dated(words, dates={"when": "%d/%m/%Y"}, order="when")
    assert told.order is not None
    other = dated(words, dates={"when": "%m/%d/%Y"}, order="when")
    assert not np.array_equal(told.order, other.order)
    with pytest.raises(chaff.DataError, match="is none"):
        dated(["2024"] * 30 + words[:14], dates={"when": "%d/%m/%Y"}).column("when")


def test_times_without_a_date_are_hours_and_far_dates_are_dates(tmp_path: Path):
    frame = lots(60)
    frame["clock"] = [f"{h % 24:02d}:30:00" for h in range(60)]
    frame["far"] = [f"{1000 + 100 * k:04d}-03-01" for k in range(60)]
    frame.to_csv(tmp_path / "t.csv", index=False)
    table = chaff.open_table(tmp_path / "t.csv", "y")
    assert table.kind("clock") in ("number", "category") and table.kind("far") == "date"
    if table.kind("clock") == "number":
        assert table.column("clock").values[1] == 1.5
    assert (np.diff(table.column("far").values) > 36_000).all()


# ------------------------------------------------------------------ whole numbers, words, masks, roles


def test_large_whole_numbers_stay_different():
    frame = lots(200)
    codes = 2**60 + np.arange(200) // 2
    frame["who"], frame["g"], frame["day"] = codes, np.where(frame["x"] > 0, 2**60, 2**60 + 1), 2**60 + np.arange(200)
    table = chaff.open_table(frame, "y", groups="who", order="day", ignore=["g"])
    assert np.unique(table.groups).size == 100 and np.unique(table.order).size == 200
    assert len(chaff.open_table(frame, "g", task="classification", ignore=["y", "who", "day"]).target.classes) == 2
    kinds = chaff.open_table(frame, "y", kinds={"who": "category"}, ignore=["g", "day"])
    assert len(kinds.levels("who")) == 100


def test_words_that_look_like_numbers_stay_words_when_declared(tmp_path: Path):
    frame = lots(120)
    frame["code"] = [f"00{k % 4 + 5}" for k in range(120)]
    frame.to_csv(tmp_path / "t.csv", index=False)
    table = chaff.open_table(tmp_path / "t.csv", "y", kinds={"code": "category"})
    assert table.levels("code") == ("005", "006", "007", "008")


def test_masked_cells_are_missing():
    rng = np.random.default_rng(0)
    X = np.ma.masked_greater(rng.normal(size=(60, 3)), 1.0)
    y = np.ma.masked_where(np.arange(60) == 7, rng.normal(size=60))
    table = chaff.open_arrays(X, y)
    assert len(table) == 59 and table.column("x1").missing.sum() == np.delete(X.mask[:, 0], 7).sum()


def test_what_has_another_purpose_is_never_a_feature():
    frame = lots(80)
    frame["mill"], frame["w"], frame["day"] = np.arange(80) // 4, 1.0 + np.arange(80) % 3, np.arange(80)
    table = chaff.open_table(frame, "y", groups="mill", weights="w", order="day")
    for name in ("y", "mill", "w", "day"):
        with pytest.raises(chaff.UsageError, match="cannot be a feature"):
            table.with_features(["x", name])
        with pytest.raises(chaff.UsageError):
            chaff.relevance(table, features=["x", name])
    with pytest.raises(chaff.DataError, match="must be numbers, not words"):
        chaff.open_table(frame.assign(w=np.where(frame["x"] > 0, "yes", "no")), "y", weights="w")
    with pytest.raises(chaff.UsageError, match="target"):
        chaff.open_table(frame, "y", order="y")


@pytest.mark.long
def test_a_selection_from_arrays_with_roles_applies_to_the_same_x():
    rng = np.random.default_rng(1)
    X = rng.normal(size=(120, 4))
    y = X[:, 2] + 0.2 * rng.normal(size=120)
    for roles in ({"groups": np.arange(120) // 4}, {"weights": 1 + rng.random(120)}, {"order": np.arange(120)}):
        selection = chaff.select(chaff.open_arrays(X, y, **roles), SEARCH).selection
        assert selection.apply(X).shape == (120, len(selection.features))
    flags = (rng.integers(0, 3, 120)[:, None] == np.arange(3)).astype(float)
    both = np.hstack([X, flags])
    table = chaff.open_arrays(both, y + 2 * flags[:, 0], together={"variety": ["x5", "x6", "x7"]})
    selection = chaff.select(table, SEARCH).selection
    width = sum(3 if f == "variety" else 1 for f in selection.features)
    assert "variety" in selection.features and selection.apply(both).shape == (120, width)


def test_guesses_that_could_be_wrong_are_said(tmp_path: Path):
    frame = lots(60)
    (tmp_path / "a.csv").write_text(frame.to_csv(index=False, sep=";").replace(".", ","))
    notes = " ".join(chaff.open_table(tmp_path / "a.csv", "y").notes)
    assert "separator ';' (--delimiter)" in notes and "decimal comma (--decimal)" in notes
    (tmp_path / "b.csv").write_bytes(frame.assign(k="größer").to_csv(index=False).encode("cp1252"))
    assert "encoding" in " ".join(chaff.open_table(tmp_path / "b.csv", "y").notes)
    (tmp_path / "c.csv").write_text(frame[["x", "z", "y"]].to_csv(index=False, header=False))
    first = str(frame["y"].iloc[0])
    assert "no header line" in " ".join(chaff.open_table(tmp_path / "c.csv", first).notes)
    assert not chaff.open_table(frame, "y").notes
