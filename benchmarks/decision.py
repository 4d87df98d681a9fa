"""Does the kept set keep up, and does the promise hold? `chaff.select` on made-up tables, judged by 3,000 fresh rows.

    python benchmarks/decision.py [--reps 5] [--only NAME,NAME]

Full and kept set are fitted on the training rows by a linear model (ridge or logistic) and by a forest, and scored on the fresh
rows. The one that does better on the full set judges: held is the kept set's gain over baseline, as a share of the full
set's. `promise` is the honest score less what the deciding model then scores on the fresh rows, `covered` how often its 90 %
interval holds that, `said` what the keep-up test answered.
"""

from __future__ import annotations

import argparse
import time
from collections import Counter
from dataclasses import dataclass

import numpy as np
from mill_families import FAMILIES, make

import chaff
from chaff.folds import one_split


@dataclass
class Result:
    kept: int
    of: int
    full_skill: dict[str, float]
    kept_skill: dict[str, float]
    honest_losses: float
    in_errors: float
    """The same in standard errors."""
    covered: bool
    said: str
    seconds: float


def judged(name: str, seed: int, made=make) -> Result:
    frame, n, target, roles = made(name, seed)[:4]
    table = chaff.open_table(frame, target=target, **roles)
    rows = np.arange(len(frame))
    start = time.perf_counter()
    run = chaff.select(table.take(rows[:n]), holdout=0, seed=seed)
    seconds = time.perf_counter() - start
    split = one_split(table, rows[:n], rows[n:])
    classes = table.target.task != "regression"
    sign = -1.0 if classes else 1.0
    full, kept = {}, {}
    for label, model in (("linear", chaff.Logistic(1 / n) if classes else chaff.Ridge(1 / n)), ("forest", chaff.Forest())):
        scorer = chaff.SubsetScorer(table, model, folds=split)
        a, b, none = (sign * scorer(list(s)).mean for s in (table.features, run.features, ()))
        full[label], kept[label] = a - none, b - none
    deciding = run.result("search").decided.model
    fresh = chaff.SubsetScorer(table, deciding, run.honest.metric, split)(list(run.features)).mean
    low, high = run.honest.interval
    return Result(
        len(run.features), len(table.features), full, kept, run.honest.mean - fresh,
        (run.honest.mean - fresh) / run.honest.se if run.honest.se > 0 else 0.0, low <= fresh <= high,
        run.honest.keep_up.answer, seconds,
    )  # fmt: skip


def told(name: str, results: list[Result]) -> bool:
    lens = max(("linear", "forest"), key=lambda k: np.mean([r.full_skill[k] for r in results]))
    full, kept = (np.array([getattr(r, which)[lens] for r in results]) for which in ("full_skill", "kept_skill"))
    if name.startswith("n") and full.mean() < 0.02:
        good = np.mean([r.kept == 0 for r in results]) >= 0.8
        held = float(np.mean([r.kept == 0 for r in results]))
    else:
        held = float(kept.mean() / full.mean()) if full.mean() > 0 else 1.0
        d = kept - full
        good = bool(held >= 0.97 or (held >= 0.95 and -d.mean() <= d.std(ddof=1) / np.sqrt(d.size)) or full.mean() <= 0)
    said = ", ".join(f"{k} {v}" for k, v in Counter(r.said for r in results).most_common())
    print(
        f"{name:24s} kept {'/'.join(str(r.kept) for r in results):>16s} of {results[0].of:3d}  {lens:6s} full {full.mean():6.3f} "
        f"kept {kept.mean():6.3f} held {held:5.2f}  promise {np.mean([r.honest_losses for r in results]):+.3f}, covered "
        f"{np.mean([r.covered for r in results]):.2f}  {np.mean([r.seconds for r in results]):5.1f} s  "
        f"{'keeps up' if good else 'FALLS SHORT'}  ({said})",
        flush=True,
    )
    return bool(good)


def main() -> None:
    ask = argparse.ArgumentParser()
    ask.add_argument("--reps", type=int, default=5)
    ask.add_argument("--first", type=int, default=0)
    ask.add_argument("--only", default="")
    said = ask.parse_args()
    names = said.only.split(",") if said.only else list(FAMILIES)
    everything, good = [], 0
    for name in names:
        results = [judged(name, seed) for seed in range(said.first, said.first + said.reps)]
        good += told(name, results)
        everything += results
    share = np.median([r.kept / r.of for r in everything])
    covered = np.mean([r.covered for r in everything])
    size = np.sqrt(np.mean([r.in_errors**2 for r in everything]))
    print(f"promise less fresh score, root mean square in standard errors: {size:.2f}")
    print(f"{good} of {len(names)} families keep up; median share of columns kept {share:.2f}; covered {covered:.2f}")


if __name__ == "__main__":
    main()
