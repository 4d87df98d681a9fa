"""How often the keep-up test and the importance test say what is not so, on tables whose truth is known.

python benchmarks/rates.py [--reps 200] [--only keep_up,importance]
"""

from __future__ import annotations

import argparse
from collections import Counter
from typing import Any

import numpy as np
import pandas as pd

import chaff
from chaff.decide.plan import Scoring
from chaff.evaluate.setting import Setting
from chaff.folds import make_folds
from chaff.methods.search.additions import row_losses
from chaff.methods.search.search_data import SearchData
from chaff.methods.search.size_choice import keep_up_of
from chaff.work import Work


def remembering(rng: np.random.Generator, n: int, k: int, a: float) -> np.ndarray:
    """Series whose neighbours correlate by a, of unit variance."""
    e = rng.normal(size=(n, k))
    for t in range(1, n):
        e[t] = a * e[t - 1] + np.sqrt(1 - a * a) * e[t]
    return e


def of_kind(
    rng: np.random.Generator, kind: str, n: int, p: int, memory: float
) -> tuple[np.ndarray, np.ndarray, dict[str, Any], pd.DataFrame]:
    """(features, errors, roles, role columns): independent rows, groups with ICC 0.3, or an order."""
    if kind == "groups":
        g = np.arange(n) // 20
        share = rng.normal(size=(g.max() + 1, p + 1))[g]
        both = np.sqrt(0.7) * rng.normal(size=(n, p + 1)) + np.sqrt(0.3) * share
        return both[:, :p], both[:, p], {"groups": "farm"}, pd.DataFrame({"farm": g})
    if kind == "order":
        both = remembering(rng, n, p + 1, memory)
        return both[:, :p], both[:, p], {"order": "day"}, pd.DataFrame({"day": np.arange(n)})
    return rng.normal(size=(n, p)), rng.normal(size=n), {}, pd.DataFrame(index=range(n))


def keep_up(reps: int) -> None:
    print("keep-up: share of the answers where the left-out column is worth the allowance (5 % of the gain), and nothing")
    for kind in ("rows", "groups", "order"):
        for n in (200, 600, 2000):
            for share in (0.05, 0.0):
                said: Counter[str] = Counter()
                for seed in range(reps):
                    rng = np.random.default_rng([seed, n])
                    x, e, roles, columns = of_kind(rng, kind, n, 2, 0.9)
                    y = np.sqrt(1 - share) * x[:, 0] + np.sqrt(share) * x[:, 1] + e
                    frame = pd.concat([pd.DataFrame({"a": x[:, 0], "b": x[:, 1], "y": y}), columns], axis=1)
                    table, work = chaff.open_table(frame, target="y", **roles), Work(seed, 1)
                    setting = Setting(make_folds(table, 5, Scoring().repeats_for(table), work), work=work)
                    ground = SearchData.of(table, setting, [chaff.Ridge(1e-4)])
                    small, large = row_losses([frozenset({"a"}), frozenset({"a", "b"})], chaff.Ridge(1e-4), ground)
                    said[keep_up_of(small, large, ground).answer] += 1
                word = "worth δ" if share else "worth 0"
                print(f"  {kind:7s} n {n:5,}  {word}: keeps up {said['keeps up'] / reps:.3f}, worse {said['worse'] / reps:.3f}", flush=True)


def importance(reps: int) -> None:
    print("importance on noise: share of the tables where any of eight columns is significant (5 % wanted)")
    for kind, repeats in (("rows", 1), ("rows", 3), ("rows", 10), ("groups", 1), ("order", 1)):
        hit = 0
        for seed in range(reps):
            rng = np.random.default_rng([seed, 7])
            x, y, roles, columns = of_kind(rng, kind, 240, 8, 0.95)
            frame = pd.concat([pd.DataFrame(x, columns=[f"assay_{j}" for j in range(8)]).assign(y=y), columns], axis=1)
            table = chaff.open_table(frame, target="y", **roles)
            setting = Setting.of(table, 5, repeats, Work(seed))
            hit += bool(chaff.Importance(chaff.Forest(40)).judge(table, setting).frame["significant"].any())
        print(f"  {kind:7s} {repeats:2d} repeats: {hit / reps:.3f}", flush=True)
    for rho in (0.6, 0.9):
        low, power = [], []
        for seed in range(reps):
            rng = np.random.default_rng([seed, 9])
            core = np.repeat(rng.normal(size=(400, 3)), 4, axis=1)
            x = np.sqrt(rho) * core + np.sqrt(1 - rho) * rng.normal(size=(400, 12))
            table = chaff.open_arrays(x, x[:, 0] + x[:, 4] - x[:, 8] + 1.4 * rng.normal(size=400))
            p = chaff.Importance(chaff.Forest(40)).judge(table, Setting.of(table, work=Work(seed))).frame["p"].to_numpy()
            low.append(np.mean([p[j] < 0.05 for j in range(12) if j % 4]))
            power.append(np.mean(p[[0, 4, 8]] < 0.05))
        print(f"  proxies at {rho}: p < 0.05 in {np.mean(low):.3f}, columns that matter in {np.mean(power):.2f}", flush=True)


def main() -> None:
    ask = argparse.ArgumentParser()
    ask.add_argument("--reps", type=int, default=200)
    ask.add_argument("--only", default="keep_up,importance")
    said = ask.parse_args()
    for name in said.only.split(","):
        {"keep_up": keep_up, "importance": importance}[name](said.reps)


if __name__ == "__main__":
    main()
