"""What a search sees, what is honest of it, and what fresh rows say: strategies on made-up tables whose truth is known.

    python benchmarks/search_honesty.py [tables a kind]       (30; about five minutes)

Tables of 150 rows x 30 columns with ridge: noise only, five columns that matter, ten in five pairs of near copies, heavy tails. For each
strategy the set that `choose("best", by="seen")` takes and the one of the default rule, with three scores: search score, honest
(the same search anew in every fold, at that size), and the R² of the set refitted on all 150 rows on 20,000 fresh ones. The last two
columns: how many of the true columns are in, and how many others.
"""

from __future__ import annotations

import sys
import warnings

import numpy as np

import chaff

ROWS, COLUMNS, FRESH = 150, 30, 20_000
NAMES = [f"c{k:02d}" for k in range(COLUMNS)]
STRATEGIES = {
    "forward": chaff.Forward(),
    "floating": chaff.Floating(),
    "recursive": chaff.Recursive("coefficient"),
    "genetic": chaff.Genetic(population=40, generations=30),
    "branch and bound": chaff.BranchAndBound(sets=3),
    "random": chaff.RandomSets(300),
}


def made(kind: str, rng: np.random.Generator, rows: int):
    """(columns, target, numbers of the columns that matter)."""
    X = rng.standard_t(3, size=(rows, COLUMNS)) if kind == "heavy tails" else rng.normal(size=(rows, COLUMNS))
    true = [] if kind == "noise" else list(range(5))
    if kind == "copies":
        X[:, 5:10] = X[:, :5] + 0.15 * rng.normal(size=(rows, 5))
        true = list(range(10))
    effect = X[:, :5] @ np.array([1.0, 0.8, 0.6, 0.5, 0.4]) if kind != "noise" else 0.0
    noise = rng.standard_t(3, size=rows) if kind == "heavy tails" else rng.normal(size=rows)
    return X, effect + 1.5 * noise, true


def on_fresh(X, y, fresh, truth, members, penalty=0.01) -> float:
    """R² on fresh rows of ridge on these columns."""
    centre = truth - y.mean()
    if not members:
        return 1.0 - float((centre**2).sum() / ((truth - truth.mean()) ** 2).sum())
    A = X[:, members] - X[:, members].mean(0)
    G = A.T @ A
    G[np.diag_indices(len(members))] *= 1 + penalty
    rest = centre - (fresh[:, members] - X[:, members].mean(0)) @ np.linalg.solve(G, A.T @ (y - y.mean()))
    return 1.0 - float((rest**2).sum() / ((truth - truth.mean()) ** 2).sum())


def main() -> None:
    warnings.simplefilter("ignore")
    tables = int(sys.argv[1]) if len(sys.argv) > 1 else 30
    print(
        "| table | strategy | best seen: size | seen | honest | fresh | default rule: size | seen | honest | fresh | true in | others in |"
    )
    print("|---|---|---:|---:|---:|---:|---:|---:|---:|---:|---:|---:|")
    for kind in ("noise", "five", "copies", "heavy tails"):
        found: dict[str, list[list[float]]] = {name: [] for name in STRATEGIES}
        for seed in range(tables):
            rng = np.random.default_rng([seed, len(kind)])
            X, y, true = made(kind, rng, ROWS)
            fresh, truth, _ = made(kind, rng, FRESH)
            table, after = chaff.open_arrays(X, y, names=NAMES), None
            for name, strategy in STRATEGIES.items():
                after = chaff.search(table, chaff.Ridge(0.01), strategy, seed=seed, after=after)
                row: list[float] = []
                for chosen in (after.choose("best", by="seen"), after.choose()):
                    members = [NAMES.index(f) for f in chosen.features]
                    row += [len(members), chosen.seen, chosen.honest, on_fresh(X, y, fresh, truth, members)]
                inside = len(set(members) & set(true))
                found[name].append([*row, inside, len(members) - inside])
        for name, rows in found.items():
            m = np.mean(rows, axis=0)
            cells = [f"{v:.1f}" if k in (0, 4, 8, 9) else f"{v:+.3f}" for k, v in enumerate(m)]
            print(f"| {kind} | {name} | {' | '.join(cells)} |", flush=True)


if __name__ == "__main__":
    main()
