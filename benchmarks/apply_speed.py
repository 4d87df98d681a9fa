"""`chaff apply` against bare reading and writing of the same columns, in one run: how fast, and how much memory it takes at its peak.

    python benchmarks/apply_speed.py [ROWS]

The bare way checks nothing: it reads the kept columns and writes them, batch by batch. Apply reads them, checks every cell's kind, tallies
ranges, levels, gaps and spreads for the drift report, and writes them.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.csv as pc
import pyarrow.parquet as pq

import chaff
from chaff.decide.apply import apply_selection
from chaff.decide.drift import Watcher

ROUNDS = 5


def lots(rows: int, seed: int = 0) -> pd.DataFrame:
    rng = np.random.default_rng(seed)
    frame = pd.DataFrame({f"assay_{k:02d}": np.round(rng.normal(10, 3, rows), 3) for k in range(28)})
    frame["variety"], frame["count"] = rng.choice(["Alba", "Borka", "Cerio"], rows), rng.integers(0, 99, rows)
    frame["loaf_volume"] = frame.iloc[:, :8].sum(axis=1) + 3 * (frame["variety"] == "Alba") + frame["count"] / 10 + rng.normal(0, 1, rows)
    return frame


def best(call: Callable[[], Any]) -> float:
    times = []
    for _ in range(ROUNDS):
        began = time.perf_counter()
        call()
        times.append(time.perf_counter() - began)
    return min(times)


def bare(source: Path, out: Path, columns: list[str]) -> None:
    """Read and write, nothing else; CSV cells of numbers are read as numbers."""
    if source.suffix == ".csv":
        reader: Any = pc.open_csv(source, convert_options=pc.ConvertOptions(include_columns=columns))
        schema = reader.schema
    else:
        file = pq.ParquetFile(source)
        reader, schema = file.iter_batches(65_536, columns=columns), pa.schema([file.schema_arrow.field(c) for c in columns])
    if out.suffix == ".csv":
        with pc.CSVWriter(str(out), schema) as writer:
            for batch in reader:
                writer.write_batch(batch)
        return
    held: list[Any] = []
    with pq.ParquetWriter(out, schema) as writer:
        for batch in reader:
            held.append(batch)
            if sum(b.num_rows for b in held) >= 131_072:
                writer.write_table(pa.Table.from_batches(held))
                held = []
        if held:
            writer.write_table(pa.Table.from_batches(held))


def peak(script: str, *args: str) -> float:
    """MB at the peak of a process of its own."""
    code = "import resource, sys; " + script + "; print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024)"
    done = subprocess.run([sys.executable, "-c", code, *args], capture_output=True, text=True, check=True)
    return float(done.stdout.split()[-1])


def main(rows: int) -> None:
    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder)
        frame = lots(rows)
        frame.to_csv(place / "in.csv", index=False)
        frame.to_parquet(place / "in.parquet")
        table = chaff.open_table(frame.head(2000), "loaf_volume")
        selection = chaff.select(table, chaff.Plan((chaff.Screen(), chaff.Search(model="ridge"))), state=False).selection
        selection.save(place / "s.json")
        columns = ["loaf_volume", *selection.features]
        print(f"{rows:,} rows, {len(columns)} of {frame.shape[1]} columns kept; best of {ROUNDS}")
        print(f"{'from → to':<22}{'bare s':>9}{'apply s':>9}{'speed':>8}")
        for inward in ("csv", "parquet"):
            for outward in ("csv", "parquet"):
                source, a, b = place / f"in.{inward}", place / f"bare.{outward}", place / f"out.{outward}"
                plain = best(lambda s=source, o=a: bare(s, o, columns))
                ours = best(lambda s=source, o=b: apply_selection(selection, s, o, False, Watcher(selection)))
                print(f"{inward + ' → ' + outward:<22}{plain:>9.2f}{ours:>9.2f}{plain / ours:>8.2f}")
        read = "import chaff, sys; s = chaff.read_selection(sys.argv[1]); s.apply(sys.argv[2], sys.argv[3])"
        frame.head(rows // 10).to_csv(place / "tenth.csv", index=False)
        small = peak(read, str(place / "s.json"), str(place / "tenth.csv"), str(place / "p.csv"))
        large = peak(read, str(place / "s.json"), str(place / "in.csv"), str(place / "q.csv"))
        print(f"peak memory, csv → csv: {small:.0f} MB for a tenth of the rows, {large:.0f} MB for all")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000)
