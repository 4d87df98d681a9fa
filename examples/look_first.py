"""
Look first
==========

Look at the columns first, then score them: the screen, the statistics, what-if, and pairs that only work together.
"""

from __future__ import annotations

import chaff

table = chaff.demo.table(rows=800)

# %%
# What every column holds, and which cannot help, look like an id, or like a leak
found = chaff.screen(table)
print(found.frame.loc[found.frame["verdict"] != "keep", ["verdict", "figure", "reason"]].to_string())
print(found.more["rows"]["words"].to_string())

# %%
# Mycotoxin is measured only in suspicious lots: that it is missing tells
stays = [f for f in table.features if found.frame.loc[f, "stays"]]
table = table.with_features(stays).with_missing_flags(["mycotoxin_ppb"])

# %%
# Every statistic that fits, then several limits at once without computing again
scores = chaff.relevance(table)
print(scores.ranked("effect_size")[["rows", "statistic", "effect_size", "p", "q"]].head(8).to_string(float_format="{:.3g}".format))
print("kept at each limit on the effect size:", scores.try_limits([0.05, 0.1, 0.2])["stay"].to_dict())
scores.plot(bars=12)

# %%
# The same findings, ranked by another measure
print("by distance correlation:", ", ".join(scores.stays({"top": 5}, by="distance_correlation")))

# %%
# Two columns that tell nothing alone, and a lot together
pairs = chaff.interactions(table)
print(pairs.more["pairs"].head(3).to_string(float_format="{:.3g}".format))
