"""The demo mill: wheat lots, made up by a seeded generator whose truth is known.

A mill tests incoming wheat lots and bakes a sample loaf of each. Will a lot make good bread, and which of the many
measurements are worth paying for?

>>> import chaff
>>> chaff.demo.lots(rows=50).shape
(50, 58)
>>> chaff.demo.truth().loc["crumb_score", "role"]
'leak'
"""

from __future__ import annotations

from chaff.demo.mill import dictionary, lots, table, truth

__all__ = ["dictionary", "lots", "table", "truth"]
