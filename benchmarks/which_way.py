"""What each way of importance makes of columns whose truth is known: the table of docs/which-way.md.

    python benchmarks/which_way.py [seeds]

Eight columns a table, 400 rows: `line` (a straight effect), `bend` (a square), `pair1` and `pair2` (their product only),
`copy1` and `copy2` (one signal twice, with a little noise each), `proxy` (goes with `line`, has no effect of its own) and
`noise`, a number; and `code`, noise with 40 levels.
"""

from __future__ import annotations

import sys

import numpy as np
import pandas as pd

import chaff

SEEDS = 20
ROWS = 400
WAYS = {
    "coefficient, lasso": ("lasso", chaff.Coefficient(resamples=0)),
    "permutation, lasso": ("lasso", "permutation"),
    "permutation, forest": ("forest", "permutation"),
    "… copies together": ("forest", chaff.Permutation(together=0.8)),
    "… given neighbours": ("forest", chaff.Permutation(given="neighbours")),
    "given others, forest": ("forest", "given others"),
    "impurity, uncorrected": ("forest", chaff.Impurity(corrected=False)),
    "impurity, corrected": ("forest", "impurity"),
    "split standing": ("forest", chaff.SplitStanding(trees=300)),
    "drop column, forest": ("forest", "drop column"),
    "shapley, forest": ("forest", chaff.Shapley(rows=200)),
    "pooled, forest and ridge": ("forest", "pooled"),
}


def made(seed: int) -> chaff.Table:
    rng = np.random.default_rng(seed)
    z = rng.normal(size=(ROWS, 7))
    frame = pd.DataFrame({"line": z[:, 0], "bend": z[:, 1], "pair1": z[:, 2], "pair2": z[:, 3]})
    frame["copy1"], frame["copy2"] = (z[:, 4] + 0.1 * rng.normal(size=ROWS) for _ in range(2))
    frame["proxy"] = z[:, 0] + 0.5 * z[:, 5]
    frame["noise"] = z[:, 6]
    frame["code"] = rng.choice([f"k{k:02}" for k in range(40)], ROWS)
    y = z[:, 0] + 0.7 * (z[:, 1] ** 2 - 1) + z[:, 2] * z[:, 3] + z[:, 4] + rng.normal(size=ROWS)
    return chaff.open_table(frame.assign(y=y), target="y", kinds={"code": "category"})


def main() -> None:
    seeds = int(sys.argv[1]) if len(sys.argv) > 1 else SEEDS
    shares: dict[str, list[pd.Series]] = {name: [] for name in WAYS}
    for seed in range(seeds):
        table = made(seed)
        for name, (model, by) in WAYS.items():
            found = chaff.importance(table, model, by, seed=seed)
            shares[name].append(found.frame["importance"].clip(lower=0) / found.frame["importance"].clip(lower=0).sum())
    frame = pd.DataFrame({name: pd.DataFrame(s).mean() for name, s in shares.items()}).T
    print(f"mean share of the importance above zero, {seeds} tables of {ROWS} rows")
    print("| way | " + " | ".join(frame.columns) + " |\n|---|" + "---:|" * len(frame.columns))
    for name, row in frame.iterrows():
        print(f"| {name} | " + " | ".join(f"{v:.2f}" for v in row) + " |")


if __name__ == "__main__":
    main()
