"""
From arrays
===========

From the X and y that are in hand: names are made up and said; the selection cuts other arrays down to the same
columns.
"""

import numpy as np

import chaff

rng = np.random.default_rng(0)
X = rng.normal(size=(400, 12))
X[:, 7] = X[:, 2] + 0.05 * rng.normal(size=400)  # column 7 says what column 2 says
y = 3 * X[:, 2] - 2 * X[:, 5] + rng.normal(size=400)

table = chaff.open_arrays(X, y)
print(table)
run = chaff.select(table, pins=[chaff.pin_keep("x1", because="the customer asks for it")])
print(run)
chaff.plots.score_by_size(run.result("search"))
print(run.selection.apply(rng.normal(size=(5, 12))).shape)
