"""Figures from results. Each takes `ax`, draws on it and returns it; none shows or saves."""

from __future__ import annotations

from chaff.plots.size_curve import score_by_size

__all__ = ["score_by_size"]
