"""Room beside a table on disk: arrays like any other, in files without a name that go with them."""

import errno
import os
from dataclasses import replace

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.models.forms import learn_form
from chaff.models.memory_needs import bytes_needed
from chaff.table.design import Design
from chaff.table.on_disk import arrays as rooms
from chaff.table.on_disk.arrays import room, turned
from chaff.table.on_disk.file_map import FileMap
from chaff.work import Work
from tests.conftest import make_mixed


@pytest.fixture
def spill(tmp_path):
    make_mixed(60).to_csv(tmp_path / "lots.csv", index=False)
    return chaff.open_table(tmp_path / "lots.csv", "y", scratch=tmp_path / "scratch").source.spill


def files_in(spill):
    return sorted(p.name for p in spill.scratch.folder.iterdir())


def test_small_room_is_in_memory_and_large_room_in_a_file_without_a_name(spill, monkeypatch):
    before = files_in(spill)
    small = room(spill, (3, 4))
    assert small.base is None and (small == 0).all()
    monkeypatch.setattr(rooms, "SHARE", 0.0)
    large = room(spill, (300, 40), np.uint8)
    assert large.base is not None and large.flags.writeable and (large == 0).all() and large.dtype == np.uint8
    large[:] = np.arange(40)
    assert (large.sum(1) == 780).all() and files_in(spill) == before
    assert room(None, (300, 40)).base is None  # no table on disk
    assert room(spill, (0, 40)).shape == (0, 40)


def test_turned_is_the_transpose(spill, monkeypatch):
    monkeypatch.setattr(rooms, "SHARE", 0.0)
    monkeypatch.setattr(rooms, "BLOCK", 7)
    codes = np.random.default_rng(0).integers(0, 255, (5, 60)).astype(np.uint8)
    out = turned(spill, codes)
    assert out.flags.c_contiguous and np.array_equal(out, codes.T)


def test_pages_that_were_written_come_back_after_they_are_let_go_of(spill, monkeypatch):
    monkeypatch.setattr(rooms, "SHARE", 0.0)
    maps = []
    monkeypatch.setattr(rooms, "watch", lambda held, pages: maps.append(held))
    held = room(spill, (4096, 8))
    held[:] = np.arange(8)
    maps[0].let_go()
    assert (held == np.arange(8)).all()


@pytest.mark.skipif(not os.path.isdir("/proc/self/fd"), reason="counts descriptors in /proc")
def test_columns_on_disk_hold_no_descriptors(tmp_path):
    frame = pd.DataFrame(np.random.default_rng(0).normal(size=(30, 300)), columns=[f"sieve_{k}" for k in range(300)])
    frame.assign(y=frame["sieve_0"]).to_parquet(tmp_path / "lots.parquet")
    table = chaff.open_table(tmp_path / "lots.parquet", "y", scratch=tmp_path / "scratch")
    before = len(os.listdir("/proc/self/fd"))
    columns = [table.source.column(f).values for f in table.features]
    assert len(os.listdir("/proc/self/fd")) <= before + 8
    assert all(np.array_equal(c, frame[f]) for c, f in zip(columns, table.features, strict=True))
    with pytest.raises(ValueError, match="read-only"):
        columns[0][0] = 1.0


def test_a_map_that_cannot_be_made_is_an_error(tmp_path):
    (tmp_path / "x").write_bytes(bytes(64))
    with open(tmp_path / "x", "rb") as file:
        assert FileMap(file.fileno(), 64).array(float).tolist() == [0.0] * 8
        with pytest.raises(OSError, match="."):
            FileMap(file.fileno(), 1 << 60)


def test_a_full_disk_is_an_error_beforehand(spill, monkeypatch):
    def full(*given):
        raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr(rooms, "SHARE", 0.0)
    monkeypatch.setattr(os, "posix_fallocate", full, raising=False)
    with pytest.raises(chaff.DataError, match="no space left for scratch"):
        room(spill, (300, 40))


@pytest.mark.parametrize("form", ["bins", "design"])
def test_forms_in_files_are_those_in_memory(tmp_path, monkeypatch, form):
    make_mixed(150).to_csv(tmp_path / "lots.csv", index=False)
    here = chaff.open_table(tmp_path / "lots.csv", "y")
    there = chaff.open_table(tmp_path / "lots.csv", "y", scratch=tmp_path / "scratch")
    monkeypatch.setattr(rooms, "SHARE", 0.0)
    names = here.features[1:4]
    a, b = (learn_form(form, t, Work()).apply(t) for t in (here, there))
    fewer_a, fewer_b = (learn_form(form, t, Work()).select(s, names) for t, s in ((here, a), (there, b)))
    if form == "bins":
        assert b.data.codes.base is not None  # in a file
        for x, y in ((a, b), (fewer_a, fewer_b)):
            assert np.array_equal(x.data.codes, y.data.codes) and np.array_equal(x.data.by_rows, y.data.by_rows)
            assert x.data.by_rows.flags.c_contiguous
    else:
        for x, y in ((a, b), (fewer_a, fewer_b)):
            assert np.array_equal(x.data.X, y.data.X, equal_nan=True)


def test_filled_and_products_are_plain_arithmetic(tmp_path):
    make_mixed(150).to_csv(tmp_path / "lots.csv", index=False)
    table = chaff.open_table(tmp_path / "lots.csv", "y")
    design = Design.of(table, table.features)
    rng = np.random.default_rng(0)
    means, coefficients = rng.normal(size=design.X.shape[1]), rng.normal(size=(design.X.shape[1], 2))
    filled = np.where(np.isnan(design.X), means, design.X)
    assert np.isnan(design.X).any() and np.array_equal(design.filled(means), filled)
    np.testing.assert_allclose(design.about(means), filled - means, atol=0)
    np.testing.assert_allclose(design.product(means, coefficients), (filled - means) @ coefficients, atol=1e-12)


def test_where_scratch_lies_elsewhere_room_is_found_here(spill, tmp_path, monkeypatch):
    monkeypatch.setattr(rooms, "SHARE", 0.0)
    monkeypatch.setenv("CHAFF_SCRATCH", str(tmp_path / "here"))
    far = replace(spill, scratch=replace(spill.scratch, folder=tmp_path / "another machine" / "abc"))
    assert room(far, (300, 40)).shape == (300, 40) and (tmp_path / "here" / "abc").parent.is_dir()
    assert not (tmp_path / "another machine").exists()


def test_what_lies_in_files_is_not_counted_as_memory(tmp_path):
    make_mixed(150).to_csv(tmp_path / "lots.csv", index=False)
    here = chaff.open_table(tmp_path / "lots.csv", "y")
    there = chaff.open_table(tmp_path / "lots.csv", "y", scratch=tmp_path / "scratch")
    for model, less in ((chaff.Forest(), True), (chaff.Ridge(), True), (chaff.Lasso(), False)):
        assert (bytes_needed(there, model, 5, 1) < bytes_needed(here, model, 5, 1)) == less
