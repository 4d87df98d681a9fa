"""What a second worker of a cluster gains, and what handing out costs: the pass, trees, shuffles, a whole run.

    .venv/bin/python benchmarks/cluster_speed.py --folder /tmp/chaff-scale --rows 1000000

The table is the one of benchmarks/scale.py; schedulers with one and with two worker processes of one thread each.
"""

from __future__ import annotations

import argparse
import time
from pathlib import Path

import numpy as np
from scale import COLUMNS, make


def seconds(call) -> float:
    began = time.perf_counter()
    call()
    return time.perf_counter() - began


def main() -> None:
    from distributed import LocalCluster

    import chaff
    from chaff.models.forms import learn_form
    from chaff.table.moments import part_moments

    asked = argparse.ArgumentParser(description=__doc__)
    asked.add_argument("--rows", type=int, default=1_000_000)
    asked.add_argument("--folder", type=Path, default=Path("/tmp/chaff-scale"))
    asked.add_argument("--runs", type=int, default=5)
    asked.add_argument("--plan", action=argparse.BooleanOptionalAction, default=True, help="whether a whole run is timed too")
    said = asked.parse_args()
    folder = said.folder / f"rows_{said.rows}"
    make(folder, said.rows)
    table = chaff.open_table(folder, "loaf_volume", scratch=said.folder / "scratch")
    assert len(table.kinds) == COLUMNS  # decoded before anything is timed
    some, fewer = table.sample(60_000), table.sample(20_000)
    form = learn_form("bins", some, chaff.Work())
    rows = form.apply(some)
    part = np.arange(len(table), dtype=np.int64) % 5
    forest = chaff.Forest(trees=96)
    jobs = {
        "pass: moments of five parts": lambda work: part_moments(table, table.features, part, 5, work),
        "96 trees on 60,000 rows": lambda work: forest.fit(rows, work),
        "384 shuffled targets": lambda work: chaff.chance_baseline(fewer, "pearson_r", shuffles=384, workers=work.executor or work.workers),
    }
    found: dict[str, dict[int, list[float]]] = {name: {1: [], 2: []} for name in jobs}
    whole: dict[str, list[float]] = {"threads": [], "cluster": []}
    for workers in (1, 2):
        with LocalCluster(n_workers=workers, threads_per_worker=1, processes=True, dashboard_address=None) as made:
            cluster = chaff.Cluster(made.scheduler_address)
            work = chaff.Work(executor=cluster)
            for job in jobs.values():
                job(work)  # libraries loaded, kernels compiled, tables opened
            for _ in range(said.runs):
                for name, job in jobs.items():
                    found[name][workers].append(seconds(lambda job=job, work=work: job(work)))
            if workers == 2 and said.plan:
                chaff.select(table, rows=5_000, honest="quick", workers=cluster, state=False)
                for _ in range(2):
                    whole["threads"].append(seconds(lambda: chaff.select(table, honest="quick", state=False)))
                    whole["cluster"].append(seconds(lambda c=cluster: chaff.select(table, honest="quick", workers=c, state=False)))
            cluster.shutdown()
    for name, by in found.items():
        one, two = (float(np.median(by[k])) for k in (1, 2))
        print(f"{name:32s} one worker {one:7.2f} s, two {two:7.2f} s: {one / two:.2f} ×")
    if said.plan:
        a, b = (float(np.median(v)) for v in whole.values())
        print(f"built-in plan, no honest score    two threads {a:6.1f} s, two workers {b:6.1f} s: {b / a - 1:+.0%}")


if __name__ == "__main__":
    main()
