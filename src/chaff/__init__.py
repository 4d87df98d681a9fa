"""Chaff: screen the features of a table and keep the smallest set that still predicts as well."""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING, Any

__version__ = "0.1.0"

# Public name -> the module that holds it; read on first use, so that `import chaff` stays light.
_PUBLIC = {
    "open_table": "chaff.table.opening",
    "open_arrays": "chaff.table.opening",
    "derive_target": "chaff.table.derive_target",
    "Table": "chaff.table.table",
    "screen": "chaff.decide.calls",
    "relevance": "chaff.decide.calls",
    "triage": "chaff.decide.triage",
    "correlations": "chaff.methods.overlap.correlations",
    "prune_correlations": "chaff.decide.calls",
    "associations": "chaff.methods.overlap.associations",
    "clusters": "chaff.methods.overlap.associations",
    "inflation": "chaff.methods.overlap.inflation",
    "prune_inflation": "chaff.methods.overlap.inflation",
    "dependencies": "chaff.methods.overlap.relations",
    "components": "chaff.methods.overlap.relations",
    "linear_summary": "chaff.methods.linear.summary",
    "LinearSummary": "chaff.methods.linear.summary",
    "by_hand": "chaff.methods.linear.by_hand",
    "ByHand": "chaff.methods.linear.by_hand",
    "prune_linear": "chaff.methods.linear.pruning",
    "column_worth": "chaff.methods.linear.worth",
    "try_sizes": "chaff.methods.linear.worth",
    "residuals": "chaff.methods.linear.checks",
    "Residuals": "chaff.methods.linear.checks",
    "try_forms": "chaff.methods.linear.transforms",
    "interactions": "chaff.methods.relevance.pairs",
    "select": "chaff.decide.run",
    "Run": "chaff.decide.run",
    "Plan": "chaff.decide.plan",
    "built_in_plan": "chaff.decide.plan",
    "read_plan": "chaff.decide.plan",
    "pin_keep": "chaff.decide.pins",
    "pin_drop": "chaff.decide.pins",
    "Selection": "chaff.decide.selection",
    "read_selection": "chaff.decide.selection",
    "Ledger": "chaff.decide.ledger",
    "SubsetScorer": "chaff.evaluate.scorer",
    "Setting": "chaff.evaluate.setting",
    "Findings": "chaff.results.findings",
    "read_findings": "chaff.results.findings",
    "Cut": "chaff.results.cuts",
    "Trail": "chaff.results.trail",
    "Score": "chaff.results.score",
    "Verdict": "chaff.results.verdict",
    "Work": "chaff.work",
    "LeastSquares": "chaff.models.least_squares",
    "Ridge": "chaff.models.least_squares",
    "Forest": "chaff.models.forest",
    "Screen": "chaff.methods.screen.stage",
    "Relevance": "chaff.methods.relevance.stage",
    "Correlation": "chaff.methods.overlap.pair_cut",
    "Inflation": "chaff.methods.overlap.elimination",
    "Overlap": "chaff.methods.overlap.stage",
    "Importance": "chaff.methods.importance.stage",
    "Search": "chaff.methods.search.stage",
    "ChaffError": "chaff.errors",
    "DataError": "chaff.errors",
    "UnknownColumn": "chaff.errors",
    "UsageError": "chaff.errors",
    "PlanError": "chaff.errors",
    "ModelError": "chaff.errors",
}
_ROOMS = ("demo", "plots", "stats")

__all__ = [*_PUBLIC, *_ROOMS, "__version__"]  # noqa: PLE0604  every entry is a string


def __getattr__(name: str) -> Any:
    if name in _PUBLIC:
        value = getattr(importlib.import_module(_PUBLIC[name]), name)
        globals()[name] = value
        return value
    if name in _ROOMS:
        return importlib.import_module(f"chaff.{name}")
    raise AttributeError(f"module 'chaff' has no attribute {name!r}")


def __dir__() -> list[str]:
    return sorted(__all__)


if TYPE_CHECKING:
    from chaff.decide.run import select as select
    from chaff.table.opening import open_arrays as open_arrays
    from chaff.table.opening import open_table as open_table
