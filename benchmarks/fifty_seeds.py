"""What the built-in plan does over many made-up mills: noise kept, signal missed, and whether the kept set keeps up.

    python benchmarks/fifty_seeds.py [SEEDS] [--target loaf_volume]

For each seed the demo mill is made anew, the built-in plan runs, and the full and the kept set are fitted on the training
rows and scored on the holdout rows. "Keeps up" means that the kept set's mean squared error there (log loss for classes)
exceeds the full set's by at most one paired standard error over the holdout rows.
"""

from __future__ import annotations

import argparse

import numpy as np

import chaff
from chaff.folds import one_split


def row_losses(run, model):
    """Loss of each holdout row, learned on the training rows: (kept, full)."""
    rows = np.setdiff1d(np.arange(len(run.table)), run.holdout)
    scorer = chaff.SubsetScorer(run.table, model, folds=one_split(run.table, rows, run.holdout), work=chaff.Work(seed=1))
    kept, full = scorer.losses([run.features, run.final_scores.full])
    return kept[0].loss, full[0].loss


def main() -> None:
    ask = argparse.ArgumentParser()
    ask.add_argument("seeds", nargs="?", type=int, default=50)
    ask.add_argument("--target", default="loaf_volume")
    ask.add_argument("--first", type=int, default=0)
    said = ask.parse_args()
    truth = chaff.demo.truth()
    roles = truth["role"]
    noise, missed, size, keeps = [], [], [], {"forest": 0, "ridge": 0}
    for seed in range(said.first, said.first + said.seeds):
        run = chaff.select(chaff.demo.table(seed=seed, target=said.target), seed=seed)
        kept = run.features
        extra = [f for f in kept if roles[f] == "noise"]
        covered = set(kept) | {of for f in kept if roles[f] == "repeat" for of in truth.loc[f, "repeats"].split(", ")}
        gone = [f for f in truth.index[roles == "signal"] if f not in covered]
        for model in (chaff.Forest(trees=300), chaff.Ridge()):
            mine, full = row_losses(run, model)
            gap = mine - full
            keeps[model.label] += bool(gap.mean() <= gap.std(ddof=1) / np.sqrt(gap.size))
        noise.append(len(extra))
        missed.append(len(gone))
        size.append(len(kept))
        print(f"seed {seed:3d}: kept {len(kept):2d}, noise {extra}, missed {gone}", flush=True)
    n = len(noise)
    print(f"\n{said.target}, {n} seeds: kept {np.mean(size):.1f} features on average")
    print(f"noise columns kept: mean {np.mean(noise):.2f}, most {max(noise)}, none in {sum(k == 0 for k in noise)} of {n}")
    print(f"signal columns missed (neither they nor a repeat kept): mean {np.mean(missed):.2f}")
    for label, count in keeps.items():
        print(f"kept set no worse than the full one by more than one paired standard error, {label}: {count} of {n}")


if __name__ == "__main__":
    main()
