"""What the tests against chance promise, on tables where nothing has to do with the target, and what they find where something does.

    python benchmarks/chance_rates.py noise [seeds] [test …]
    python benchmarks/chance_rates.py power [seeds] [test …]
    python benchmarks/chance_rates.py knockoffs [seeds]
    python benchmarks/chance_rates.py stability [seeds]

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


FOREST = chaff.Forest(trees=150, columns_per_split=7, leaf_rows=10, depth=8)  # a smaller one than the default, to be done today


def kept(found: chaff.Findings) -> list[str]:
    return [str(f) for f in found.frame.index[found.frame["verdict"] == "keep"]]


Told = tuple[list[str], pd.Series]
"""Columns kept, and a score of every column by which more or fewer would be."""


def chance(t: chaff.Table, s: int, rule: dict[str, float], by: str = "split standing") -> Told:
    found = chaff.chance_baseline(t, by, keep=rule, seed=s, workers=1)
    return kept(found), found.frame["standard_score"]


def twins(t: chaff.Table, s: int, share: float) -> Told:
    found = chaff.twin_test(t, FOREST, keep_share=share, seed=s, workers=1)
    return kept(found), found.frame["beaten_share"] + 1e-3 * (found.frame["worth"] / found.frame["to_beat"].abs()).clip(0, 100)


def stability(t: chaff.Table, s: int) -> Told:
    found = chaff.stability(
        t, {"use": "chance", "shuffles": 10, "trees": 100, "keep": {"standard_deviations": 3.0}}, 4, pairs=15, seed=s, workers=1
    )
    return kept(found), found.frame["selection_frequency"]


def knockoffs(t: chaff.Table, s: int, statistic: str, runs: int) -> Told:
    numbers = [f for f in t.features if t.kind(f) == "number"]
    found = chaff.knockoffs(t, 0.2, statistic=statistic, runs=runs, features=numbers, seed=s, workers=1)  # type: ignore[arg-type]
    return [f for f in kept(found) if f in numbers], found.frame["difference"] / found.frame["difference"].abs().max()


def given_others(t: chaff.Table, s: int) -> Told:
    found = chaff.importance(t, cut={"significant": 0.05}, seed=s, workers=1)
    return kept(found), -found.frame["p"]


TESTS: dict[str, Callable[[chaff.Table, int], Told]] = {
    "chance, maximum 0.05": lambda t, s: chance(t, s, {"maximum": 0.05}),
    "chance, 3 sd": lambda t, s: chance(t, s, {"significant": 3}),
    "chance of mutual information, maximum 0.05": lambda t, s: chance(t, s, {"maximum": 0.05}, "mutual_information"),
    "twins, 0.9 of the rounds": lambda t, s: twins(t, s, 0.9),
    "twins, 0.5 of the rounds": lambda t, s: twins(t, s, 0.5),
    "stability of chance, 0.75": stability,
    "knockoffs 0.2, lasso, 1 run": lambda t, s: knockoffs(t, s, "lasso difference", 1),
    "knockoffs 0.2, forest, 10 runs": lambda t, s: knockoffs(t, s, "forest difference", 10),
    "importance given others, 0.05": given_others,
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
                    stays, _ = TESTS[name](table, seed)
                    tables, columns, of = tables + bool(stays), columns + len(stays), of + len(table.features)
            except chaff.ChaffError as error:
                print(f"| {name} | {kind} | {error} | | |")
                continue
            took = (time.perf_counter() - start) / seeds
            print(f"| {name} | {kind} | {interval(tables, seeds)} | {interval(columns, of)} | {took:.2f} |", flush=True)


def power(seeds: int, asked: list[str]) -> None:
    """Share found of each kind by the test's own rule, and with its limit set so that one column of noise in a hundred passes."""
    print("| test | strong | weak | pair | twice | columns of noise kept | at 1 % of noise: weak | pair | seconds a table |")
    print("|---|---:|---:|---:|---:|---:|---:|---:|---:|")
    for name in asked:
        found: dict[str, list[bool]] = {"strong": [], "weak": [], "pair": [], "twice": [], "noise": []}
        scores: dict[str, list[float]] = {k: [] for k in found}
        start = time.perf_counter()
        for seed in range(seeds):
            table, role = known(np.random.default_rng(seed + 20_000))
            stays, score = TESTS[name](table, seed)
            for f in score.index:
                found[role.get(f, "noise")].append(f in stays)
                scores[role.get(f, "noise")].append(float(np.nan_to_num(score[f], nan=-np.inf)))
        took = (time.perf_counter() - start) / seeds
        limit = float(np.quantile(scores["noise"], 0.99, method="higher"))
        equal = [float(np.mean(np.array(scores[k]) > limit)) for k in ("weak", "pair")]
        shares = " | ".join(f"{np.mean(found[k]):.2f}" for k in ("strong", "weak", "pair", "twice"))
        noise_kept = interval(sum(found["noise"]), len(found["noise"]))
        print(f"| {name} | {shares} | {noise_kept} | {equal[0]:.2f} | {equal[1]:.2f} | {took:.2f} |", flush=True)


def accidents(seeds: int, _: list[str]) -> None:
    """Picks of stability on noise against its bound: every column is one that a half picks no more often than the mean."""
    print("| columns | chosen in a half | threshold | picks a table | bound | plain half-samples |\n|---:|---:|---:|---:|---:|---:|")
    stage = chaff.Relevance(["pearson_r"], by="pearson_r")
    for columns, size in ((20, 2), (20, 4), (60, 6)):
        found = []
        for seed in range(seeds):
            rng = np.random.default_rng(seed + 40_000)
            table = chaff.open_arrays(rng.normal(size=(100, columns)), rng.normal(size=100))
            found.append(chaff.stability(table, stage, size, pairs=25, seed=seed, workers=1).more["thresholds"])
        for t in (0.6, 0.75, 0.9):
            picks = np.array([f.loc[t, "chosen"] for f in found])
            bound = found[0].loc[t]
            words = f"{picks.mean():.2f} ± {2 * picks.std() / np.sqrt(seeds):.2f}"
            print(f"| {columns} | {size} | {t} | {words} | {bound['accidental_at_most']:.2f} | {bound['accidental_plain_halves']:.2f} |")


def false_discoveries(seeds: int, _: list[str]) -> None:
    """Knockoffs on columns that go together alike, and in blocks: 40 columns, 400 rows, 15 with an effect."""
    print("| columns | form | runs | share of false picks (q 0.2) | power |\n|---|---|---:|---:|---:|")
    designs = {"all alike (0.5)": np.full((40, 40), 0.5), "blocks of 5 (0.6)": np.kron(np.eye(8), np.full((5, 5), 0.6))}
    for name, C in designs.items():
        np.fill_diagonal(C, 1.0)
        root = np.linalg.cholesky(C)
        for form, runs in (
            ("minimum reconstructability", 1),
            ("semidefinite", 1),
            ("equicorrelated", 1),
            ("minimum reconstructability", 10),
        ):
            wrong, right = [], []
            for seed in range(seeds if runs == 1 else max(1, seeds // 4)):
                rng = np.random.default_rng(seed + 30_000)
                X = rng.normal(size=(400, 40)) @ root.T
                on = rng.permutation(40)[:15]
                b = np.zeros(40)
                b[on] = rng.choice([-1, 1], 15) * 0.25
                names = [f"c{j:02}" for j in range(40)]
                table = chaff.open_arrays(X, X @ b + rng.normal(size=400), names=names)
                picked = [names.index(f) for f in kept(chaff.knockoffs(table, 0.2, form=form, runs=runs, seed=seed, workers=1))]  # type: ignore[arg-type]
                wrong.append(float(np.mean(~np.isin(picked, on))) if picked else 0.0)
                right.append(float(np.isin(on, picked).mean()))
            error = 2 * np.std(wrong) / np.sqrt(len(wrong))
            print(f"| {name} | {form} | {runs} | {np.mean(wrong):.3f} ± {error:.3f} | {np.mean(right):.2f} |", flush=True)


if __name__ == "__main__":
    what, count = sys.argv[1], int(sys.argv[2]) if len(sys.argv) > 2 else 200
    {"noise": noise, "power": power, "knockoffs": false_discoveries, "stability": accidents}[what](count, sys.argv[3:] or list(TESTS))
