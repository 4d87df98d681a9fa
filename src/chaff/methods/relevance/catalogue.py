"""Which statistics there are: found in the files of `families/`, in order; which fit a table, and which way is better."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from chaff.choices import files_of
from chaff.errors import UsageError, nearest
from chaff.methods.relevance.default_test import LEADS
from chaff.methods.relevance.relevance_data import kind_of
from chaff.methods.relevance.statistic import Family, FilterStatistic
from chaff.results.findings import Better
from chaff.table.table import Table

ROOM = "chaff.methods.relevance.families"
ALL: tuple[FilterStatistic, ...] = tuple(
    sorted((s for m in files_of(ROOM) for s in getattr(m, "STATISTICS", ())), key=lambda s: (s.place, s.name))
)
FAMILIES: tuple[Family, ...] = tuple(f for m in files_of(ROOM) for f in getattr(m, "FAMILIES", ()))
STATISTICS = {s.name: s for s in ALL}
NAMES = {alias: s.name for s in ALL for alias in s.aliases} | {s.name: s.name for s in ALL}
USUAL = {
    "pearson": "pearson_r", "correlation": "pearson_r", "spearman": "spearman_rho", "kendall": "kendall_tau", "anova": "f", "anova_f": "f",
    "f_test": "f", "chi2": "chi_square", "chi_squared": "chi_square", "g_test": "g", "kruskal": "kruskal_h", "kruskal_wallis": "kruskal_h",
    "roc_auc": "auc", "kolmogorov_smirnov": "ks", "mi": "mutual_information", "cramer_v": "cramers_v", "welch": "welch_f",
    "mrmr": "mrmr_difference",
}  # fmt: skip
"""Other usual names of the statistics."""
GROUPS = {
    "tests": "one test by kind: the least that ranks every column",
    "leading": "one test by kind and mutual information",
    "fitting": "all that fit the kinds, one feature at a time",
    "all": "fitting, and relief and mrmr, which look at other features too",
}
ENDS = ("", "_p", "_q", "_low", "_high", "_df", "_df_within", "_rows", "_class", "_corrected", "_family_p")
RANKING_ENDS = ("", "_p", "_q", "_corrected", "_family_p", "_family_q")
FURTHER = ("effect_size", "p", "q")


def resolve(requested: str | Sequence[str], table: Table) -> tuple[str, ...]:
    """Names of the statistics to compute.

    Raises
    ------
    UsageError
        For an unknown name, one that fits no feature of the table (it names those that do), or one refused with weights.
    """
    task: str = table.target.task
    pairs = {(kind_of(table, f), task) for f in table.features} - {("", task)}
    if isinstance(requested, str) and requested in GROUPS:
        result = tuple(s.name for s in ALL if _in_group(s, requested, pairs, table))
        if not result:
            raise UsageError(f"no statistic fits a column of {table.label}: none is a number, a category or two-valued")
        return result
    check_names(requested)
    names = (requested,) if isinstance(requested, str) else tuple(requested)
    return tuple(dict.fromkeys(_checked(name, pairs, table) for name in names))


def column_of(name: str) -> str:
    """The column that features are ranked by under this name: of a test that has no statistic its p."""
    return f"{name}_p" if name in STATISTICS and f"{name}_p" in STATISTICS[name].aliases else name


def our_name(name: str) -> str:
    """A statistic or a group by the name that it has here: `spearman` is `spearman_rho`."""
    plain = name.strip().lower().replace("-", "_").replace(" ", "_")
    return name if name in NAMES or name in GROUPS else USUAL.get(plain, plain if plain in NAMES else name)


def named_statistics(requested: str | Sequence[str]) -> tuple[str, ...]:
    """The statistics that were asked for by name; empty for a group of them."""
    if isinstance(requested, str):
        return () if requested in GROUPS else (requested,)
    return tuple(requested)


def check_names(requested: str | Sequence[str]) -> None:
    """What can be told of the names without a table."""
    if isinstance(requested, str) and requested in GROUPS:
        return
    names = (requested,) if isinstance(requested, str) else tuple(requested)
    if not names:
        raise UsageError(f"no statistic was asked for; choose from {', '.join(STATISTICS)}, or one of {', '.join(GROUPS)}")
    for name in names:
        if name not in NAMES:
            raise UsageError(f"unknown statistic '{name}'; choose from {', '.join(STATISTICS)}.{nearest(name, NAMES)}")


def check_ranking(by: str) -> None:
    """Whether a column of this name may stand in findings and rank features."""
    if by in FURTHER or any(by == name + end for name in NAMES for end in RANKING_ENDS):
        return
    known = [*FURTHER, *NAMES]
    raise UsageError(f"unknown measure '{by}'; choose from {', '.join(known)}, or a statistic's _p or _q.{nearest(by, known)}")


def statistic_of(by: str) -> str:
    """The statistic that a ranking column comes from: `auc` for `auc_p`; empty for those that stand for all kinds together."""
    return next((statistic for also, statistic in NAMES.items() if any(by == also + end for end in RANKING_ENDS)), "")


def belongs(column: str, name: str) -> bool:
    """Whether a column of the findings comes with the statistic of that name."""
    return any(column == stem + end for stem in (name, *STATISTICS[name].companions) for end in ENDS) or (
        name == "auc" and column.startswith("auc of ")
    )


def _in_group(s: FilterStatistic, group: str, pairs: set[tuple[str, str]], table: Table) -> bool:
    if not pairs & set(s.fits) or (table.weights is not None and s.why_no_weights) or (s.by_request and group != "all"):
        return False
    if group in ("tests", "leading"):
        return s.name in {LEADS[p] for p in pairs} or (group == "leading" and s.name == "mutual_information")
    return s.fits_classes(len(table.target.classes))


def _checked(name: str, pairs: set[tuple[str, str]], table: Table) -> str:
    s = STATISTICS[NAMES[name]]
    fitting = ", ".join(o.name for o in ALL if pairs & set(o.fits) and o.fits_classes(len(table.target.classes)))
    if not pairs & set(s.fits):
        words = " and ".join(sorted({f"{kind} columns" for kind, _ in pairs})) or "none of the columns"
        target = "a number" if table.target.task == "regression" else "classes"
        raise UsageError(f"{s.label} ({s.name}) does not fit {words} against {target}; choose from {fitting}")
    if not s.fits_classes(len(table.target.classes)):
        raise UsageError(f"{s.label} ({s.name}) needs two classes, not {len(table.target.classes)}; choose from {fitting}")
    if table.weights is not None and s.why_no_weights:
        raise UsageError(
            f"{s.label} ({s.name}) does not support row weights ({s.why_no_weights}). Leave it out, or open the table without weights"
        )
    return s.name


def better(column: str) -> Better:
    """Which way is better in a column of the findings."""
    if column in ("p", "q", "rank") or column.endswith(("_p", "_q")):
        return "lower"
    if column in STATISTICS:
        return STATISTICS[column].better
    return "higher"


def described(names: Iterable[str]) -> list[dict[str, str]]:
    """One row a statistic: statistic, what it is, which way is better, source."""
    ways = {"higher": "higher is better", "lower": "lower is better", "magnitude": "the further from no relation, either way"}
    return [
        {"statistic": n, "what": STATISTICS[n].label, "better": ways[STATISTICS[n].better], "source": STATISTICS[n].source} for n in names
    ]


def page_rows() -> list[str]:
    """The rows of the page of statistics, as Markdown."""
    return [f"| `{s.name}` | {s.label} | {fits_words(s)} | {how_words(s)} | {s.source} |" for s in sorted(ALL, key=lambda s: s.name)]


def fits_words(s: FilterStatistic) -> str:
    if len(s.fits) == 6:
        return "every pair"
    return ", ".join(f"{kind} × {'number' if task == 'regression' else 'classes'}" for kind, task in s.fits)


def how_words(s: FilterStatistic) -> str:
    return s.how + (" Refused with row weights." if s.why_no_weights else "")
