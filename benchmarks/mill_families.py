"""Ten kinds of made-up tables from the mill, each with the difficulty that its name tells.

A family is a function (rng, rows) -> (frame, target, roles). None of them is the demo mill, whose defaults were set on it.
"""

from __future__ import annotations

from typing import Any

import numpy as np
import pandas as pd

Made = tuple[pd.DataFrame, str, dict[str, Any]]


def _with_noise(rng: np.random.Generator, f: np.ndarray, r2: float) -> np.ndarray:
    f = (f - f.mean()) / (f.std() or 1.0)
    return f + rng.normal(size=f.size) * np.sqrt((1 - r2) / r2)


def _drawn(rng: np.random.Generator, logits: np.ndarray, words: list[str]) -> np.ndarray:
    p = np.exp(logits - logits.max(1, keepdims=True))
    p /= p.sum(1, keepdims=True)
    return np.array(words, dtype=object)[(p.cumsum(1) < rng.random(len(p))[:, None]).sum(1)]


def few_assays(rng: np.random.Generator, n: int) -> Made:
    """Five of 30 assays of the grain matter."""
    x = rng.normal(size=(n, 30))
    frame = pd.DataFrame(x, columns=[f"assay_{j:02d}" for j in range(30)])
    return frame.assign(loaf_volume=_with_noise(rng, x[:, :5] @ [1, 1, -0.8, 0.7, 0.6], 0.55)), "loaf_volume", {}


def every_reading(rng: np.random.Generator, n: int) -> Made:
    """40 readings down the belt, each like its neighbour, every third of which matters a little."""
    x = rng.normal(size=(n, 40))
    for j in range(1, 40):
        x[:, j] = 0.75 * x[:, j - 1] + np.sqrt(1 - 0.75**2) * x[:, j]
    frame = pd.DataFrame(x, columns=[f"belt_{j:02d}" for j in range(40)])
    return frame.assign(loaf_volume=_with_noise(rng, x[:, ::3].sum(1), 0.5)), "loaf_volume", {}


def two_devices(rng: np.random.Generator, n: int) -> Made:
    """Eight properties, each measured by three devices of unequal care; four properties matter."""
    core = rng.normal(size=(n, 8))
    care = (0.15, 0.4, 0.8)
    frame = pd.DataFrame({f"property_{j}_{d}": core[:, j] + care[d] * rng.normal(size=n) for j in range(8) for d in range(3)})
    return frame.assign(loaf_volume=_with_noise(rng, core[:, 0] - core[:, 1] + core[:, 2] + 0.7 * core[:, 3], 0.6)), "loaf_volume", {}


def best_in_the_middle(rng: np.random.Generator, n: int) -> Made:
    """Dough temperature and mixing energy have an optimum, and work only together; 25 settings of the line do nothing."""
    x = rng.normal(size=(n, 28))
    f = -(x[:, 0] ** 2) + 1.2 * x[:, 1] * x[:, 2]
    names = ["dough_temp", "mixing_energy", "water", *[f"setting_{j:02d}" for j in range(25)]]
    return pd.DataFrame(x, columns=names).assign(loaf_volume=_with_noise(rng, f, 0.7)), "loaf_volume", {}


def varieties(rng: np.random.Generator, n: int) -> Made:
    """Accepted or not, by variety, silo and two assays; eight further codes tell nothing."""
    codes = {f"code_{j}": rng.integers(0, 4 + j, n) for j in range(10)}
    x = rng.normal(size=(n, 6))
    effect = rng.normal(size=20) * 1.3
    z = effect[codes["code_0"]] + effect[codes["code_3"]] + x[:, 0] - 0.8 * x[:, 1]
    frame = pd.DataFrame({k: [f"{k[-1]}{v}" for v in c] for k, c in codes.items()})
    frame[[f"assay_{j}" for j in range(6)]] = x
    return frame.assign(accepted=_drawn(rng, np.column_stack([np.zeros(n), z]), ["no", "yes"])), "accepted", {}


def five_grades(rng: np.random.Generator, n: int) -> Made:
    """Five grades of flour around five centres in six of 26 assays."""
    k = rng.integers(0, 5, n)
    x = rng.normal(size=(n, 26))
    x[:, :6] += (rng.normal(size=(5, 6)) * 1.1)[k]
    frame = pd.DataFrame(x, columns=[f"assay_{j:02d}" for j in range(26)])
    return frame.assign(grade=[f"grade {v}" for v in k]), "grade", {}


def by_farm(rng: np.random.Generator, n: int) -> Made:
    """Twelve lots a farm; the farm moves half of the assays and the loaf; three assays matter."""
    farm = np.arange(n) // 12
    x = rng.normal(size=(n, 16))
    x[:, :8] += rng.normal(size=(farm.max() + 1, 8))[farm]
    y = x[:, 1] - x[:, 9] + 0.8 * x[:, 12] + 1.5 * rng.normal(size=farm.max() + 1)[farm] + 1.2 * rng.normal(size=n)
    frame = pd.DataFrame(x, columns=[f"assay_{j:02d}" for j in range(16)])
    return frame.assign(farm=[f"f{v:03d}" for v in farm], loaf_volume=y), "loaf_volume", {"groups": "farm"}


def gaps_that_tell(rng: np.random.Generator, n: int) -> Made:
    """Six of 20 assays have gaps; the gap of one lifts the loaf."""
    x = rng.normal(size=(n, 20))
    gone = rng.random((n, 6)) < 0.35
    y = _with_noise(rng, x[:, 8] + x[:, 9] + 1.4 * gone[:, 2], 0.6)
    x[:, :6][gone] = np.nan
    return pd.DataFrame(x, columns=[f"assay_{j:02d}" for j in range(20)]).assign(loaf_volume=y), "loaf_volume", {}


def nothing_at_all(rng: np.random.Generator, n: int) -> Made:
    """Forty columns and a loaf that knows none of them."""
    frame = pd.DataFrame(rng.normal(size=(n, 40)), columns=[f"assay_{j:02d}" for j in range(40)])
    return frame.assign(loaf_volume=rng.normal(size=n)), "loaf_volume", {}


def nothing_in_classes(rng: np.random.Generator, n: int) -> Made:
    """Thirty columns, codes among them, and grades that know none of them."""
    frame = pd.DataFrame(rng.normal(size=(n, 24)), columns=[f"assay_{j:02d}" for j in range(24)])
    for j in range(6):
        frame[f"code_{j}"] = [f"c{v}" for v in rng.integers(0, 5, n)]
    return frame.assign(grade=[f"grade {v}" for v in rng.integers(0, 3, n)]), "grade", {}


FAMILIES = {  # name: (function, training rows)
    "few_assays": (few_assays, 250),
    "every_reading": (every_reading, 240),
    "two_devices": (two_devices, 400),
    "best_in_the_middle": (best_in_the_middle, 600),
    "varieties": (varieties, 500),
    "five_grades": (five_grades, 450),
    "by_farm": (by_farm, 480),
    "gaps_that_tell": (gaps_that_tell, 350),
    "nothing_at_all": (nothing_at_all, 250),
    "nothing_in_classes": (nothing_in_classes, 300),
}
FRESH = 3000


def make(name: str, seed: int) -> tuple[pd.DataFrame, int, str, dict[str, Any]]:
    """(training rows and then fresh ones, how many are for training, target, roles)."""
    family, n = FAMILIES[name]
    frame, target, roles = family(np.random.default_rng([seed, sum(map(ord, name))]), n + FRESH)
    return frame, n, target, roles
