"""Whole or not at all: a full disk, a forbidden folder, an error half-way."""

import errno
import os
import signal
from pathlib import Path

import pytest

import chaff
from chaff import files
from chaff.files import make_folder, together, whole_file, write_text


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


def two_old_files(folder):
    for name in ("a.json", "b.json"):
        (folder / name).write_text(f"old {name}")
    return lambda: sorted((p.name, p.read_text()) for p in folder.iterdir())


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_a_signal_between_two_files_waits_until_all_stand(tmp_path, monkeypatch, number):
    state, moved = two_old_files(tmp_path), []

    def replace_and_signal(source, place, really=os.replace):
        really(source, place)
        moved.append(place)
        if len(moved) == 2:  # the first new file stands, the second does not
            os.kill(os.getpid(), number)

    arrived = []
    before = signal.signal(number, lambda n, _: arrived.append(n))
    monkeypatch.setattr(files.os, "replace", replace_and_signal)
    try:
        with together(tmp_path) as fresh:
            (fresh / "a.json").write_text("new a.json")
            (fresh / "b.json").write_text("new b.json")
    finally:
        signal.signal(number, before)
    assert arrived == [number] and state() == [("a.json", "new a.json"), ("b.json", "new b.json")]


def test_a_file_that_cannot_be_moved_leaves_all_as_they_were(tmp_path, monkeypatch):
    state = two_old_files(tmp_path)
    before = state()

    def fails_at_b(source, place, really=os.replace):
        if os.path.basename(place) == "b.json" and "new" in Path(source).read_text():
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
        really(source, place)

    monkeypatch.setattr(files.os, "replace", fails_at_b)
    with pytest.raises(chaff.DataError, match="no space left on device. Nothing was changed"), together(tmp_path) as fresh:
        for name in ("a.json", "b.json", "c.json"):
            (fresh / name).write_text("new")
    assert state() == before


def test_what_cannot_be_put_back_is_named(tmp_path, monkeypatch):
    two_old_files(tmp_path)

    def fails_for_good(source, place, really=os.replace, failed=[]):  # noqa: B006
        if failed or os.path.basename(place) == "b.json":
            failed.append(1)
            raise OSError(errno.EIO, os.strerror(errno.EIO))
        really(source, place)

    monkeypatch.setattr(files.os, "replace", fails_for_good)
    with pytest.raises(chaff.DataError, match=r"only partly written.*New there: a\.json"), together(tmp_path) as fresh:
        (fresh / "a.json").write_text("new")
        (fresh / "b.json").write_text("new")


def test_leftovers_that_are_links_are_left_alone(tmp_path):
    (tmp_path / "mine").mkdir()
    (tmp_path / "mine" / "x").write_text("x")
    link = tmp_path / f"{files.PART}999999999-x"
    link.symlink_to(tmp_path / "mine", target_is_directory=True)
    write_text(tmp_path / "a.txt", "x")
    assert link.is_symlink() and (tmp_path / "mine" / "x").exists()
