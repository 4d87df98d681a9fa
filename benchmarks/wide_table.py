"""100,000 columns on disk: the built-in plan (whose first stage lets 1,000 through, anew inside every fold), stage by stage.

    .venv/bin/python benchmarks/wide_table.py --rows 10000 --columns 100000 --memory 3GB --folder /tmp/chaff-scale

Makes the table on the spot (one Parquet file of 4-byte numbers, 4 GB at this size; twice that as scratch) and leaves it in the folder;
scratch is removed before the run, so that decoding is in it.
"""

from __future__ import annotations

import argparse
import multiprocessing
import shutil
import time
from pathlib import Path

import numpy as np

TELL = (7, 5_000, 12_345, 77_777)  # columns that the target is made of, with noise of the same size


def make(place: Path, rows: int, columns: int) -> None:
    import pyarrow as pa
    import pyarrow.parquet as pq

    if place.exists():
        return
    place.parent.mkdir(parents=True, exist_ok=True)
    rng, y, cells = np.random.default_rng(0), np.zeros(rows), {}
    for j in range(columns):
        x = rng.standard_normal(rows, dtype=np.float32)
        y += 0.5 * x * (j in [t % columns for t in TELL])
        cells[f"sieve_{j:06d}"] = pa.array(x)
    cells["loaf_volume"] = pa.array(y + rng.standard_normal(rows))
    pq.write_table(pa.table(cells), place, compression="none", use_dictionary=False)


def main() -> None:
    import chaff

    asked = argparse.ArgumentParser(description=__doc__)
    asked.add_argument("--rows", type=int, default=10_000)
    asked.add_argument("--columns", type=int, default=100_000)
    asked.add_argument("--memory", default="3GB")
    asked.add_argument("--folder", type=Path, default=Path("/tmp/chaff-scale"))
    asked.add_argument("--honest", default="quick")
    said = asked.parse_args()
    place, scratch = said.folder / f"wide_{said.rows}_{said.columns}" / "lots.parquet", said.folder / "wide_scratch"
    maker = multiprocessing.get_context("spawn").Process(target=make, args=(place, said.rows, said.columns))
    maker.start()  # in a process of its own: what it held would count as ours
    maker.join()
    shutil.rmtree(scratch, ignore_errors=True)
    began = since = time.perf_counter()
    now = "opening and decoding"

    def watch(stage: str, done: int, of: int) -> None:
        nonlocal now, since
        if of == 0:
            print(f"  {now:45s} {time.perf_counter() - since:8.1f} s", flush=True)
            now, since = stage, time.perf_counter()

    table = chaff.open_table(place, "loaf_volume", memory=said.memory, scratch=scratch)
    run = chaff.select(table, honest=said.honest, watch=watch, state=False)
    print(f"  {now:45s} {time.perf_counter() - since:8.1f} s")
    with open("/proc/self/status") as status:
        peak = float(next(line for line in status if line.startswith("VmHWM")).split()[1]) / 1000
    print(f"{said.rows:,} rows × {said.columns:,} columns, memory={said.memory}: {time.perf_counter() - began:,.0f} s, peak {peak:,.0f} MB")
    print(f"kept: {', '.join(run.features)}")


if __name__ == "__main__":
    main()
