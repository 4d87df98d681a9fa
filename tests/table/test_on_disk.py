"""A table that stays on disk is the table: the same cells, kinds, levels and target, whatever it is cut into; nothing else is noticed."""

import errno
import json
import os
import pickle
import time

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.feather as feather
import pyarrow.parquet as pq
import pytest

import chaff
from chaff.decide.record import fingerprint
from chaff.memory import bytes_of, size_in_words
from chaff.table import large_tables as on_disk
from chaff.table import source
from chaff.table.large_tables import Limit
from chaff.table.moments import table_moments
from chaff.table.on_disk import scratch, spilled
from tests.conftest import make_mixed
from tests.table.test_folders import cut, same

ROLES = {"groups": "mill", "order": None, "weights": "lot_weight", "missing_flags": ["gap_b"], "missing_codes": {"assay_3": [30.0]}}


@pytest.fixture(scope="module")
def frame():
    out = make_mixed(210)
    out["assay_3"] = out["assay_3"].round(0)
    out["when"] = pd.to_datetime("2026-01-01") + pd.to_timedelta(np.arange(210), "D")
    out["grown"] = np.arange(210) % 3 == 0
    out["lot"] = np.arange(210) * 7
    out["grade"] = pd.Categorical.from_codes(np.arange(210) % 3, ["fine", "medium", "coarse"])
    out["dotted.name"] = np.linspace(0, 1, 210).astype("float32")
    return out


def identical(a, b):
    same(a, b)
    assert fingerprint(a) == fingerprint(b) and a.target == b.target
    for f in a.features:
        assert a.whole_column(f).whole == b.whole_column(f).whole and a.source.has_gaps(f) == b.source.has_gaps(f)
    for role in ("groups", "weights", "order"):
        x, y = getattr(a, role), getattr(b, role)
        assert (x is None) == (y is None) and (x is None or np.array_equal(x, y))


@pytest.mark.long
@pytest.mark.parametrize("pieces", [1, 7, 100])
def test_from_files_is_as_in_memory(frame, tmp_path, pieces):
    folder = cut(frame, tmp_path / "many", pieces)
    there = chaff.open_table(folder, "y", scratch=tmp_path / "scratch", **ROLES)
    assert there.source.spill is not None and "scratch" in there.notes[-1]
    identical(there, chaff.open_table(folder, "y", **ROLES))
    identical(chaff.open_table(folder, "y", scratch=tmp_path / "scratch", **ROLES), there)  # from what lies there now
    other = chaff.open_table(folder, "y", scratch=tmp_path / "scratch", ids=["lot"], missing=["Alba"])
    assert len(list((tmp_path / "scratch").iterdir())) == 1 and "Alba" not in other.levels("variety")


def test_the_order_of_the_files_is_the_order_of_the_rows(frame, tmp_path):
    files = sorted(cut(frame, tmp_path / "many", 7).iterdir())
    for order in (files[::-1], [*files[3:], *files[:3]]):
        identical(chaff.open_table(order, "y", scratch=tmp_path / "scratch"), chaff.open_table(order, "y"))


@pytest.mark.parametrize("ending", ["csv", "csv.gz", "tsv", "feather", "jsonl"])
def test_text_and_other_files_are_turned_once(frame, tmp_path, ending):
    path = tmp_path / f"lots.{ending}"
    if ending == "feather":
        feather.write_feather(pa.Table.from_pandas(frame), path)
    elif ending == "jsonl":
        frame.drop(columns=["when", "grade"]).to_json(path, orient="records", lines=True)
    else:
        frame.to_csv(path, index=False, sep="\t" if ending == "tsv" else ",")
    there = chaff.open_table(path, "y", scratch=tmp_path / "scratch")
    identical(there, chaff.open_table(path, "y"))
    assert "1 text file was turned into Parquet there" in there.notes[-1]
    (made,) = (tmp_path / "scratch").rglob("text.parquet")
    stamp = made.stat().st_mtime_ns
    identical(chaff.open_table(path, "y", scratch=tmp_path / "scratch"), there)
    assert made.stat().st_mtime_ns == stamp


def test_a_text_file_whose_later_lines_are_of_another_kind(tmp_path):
    rows = 60_000  # several blocks
    rng = np.random.default_rng(0)
    said = pd.DataFrame(
        {
            "whole": np.arange(rows).astype(str),
            "then_fraction": [str(k) if k < rows - 5 else f"{k}.5" for k in range(rows)],
            "then_word": [str(k % 50) if k < rows - 5 else "unknown" for k in range(rows)],
            "late": ["" if k < rows - 50 else str(k) for k in range(rows)],
            "y": rng.normal(size=rows).round(6).astype(str),
        }
    )
    said.to_csv(tmp_path / "lots.csv", index=False)
    kinds = {"then_word": "category"}
    identical(
        chaff.open_table(tmp_path / "lots.csv", "y", kinds=kinds, scratch=tmp_path / "s"),
        chaff.open_table(tmp_path / "lots.csv", "y", kinds=kinds),
    )


def test_partitions_addresses_and_a_separate_holdout(frame, tmp_path):
    frame = frame.drop(columns="grade")
    for mill, part in frame.groupby("mill"):
        place = tmp_path / "lots" / f"mill={mill}"
        place.mkdir(parents=True)
        part.drop(columns="mill").to_parquet(place / "a.parquet")
    there = chaff.open_table(tmp_path / "lots", "y", groups="mill", scratch=tmp_path / "s")
    identical(there, chaff.open_table(tmp_path / "lots", "y", groups="mill"))
    address = (tmp_path / "lots").as_uri()
    identical(chaff.open_table(address, "y", groups="mill", scratch=tmp_path / "s"), there)
    identical(chaff.open_table(address, "y", groups="mill"), there)
    frame.head(40).to_csv(tmp_path / "new.csv", index=False)
    frame.tail(170).to_csv(tmp_path / "old.csv", index=False)
    held = chaff.open_table(tmp_path / "old.csv", "y", holdout=tmp_path / "new.csv", scratch=tmp_path / "s")
    identical(held, chaff.open_table(tmp_path / "old.csv", "y", holdout=tmp_path / "new.csv"))
    assert "last 40 rows came as a separate holdout" in " ".join(held.notes)
    with pytest.raises(chaff.UsageError, match="pass a path"):
        chaff.open_table(tmp_path / "old.csv", "y", holdout=frame, scratch=tmp_path / "s")
    above = {"target_above": -8.0, "scratch": tmp_path / "s"}
    identical(chaff.open_table(tmp_path / "old.csv", "y", **above), chaff.open_table(tmp_path / "old.csv", "y", target_above=-8.0))


def test_sums_and_samples_of_it_are_those_of_the_table_in_memory(frame, tmp_path):
    folder = cut(frame, tmp_path / "many", 5)
    there, here = chaff.open_table(folder, "y", scratch=tmp_path / "s"), chaff.open_table(folder, "y")
    names = [f for f in here.features if here.kind(f) not in ("date", "text")]
    a, b = table_moments(there, names), table_moments(here, names)
    np.testing.assert_array_equal(a.P, b.P)
    rows = np.arange(3, 210, 4)
    few, taken = there.take_rows(rows), here.take(rows)
    assert few.source.spill is None and few.kinds == here.kinds
    for f in here.features:
        np.testing.assert_array_equal(few.column(f).values, taken.column(f).values)
        assert few.levels(f) == here.levels(f) and few.source.has_gaps(f) == here.source.has_gaps(f)
    np.testing.assert_array_equal(few.y, taken.y)
    np.testing.assert_array_equal(few.row_numbers, rows)
    np.testing.assert_array_equal(few.take(np.arange(5)).row_numbers, rows[:5])
    assert len(there.sample(50, seed=1)) == 50 and there.sample(10_000) is there
    with pytest.raises(chaff.UsageError, match="rows must be 1 or more"):
        there.sample(0)


def test_a_long_table_is_summed_in_more_lanes_and_the_sums_are_the_same(frame, tmp_path, monkeypatch):
    from chaff.table import moments

    folder = cut(pd.concat([frame] * 30, ignore_index=True), tmp_path / "many", 5)
    there, here = chaff.open_table(folder, "y", scratch=tmp_path / "s"), chaff.open_table(folder, "y")
    names = [f for f in here.features if here.kind(f) not in ("date", "text")]
    monkeypatch.setattr(moments, "LANE_ROWS", 1000)
    assert moments.lanes_of(there, 40, 1) == 6 and moments.lanes_of(here, 40, 1) == 2
    a, b = table_moments(there, names), table_moments(here, names)
    np.testing.assert_allclose(a.P, b.P, rtol=1e-12)
    np.testing.assert_allclose(a.sums_missing, b.sums_missing, rtol=1e-12, atol=1e-9)


def test_it_travels_as_a_description_and_is_opened_once(frame, tmp_path):
    big = pd.concat([frame] * 40, ignore_index=True)
    big["y"] += np.random.default_rng(0).normal(size=len(big))
    big.drop(columns="grade").to_parquet(tmp_path / "lots.parquet")
    there = chaff.open_table(tmp_path / "lots.parquet", "y", groups="mill", weights="lot_weight", scratch=tmp_path / "s")
    some = there.take(np.arange(0, len(big), 2))
    packed = pickle.dumps(some)
    assert len(packed) < 8_000
    one, two = pickle.loads(packed), pickle.loads(packed)
    assert one.source is two.source
    identical(one, some)
    changed = pickle.loads(pickle.dumps(there.with_label_noise(0.5)))
    np.testing.assert_array_equal(changed.y, there.with_label_noise(0.5).y)
    few = some.take_rows(np.arange(0, len(some), 3))
    again = pickle.loads(pickle.dumps(few))
    np.testing.assert_array_equal(again.column("gap_a").values, few.column("gap_a").values)


class TestFaults:
    def test_a_file_that_changes_goes_or_is_cut_off_is_named(self, frame, tmp_path):
        for fault, words in (("changed", "has changed since"), ("gone", "is gone since"), ("cut", "part-001")):
            folder = cut(frame, tmp_path / fault, 3)
            table = chaff.open_table(folder, "y", scratch=tmp_path / f"s-{fault}")
            victim = folder / "part-001.parquet"
            if fault == "changed":
                frame.head(9).to_parquet(victim)
            elif fault == "gone":
                victim.unlink()
            else:
                before, raw = victim.stat(), victim.read_bytes()
                victim.write_bytes(raw[:4] + bytes(len(raw) - 4))  # as long as before, and of the same time
                os.utime(victim, ns=(before.st_atime_ns, before.st_mtime_ns))
            with pytest.raises(chaff.DataError, match=words) as caught:
                table.column("assay_1")
            assert "part-001" in str(caught.value)

    def test_schemas_that_do_not_go_together_name_file_and_column(self, frame, tmp_path):
        folder = cut(frame, tmp_path / "many", 3)
        frame.head(9).rename(columns={"assay_1": "assay_9"}).to_parquet(folder / "part-001.parquet")
        with pytest.raises(chaff.DataError, match=r"part-001.*lacks column 'assay_1' of part-000"):
            chaff.open_table(folder, "y", scratch=tmp_path / "s")
        frame.head(9).assign(assay_1="high").to_parquet(folder / "part-001.parquet")
        with pytest.raises(chaff.DataError, match=r"column 'assay_1' holds (large_)?string in part-001.*double in part-000"):
            chaff.open_table(folder, "y", scratch=tmp_path / "s")
        frame.head(9).assign(assay_1=1).to_parquet(folder / "part-001.parquet")  # whole numbers go with fractions
        assert chaff.open_table(folder, "y", scratch=tmp_path / "s").kind("assay_1") == "number"

    def test_empty_files_and_row_groups_take_no_part(self, frame, tmp_path):
        folder = cut(frame, tmp_path / "many", 3)
        whole = pa.Table.from_pandas(frame)
        with pq.ParquetWriter(folder / "part-001b.parquet", whole.schema) as writer:
            writer.write_table(whole.slice(0, 0))
            writer.write_table(whole.slice(0, 0))
        identical(chaff.open_table(folder, "y", scratch=tmp_path / "s"), chaff.open_table(frame, "y").named("many"))

    @pytest.mark.parametrize("what", ["folder", "address", "file"])
    def test_nothing_there_is_said(self, tmp_path, what):
        (tmp_path / "empty").mkdir()
        source = {"folder": tmp_path / "empty", "address": (tmp_path / "empty").as_uri(), "file": (tmp_path / "no.parquet").as_uri()}[what]
        with pytest.raises(chaff.DataError, match="without a table in it|no such file"):
            chaff.open_table(source, "y", scratch=tmp_path / "s")
        with pytest.raises(chaff.DataError, match="cannot be reached"):
            chaff.open_table("nowhere://mill/lots", "y")

    def test_a_full_disk_leaves_nothing_half_written(self, frame, tmp_path, monkeypatch):
        folder = cut(frame, tmp_path / "many", 2)
        table = chaff.open_table(folder, "y", scratch=tmp_path / "s")

        def full(part, blocks):
            part.write_bytes(b"half")
            raise OSError(errno.ENOSPC, "No space left on device")

        monkeypatch.setattr(spilled, "_write_blocks", full)
        with pytest.raises(chaff.DataError, match="no space left for scratch"):
            table.column("assay_0")
        assert not [p for p in (tmp_path / "s").rglob("*") if ".part-" in p.name]
        monkeypatch.undo()
        assert table.column("assay_0").values.size == 210

    def test_too_little_room_is_said_before_any_work(self, frame, tmp_path, monkeypatch):
        folder = cut(frame, tmp_path / "many", 2)
        usage = scratch.shutil.disk_usage(tmp_path)
        monkeypatch.setattr(scratch.shutil, "disk_usage", lambda place: usage._replace(free=5_000))
        with pytest.raises(chaff.DataError, match=r"scratch takes up to 29 kB, and 5 kB are left in .*s: name another folder"):
            chaff.open_table(folder, "y", scratch=tmp_path / "s")

    def test_scratch_is_for_its_owner_alone(self, frame, tmp_path):
        chaff.open_table(cut(frame, tmp_path / "many", 2), "y", scratch=tmp_path / "s")
        (folder,) = (tmp_path / "s").iterdir()
        assert folder.stat().st_mode & 0o077 == 0

    def test_a_text_file_that_does_not_fit_on_the_disk(self, frame, tmp_path, monkeypatch):
        frame.to_csv(tmp_path / "lots.csv", index=False)

        def full(*given, **named):
            raise OSError(errno.ENOSPC, "No space left on device")

        monkeypatch.setattr(pq.ParquetWriter, "write_table", full)
        with pytest.raises(chaff.DataError, match="no space left for scratch"):
            chaff.open_table(tmp_path / "lots.csv", "y", scratch=tmp_path / "s")
        assert not list((tmp_path / "s").rglob("*.parquet*"))

    def test_scratch_that_is_damaged_is_made_anew_and_what_cannot_be_made_is_said(self, frame, tmp_path):
        folder = cut(frame, tmp_path / "many", 2)
        table = chaff.open_table(folder, "y", scratch=tmp_path / "s")
        expected = {f: table.column(f).values.copy() for f in table.features}

        def crafted(file):
            about = json.loads(file.read_text())
            about["about"]["kind"] = "number"
            if "levels" in about["about"]:
                about["about"]["levels"] = [1, 2]
            file.write_text(json.dumps(about))

        damages = {
            "*.f8": lambda file: file.write_bytes(b"12345678"),
            "*.json": lambda file: None if file.name == scratch.MARK else crafted(file),
            "?*.json": lambda file: None if file.name == scratch.MARK else file.write_text("[" * 9999),
        }
        for pattern, damage in damages.items():
            for file in (tmp_path / "s").rglob(pattern):
                damage(file)
            again = chaff.open_table(folder, "y", scratch=tmp_path / "s")
            for f, values in expected.items():
                np.testing.assert_array_equal(again.column(f).values, values)
                assert again.levels(f) == table.levels(f)
        (tmp_path / "taken").write_text("a file")
        with pytest.raises(chaff.DataError, match="scratch in .* cannot be written"):
            chaff.open_table(folder, "y", scratch=tmp_path / "taken")

    def test_only_folders_of_ours_that_nobody_used_for_long_go(self, frame, tmp_path):
        root, ours = tmp_path / "s", f"chaff-{'0' * 24}"
        mark = json.dumps({"format": scratch.SIGNATURE, "version": scratch.VERSION})
        theirs = {"0123": mark, "used": "", f"chaff-{'1' * 24}": "{}", f"chaff-{'2' * 24}": "[]", f"chaff-{'3' * 23}": mark}
        for name, text in {ours: mark, **theirs}.items():
            (root / name).mkdir(parents=True)
            for file in (scratch.MARK, "used"):
                (root / name / file).write_text(text)
                os.utime(root / name / file, (0, time.time() - 2 * scratch.UNUSED))
        (root / f"chaff-{'4' * 24}").symlink_to(root / "0123", target_is_directory=True)
        linked = root / f"chaff-{'5' * 24}"
        linked.mkdir()
        (linked / scratch.MARK).symlink_to(root / "0123" / scratch.MARK)
        chaff.open_table(cut(frame, tmp_path / "many", 2), "y", scratch=root)
        assert not (root / ours).exists() and linked.exists()
        assert all((root / name / "used").exists() for name in theirs)


class TestLimits:
    def test_sizes_are_said_as_people_say_them(self):
        assert [bytes_of(s) for s in ("4GB", "500 mb", "1GiB", 2e9, "1024")] == [4 * 10**9, 500 * 10**6, 1 << 30, 2 * 10**9, 1024]
        for wrong in ("lots", "-3GB", "0", "4 GBB", "inf"):
            with pytest.raises(chaff.UsageError, match="memory must be"):
                bytes_of(wrong)
        assert [size_in_words(s) for s in (812, 2.04e9, 1.55e7, 3.2e11)] == ["812 bytes", "2 GB", "16 MB", "320 GB"]

    def test_what_fits_stays_in_memory_and_what_does_not_on_disk(self, frame, tmp_path, monkeypatch):
        folder = cut(frame, tmp_path / "many", 2)
        assert chaff.open_table(folder, "y").source.spill is None
        assert chaff.open_table(folder, "y", memory="1GB").source.spill is None
        monkeypatch.setattr(on_disk, "PROGRAM", 0.0)
        monkeypatch.setattr(on_disk, "LEAST_CELLS", 100.0)
        there = chaff.open_table(folder, "y", memory="50kB", scratch=tmp_path / "s")
        assert there.source.spill is not None and "of 50 kB of memory" in there.notes[-1] and "left for samples" in there.notes[-1]
        identical(there, chaff.open_table(folder, "y"))

    def test_less_than_the_least_is_refused_with_what_would_do(self, frame, tmp_path):
        folder = cut(frame, tmp_path / "many", 2)
        with pytest.raises(chaff.DataError, match=r"memory=1 MB is too little for many .210 rows.*: 382 MB are needed"):
            chaff.open_table(folder, "y", memory="1MB", scratch=tmp_path / "s")
        with pytest.raises(chaff.DataError, match=r"500 MB holds 1,8\d\d,\d\d\d rows"):
            Limit.of("500MB", None).check(10**8, 50, "lots")

    def test_products_of_every_pair_are_refused_where_they_do_not_fit(self):
        rng = np.random.default_rng(0)
        table = chaff.open_arrays(rng.normal(size=(30, 200)), rng.normal(size=30))
        object.__setattr__(table.source.limit, "memory", 200_000.0)
        with pytest.raises(
            chaff.DataError, match=r"products of every pair of 201 columns of the arrays take 1.3 MB, of 200 kB .*chaff.triage"
        ):
            table_moments(table, table.features)

    def test_a_file_that_can_only_be_read_whole_is_refused_beyond_the_limit(self, frame, tmp_path, monkeypatch):
        frame[["assay_0", "y"]].to_json(tmp_path / "lots.jsonl", orient="records", lines=True)
        monkeypatch.setattr(on_disk, "PROGRAM", 0.0)
        with pytest.raises(chaff.DataError, match="can only be read whole"):
            chaff.open_table(tmp_path / "lots.jsonl", "y", memory="2kB", scratch=tmp_path / "s")

    def test_pages_are_let_go_of(self, tmp_path, monkeypatch):
        values = np.arange(8_000_000, dtype=float)  # 64 MB
        values.tofile(tmp_path / "x.f8")
        held = spilled.mapped(tmp_path / "x.f8", values.size, 1.0)
        assert held.sum() == values.sum()
        spilled._pages.settle()
        before = spilled._file_pages()
        assert before is not None and before - spilled._pages.before <= max(spilled._pages.most, spilled.LEAST_PAGES)
        assert held[::1000].sum() == values[::1000].sum()  # what was let go of comes back


def test_what_was_decoded_makes_room_in_the_page_cache_of_a_crowded_machine(frame, tmp_path, monkeypatch):
    folder, dropped = cut(frame, tmp_path / "many", 3), []
    monkeypatch.setattr("os.posix_fadvise", lambda number, first, count, advice: dropped.append((first, count)), raising=False)
    roomy = chaff.open_table(folder, "y", scratch=tmp_path / "s")
    assert roomy.column("assay_0").values.size and not dropped, "what fits is left for others"
    monkeypatch.setattr("chaff.table.on_disk.stored.machine_bytes", lambda: 1e4)
    table = chaff.open_table(folder, "y", scratch=tmp_path / "t")
    dropped.clear()
    table.column("assay_0")
    assert len(dropped) == 3, "once a file"
    about = pq.ParquetFile(folder / "part-000.parquet")
    k = about.schema_arrow.get_field_index("assay_0")
    chunk = about.metadata.row_group(0).column(k)
    first, count = dropped[0]
    assert count == chunk.total_compressed_size and first in (chunk.dictionary_page_offset, chunk.data_page_offset)
    same(table, chaff.open_table(frame, "y"))


def test_apply_and_drift_read_a_folder_as_they_read_a_file(frame, tmp_path):
    frame = frame.drop(columns="grade")
    frame.to_parquet(tmp_path / "whole.parquet")
    folder = cut(frame, tmp_path / "many", 7)
    plan = chaff.Plan((chaff.Screen(), chaff.Search(model="ridge")))
    selection = chaff.select(chaff.open_table(folder, "y", groups="mill"), plan, honest="quick", state=False).selection
    whole = selection.apply(tmp_path / "whole.parquet")
    pd.testing.assert_frame_equal(selection.apply(folder), whole)
    pd.testing.assert_frame_equal(selection.apply(folder.as_uri()), whole)
    pd.testing.assert_frame_equal(selection.apply(sorted(folder.iterdir())), whole)
    pd.testing.assert_frame_equal(selection.drift(folder).frame, selection.drift(tmp_path / "whole.parquet").frame)
    (folder / "part-003.parquet").unlink()
    frame.head(5).drop(columns=selection.kept[0].name).to_parquet(folder / "part-003.parquet")
    with pytest.raises(chaff.DataError, match="part-003"):
        selection.apply(folder)


def test_triage_reads_a_folder_some_columns_at_a_time(frame, tmp_path):
    frame = frame[[c for c in frame.columns if c.startswith("assay")] + ["y"]]
    folder = cut(frame, tmp_path / "many", 4)
    found = chaff.triage(folder, "y", top=3, block=2)
    assert found.frame.equals(chaff.triage(frame, "y", top=3).frame)


class TestShortColumnsOfAWideTable:
    """They share files, and are the same columns."""

    @pytest.fixture
    def wide(self, tmp_path, monkeypatch):
        monkeypatch.setattr(source, "FEWEST_BLOCKED", 20)
        monkeypatch.setattr(source, "A_BLOCK", 7)
        rng = np.random.default_rng(0)
        frame = pd.DataFrame(rng.normal(size=(90, 40)), columns=[f"sieve_{k}" for k in range(40)]).astype({"sieve_3": "float32"})
        frame.loc[::7, "sieve_5"] = np.nan
        frame["sieve_6"] = np.nan
        frame["sieve_8"] = (frame["sieve_8"] > 0).astype(int)
        frame["sieve_9"] = np.arange(90)
        frame["sieve_10"] = np.where(frame["sieve_10"] > 0, "Alba", "Berta")
        frame["sieve_11"] = frame["sieve_11"] > 0
        frame["y"] = frame["sieve_0"] + rng.normal(size=90)
        return cut(frame, tmp_path / "many", 4)

    @pytest.mark.parametrize(
        "how",
        [{}, {"kinds": {"sieve_12": "category"}, "missing_flags": ["sieve_5"]}, {"missing_codes": {"sieve_9": [3]}}, {"missing": ["Alba"]}],
    )
    def test_they_are_as_in_memory(self, wide, tmp_path, how):
        here, there = chaff.open_table(wide, "y", **how), chaff.open_table(wide, "y", scratch=tmp_path / "s", **how)
        identical(there, here)
        for f in here.features:
            assert there.take(np.arange(5, 60, 3)).column(f).values.tobytes() == here.take(np.arange(5, 60, 3)).column(f).values.tobytes()
        if "missing" not in how:
            assert there.source._in_block["sieve_20"] == 2 and "sieve_10" not in there.source._in_block
            assert len(list((tmp_path / "s").rglob("*.f8"))) < 20
        identical(chaff.open_table(wide, "y", scratch=tmp_path / "s", **how), here)  # from what lies there now
        identical(pickle.loads(pickle.dumps(there)), here)

    def test_one_that_cannot_be_decoded_spoils_no_other(self, tmp_path, wide):
        frame = pd.concat([pd.read_parquet(p) for p in sorted(wide.iterdir())], ignore_index=True)
        frame.loc[3, "sieve_15"] = np.inf
        frame.to_parquet(tmp_path / "lots.parquet")
        there = chaff.open_table(tmp_path / "lots.parquet", "y", scratch=tmp_path / "s", ignore=["sieve_15"])
        assert there.column("sieve_14").values.tolist() == frame["sieve_14"].tolist()
        with pytest.raises(chaff.DataError, match="'sieve_15' has 1 infinite value"):
            there.source.column("sieve_15")

    def test_a_file_that_changed_is_named_and_damaged_scratch_made_anew(self, wide, tmp_path):
        there = chaff.open_table(wide, "y", scratch=tmp_path / "s")
        values = there.column("sieve_1").values.copy()
        for about in (tmp_path / "s").rglob("*.json"):
            about.write_text("{}")
        np.testing.assert_array_equal(chaff.open_table(wide, "y", scratch=tmp_path / "s").column("sieve_1").values, values)
        file = sorted(wide.iterdir())[1]
        again = chaff.open_table(wide, "y", scratch=tmp_path / "t")
        pd.read_parquet(file).iloc[:5].to_parquet(file)
        with pytest.raises(chaff.DataError, match=f"{file.name} has changed"):
            again.kind("sieve_30")
