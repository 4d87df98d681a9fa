"""What defending a choice promises, simulated: coverage of intervals, alarms where nothing changed, what is found where something did.

python benchmarks/defending_rates.py [SEEDS]
"""

from __future__ import annotations

import sys
from collections import Counter
from concurrent.futures import ProcessPoolExecutor

import numpy as np
import pandas as pd
from scipy.signal import lfilter
from scipy.special import ndtri

import chaff
from chaff.decide.distributions import Tally, shape_of
from chaff.decide.drift import drifts_of
from chaff.decide.selection_parts import KeptPart
from chaff.methods.evaluation.influence import moved_by, score_interval
from chaff.metrics import METRICS, Truth
from chaff.stats.paired_loss import Units
from chaff.stats.part_differences import means_differ, slopes_differ, stretches
from chaff.table.kinds import Column

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
                rows, predicted = drawn(name, np.random.default_rng(seed), 200, grouped)
                _, low, high = score_interval(METRICS[name], rows, moved_by(METRICS[name], rows, predicted), units)
                hits += low <= truth <= high
            shares.append(hits / seeds)
        print(f"  {name:<10}{shares[0]:>8.3f}{shares[1]:>8.3f}")


def area(seeds: int) -> None:
    print(f"coverage of 95 % intervals of the ROC AUC, {seeds} samples (half of the rows positive; a fifth)")
    for n in (40, 100, 200):
        for true in (0.8, 0.9, 0.95, 0.98):
            shares = []
            for positive in (n // 2, n // 5):
                y = (np.arange(n) < positive).astype(float)[:, None]
                rows, hits = Truth(y, np.ones(n), np.array([positive / n])), 0
                for seed in range(seeds):
                    predicted = np.random.default_rng(seed).normal(size=(n, 1)) + np.sqrt(2) * ndtri(true) * y
                    _, low, high = score_interval(METRICS["auc"], rows, moved_by(METRICS["auc"], rows, predicted), Units())
                    hits += low <= true <= high
                shares.append(hits / seeds)
            print(f"  {n:>4} rows, AUC {true:<6}{shares[0]:>8.3f}{shares[1]:>8.3f}")


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


def remembering(rng: np.random.Generator, n: int, phi: float) -> np.ndarray:
    return lfilter([np.sqrt(1 - phi**2)], [1, -phi], rng.normal(size=n + 500))[500:]


def hanging_together(seeds: int) -> None:
    print(f"the same where rows hang together, {seeds} tables: slopes, means, (tables without a p)")
    for n in (250, 500, 1000):
        parts, time = np.arange(n) * 5 // n, np.arange(float(n))
        for phi in (0.0, 0.5, 0.8, 0.95):
            p = []
            for seed in range(seeds):
                rng = np.random.default_rng(seed)
                x, e = (remembering(rng, n, phi) for _ in range(2))
                y = 0.7 * x + e
                p.append([slopes_differ(x, y, parts, 99, rng, stretches(x * e, time, parts)).p,
                          means_differ(e**2, parts, 99, rng, stretches(e**2, time, parts)).p])  # fmt: skip
            told(f"five periods of {n:,} rows, AR {phi:g}", p)
    for count, size in ((20, 10), (30, 10), (60, 10), (40, 5)):
        groups, p = np.repeat(np.arange(count), size), []
        for seed in range(seeds):
            rng = np.random.default_rng(seed)
            parts = rng.permutation(np.arange(count) % 5)[groups]
            x, e = (0.8 * rng.normal(size=count)[groups] + 0.6 * rng.normal(size=groups.size) for _ in range(2))
            p.append([slopes_differ(x, 0.7 * x + e, parts, 99, rng, groups).p, means_differ(e**2, parts, 99, rng, groups).p])
        told(f"{count} groups of {size} in five parts", p)


def told(name: str, p: list[list[float]]) -> None:
    found = np.array(p)
    print(f"  {name:<40}{(found[:, 0] <= 0.05).mean():>8.3f}{(found[:, 1] <= 0.05).mean():>8.3f}  ({np.isnan(found).any(1).mean():.2f})")


def zipf(levels: int) -> np.ndarray:
    p = 1 / np.arange(1.0, levels + 1)
    return p / p.sum()


def words_that_moved(old: np.ndarray, new: np.ndarray) -> bool:
    levels, codes = np.unique(old, return_inverse=True)
    shape = shape_of(Column("k", "category", codes.astype(float), tuple(map(str, levels))))
    part, tally = KeptPart(name="k", kind="category", levels=[str(w) for w in levels], distribution=shape), Tally(shape)
    words, count = np.unique(new, return_counts=True)
    tally.add_words(dict(zip(map(str, words), count.tolist(), strict=True)))
    return bool(drifts_of({"k": part}, {"k": tally}, {}).moved)


def categories(seeds: int) -> None:
    print(f"a category has moved, {seeds} pairs of samples: nothing changed, one row in ten of a new level")
    kinds = {"60 levels (Zipf)": zipf(60), "100 equal levels": np.full(100, 0.01), "200 equal levels": np.full(200, 0.005),
             "5,000 levels (Zipf)": zipf(5000)}  # fmt: skip
    for name, shares in kinds.items():
        for n, m in ((1000, 1000), (1000, 200), (300, 300)):
            hits = [0, 0]
            for seed in range(seeds):
                rng = np.random.default_rng(seed)
                old, new = (rng.choice(shares.size, k, p=shares).astype(str).astype(object) for k in (n, m))
                hits[0] += words_that_moved(old.astype(str), new.astype(str))
                new[rng.random(m) < 0.1] = "Nova"
                hits[1] += words_that_moved(old.astype(str), new.astype(str))
            print(f"  {name:<20}{n:>6,} then, {m:>5,} now{hits[0] / seeds:>8.3f}{hits[1] / seeds:>8.3f}")


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


def mill_rows(rng: np.random.Generator, n: int, kind: str, factor: float) -> pd.DataFrame:
    """Three of six columns tell; the part of the second one is multiplied by the factor."""
    x, mills = rng.normal(size=(n, 6)), np.arange(n) // 15
    shift = rng.normal(size=(mills.max() + 1, 7))[mills] if kind == "groups" else np.zeros((n, 7))
    x = x + shift[:, :6]
    y = x[:, 0] + 0.8 * factor * x[:, 1] + 0.6 * x[:, 2] + shift[:, 6] + 1.2 * rng.normal(size=n)
    frame = pd.DataFrame(x, columns=[f"assay_{k}" for k in range(6)])
    frame["y"] = np.where(y > 0, "accepted", "refused") if kind == "classes" else y
    return frame.assign(mill=[f"m{k}" for k in mills])


def related(unit: tuple[str, int]) -> list[tuple[str, str]]:
    kind, seed = unit
    rng = np.random.default_rng([seed, len(kind)])
    roles = {"groups": "mill"} if kind == "groups" else {"ignore": ["mill"]}
    then = mill_rows(rng, 600, kind, 1.0)
    model = "logistic" if kind == "classes" else "ridge"
    run = chaff.select(chaff.open_table(then, "y", **roles), chaff.Plan((chaff.Search(model),)), holdout=0, state=False, workers=1)
    out = []
    for name, factor in (("nothing", 1.0), ("turned round", -1.0), ("destroyed", 0.0)):
        new = mill_rows(rng, 300, kind, factor)
        new["mill"] = "new " + new["mill"]
        out.append((name, chaff.recheck(run.selection, new, workers=1).verdict))
        if name == "nothing":
            out.append(("nothing, with the old rows", chaff.recheck(run.selection, new, old=then, workers=1).verdict))
    return out


def relations(seeds: int) -> None:
    print(f"recheck on 300 new rows, {seeds} selections of 600 rows: one relation of three changes while every column looks as before")
    for kind in ("rows", "groups", "classes"):
        counts: dict[str, Counter[str]] = {}
        with ProcessPoolExecutor(2) as pool:
            for found in pool.map(related, [(kind, s) for s in range(seeds)]):
                for name, verdict in found:
                    counts.setdefault(name, Counter())[verdict] += 1
        for name, count in counts.items():
            print(f"  {kind:<10}{name:<30}{dict(count)}")


if __name__ == "__main__":
    seeds = int(sys.argv[1]) if len(sys.argv) > 1 else 100
    coverage(10 * seeds)
    area(10 * seeds)
    level(2 * seeds)
    hanging_together(3 * seeds)
    categories(2 * seeds)
    verdicts(seeds)
    relations(seeds)
