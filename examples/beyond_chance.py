"""
Beyond chance
=============

Where chance begins: shuffled targets, permuted twins, half-samples and decoys on the same lots.
"""

from __future__ import annotations

import chaff

NAMES = ["protein_pct", "protein_nir_pct", "ash_pct", "falling_number_s", "variety", "lab_temp_c", "straw_pct", "line_voltage_v", "shift"]
lots = chaff.demo.table(rows=400).with_features(NAMES)

# %%
# The same measure on the real target and on fifty shuffled ones; in at most 5 % of tables without effect anything is kept.
found = chaff.chance_baseline(lots, keep={"maximum": 0.05})
print(found.ranked()[["importance", "chance_largest", "standard_score", "family_p", "verdict"]].round(3))
print(found.more["limits"])  # what 2, 3, … standard deviations would keep, and what they keep by chance alone
found.plot()

# %%
# Any statistic, or any model and way of importance.
print(chaff.chance_baseline(lots, "mutual_information", shuffles=20).ranked()["standard_score"].round(1))

# %%
# Shuffled twins beside the columns, in a forest: who beats the best twin in nine rounds of ten?
twins = chaff.twin_test(lots, chaff.Forest(trees=60, columns_per_split=4, leaf_rows=10, depth=7))
print(twins.ranked("beaten_share")[["worth", "beaten_share", "rounds", "verdict"]].round(2))

# %%
# What halves of the rows choose, and how many picks would be accidents.
stable = chaff.stability(lots, chaff.Relevance(["spearman_rho"], by="spearman_rho"), size=3, pairs=20)
print(stable.frame["selection_frequency"], stable.more["thresholds"], sep="\n")

# %%
# Known noise beside the columns: how much of it does a rule keep?
mixed = lots.with_decoys(10)
print(chaff.relevance(mixed, "leading", cut={"top": 8}).notes[-1])
print(chaff.chance_baseline(mixed, keep={"maximum": 0.05}).notes[-1])
