"""Tolerances, named once: what is rounding, what is flat, what is exact, what is a tie."""

from __future__ import annotations

ROUNDING = 1e-13
"""A sum of squares about the mean that is smaller, relative to the one about zero, is rounding."""
FLAT = 1e-12
"""A column whose spread is smaller, relative to its own size, has none."""
SINGULAR = 1e-10
"""A pivot that is smaller, relative to the column's own length, adds nothing: the column is a combination of others."""
EXACT = 1e-9
"""Standard deviations of its column that an exact relation may leave over."""
INVOLVED = 1e-6
"""A column with a smaller weight, relative to the largest, takes no part in a dependency."""
TIE = 1e-12
"""Scores closer than this are a tie, broken by name."""
NEAR = 1e-6
"""Effect sizes closer than this are a tie."""
HAIR = 1e-12
"""A hair wider, relatively, so that rounding does not lose what lies on the edge."""
BETTER = 1e-9
"""A criterion has to fall by more than this for a move to be worth making."""
TWINS = 1e-9
"""VIFs closer than this, relatively, are a tie."""
OPTIMAL = 1e-8
"""A gradient that is smaller, relative to the rows' weight, is zero: the fit is done."""
