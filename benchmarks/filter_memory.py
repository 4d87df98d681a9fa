"""Peak memory of the fitting statistics on a Parquet file of 100,000 rows x 500 columns, and of a triage of very many columns.

    python benchmarks/filter_memory.py [rows] [columns]

Each runs in a process of its own; the peak is VmHWM, less what importing everything takes.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
from timing import machine, ratio

RUN = """
import sys, time, chaff, numpy as np
def peak():
    return next(int(l.split()[1]) * 1024 for l in open("/proc/self/status") if l.startswith("VmHWM"))
chaff.relevance(chaff.demo.table(rows=100), "all")
before, start = peak(), time.perf_counter()
{work}
print(peak() - before, time.perf_counter() - start)
"""


def measured(work: str) -> tuple[float, float]:
    done = subprocess.run([sys.executable, "-c", RUN.format(work=work)], capture_output=True, text=True, check=True)
    used, seconds = done.stdout.split()
    return float(used), float(seconds)


def write(path: Path, rows: int, columns: int) -> int:
    rng = np.random.default_rng(0)
    y = rng.normal(size=rows)
    arrays = [pa.array(rng.normal(size=rows) + (0.2 * y if k % 997 == 0 else 0)) for k in range(columns)]
    names = [*(f"sensor_{k}" for k in range(columns)), "loaf_volume"]
    pq.write_table(pa.table([*arrays, pa.array(y)], names=names), path, compression="none")
    return 8 * rows * columns


def main() -> None:
    machine()
    rows, columns = (int(a) for a in (sys.argv[1:3] or (100_000, 500)))
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "lots.parquet"
        size = write(path, rows, columns)
        used, seconds = measured(f"chaff.relevance(chaff.open_table({str(path)!r}, target='loaf_volume'))")
        ratio(f"fitting set, {rows:,} x {columns:,} ({seconds:.1f} s): peak over the data's own size", used / size, "<= 2.5")
        for wide in (20_000, 100_000):
            size = write(path, 1000, wide)
            used, seconds = measured(f"chaff.triage({str(path)!r}, 'loaf_volume', top=1000, block=2000)")
            data = f"{wide:,} columns x 1,000 rows ({size / 1e6:.0f} MB)"
            print(f"  triage of {data}: {seconds:.1f} s, peak {used / 1e6:.0f} MB over the start")


if __name__ == "__main__":
    main()
