"""How often the pair screen flags anything at all where no column tells anything: one screen in twenty, if its threshold holds.

python benchmarks/pair_noise.py [screens]
"""

from __future__ import annotations

import sys

import numpy as np

import chaff


def screens(count: int, kind: str) -> int:
    flagged = 0
    for seed in range(count):
        rng = np.random.default_rng(seed)
        X = rng.normal(size=(300, 12))
        y = {"number": rng.normal(size=300), "skewed": np.exp(1.5 * rng.normal(size=300)), "classes": rng.integers(0, 3, 300)}
        main = X[:, 0] + X[:, 1] + rng.normal(size=300)
        task = "classification" if kind == "classes" else "regression"
        table = chaff.open_arrays(X, main if kind == "main effects" else y[kind], task=task)
        flagged += bool(chaff.interactions(table, seed=seed).frame["in_company"].any())
    return flagged


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    for kind in ("number", "skewed", "classes", "main effects"):
        flagged = screens(count, kind)
        error = 2 * np.sqrt(0.05 * 0.95 / count)
        print(f"{kind}: {flagged} of {count} screens flagged a pair, {flagged / count:.1%} (5 % ± {error:.1%} expected at most)")


if __name__ == "__main__":
    main()
