"""What the tests against chance promise, on tables where nothing has to do with the target, and what they find where something does.

    python benchmarks/chance_rates.py noise [seeds] [test …]
    python benchmarks/chance_rates.py power [seeds] [test …]

Noise: numbers; categories of many levels; columns that go together; groups that columns and target share levels by; series in
time; several classes. Printed: share of tables in which anything was kept, share of columns kept, each with a 95 % interval.
"""

from __future__ import annotations

import sys
import time
from collections.abc import Callable

import numpy as np
import pandas as pd
from scipy.stats import binomtest

import chaff

ROWS, COLUMNS = 200, 20


def numbers(rng: np.random.Generator) -> chaff.Table:
    frame = pd.DataFrame(rng.normal(size=(ROWS, COLUMNS)), columns=[f"c{j:02}" for j in range(COLUMNS)])
    return chaff.open_table(frame.assign(y=rng.normal(size=ROWS)), "y")


def levels(rng: np.random.Generator) -> chaff.Table:
    frame = pd.DataFrame({f"c{j:02}": rng.choice([f"k{k:02}" for k in range(2 + 3 * j)], ROWS) for j in range(COLUMNS)})
    frame["y"] = rng.choice(["good", "poor"], ROWS, p=[0.3, 0.7])
    return chaff.open_table(frame, "y", kinds=dict.fromkeys([f"c{j:02}" for j in range(COLUMNS)], "category"))


def together(rng: np.random.Generator) -> chaff.Table:
    core = rng.normal(size=(ROWS, 4))
    frame = pd.DataFrame({f"c{j:02}": core[:, j % 4] + 0.4 * rng.normal(size=ROWS) for j in range(COLUMNS)})
    return chaff.open_table(frame.assign(y=rng.standard_t(3, ROWS)), "y")


def grouped(rng: np.random.Generator) -> chaff.Table:
    mill = rng.integers(0, 15, ROWS)
    frame = pd.DataFrame({f"c{j:02}": rng.normal(size=15)[mill] * (j % 3) + rng.normal(size=ROWS) for j in range(COLUMNS)})
    return chaff.open_table(frame.assign(mill=mill, y=rng.normal(size=15)[mill] + rng.normal(size=ROWS)), "y", groups="mill")


def in_time(rng: np.random.Generator) -> chaff.Table:
    def series() -> np.ndarray:
        out, e = np.empty(ROWS), rng.normal(size=ROWS)
        out[0] = e[0]
        for k in range(1, ROWS):
            out[k] = 0.8 * out[k - 1] + 0.6 * e[k]
        return out

    frame = pd.DataFrame({f"c{j:02}": series() for j in range(COLUMNS)})
    return chaff.open_table(frame.assign(day=np.arange(ROWS), y=series()), "y", order="day")


def classes(rng: np.random.Generator) -> chaff.Table:
    frame = pd.DataFrame(rng.integers(0, 6, (ROWS, COLUMNS)).astype(float), columns=[f"c{j:02}" for j in range(COLUMNS)])
    frame[frame.columns[:5]] = frame[frame.columns[:5]].where(rng.random((ROWS, 5)) > 0.2)
    return chaff.open_table(frame.assign(y=rng.choice(["a", "b", "c"], ROWS)), "y")


NOISE = {"numbers": numbers, "many levels": levels, "together": together, "groups": grouped, "in time": in_time, "three classes": classes}


def known(rng: np.random.Generator) -> tuple[chaff.Table, dict[str, str]]:
    """400 rows: strong, weak, a pair that works together only, one signal twice, and noise, half of it codes."""
    n = 400
    z = rng.normal(size=(n, 6))
    frame = pd.DataFrame({"strong": z[:, 0], "weak": z[:, 1], "pair1": z[:, 2], "pair2": z[:, 3]})
    frame["twice1"], frame["twice2"] = (z[:, 4] + 0.1 * rng.normal(size=n) for _ in range(2))
    for j in range(7):
        frame[f"noise{j}"] = rng.normal(size=n)
        frame[f"code{j}"] = rng.choice([f"k{k:02}" for k in range(3 + 6 * j)], n)
    y = z[:, 0] + 0.3 * z[:, 1] + z[:, 2] * z[:, 3] + 0.7 * z[:, 4] + 1.2 * rng.normal(size=n)
    return chaff.open_table(frame.assign(y=y), "y", kinds={f"code{j}": "category" for j in range(7)}), {
        "strong": "strong", "weak": "weak", "pair1": "pair", "pair2": "pair", "twice1": "twice", "twice2": "twice",
    }  # fmt: skip


def kept(found: chaff.Findings) -> list[str]:
    return [str(f) for f in found.frame.index[found.frame["verdict"] == "keep"]]


TESTS: dict[str, Callable[[chaff.Table, int], list[str]]] = {
    "standing, maximum": lambda t, s: kept(chaff.chance_baseline(t, keep={"maximum": 0.05}, seed=s)),
    "standing, 3 sd": lambda t, s: kept(chaff.chance_baseline(t, seed=s)),
    "mutual information, maximum": lambda t, s: kept(chaff.chance_baseline(t, "mutual_information", keep={"maximum": 0.05}, seed=s)),
}


def interval(hits: int, of: int) -> str:
    low, high = binomtest(hits, of).proportion_ci(method="wilson")
    return f"{hits / of:.3f} ({low:.3f} to {high:.3f})"


def noise(seeds: int, asked: list[str]) -> None:
    print("| test | noise | tables with anything kept | columns kept | seconds a table |\n|---|---|---:|---:|---:|")
    for name in asked:
        for kind, make in NOISE.items():
            tables, columns, of, start = 0, 0, 0, time.perf_counter()
            try:
                for seed in range(seeds):
                    table = make(np.random.default_rng(seed + 10_000))
                    stays = TESTS[name](table, seed)
                    tables, columns, of = tables + bool(stays), columns + len(stays), of + len(table.features)
            except chaff.ChaffError as error:
                print(f"| {name} | {kind} | {error} | | |")
                continue
            took = (time.perf_counter() - start) / seeds
            print(f"| {name} | {kind} | {interval(tables, seeds)} | {interval(columns, of)} | {took:.2f} |", flush=True)


def power(seeds: int, asked: list[str]) -> None:
    print("| test | strong | weak | pair | twice | columns of noise kept | seconds a table |\n|---|---:|---:|---:|---:|---:|---:|")
    for name in asked:
        found: dict[str, list[bool]] = {"strong": [], "weak": [], "pair": [], "twice": [], "noise": []}
        start = time.perf_counter()
        for seed in range(seeds):
            table, role = known(np.random.default_rng(seed + 20_000))
            stays = TESTS[name](table, seed)
            for f in table.features:
                found[role.get(f, "noise")].append(f in stays)
        took = (time.perf_counter() - start) / seeds
        shares = " | ".join(f"{np.mean(found[k]):.2f}" for k in ("strong", "weak", "pair", "twice"))
        print(f"| {name} | {shares} | {interval(sum(found['noise']), len(found['noise']))} | {took:.2f} |", flush=True)


if __name__ == "__main__":
    what, count = sys.argv[1], int(sys.argv[2]) if len(sys.argv) > 2 else 200
    {"noise": noise, "power": power}[what](count, sys.argv[3:] or list(TESTS))
