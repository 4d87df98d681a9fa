"""How alike the kept sets are from seed to seed and from bootstrap to bootstrap, and whether `selection_frequency` foretells it.

    python benchmarks/set_stability.py [RERUNS] [--rows 400] [--target loaf_volume]

The demo mill, one table: the built-in plan with as many seeds, then on as many draws of its rows with replacement. A fold leaves whole
mills out, so no copy of a drawn row is tested by a model that saw another. Jaccard: what two kept sets share over what either holds,
the mean of all pairs. Foretold: over the columns that were ever kept, the correlation of
`selection_frequency` on the table itself with the share of the bootstraps that keep a column.
"""

from __future__ import annotations

import argparse
from itertools import combinations

import numpy as np

import chaff
from chaff.demo.mill import TARGETS


def jaccard(sets: list[set[str]]) -> float:
    pairs = [len(a & b) / len(a | b) if a | b else 1.0 for a, b in combinations(sets, 2)]
    return float(np.mean(pairs))


def main() -> None:
    ask = argparse.ArgumentParser()
    ask.add_argument("reruns", nargs="?", type=int, default=20)
    ask.add_argument("--rows", type=int, default=400)
    ask.add_argument("--target", default="loaf_volume")
    said = ask.parse_args()
    lots = chaff.demo.lots(said.rows)
    roles = {"target": said.target, "groups": "mill", "ignore": [t for t in TARGETS if t != said.target]}
    table = chaff.open_table(lots, **roles)
    runs = [chaff.select(table, holdout=0, seed=k, state=False) for k in range(said.reruns)]
    seeds = [set(r.features) for r in runs]
    rng = np.random.default_rng(0)
    draws = [lots.iloc[rng.integers(0, len(lots), len(lots))].reset_index(drop=True) for _ in range(said.reruns)]
    boots = [set(chaff.select(chaff.open_table(d, **roles), holdout=0, seed=0, state=False, honest="quick").features) for d in draws]
    shares = runs[0].ledger.selection_frequencies
    ever = sorted(set().union(*boots, *seeds) & set(shares))
    often = np.array([np.mean([f in b for b in boots]) for f in ever])
    print(f"{said.target}, {len(table)} rows, {said.reruns} reruns: kept {np.mean([len(s) for s in seeds]):.1f} of {len(table.features)}")
    print(f"Jaccard from seed to seed {jaccard(seeds):.2f}, from bootstrap to bootstrap {jaccard(boots):.2f}")
    print(f"bootstraps that keep nothing: {sum(not b for b in boots)}")
    with np.errstate(invalid="ignore"):  # too few reruns: all alike, and r is nan
        foretold = np.corrcoef([shares[f] for f in ever], often)[0, 1]
    print(f"selection_frequency foretells: r {foretold:.2f} over {len(ever)} columns")


if __name__ == "__main__":
    main()
