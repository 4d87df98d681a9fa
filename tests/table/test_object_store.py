"""Tables in an object store: a small server that speaks what Arrow's S3 client asks of one, and the real client."""

from __future__ import annotations

import json
import subprocess
import sys
import threading
from collections import Counter
from email.utils import formatdate
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from urllib.parse import parse_qs, quote, unquote, urlsplit
from xml.sax.saxutils import escape

import numpy as np
import pyarrow as pa
import pyarrow.csv as pc
import pyarrow.parquet as pq
import pytest

import chaff

SECRET = "geheim"


class _Store(BaseHTTPRequestHandler):
    """Files of a folder as objects of one bucket: head, get (also a stretch of bytes), list."""

    protocol_version = "HTTP/1.1"
    folder: Path
    asked: Counter[str]

    def _answer(self, code: int, body: bytes = b"", **headers: str) -> None:
        self.send_response(code)
        for name, value in headers.items():
            self.send_header(name.replace("_", "-"), value)
        if "Content_Length" not in headers:
            self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        if self.command == "GET":
            self.wfile.write(body)

    def _file(self) -> Path | None:
        place = self.folder / unquote(urlsplit(self.path).path).lstrip("/")
        return place if place.is_file() else None

    def _list(self) -> None:
        asked = {k: v[0] for k, v in parse_qs(urlsplit(self.path).query, keep_blank_values=True).items()}
        bucket = self.folder / urlsplit(self.path).path.strip("/")
        prefix, between = asked.get("prefix", ""), asked.get("delimiter", "")
        keys = sorted(str(p.relative_to(bucket)) for p in bucket.rglob("*") if p.is_file())
        keys = [k for k in keys if k.startswith(prefix)]
        deeper = {prefix + k[len(prefix) :].split("/")[0] + "/" for k in keys if between and "/" in k[len(prefix) :]}
        keys = [k for k in keys if not any(k.startswith(d) for d in deeper)]
        found = "".join(
            f"<Contents><Key>{escape(k)}</Key><LastModified>2026-11-02T03:04:05.000Z</LastModified><ETag>x</ETag>"
            f"<Size>{(bucket / k).stat().st_size}</Size></Contents>"
            for k in keys
        ) + "".join(f"<CommonPrefixes><Prefix>{escape(d)}</Prefix></CommonPrefixes>" for d in sorted(deeper))
        said = f"<Name>{bucket.name}</Name><IsTruncated>false</IsTruncated><KeyCount>{len(keys) + len(deeper)}</KeyCount>{found}"
        self._answer(200, f'<?xml version="1.0"?><ListBucketResult>{said}</ListBucketResult>'.encode(), Content_Type="application/xml")

    def do_HEAD(self) -> None:
        place = self._file()
        self.asked["HEAD"] += 1
        if place is None:
            self._answer(404)
            return
        state = place.stat()
        self._answer(200, Content_Length=str(state.st_size), Last_Modified=formatdate(state.st_mtime, usegmt=True), ETag='"x"')

    def do_GET(self) -> None:
        place = self._file()
        self.asked["GET"] += 1
        if place is None and "list-type" in self.path:
            self._list()
        elif place is None:
            self._answer(404)
        else:
            body = place.read_bytes()
            first, _, last = self.headers.get("Range", f"bytes=0-{len(body) - 1}").removeprefix("bytes=").partition("-")
            some = body[int(first) : int(last) + 1]
            self._answer(206, some, Content_Range=f"bytes {first}-{last}/{len(body)}", ETag='"x"')

    def log_message(self, *_: object) -> None:
        pass


@pytest.fixture
def store(tmp_path):
    """(address that takes a path, folder of the bucket, questions by their kind)."""
    pytest.importorskip("pyarrow.fs").S3FileSystem  # noqa: B018 - wheels of some systems lack it
    handler = type("Here", (_Store,), {"folder": tmp_path / "store", "asked": Counter()})
    (tmp_path / "store" / "mill").mkdir(parents=True)
    server = ThreadingHTTPServer(("127.0.0.1", 0), handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    where = quote(f"127.0.0.1:{server.server_address[1]}", safe="")
    yield (
        lambda path: f"s3://miller:{SECRET}@mill/{path}?scheme=http&endpoint_override={where}&region=us-east-1",
        tmp_path / "store" / "mill",
        handler.asked,
    )
    server.shutdown()
    server.server_close()


@pytest.fixture
def lots(tmp_path):
    rng = np.random.default_rng(5)
    n = 300
    protein, ash = rng.standard_normal(n) + 12, rng.standard_normal(n)
    volume = 3 * protein - 2 * ash + rng.standard_normal(n)
    return pa.table(
        {"protein": protein, "ash": ash, "moisture": rng.standard_normal(n), "mill": rng.choice(["A", "B"], n), "loaf_volume": volume}
    )


def _cut(table: pa.Table, folder: Path, pieces: int) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    size = -(-table.num_rows // pieces)
    for k in range(pieces):
        pq.write_table(table.slice(k * size, size), folder / f"lots_{k}.parquet")


def _cells(table: chaff.Table) -> list[tuple[str, tuple[str, ...], list[float]]]:
    return [(f, table.column(f).levels, table.column(f).values.tolist()) for f in table.features]


@pytest.mark.parametrize("on_disk", [False, True])
@pytest.mark.long
def test_a_folder_of_a_store_is_the_table_that_it_is_here(store, lots, tmp_path, on_disk):
    address, bucket, asked = store
    _cut(lots, bucket / "lots", 7)
    here = chaff.open_table(lots, "loaf_volume")
    there = chaff.open_table(address("lots"), "loaf_volume", **({"scratch": tmp_path / "scratch"} if on_disk else {}))
    assert _cells(there) == _cells(here)
    assert (there.source.spill is not None) == on_disk
    held_once = asked["HEAD"] + asked["GET"]
    assert chaff.relevance(there).as_plain() == chaff.relevance(here).as_plain()
    if not on_disk:
        assert asked["HEAD"] + asked["GET"] == held_once <= 60, "what fits comes once, not a column at a time"


def test_partitions_one_file_and_text(store, lots, tmp_path):
    address, bucket, _ = store
    for mill in ("A", "B"):
        some = lots.filter(pa.compute.equal(lots["mill"], mill)).drop_columns(["mill"])
        _cut(some, bucket / "parts" / f"mill={mill}" / "wet and dry", 2)
    (bucket / "flour lots.csv").parent.mkdir(exist_ok=True)
    pc.write_csv(lots, bucket / "flour lots.csv")
    parts = chaff.open_table(address("parts/"), "loaf_volume", scratch=tmp_path / "scratch")
    assert sorted(parts.column("mill").levels) == ["A", "B"] and len(parts) == 300
    one = chaff.open_table(address("parts/mill=A/wet and dry/lots_0.parquet"), "loaf_volume", scratch=tmp_path / "scratch")
    assert "mill" not in one.features
    text = chaff.open_table(address("flour%20lots.csv"), "loaf_volume", scratch=tmp_path / "scratch")
    assert _cells(text) == _cells(chaff.open_table(lots, "loaf_volume"))
    both = chaff.open_table(
        [address("parts/mill=A/wet%20and%20dry/lots_0.parquet"), address("parts/mill=B/wet and dry/lots_1.parquet")], "loaf_volume"
    )
    assert "lots_0.parquet and 1 more" in both.source.label


def test_an_object_that_changes_is_named(store, lots, tmp_path, monkeypatch):
    address, bucket, _ = store
    _cut(lots, bucket / "lots", 2)
    monkeypatch.setattr("chaff.table.on_disk.stored.CHECK_INTERVAL", 0.0)
    table = chaff.open_table(address("lots"), "loaf_volume", scratch=tmp_path / "scratch", kinds={"mill": "category"})
    pq.write_table(lots.slice(0, 10), bucket / "lots" / "lots_1.parquet")
    with pytest.raises(chaff.DataError, match=r"lots_1\.parquet has changed"):
        list(table.source.arrow.chunks("ash"))


@pytest.mark.long
def test_keys_are_in_no_word_and_no_file(store, lots, tmp_path):
    address, bucket, _ = store
    _cut(lots, bucket / "lots", 3)

    def chaff_of(*words: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run([sys.executable, "-m", "chaff", *words], cwd=tmp_path, capture_output=True, text=True, check=False)

    done = chaff_of("select", address("lots"), "--target", "loaf_volume", "--out", "kept", "--honest", "cheap", "--no-state")
    assert done.returncode == 0, done.stderr
    assert json.loads((tmp_path / "kept" / "selection.json").read_text())["kept"]
    gone = chaff_of("screen", address("no_lots"), "--target", "loaf_volume")
    assert gone.returncode == 3 and "no such file: s3://mill/no_lots\n" in gone.stderr
    written = [p for p in (tmp_path / "kept").rglob("*") if p.is_file()]
    assert len(written) >= 4
    said = "".join([done.stdout, done.stderr, gone.stderr]).encode() + b"".join(p.read_bytes() for p in written)
    assert SECRET.encode() not in said
