"""
Own model
=========

A model of your own, written here, used wherever Chaff takes a model: scores, a search, importance, and a plan by its
name.
"""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np

import chaff


class Caps:
    """Least squares on the sizes of numbers, each held between the lowest and highest twentieth: a few odd lots move nothing."""

    def fit(self, X, y):
        self.low, self.high = np.quantile(X, [0.05, 0.95], axis=0)
        rows = np.column_stack([np.ones(len(X)), np.clip(X, self.low, self.high)])
        self.weights = np.linalg.lstsq(rows, y, rcond=1e-8)[0]

    def predict(self, X):
        return np.column_stack([np.ones(len(X)), np.clip(X, self.low, self.high)]) @ self.weights


table = chaff.demo.table(rows=600)
table = table.with_features(["protein_pct", "falling_number_s", "harvest_rain_mm", "ash_pct", "variety", "lab_temp_c", "line_voltage_v"])
mine = chaff.models.adapt(Caps, name="caps", importance=lambda caps: np.abs(caps.weights[1:] * (caps.high - caps.low)))

# %%
# The same folds as for every other model
for model in (mine, chaff.Ridge(), chaff.Boosting(rounds=100)):
    print(f"{model.label:9} {chaff.SubsetScorer(table, model)(table.features)}")

# %%
# What it uses: by shuffling, by leaving out, and as it tells it itself
for by in ("permutation", "drop column", "impurity"):
    found = chaff.importance(table, mine, by)
    print(f"{by:12}", ", ".join(found.ranked().index[:3]))
found.plot()

# %%
# Beside another model, both kept sets compared
found = chaff.importance(table, mine, "permutation", against=chaff.Boosting(rounds=100), cut={"times_mean": 1})
print(found.more["against"].round(3).to_string())

# %%
# A plan names it and holds no code
with tempfile.TemporaryDirectory() as folder:
    plan = Path(folder) / "plan.toml"
    plan.write_text('[[stage]]\nuse = "screen"\n[[stage]]\nuse = "search"\nmodel = "caps"\nstrategy = { name = "forward", size = 5 }\n')
    print(chaff.select(table, plan, models={"caps": mine}, holdout=0, honest="quick").features)
