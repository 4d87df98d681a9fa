"""What the filter statistics promise, on made-up tables in which nothing is true: how often p falls under 0.05 where rows hang
together, how often q calls anything, how often bounds cover, and whether one effect scale is one.

    python benchmarks/witnesses.py [nulls|absence|false|bounds|scale] ...

Every cell of `nulls` stands on 2,000 null features (40 a table, 50 tables): 0.05 and two standard errors is 0.060.
"""

from __future__ import annotations

import sys

import numpy as np
import pandas as pd

import chaff
from chaff.stats import influence
from chaff.stats.ranks import kendall, ranked, spearman

TABLES, FEATURES = 50, 40
LEVELS = 4


def drift(rng: np.random.Generator, n: int, keep: float) -> np.ndarray:
    from scipy.signal import lfilter

    return np.asarray(lfilter([1.0], [1.0, -keep], rng.normal(size=n + 200))[200:])


def shared(rng: np.random.Generator, group: np.ndarray, share: float) -> np.ndarray:
    of_group = rng.normal(size=group.max() + 1)[group]
    return np.sqrt(share) * of_group + np.sqrt(1.0 - share) * rng.normal(size=group.size)


def cut(x: np.ndarray, levels: int) -> list[str]:
    return [f"level {k}" for k in np.searchsorted(np.quantile(x, np.linspace(0, 1, levels + 1)[1:-1]), x)]


def made(kind: str, task: str, rng: np.random.Generator) -> chaff.Table:
    """Half of the features are numbers, half are categories of four levels."""
    roles: dict[str, str] = {}
    if kind.startswith("groups"):
        count = 12 if "12" in kind else 50
        group = np.repeat(np.arange(count), 8)
        share = 1.0 if "constant" in kind else 0.3
        columns = [shared(rng, group, share) for _ in range(FEATURES)]
        y = shared(rng, group, 0.3)
        frame, roles = pd.DataFrame({"mill": group}), {"groups": "mill"}
    elif kind.startswith("order"):
        keep = 1.0 if "walks" in kind else 0.95
        columns, y = [drift(rng, 400, keep) for _ in range(FEATURES)], drift(rng, 400, keep)
        frame, roles = pd.DataFrame({"day": np.arange(400)}), {"order": "day"}
    elif kind == "weights, log-normal":
        columns, y = [rng.normal(size=400) for _ in range(FEATURES)], rng.normal(size=400)
        frame, roles = pd.DataFrame({"w": np.exp(rng.normal(size=400))}), {"weights": "w"}
    else:
        draw = {
            "plain": lambda: rng.normal(size=300),
            "log-normal(2)": lambda: np.exp(2 * rng.normal(size=300)),
            "t with 2 degrees of freedom": lambda: rng.standard_t(2, 300),
        }[kind]
        columns, y, frame = [draw() for _ in range(FEATURES)], draw(), pd.DataFrame()
    for k, x in enumerate(columns):
        frame[f"f{k}"] = x if k % 2 == 0 else cut(x, LEVELS)
    frame["y"] = y if task == "number" else cut(y, 3)
    return chaff.open_table(frame, "y", **roles)


KINDS = (
    "plain",
    "log-normal(2)",
    "t with 2 degrees of freedom",
    "groups, ICC 0.3",
    "groups, constant in each",
    "12 groups, ICC 0.3 (groups)",
    "order, AR(0.95)",
    "order, walks",
    "weights, log-normal",
)


def nulls() -> None:
    """Share of null features with p < 0.05, by statistic."""
    for task in ("number", "classes"):
        print(f"target: {task}")
        for kind in KINDS:
            kind = "groups 12, ICC 0.3" if kind.startswith("12") else kind
            hits: dict[str, list[float]] = {}
            for k in range(TABLES):
                found = chaff.relevance(made(kind, task, np.random.default_rng(5000 + k)), "fitting").frame
                for column in [c for c in found.columns if c == "p" or c.endswith("_p")]:
                    hits.setdefault(column, []).extend(found[column].dropna().tolist())
            said = "  ".join(f"{c} {np.mean(np.array(p) < 0.05):.3f}" for c, p in hits.items() if len(p) >= 400)
            print(f"  {kind:28} {said}", flush=True)


def absence() -> None:
    """Share of tables in which any column's absence is said to tell, where gaps are by site and so is the target."""
    for task in ("number", "classes"):
        false, times = 0, 200
        for k in range(times):
            rng = np.random.default_rng(7000 + k)
            group = np.repeat(np.arange(30), 12)
            frame = pd.DataFrame({f"assay_{j}": rng.normal(size=360) for j in range(8)})
            for j in range(8):
                site = rng.random(30) < 0.4
                frame.loc[site[group] & (rng.random(360) < 0.9), f"assay_{j}"] = np.nan
            y = shared(rng, group, 0.4)
            frame["mill"], frame["y"] = group, y if task == "number" else cut(y, 2)
            found = chaff.screen(chaff.open_table(frame, "y", groups="mill")).frame
            false += bool(found["absence_tells"].any())
        print(f"absence tells by site, target {task:8} {false / times:.3f} of {times} tables", flush=True)


def false_discoveries() -> None:
    """Share of false calls among those with q < 0.1, where features hang together."""
    for rho in (0.0, 0.5, 0.9):
        rates = []
        for k in range(200):
            rng = np.random.default_rng(8000 + k)
            common = rng.normal(size=(200, 1))
            X = np.sqrt(rho) * common + np.sqrt(1 - rho) * rng.normal(size=(200, 60))
            own = X[:, :10] - np.sqrt(rho) * common
            y = 0.25 * own.sum(1) / np.sqrt(max(1 - rho, 0.05)) + rng.normal(size=200)
            Z = np.hstack([own, X[:, 10:]])  # the last fifty say nothing of y
            q = chaff.relevance(chaff.open_arrays(Z, y), ["pearson_r"]).frame["q"].to_numpy()
            called = q < 0.1
            rates.append(called[10:].sum() / max(called.sum(), 1))
        print(f"q < 0.1, correlation {rho:.1f} among the features: false share {np.mean(rates):.3f}", flush=True)


def bounds() -> None:
    """How often 95 % bounds cover what is true."""

    def pair(shape: str, n: int, rng: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
        z = rng.normal(size=(2, n))
        x, y = z[0], 0.5 * z[0] + np.sqrt(0.75) * z[1]
        if shape == "log-normal":
            return np.exp(x), np.exp(y)
        if shape == "t3":
            scale = np.sqrt(3 / rng.chisquare(3, n))
            return x * scale, y * scale
        if shape == "uneven spread":
            return x, 0.5 * x + z[1] * np.exp(0.7 * x)
        return (np.round(x), np.round(y)) if shape == "tied" else (x, y)

    rng = np.random.default_rng(9)
    for shape in ("normal", "log-normal", "t3", "uneven spread", "tied"):
        x, y = pair(shape, 2_000_000, rng)
        some = slice(0, 400_000)
        true = (np.corrcoef(x, y)[0, 1], spearman(ranked(x), ranked(y)), kendall(ranked(x[some]), ranked(y[some]))[0])
        for n in (30, 100, 500, 2000):
            covered, times = np.zeros(3), 1000
            for _ in range(times):
                x, y = pair(shape, n, rng)
                X, Y = ranked(x), ranked(y)
                r, rho, tau = float(np.corrcoef(x, y)[0, 1]), spearman(X, Y), kendall(X, Y)[0]
                ends = (
                    influence.pearson_bounds(x, y, r, 0.95),
                    influence.bounds(rho, influence.of_spearman(X, Y, rho), None, 0.95),
                    influence.bounds(tau, influence.of_kendall(X, Y, tau), None, 0.95),
                )
                covered += [low <= t <= high for t, (low, high) in zip(true, ends, strict=True)]
            print(
                f"{shape:14} {n:5} rows  r {covered[0] / times:.3f}  rho {covered[1] / times:.3f}  tau {covered[2] / times:.3f}", flush=True
            )


def scale() -> None:
    """The effect size of noise by what the feature is: median and 95 % point."""
    found: dict[str, list[float]] = {}
    for k in range(200):
        rng = np.random.default_rng(10_000 + k)
        frame = pd.DataFrame({"a number": rng.normal(size=200)})
        for levels in (2, 5, 20, 60):
            frame[f"{levels} levels"] = [f"v{v}" for v in rng.integers(0, levels, 200)]
        frame["y"] = rng.normal(size=200)
        for name, value in chaff.relevance(chaff.open_table(frame, "y"), "leading").frame["effect_size"].items():
            found.setdefault(str(name), []).append(float(value))
    for name, values in found.items():
        print(f"{name:10} effect size of noise, 200 rows: median {np.median(values):.3f}, 95 % {np.quantile(values, 0.95):.3f}")


PARTS = {"nulls": nulls, "absence": absence, "false": false_discoveries, "bounds": bounds, "scale": scale}


def main() -> None:
    for part in sys.argv[1:] or list(PARTS):
        PARTS[part]()


if __name__ == "__main__":
    main()
