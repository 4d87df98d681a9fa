"""What defending a choice promises, simulated: coverage of intervals, alarms where nothing changed, what is found where something did.

python benchmarks/defending_rates.py [SEEDS]
"""

from __future__ import annotations

import sys
from collections import Counter
from concurrent.futures import ProcessPoolExecutor

import numpy as np

import chaff
from chaff.methods.evaluation.influence import interval, moved_by
from chaff.metrics import METRICS, Truth
from chaff.stats.differing import means_differ, slopes_differ
from chaff.stats.pooled import Units

PLAN = chaff.Plan((chaff.Screen(), chaff.Search(model="ridge")))


def drawn(name: str, rng: np.random.Generator, n: int, grouped: bool) -> tuple[Truth, np.ndarray]:
    shift = np.repeat(rng.normal(size=n // 5), 5) * 0.8 if grouped else np.zeros(n)
    x = rng.normal(size=n)
    if METRICS[name].task == "classification":
        p = 1 / (1 + np.exp(-(x + shift)))
        return Truth((rng.random(n) < p).astype(float)[:, None], np.ones(n), np.array([0.5])), (1 / (1 + np.exp(-1.3 * x)))[:, None]
    return Truth((x + shift + rng.normal(size=n))[:, None], np.ones(n), np.array([0.0])), (0.9 * x)[:, None]


def coverage(seeds: int) -> None:
    print(f"coverage of 95 % intervals on 200 rows, {seeds} samples (rows alone; 40 groups of five that hang together)")
    for name in ("r2", "rmse", "mae", "log_loss", "auc", "accuracy"):
        shares = []
        for grouped in (False, True):
            truth = METRICS[name].of_predictions(*drawn(name, np.random.default_rng(10**6), 1_000_000, grouped))
            units = Units(groups=np.repeat(np.arange(40), 5)) if grouped else Units()
            hits = 0
            for seed in range(seeds):
                _, low, high = interval(moved_by(METRICS[name], *drawn(name, np.random.default_rng(seed), 200, grouped)), units)
                hits += low <= truth <= high
            shares.append(hits / seeds)
        print(f"  {name:<10}{shares[0]:>8.3f}{shares[1]:>8.3f}")


def level(seeds: int) -> None:
    print(f"parts that do not differ are told apart (5 % promised), {seeds} tables of 500 rows in six parts: slopes, means")
    for kind in ("plain", "heavy tails", "unequal noise"):
        hits = [0, 0]
        for seed in range(seeds):
            rng = np.random.default_rng(seed)
            parts = np.sort(rng.choice(6, 500, p=[0.1, 0.1, 0.15, 0.15, 0.2, 0.3]))
            x = rng.normal(size=500) + 0.5 * parts
            e = rng.standard_t(3, 500) if kind == "heavy tails" else rng.normal(size=500)
            y = 0.7 * x - parts + np.where(parts == 5, 2.5 if kind == "unequal noise" else 1.0, 1.0) * e
            hits[0] += slopes_differ(x, y, parts, 99, rng).p <= 0.05
            hits[1] += means_differ(e**2, parts, 99, rng).p <= 0.05
        print(f"  {kind:<14}{hits[0] / seeds:>8.3f}{hits[1] / seeds:>8.3f}")


CHANGES = {
    "nothing": lambda f: f,
    "protein_pct half a standard deviation higher": lambda f: f.assign(protein_pct=f["protein_pct"] + 0.5 * f["protein_pct"].std()),
    "one lot in ten of a new variety": lambda f: f.assign(variety=f["variety"].where(f.index % 10 != 0, "Nova")),
    "an instrument is gone": lambda f: f.drop(columns="protein_pct"),
    "ash_pct and straw_pct in each other's place": lambda f: f.assign(ash_pct=f["straw_pct"], straw_pct=f["ash_pct"]),
}


def rechecked(seed: int) -> list[tuple[str, str]]:
    """One selection of 800 lots, and fresh lots with each change."""
    run = chaff.select(chaff.demo.table(rows=800, seed=seed), PLAN, state=False, workers=1)
    out = []
    for name, change in CHANGES.items():
        if name.startswith(("protein", "an instr")) and "protein_pct" not in run.features:
            continue
        if ("variety" in name and "variety" not in run.features) or ("ash_pct" in name and "ash_pct" not in run.features):
            continue
        fresh = change(chaff.demo.lots(rows=800, seed=50_000 + seed))
        out.append((name, chaff.recheck(run.selection, fresh, workers=1).verdict))
    return out


def verdicts(seeds: int) -> None:
    print(f"recheck on the mill, {seeds} selections of 800 lots, each against 800 fresh ones")
    counts: dict[str, Counter[str]] = {name: Counter() for name in CHANGES}
    with ProcessPoolExecutor(2) as pool:
        for found in pool.map(rechecked, range(seeds)):
            for name, verdict in found:
                counts[name][verdict] += 1
    for name, count in counts.items():
        print(f"  {name:<46}{dict(count)}")


if __name__ == "__main__":
    seeds = int(sys.argv[1]) if len(sys.argv) > 1 else 100
    coverage(10 * seeds)
    level(2 * seeds)
    verdicts(seeds)
