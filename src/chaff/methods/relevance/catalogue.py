"""Which statistics there are, which pairs of kinds they fit, which way is better, and where each comes from."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Literal

from chaff.errors import UsageError, nearest
from chaff.table.table import Table

Better = Literal["higher", "lower", "magnitude"]

NN, BN, CN = ("number", "regression"), ("binary", "regression"), ("category", "regression")
NC, BC, CC = ("number", "classification"), ("binary", "classification"), ("category", "classification")
EVERY = (NN, BN, CN, NC, BC, CC)


@dataclass(frozen=True)
class Statistic:
    """One filter statistic."""

    name: str
    label: str
    fits: tuple[tuple[str, str], ...]
    """(kind of the feature, task of the target)."""
    better: Better
    source: str
    no_weights: str = ""
    """Why it is refused with row weights; empty where they are defined."""
    company: bool = False
    """Whether it looks at other features too; only computed when asked for."""
    two_classes: bool = False
    tests: bool = True
    """Whether theory gives a p-value."""
    also: tuple[str, ...] = ()
    """Further names under which it may be asked for: columns that come with it."""


RANKS = "ranks count rows, and what a weighted rank means is not settled"
ALL = (
    Statistic("pearson_r", "Pearson r", (NN, BN), "magnitude", "Pearson, 1896; interval Fisher, 1921"),
    Statistic("spearman_rho", "Spearman ρ", (NN, BN), "magnitude", "Spearman, 1904; interval Bonett and Wright, 2000", RANKS),
    Statistic(
        "kendall_tau",
        "Kendall τ-b",
        (NN, BN),
        "magnitude",
        "Kendall, 1945; Knight, 1966; interval Fieller, 1957",
        "pairs count rows, and a pair has no weight of its own",
    ),
    Statistic(
        "f",
        "F, linear or one-way",
        EVERY[:5],
        "higher",
        "Fisher, 1925; ω² Hays, 1963; interval Steiger, 2004",
        also=("eta_squared", "omega_squared"),
    ),
    Statistic(
        "correlation_ratio", "correlation ratio η on bins", (NN,), "higher", "Pearson, 1905; lack of fit Fisher, 1922", also=("curve_f",)
    ),
    Statistic("welch_f", "Welch's F", (BN, CN, NC), "higher", "Welch, 1951"),
    Statistic("kruskal_h", "Kruskal–Wallis H", (BN, CN, NC), "higher", "Kruskal and Wallis, 1952", RANKS),
    Statistic("fisher_score", "Fisher score", (NC,), "higher", "Duda and Hart, 1973", tests=False),
    Statistic(
        "auc",
        "ROC AUC, one against the rest",
        (NC,),
        "magnitude",
        "Mann and Whitney, 1947; interval DeLong, DeLong and Clarke-Pearson, 1988",
    ),
    Statistic("ks", "Kolmogorov–Smirnov", (NC,), "higher", "Smirnov, 1939", two_classes=True),
    Statistic(
        "chi_square",
        "Pearson chi-square",
        (BC, CC),
        "higher",
        "Pearson, 1900; V Bergsma, 2013; interval Smithson, 2003",
        also=("cramers_v",),
    ),
    Statistic("g", "likelihood-ratio chi-square", (BC, CC), "higher", "Wilks, 1935"),
    Statistic(
        "fisher_exact",
        "Fisher's exact test, 2 × 2",
        (BC, CC),
        "lower",
        "Fisher, 1934",
        "an exact test counts whole rows",
        two_classes=True,
        also=("fisher_exact_p",),
    ),
    Statistic(
        "mutual_information", "mutual information on bins, nats", EVERY, "higher", "Shannon, 1948; corrected Miller, 1955", tests=False
    ),
    Statistic(
        "mutual_information_neighbours",
        "mutual information by neighbours, nats",
        (NN, CN, NC),
        "higher",
        "Kraskov, Stögbauer and Grassberger, 2004; Ross, 2014",
        "neighbours are rows",
        tests=False,
    ),
    Statistic("information_gain", "information gain, bits", (NC, BC, CC), "higher", "Quinlan, 1986", tests=False),
    Statistic("gain_ratio", "gain ratio", (NC, BC, CC), "higher", "Quinlan, 1993", tests=False),
    Statistic("gini_gain", "Gini gain", (NC, BC, CC), "higher", "Breiman, Friedman, Olshen and Stone, 1984", tests=False),
    Statistic(
        "distance_correlation",
        "distance correlation",
        (NN, BN),
        "higher",
        "Székely, Rizzo and Bakirov, 2007; p Shen, Panda and Vogelstein, 2022",
        "its pairs of rows are counted alike",
    ),
    Statistic(
        "relief",
        "Relief score, by neighbours",
        EVERY,
        "higher",
        "Kononenko, 1994; Robnik-Šikonja and Kononenko, 1997",
        "neighbours are rows",
        company=True,
        tests=False,
    ),
    Statistic(
        "mrmr_difference", "place by relevance less redundancy", EVERY, "lower", "Peng, Long and Ding, 2005", company=True, tests=False
    ),
    Statistic("mrmr_quotient", "place by relevance over redundancy", EVERY, "lower", "Ding and Peng, 2005", company=True, tests=False),
)
STATISTICS = {s.name: s for s in ALL}
NAMES = {also: s.name for s in ALL for also in s.also} | {s.name: s.name for s in ALL}
LEADS = {NN: "pearson_r", BN: "pearson_r", CN: "f", NC: "f", BC: "chi_square", CC: "chi_square"}
GROUPS = {
    "leading": "one test by kind and mutual information",
    "fitting": "all that fit the kinds, one feature at a time",
    "all": "fitting, and relief and mrmr, which look at other features too",
}


def kind_of(table: Table, feature: str) -> str:
    """The kind as the statistics see it; "" for what takes no part."""
    kind = table.kind(feature)
    return kind if kind in ("number", "binary", "category") else ""


def resolve(asked: str | Sequence[str], table: Table) -> tuple[str, ...]:
    """Names of the statistics to compute.

    Raises
    ------
    UsageError
        For an unknown name, one that fits no feature of the table (it names those that do), or one refused with weights.
    """
    task: str = table.target.task
    pairs = {(kind_of(table, f), task) for f in table.features} - {("", task)}
    if isinstance(asked, str) and asked in GROUPS:
        return tuple(s.name for s in ALL if _in_group(s, asked, pairs, table))
    names = (asked,) if isinstance(asked, str) else tuple(asked)
    if not names:
        raise UsageError(f"no statistic was asked for; there are {', '.join(STATISTICS)}, or one of {', '.join(GROUPS)}")
    return tuple(dict.fromkeys(_checked(name, pairs, table) for name in names))


def _in_group(s: Statistic, group: str, pairs: set[tuple[str, str]], table: Table) -> bool:
    if not pairs & set(s.fits) or (table.weights is not None and s.no_weights) or (s.company and group != "all"):
        return False
    if group == "leading":
        return s.name == "mutual_information" or s.name in {LEADS[p] for p in pairs}
    return not (s.two_classes and len(table.target.classes) != 2)


def _checked(name: str, pairs: set[tuple[str, str]], table: Table) -> str:
    if name not in NAMES:
        raise UsageError(f"unknown statistic '{name}'; there are {', '.join(STATISTICS)}.{nearest(name, NAMES)}")
    s = STATISTICS[NAMES[name]]
    fitting = ", ".join(o.name for o in ALL if pairs & set(o.fits) and not (o.two_classes and len(table.target.classes) != 2))
    if not pairs & set(s.fits):
        words = " and ".join(sorted({f"{kind} columns" for kind, _ in pairs})) or "none of the columns"
        target = "a number" if table.target.task == "regression" else "classes"
        raise UsageError(f"{s.label} ({s.name}) does not fit {words} against {target}; fitting are {fitting}")
    if s.two_classes and len(table.target.classes) != 2:
        raise UsageError(f"{s.label} ({s.name}) needs two classes, not {len(table.target.classes)}; fitting are {fitting}")
    if table.weights is not None and s.no_weights:
        raise UsageError(f"{s.label} ({s.name}) is refused with row weights: {s.no_weights}. Leave it out, or open without weights")
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
