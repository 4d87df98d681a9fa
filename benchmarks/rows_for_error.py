"""The spread of one row's paired difference between two sets, which says how many rows a wanted error takes.

    .venv/bin/python benchmarks/rows_for_error.py --rows 60000 --seeds 3

Runs the built-in plan on demo lots for each kind of target (models on 10,000 rows) and reads the standard error of kept less full off the
holdout: times the root of its rows it is the spread (`SPREAD` and `SPREAD_CLASSES` of chaff/decide/desk.py are above what is found).
"""

from __future__ import annotations

import argparse

TARGETS = ("loaf_volume", "accepted", "grade")


def main() -> None:
    import chaff

    asked = argparse.ArgumentParser(description=__doc__)
    asked.add_argument("--rows", type=int, default=60_000)
    asked.add_argument("--seeds", type=int, default=3)
    said = asked.parse_args()
    for seed in range(said.seeds):
        lots = chaff.demo.lots(rows=said.rows, seed=seed)
        for target in TARGETS:
            table = chaff.open_table(lots, target, ignore=[t for t in TARGETS if t != target])
            run = chaff.select(table, honest="quick", rows=10_000, state=False, seed=seed)
            gap, rows = run.final_scores.holdout_gap, run.final_scores.holdout_rows
            assert gap is not None
            error = (gap.high - gap.low) / 2 / 1.96
            sets = f"{len(run.features):3d} of {len(table.features)} columns"
            print(f"seed {seed}  {target:12s} {sets}  error {error:.5f} on {rows:,} rows: spread {error * rows**0.5:.2f}", flush=True)


if __name__ == "__main__":
    main()
