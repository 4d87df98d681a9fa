"""Figures from results. Each takes `ax` or `figure`, draws on it and returns it; none shows or saves."""

from __future__ import annotations

from chaff.plots.chance_figures import chance_band, decoys_among, knockoff_differences, stability_shares, twin_rounds
from chaff.plots.compare_figures import compared_curves, kept_by_methods
from chaff.plots.correlation_map import correlation_map
from chaff.plots.evaluation_figures import calibration_curve, confusion_table, evaluated, predicted_against_true, residual_spread
from chaff.plots.feature_target import feature_target, two_features
from chaff.plots.figure_of import figure_of
from chaff.plots.histograms import histograms, missing_map
from chaff.plots.importance_figures import coefficient_path, disagreement, effects, fold_spread, importance_bars
from chaff.plots.inflation import component_loadings, scree, vif_bars, vif_trail
from chaff.plots.relevance_bars import relevance_bars
from chaff.plots.residual_figures import predicted_true, residual_checks, residuals_by_feature
from chaff.plots.search_figures import alternatives_map, generations, score_by_cost, search_sizes, set_presence
from chaff.plots.size_curve import score_by_size

__all__ = [
    "alternatives_map",
    "generations",
    "search_sizes",
    "set_presence",
    "chance_band",
    "decoys_among",
    "knockoff_differences",
    "twin_rounds",
    "stability_shares",
    "coefficient_path",
    "compared_curves",
    "component_loadings",
    "correlation_map",
    "kept_by_methods",
    "calibration_curve",
    "confusion_table",
    "disagreement",
    "evaluated",
    "predicted_against_true",
    "residual_spread",
    "effects",
    "feature_target",
    "figure_of",
    "fold_spread",
    "histograms",
    "importance_bars",
    "missing_map",
    "predicted_true",
    "relevance_bars",
    "residual_checks",
    "residuals_by_feature",
    "score_by_cost",
    "score_by_size",
    "scree",
    "two_features",
    "vif_bars",
    "vif_trail",
]
