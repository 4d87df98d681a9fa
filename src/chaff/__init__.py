"""Chaff: screen the features of a table and keep the smallest set that still predicts as well."""

from __future__ import annotations

import importlib
from typing import Any

from chaff.version import __version__

# Public name -> the module that holds it; read on first use, so that `import chaff` stays light.
_PUBLIC = {
    "open_table": "chaff.table.opening",
    "open_arrays": "chaff.table.opening",
    "derive_target": "chaff.table.opening",
    "Table": "chaff.table.table",
    "screen": "chaff.decide.api",
    "relevance": "chaff.decide.api",
    "triage": "chaff.decide.triage",
    "correlations": "chaff.decide.overlap_calls",
    "prune_correlations": "chaff.decide.api",
    "associations": "chaff.decide.overlap_calls",
    "clusters": "chaff.decide.overlap_calls",
    "inflation": "chaff.decide.overlap_calls",
    "prune_inflation": "chaff.decide.api",
    "dependencies": "chaff.decide.overlap_calls",
    "components": "chaff.decide.overlap_calls",
    "overlaps": "chaff.decide.overlap_calls",
    "Overlaps": "chaff.decide.overlap_calls",
    "Correlating": "chaff.methods.overlap.correlations",
    "importance": "chaff.decide.api",
    "chance_baseline": "chaff.decide.api",
    "twin_test": "chaff.decide.api",
    "stability": "chaff.decide.api",
    "knockoffs": "chaff.decide.api",
    "search": "chaff.decide.search_call",
    "runs": "chaff.decide.search_call",
    "Runs": "chaff.methods.search.runs",
    "write_report": "chaff.report.writing",
    "try_scales": "chaff.decide.compare_calls",
    "two_models": "chaff.decide.compare_calls",
    "Preparations": "chaff.methods.comparing.scale_comparison",
    "TwoModels": "chaff.methods.comparing.two_models",
    "compare": "chaff.decide.compare_calls",
    "Comparison": "chaff.methods.comparing.comparison",
    "SearchResult": "chaff.methods.search.search_result",
    "Alternatives": "chaff.methods.search.alternatives",
    "Progress": "chaff.methods.search.strategy",
    "keep_up": "chaff.decide.keep_up",
    "make_selection": "chaff.decide.chosen_set",
    "KeepUp": "chaff.stats.paired_loss",
    "Honest": "chaff.decide.honest",
    "SizeRule": "chaff.methods.search.size_choice",
    "linear_summary": "chaff.methods.linear.summary",
    "LinearSummary": "chaff.methods.linear.summary",
    "by_hand": "chaff.methods.linear.by_hand",
    "ByHand": "chaff.methods.linear.by_hand",
    "prune_linear": "chaff.decide.api",
    "column_worth": "chaff.methods.linear.column_worth",
    "try_sizes": "chaff.methods.linear.column_worth",
    "residuals": "chaff.methods.linear.checks",
    "Residuals": "chaff.methods.linear.checks",
    "interactions": "chaff.methods.relevance.pairs",
    "select": "chaff.decide.run",
    "Run": "chaff.decide.run",
    "Plan": "chaff.decide.plan",
    "built_in_plan": "chaff.decide.plan",
    "read_plan": "chaff.decide.plan",
    "named_plan": "chaff.decide.named_plans",
    "pin_keep": "chaff.decide.pins",
    "pin_drop": "chaff.decide.pins",
    "Evaluation": "chaff.methods.evaluation.evaluation",
    "Explanation": "chaff.decide.explaining",
    "Drifts": "chaff.decide.drift",
    "recheck": "chaff.decide.rechecking.call",
    "Recheck": "chaff.decide.rechecking.result",
    "changes": "chaff.decide.changes",
    "Changes": "chaff.decide.changes",
    "Everywhere": "chaff.methods.evaluation.everywhere",
    "Protection": "chaff.methods.evaluation.protection",
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
    "Cluster": "chaff.cluster",
    "Pin": "chaff.results.verdict",
    "Scoring": "chaff.decide.plan",
    "Terms": "chaff.table.terms",
    "Screen": "chaff.methods.screen.stage",
    "Relevance": "chaff.methods.relevance.stage",
    "Correlation": "chaff.methods.overlap.pair_cut",
    "Inflation": "chaff.methods.overlap.vif_elimination",
    "Overlap": "chaff.methods.overlap.stage",
    "Importance": "chaff.methods.importance.stage",
    "ChanceBaseline": "chaff.methods.chance.shuffled_target",
    "TwinTest": "chaff.methods.chance.twin_test",
    "Stability": "chaff.methods.chance.stability",
    "Knockoffs": "chaff.methods.chance.knockoffs",
    "Search": "chaff.methods.search.stage",
    "ChaffError": "chaff.errors",
    "DataError": "chaff.errors",
    "UnknownColumn": "chaff.errors",
    "UsageError": "chaff.errors",
    "ArgumentError": "chaff.errors",
    "PlanError": "chaff.errors",
    "ModelError": "chaff.errors",
    "WorkerError": "chaff.errors",
}
# Rooms whose choices are found in their files: `chaff.Ridge`, `chaff.Forward` and whatever is added to them.
_REGISTRIES = (("chaff.models.named", "MODELS"), ("chaff.methods.search.strategy", "STRATEGIES"), ("chaff.methods.importance.way", "WAYS"))
_ROOMS = ("demo", "models", "plots", "stats")

__all__ = [*_PUBLIC, *_ROOMS, "__version__"]  # noqa: PLE0604  every entry is a string


def __getattr__(name: str) -> Any:
    if name in _PUBLIC:
        from chaff.arguments import checked

        value = checked(getattr(importlib.import_module(_PUBLIC[name]), name))
        globals()[name] = value
        return value
    if name in _ROOMS:
        return importlib.import_module(f"chaff.{name}")
    if name[:1].isupper():
        for module, registry in _REGISTRIES:
            choice = getattr(importlib.import_module(module), registry).of_class(name)
            if choice is not None:
                from chaff.arguments import checked

                globals()[name] = checked(choice)
                return choice
    raise AttributeError(f"module 'chaff' has no attribute {name!r}{_like(name)}")


# Usual names of the trade, and where they lead.
_USUAL = {
    "vif": "chaff.inflation", "correlation": "chaff.correlations", "heatmap": "chaff.plots.correlation_map", "pca": "chaff.components",
    "recursive_elimination": 'chaff.search(…, "recursive")', "stepwise": 'chaff.search(…, "both")',
    "shapley": 'chaff.importance(…, by="shapley")',
    "feature_importance": "chaff.importance", "permutation_importance": 'chaff.importance(…, by="permutation")',
    "mutual_information": "chaff.relevance", "anova": "chaff.relevance", "filter": "chaff.relevance", "fit": "chaff.models.fit",
    "cross_validate": "chaff.SubsetScorer", "load": "chaff.read_selection", "read": "chaff.open_table", "lasso": "chaff.Lasso",
}  # fmt: skip


def _like(name: str) -> str:
    """What may have been meant."""
    from chaff.errors import nearest

    usual = _USUAL.get(name.lower())
    return f": see {usual}" if usual else f".{nearest(name, __dir__())}"


def __dir__() -> list[str]:
    choices = (getattr(importlib.import_module(module), registry).choices for module, registry in _REGISTRIES)
    return sorted({*__all__, *(cls.__name__ for result in choices for cls in result.values())})
