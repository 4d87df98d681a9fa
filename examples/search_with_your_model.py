"""
Search with your model
======================

Searching subsets with the model that will be used: several ways on the same folds, what is as good, a budget, a
journal.
"""

from __future__ import annotations

import tempfile
from pathlib import Path

import chaff

NAMES = [
    "protein_pct", "protein_nir_pct", "ash_pct", "falling_number_s", "variety", "harvest_rain_mm", "sedimentation_ml", "test_weight_kg_hl",
    "test_weight_lb_bu", "gluten_wet_pct", "gluten_machine_pct", "lab_temp_c", "straw_pct", "roll_gap_mm",
]  # fmt: skip
lots = chaff.demo.table(rows=600, priced=True).with_features(NAMES)

# %%
# Several strategies on the same folds; what one has scored, the next does not score again.
trails = [chaff.search(lots, "ridge", "forward")]
for strategy in ("floating", "branch and bound", chaff.Genetic(population=30, generations=20)):
    trails.append(chaff.search(lots, "ridge", strategy, after=trails[-1]))
print(chaff.runs(trails))

# %%
# What the search saw and what is honest, by size; a choice without searching again.
print(trails[1].sizes[["seen", "honest", "optimism", "aic"]].round(3))
for rule in ("smallest", "best", "knee", {"size": 4}):
    print(trails[1].choose(rule))
trails[1].plot()

# %%
# Why is it not another column? Of all 2^14 sets: in all good ones, interchangeable, in none.
print(trails[1].alternatives(within=0.05, now=["protein_pct", "ash_pct"]))

# %%
# What can be measured for 25 euros a lot?
cheap = chaff.search(lots, "ridge", "floating", total_cost=25)
print("kept for 25 euros:", cheap.choose(), cheap.choose().cost)
print(trails[1].cost_front[["score", "size"]].round(3))

# %%
# A slower model, with a journal: the same call would go on where it was killed.
with tempfile.TemporaryDirectory() as folder:
    file = Path(folder) / "scores.journal"
    slow = chaff.search(lots, chaff.Forest(trees=30), chaff.Forward(size=2), journal=file, honest=False)
    again = chaff.search(lots, chaff.Forest(trees=30), chaff.Floating(size=2), journal=file, honest=False)
    print(slow.evaluations, "scored, then", again.evaluations, "more, and", again.saved, "known")

# %%
# Recursive elimination by what another model uses, the order of elimination kept.
print(chaff.search(lots, "ridge", chaff.Recursive("impurity", model=chaff.Forest(trees=50), step=2), honest=False).elimination)
