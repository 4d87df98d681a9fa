"""
Repeats and lines
=================

Which columns repeat each other, and what a linear model says: pairs, equations, VIF, moves by hand, worth, checks.
"""

from __future__ import annotations

import chaff

table = chaff.demo.table(rows=800)
table = table.with_features([f for f in table.features if f not in ("lot_no", "crumb_score", "farm_code", "mycotoxin_ppb")])

found = chaff.correlations(table, limit=0.9)
found.plot()
pairs = found.more["pairs"]
print(pairs[["first", "second", "pearson_r", "rows"]].to_string(float_format="{:.3f}".format))
print(chaff.dependencies(table).more["equations"][["equation", "residual"]].to_string(float_format="{:.1g}".format))

# %%
# One feature at a time, the largest variance inflation first
print(chaff.prune_inflation(table).more["trail"][["feature", "vif", "largest_left"]].to_string(float_format="{:.3g}".format))

# %%
# The loop that people do, every figure at once
hand = chaff.by_hand(table, ["protein_pct", "protein_nir_pct", "ash_pct", "falling_number_s", "lab_temp_c"])
print(hand.last())
for _ in range(10):
    if hand.suggestion.startswith("nothing"):
        break
    action, name = hand.suggestion.split(":")[0].split()
    getattr(hand, action)(name)
    print(hand.last())
print("kept by hand:", ", ".join(hand.features))

# %%
# The same by rule, with p-values that the choice has not spoilt
found = chaff.prune_linear(table, "p")
print(found.frame[found.frame["stays"]][["p", "p_split", "vif"]].to_string(float_format="{:.2g}".format))
kept = [f for f in found.frame.index if found.frame.loc[f, "stays"]]
worth = chaff.column_worth(table, kept).ranked("shapley_share")
print(worth[["r_squared_lost", "cv_lost", "shapley_share"]].head(5).to_string(float_format="{:.3f}".format))
print(chaff.residuals(table, kept).holdout.to_string(float_format="{:.3g}".format))
