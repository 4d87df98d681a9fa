"""Tables larger than memory: passes and the built-in plan against reading and multiplying alone, each in a process of its own.

    .venv/bin/python benchmarks/scale.py --rows 100000 1000000 20000000 --memory 2GB --folder /tmp/chaff-scale

Makes mill tables of 100 columns on the spot (Parquet, 1 million rows a file) and leaves them in the folder; scratch goes there too and is
removed before each measurement, so that decoding is in it.
"""

from __future__ import annotations

import argparse
import json
import shutil
import subprocess
import sys
import time
from pathlib import Path

import numpy as np

COLUMNS = 100
FILE_ROWS = 1_000_000
GROUP = 131_072


def make(folder: Path, rows: int) -> None:
    """Numbers that hang together in pairs, and a loaf volume from six of them."""
    import pyarrow as pa
    import pyarrow.parquet as pq

    folder.mkdir(parents=True, exist_ok=True)
    for k in range(-(-rows // FILE_ROWS)):
        place, n = folder / f"lots_{k:03d}.parquet", min(FILE_ROWS, rows - k * FILE_ROWS)
        if place.exists():
            continue
        rng = np.random.default_rng(k)
        X = rng.standard_normal((COLUMNS, n))
        X[20:40] = 0.9 * X[:20] + 0.4 * X[20:40]
        y = X[0] + 0.5 * X[1] - 0.7 * X[2] + 0.3 * X[3] * X[4] + 0.3 * X[5] ** 2 + 2 * rng.standard_normal(n)
        pq.write_table(pa.table({**{f"sieve_{j:02d}": X[j] for j in range(COLUMNS)}, "loaf_volume": y}), place, row_group_size=GROUP)


def bare(folder: Path) -> None:
    """Read every row group and multiply it with itself: the least that any pass has to do."""
    import pyarrow.parquet as pq

    total = np.zeros((COLUMNS + 1, COLUMNS + 1))
    for file in sorted(folder.glob("*.parquet")):
        source = pq.ParquetFile(file, pre_buffer=False)
        for group in range(source.num_row_groups):
            some = source.read_row_group(group)
            block = np.stack([c.to_numpy() for c in some.columns])
            del some
            total += np.dot(block, block.T)


def passes(folder: Path, memory: str, scratch: Path) -> None:
    """Schema and decoded columns, then Moments of five fold parts."""
    import chaff
    from chaff.table.moments import part_moments

    table = chaff.open_table(folder, "loaf_volume", memory=memory, scratch=scratch)
    began = time.perf_counter()
    assert len(table.kinds) == COLUMNS
    first = time.perf_counter() - began
    part = np.arange(len(table), dtype=np.int64) % 5
    part_moments(table, table.features, part, 5, chaff.Work())
    print(json.dumps({"decoding": first, "moments": time.perf_counter() - began - first}))


def plan(folder: Path, memory: str, scratch: Path, honest: str) -> None:
    """The built-in plan."""
    import chaff

    spent: dict[str, float] = {}
    now, since = "opening", time.perf_counter()

    def watch(stage: str, done: int, of: int) -> None:
        nonlocal now, since
        if of == 0:
            spent[now] = time.perf_counter() - since
            now, since = stage, time.perf_counter()

    table = chaff.open_table(
        folder, "loaf_volume", memory=None if memory == "none" else memory, scratch=scratch if memory != "none" else None
    )
    run = chaff.select(table, honest=honest, watch=watch, state=False)
    spent[now] = time.perf_counter() - since
    print(json.dumps({**spent, "kept": len(run.features), "gap_se": _gap_error(run)}))


def _gap_error(run) -> float:
    """Standard error of kept less full on the holdout: what the sample leaves unknown."""
    gap = run.final_scores.holdout_gap
    return (gap.high - gap.low) / 2 / 1.96 if gap is not None else float("nan")


def measured(*call: str) -> tuple[float, float, dict[str, float]]:
    """(seconds, peak in MB, what it says) of one call in a process of its own."""
    began = time.perf_counter()
    done = subprocess.run([sys.executable, __file__, "--one", *call], capture_output=True, text=True)
    if done.returncode:
        raise SystemExit(done.stderr)
    *said, peak = done.stdout.strip().splitlines()
    return time.perf_counter() - began, float(peak), json.loads(said[-1]) if said else {}


def one(what: str, folder: str, memory: str, scratch: str, honest: str) -> None:
    """In a process of its own; the last line is its peak."""
    if what == "bare":
        bare(Path(folder))
    elif what == "passes":
        passes(Path(folder), memory, Path(scratch))
    else:
        plan(Path(folder), memory, Path(scratch), honest)
    with open("/proc/self/status") as status:
        peak = next(line for line in status if line.startswith("VmHWM")).split()[1]
    print(float(peak) / 1000)


def main() -> None:
    asked = argparse.ArgumentParser(description=__doc__)
    asked.add_argument("--rows", type=int, nargs="+", default=[100_000, 1_000_000])
    asked.add_argument("--memory", default="2GB")
    asked.add_argument("--folder", type=Path, default=Path("/tmp/chaff-scale"))
    asked.add_argument("--honest", default="quick")
    asked.add_argument("--only", default="bare,passes,plan")
    said = asked.parse_args()
    for rows in said.rows:
        folder, scratch = said.folder / f"rows_{rows}", said.folder / "scratch"
        make(folder, rows)
        print(f"\n{rows:,} rows × {COLUMNS} columns, memory={said.memory}")
        base = None
        for what in said.only.split(","):
            shutil.rmtree(scratch, ignore_errors=True)
            seconds, peak, spent = measured(what, str(folder), said.memory, str(scratch), said.honest)
            base = seconds if what == "bare" else base
            ratio = f"{seconds / base:5.2f} × bare" if base else ""
            parts = ", ".join(f"{k} {v:.4g}" for k, v in spent.items())
            print(f"  {what:7s} {seconds:8.1f} s  peak {peak:6,.0f} MB  {ratio}  {parts}", flush=True)


if __name__ == "__main__":
    if sys.argv[1:2] == ["--one"]:
        one(*sys.argv[2:])
    else:
        main()
