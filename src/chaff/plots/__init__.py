"""Figures from results. Each takes `ax` or `figure`, draws on it and returns it; none shows or saves."""

from __future__ import annotations

from chaff.plots.feature_target import feature_target, two_features
from chaff.plots.histograms import histograms, missing_map
from chaff.plots.relevance_bars import relevance_bars
from chaff.plots.size_curve import score_by_size

__all__ = ["feature_target", "histograms", "missing_map", "relevance_bars", "score_by_size", "two_features"]
