"""Whole or not at all: a full disk, a forbidden folder, an error half-way."""

import errno
import os

import pytest

import chaff
from chaff.files import make_folder, whole_file, write_text


def test_an_error_half_way_leaves_the_old_file_and_nothing_else(tmp_path):
    path = tmp_path / "a.json"
    write_text(path, "old")
    with pytest.raises(ZeroDivisionError), whole_file(path) as part:
        part.write_text("half")
        raise ZeroDivisionError
    assert path.read_text() == "old" and [p.name for p in tmp_path.iterdir()] == ["a.json"]


def test_a_full_disk_is_said_in_words(tmp_path):
    path = tmp_path / "reduced.csv"
    with pytest.raises(chaff.DataError, match=r"reduced.csv not written: no space left on device. Nothing was changed"), whole_file(path):
        raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
    assert not list(tmp_path.iterdir())


def test_places_that_cannot_be_written(tmp_path):
    with pytest.raises(chaff.DataError, match="not written: no such file or directory"):
        write_text(tmp_path / "gone" / "a.json", "x")
    blocked = tmp_path / "file"
    blocked.write_text("x")
    with pytest.raises(chaff.DataError, match="output folder .* cannot be written"):
        make_folder(blocked / "below")
    assert make_folder(tmp_path / "new" / "deep").is_dir()


def test_written_files_have_ordinary_permissions(tmp_path):
    write_text(tmp_path / "a.txt", "x")
    mask = os.umask(0)
    os.umask(mask)
    assert (tmp_path / "a.txt").stat().st_mode & 0o777 == 0o666 & ~mask
