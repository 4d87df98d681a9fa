"""Columns that repeat one another: pairs, clusters, VIF, equations and components, as single calls and all together."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from typing import Literal

from chaff.decide.one_stage import with_verdicts
from chaff.decide.pins import checked_pins
from chaff.decide.stage_report import judge_pins, not_dropped
from chaff.errors import DataError, UsageError
from chaff.evaluate.setting import Setting
from chaff.methods.overlap import associations as associations_of
from chaff.methods.overlap import components as components_of
from chaff.methods.overlap import inflation as inflation_of
from chaff.methods.overlap import relations
from chaff.methods.overlap.correlations import Correlating
from chaff.methods.overlap.correlations import correlations as correlations_of
from chaff.methods.overlap.overlap_data import OverlapData, able, complete_only
from chaff.methods.overlap.pair_cut import Correlation
from chaff.methods.overlap.vif_elimination import Inflation
from chaff.results.findings import Findings
from chaff.results.verdict import Pin, drop, keep
from chaff.table.indicator_groups import together_option
from chaff.table.table import Table
from chaff.visible import Shown, listed
from chaff.work import Work, Workers, blas_for


def correlations(
    table: Table,
    method: Literal["pearson", "spearman", "kendall"] = "pearson",
    *,
    limit: float = 0.95,
    limits: Sequence[float] = (0.7, 0.8, 0.9, 0.95, 0.99),
    rows: Literal["pairwise", "complete"] = "pairwise",
    with_target: bool = False,
    partial: bool = False,
    shrink: bool | None = None,
    features: Sequence[str] | None = None,
    confidence: float = 0.95,
    workers: Workers = None,
) -> Findings:
    """Which number columns go together, and in which groups.

    Parameters
    ----------
    table : Table
    method : "pearson", "spearman" or "kendall"
    limit : float
        |r| above which a pair is listed and joins a group.
    limits : list of float
        How many pairs and groups there would be at each, in ``more["limits"]``.
    rows : "pairwise" or "complete"
        Each pair over the rows where both are present, or all over the rows where every column is.
    with_target : bool
        Put a number (or two-class) target in the picture.
    partial : bool
        Correlation with all other columns held fixed; on complete rows.
    shrink : bool, optional
        Shrink the off-diagonal entries towards 0 by the best share (on complete rows); by itself when columns outnumber rows.
    features : list of str, optional
    confidence : float
        Confidence of the intervals.

    Returns
    -------
    Findings
        One row a column: strongest_r, partner, group (0 for none). ``more``: matrix, rows (of each pair), pairs (first,
        second, r, low, high, rows, p, q), groups, limits.

    Raises
    ------
    UsageError, DataError

    Notes
    -----
    Source: Pearson, 1896; Spearman, 1904; Kendall, 1945; shrinkage Schäfer and Strimmer, 2005.

    Examples
    --------
    >>> import chaff
    >>> found = chaff.correlations(chaff.demo.table(rows=200), limit=0.9)
    >>> tuple(found.more["pairs"].loc[0, ["first", "second"]])
    ('test_weight_kg_hl', 'test_weight_lb_bu')
    """
    how = Correlating(method, limit, limits, rows, with_target, partial, shrink, confidence)
    table, words = _as_categories(table, features)
    return _with_notes(correlations_of(overlap_data(_numbers(table, features), workers=workers), how), words)


def associations(table: Table, *, limit: float = 0.7, features: Sequence[str] | None = None, workers: Workers = None) -> Findings:
    """How strongly columns of any kind go together, on one scale from 0 to 1.

    Two numbers: |r|. A number and a category: √ω², not η, which is 0.7 for a noise category of half as many levels as
    rows. Two categories: bias-corrected Cramér's V. Each over the rows where both are present.

    Parameters
    ----------
    table : Table
    limit : float
        Above which a pair is listed and joins a group.
    features : list of str, optional

    Returns
    -------
    Findings
        One row a column: strongest, partner, group. ``more``: matrix, pairs (first, second, association, what), groups.

    Notes
    -----
    Source: ω² Hays, 1963; V Bergsma, 2013.

    Examples
    --------
    >>> import chaff
    >>> found = chaff.associations(chaff.demo.table(rows=200))
    >>> float(found.more["matrix"].loc["variety", "protein_pct"]) < 0.3
    True
    """
    _check_limit(limit)
    table, words = _as_categories(table, features)
    return _with_notes(associations_of.associations(overlap_data(_of_any_kind(table, features), workers=workers), limit), words)


def clusters(
    table: Table,
    *,
    limit: float = 0.7,
    linkage: Literal["average", "complete"] = "average",
    pins: Iterable[Pin] = (),
    features: Sequence[str] | None = None,
    seed: int = 0,
    workers: Workers = None,
) -> Findings:
    """Clusters of columns that go together, one of each to stay and why.

    Parameters
    ----------
    table : Table
    limit : float
        Association above which columns are joined: 1 - distance at which the tree is cut.
    linkage : "average" or "complete"
        Complete: every two of a cluster are associated above the limit.
    pins : iterable of Pin
        Features pinned out take no part, those pinned in stay whatever is found.
    features : list of str, optional

    Returns
    -------
    Findings
        One row a column: cluster, size, why, and the verdict. ``more["tree"]``: the merges, for `chaff.plots.correlation_map`.

    Examples
    --------
    >>> import chaff
    >>> frame = chaff.clusters(chaff.demo.table(rows=300), limit=0.8).frame
    >>> bool(frame.loc["protein_pct", "cluster"] == frame.loc["protein_nir_pct", "cluster"])
    True
    """
    _check_limit(limit)
    if linkage not in ("average", "complete"):
        raise UsageError(f"linkage must be average or complete, not '{linkage}'")
    pinned = list(pins)
    table, words = _as_categories(table, features, pinned)
    subset = _of_any_kind(table, features)
    data = overlap_data(subset, pinned, seed, workers)
    return _with_notes(with_cluster_verdicts(associations_of.clusters(data, limit, linkage), data, subset.features), words)


def with_cluster_verdicts(result: Findings, data: OverlapData, known: Sequence[str]) -> Findings:
    """Of every cluster one stays, and whatever is pinned in."""
    given = [
        keep(str(f), "clusters", f"cluster {r['cluster']}", "", r["why"])
        if r["stays"]
        else drop(str(f), "clusters", f"cluster {r['cluster']}", f"{result.settings['limit']:g}", r["why"])
        for f, r in result.frame.iterrows()
    ]
    return with_verdicts(result, judge_pins(given, data.setting.pins, known))


def inflation(
    table: Table, *, features: Sequence[str] | None = None, rows: Literal["pairwise", "complete"] = "pairwise", workers: Workers = None
) -> Findings:
    """Variance inflation of every feature from one factorisation, and who explains it.

    Parameters
    ----------
    table : Table
    features : list of str, optional
        Categories of more than fifty levels take part only where they are named.
    rows : "pairwise" or "complete"
        Each pair's own rows, or only those in which every number column is present.

    Returns
    -------
    Findings
        One row a feature: vif, tolerance (1 / vif), r_squared on all others, df (columns of it), explained_by (the few
        features that carry the fit, with their shares of that R²). Categories: generalised VIF to the power 1 / df, so that
        one limit serves all.

    Notes
    -----
    1 / (1 - R²) of a feature on all others, with an intercept. Every member of an exact dependency is infinite: what the
    others leave of it is below 1e-10 of its variance. With gaps: correlations by maximum likelihood (EM) over all rows, of over
    20,000 over a draw of them, and vif_complete beside it where ten complete rows a column are left; with over 1,000 columns over
    the rows that each pair shares, shrunk until they fit together. Blank for a column that shares fewer than three rows a column
    with another. Source: Marquardt, 1970; generalised Fox and Monette, 1992; EM Little and Rubin, 2002.

    Examples
    --------
    >>> import chaff
    >>> found = chaff.inflation(chaff.demo.table(rows=300), features=["protein_pct", "protein_nir_pct", "ash_pct"])
    >>> found.frame["vif"].idxmin(), bool(found.frame.loc["protein_pct", "vif"] > 10)
    ('ash_pct', True)
    """
    if rows not in ("pairwise", "complete"):
        raise UsageError(f"rows must be pairwise or complete, not '{rows}'")
    table, words = _as_categories(table, features)
    subset = able(table, features)
    data = overlap_data(complete_only(subset) if rows == "complete" else subset, workers=workers)
    return _with_notes(inflation_of.inflation(replace(data, explicit=features is not None)), words)


def dependencies(table: Table, *, tolerance: float = 1e-3, features: Sequence[str] | None = None) -> Findings:
    """Which columns are linear combinations of others, written out as equations, and the directions that are nearly so.

    Parameters
    ----------
    table : Table
    tolerance : float
        Standard deviation of what an equation leaves over, in standard deviations of its column, up to which it is listed;
        below 1e-9 it is called exact.
    features : list of str, optional

    Returns
    -------
    Findings
        One row a column: relation (the equation it stands in), exact, vif-like index. ``more``: equations (column, equation,
        residual, exact), directions (condition index, eigenvalue, columns that load), directions_centred, and the variance
        proportions of both.

    Raises
    ------
    DataError
        When too few rows have all columns.

    Notes
    -----
    On rows where every number column is present. Directions: columns with the intercept among them, scaled to unit length and not
    centred, as the proportions were defined; the centred form beside it. An index above 30 with two proportions above 0.5
    is the usual sign.
    Source: Belsley, Kuh and Welsch, 1980.

    Examples
    --------
    >>> import chaff
    >>> table = chaff.demo.table(rows=300).with_features(["sieve_coarse_pct", "sieve_medium_pct", "sieve_fine_pct", "ash_pct"])
    >>> print(chaff.dependencies(table).more["equations"].loc[0, "equation"])
    sieve_fine_pct = 100 - sieve_coarse_pct - sieve_medium_pct
    """
    if not 0 < tolerance < 1:
        raise UsageError(f"tolerance must be between 0 and 1, not {tolerance}")
    table, words = _as_categories(table, features)
    return _with_notes(relations.dependencies(overlap_data(_numbers(table, features)), tolerance), words)


def components(
    table: Table, *, share: float = 0.9, shuffles: int = 20, features: Sequence[str] | None = None, seed: int = 0, workers: Workers = None
) -> Findings:
    """Principal components of the scaled number columns: how many directions there are, and which columns make them up.

    Components are mixtures of columns, not a choice of columns: they say how much repeats, not what to keep.

    Parameters
    ----------
    table : Table
    share : float
        How many components reach this share of the variation.
    shuffles : int
        Shufflings of every column by itself, for how many components are beyond chance; 0 leaves it out.
    features : list of str, optional
    seed : int

    Returns
    -------
    Findings
        One row a column: communality (share of it that the components beyond chance hold), strongest component and loading.
        ``more``: components (explained, cumulative, chance), loadings. ``settings``: reach (components up to `share`),
        significant.

    Notes
    -----
    Complete rows where there are enough, else correlations over the rows that each pair shares, negative eigenvalues
    clipped. Source: Hotelling, 1933; parallel analysis Horn, 1965 (95th percentile of the shuffles).

    Examples
    --------
    >>> import chaff
    >>> found = chaff.components(chaff.demo.table(rows=300), features=["protein_pct", "protein_nir_pct", "ash_pct"])
    >>> found.settings["reach"]
    2
    """
    if not 0 < share <= 1 or shuffles < 0:
        raise UsageError("share must be above 0 and at most 1, shuffles 0 or more")
    table, words = _as_categories(table, features)
    return _with_notes(components_of.components(overlap_data(_numbers(table, features), (), seed, workers), share, shuffles), words)


def eliminate_by_vif(
    stage: Inflation, table: Table, pins: Iterable[Pin], features: Sequence[str] | None, seed: int, workers: Workers
) -> Findings:
    """The elimination, with the VIF of every feature after every step."""
    pinned = list(pins)
    table, words = _as_categories(table, features, pinned)
    whole = table if features is None else table.with_features(features)
    data = replace(overlap_data(able(table, features), pinned, seed, workers), explicit=features is not None)
    result = stage.eliminate(data, data.table.features, data.setting)
    verdicts = judge_pins(stage.verdicts(result, data.setting), data.setting.pins, whole.features)
    return _with_notes(with_verdicts(inflation_of.with_path(result, data), verdicts), words)


def overlap_data(table: Table, pins: Iterable[Pin] = (), seed: int = 0, workers: Workers = None) -> OverlapData:
    """The data of one call: the table without the features that are pinned out."""
    pinned = checked_pins(list(pins), table)
    offered = not_dropped(table, pinned)
    return OverlapData.of(offered, Setting.unfolded(offered, Work(seed, workers), pins=pinned))


def _as_categories(table: Table, features: Sequence[str] | None = None, pins: Iterable[Pin] = ()) -> tuple[Table, tuple[str, ...]]:
    """(the table with 0/1 columns that add up to one taken as one category, what is said of that); what is named or pinned stays."""
    if features is not None:
        return table, ()
    out, groups = table.with_indicators_joined([*table.terms.features, *(p.feature for p in pins)])
    words = [
        f"{stem}: {len(names)} columns of 0 and 1 that add up to one are taken as one category ({listed(names, 3)}); in every command "
        f"with --together '{together_option(stem, names, table.features)}'"
        for stem, names in groups.items()
    ]
    return out, tuple(words)


def _with_notes(result: Findings, words: tuple[str, ...]) -> Findings:
    return replace(result, notes=(*result.notes, *words)) if words else result


@dataclass(frozen=True, repr=False)
class Overlaps(Shown):
    """Everything that is asked about repeats, from one reading of the table."""

    pairs: Findings
    """Correlations of numbers, or associations of every kind."""
    cut: Findings
    """Of each pair, who would go."""
    inflation: Findings
    elimination: Findings
    relations: Findings | str
    """Equations and near-singular directions, or why there are none."""
    components: Findings | str
    clusters: Findings | None = None

    def __str__(self) -> str:
        parts = (self.pairs, self.cut, self.inflation, self.elimination, self.relations, self.components, self.clusters)
        return "\n\n".join(str(p) for p in parts if p is not None)


def overlaps(
    table: Table,
    *,
    how: Correlating | None = None,
    every_kind: bool = False,
    pair_limit: float = 0.95,
    vif_limit: float = 10.0,
    vif_order: Literal["claim", "largest"] = "claim",
    clusters: bool = False,
    component_share: float = 0.9,
    pins: Iterable[Pin] = (),
    seed: int = 0,
    workers: Workers = None,
) -> Overlaps:
    """All looks at repeats at once: pairs, who would go of each, VIF and its elimination, equations, components.

    The same as the single calls, which each read the table again; here it is read once.

    Parameters
    ----------
    table : Table
    how : Correlating, optional
        Method, limits and rows of the correlations (rows="complete" goes for everything); made of `pair_limit` when left out.
    every_kind : bool
        Associations of columns of every kind in place of correlations of numbers.
    pair_limit, vif_limit : float
    vif_order : "claim" or "largest"
        As `order` of `chaff.prune_inflation`.
    clusters : bool
        Also clusters of columns of every kind.
    component_share : float
        As `share` of `chaff.components`.
    pins : iterable of Pin
    seed, workers : int

    Returns
    -------
    Overlaps

    Examples
    --------
    >>> import chaff
    >>> found = chaff.overlaps(chaff.demo.table(rows=200))
    >>> bool(found.elimination.frame["vif_left"].max() <= 10)
    True
    """
    given_pins = list(pins)
    table, words = _as_categories(table, None, given_pins)
    if how is not None and how.rows == "complete":
        table = complete_only(table)
    pinned = checked_pins(given_pins, table)
    data = overlap_data(able(table, None), pinned.values(), seed, workers)
    with blas_for(len(data.table), len(data.table.features)):
        pair, vif = Correlation(pair_limit), Inflation(vif_limit, vif_order)
        cut = pair.cut(data, data.table.features)
        went = vif.eliminate(data, data.table.features, data.setting)
        given = judge_pins(pair.verdicts(cut, data.setting), pinned, table.features)
        text = judge_pins(vif.verdicts(went, data.setting), pinned, table.features)
        if every_kind:
            pairs = associations_of.associations(data, pair_limit)
        else:
            pairs = correlations_of(data, how or Correlating(limit=pair_limit))
        return Overlaps(
            pairs,
            with_verdicts(cut, given),
            _with_notes(inflation_of.inflation(data), words),
            with_verdicts(inflation_of.with_path(went, data), text),
            _or_words(lambda: relations.dependencies(data, 1e-3)),
            _or_words(lambda: components_of.components(data, component_share, 20)),
            with_cluster_verdicts(associations_of.clusters(data, 0.7, "average"), data, table.features) if clusters else None,
        )


def _or_words(review: Callable[[], Findings]) -> Findings | str:
    """The findings, or why there are none: too few complete rows must not hide the rest."""
    try:
        return review()
    except DataError as error:
        return str(error)


def _numbers(table: Table, features: Sequence[str] | None) -> Table:
    """The table with number columns only; what was asked for and is none is refused."""
    if features is None:
        return table
    table.check_known(features)
    other = [f for f in features if table.kind(f) not in ("number", "binary")]
    if other:
        raise UsageError(f"'{other[0]}' holds {table.kind(other[0])} values, not numbers; chaff.associations takes every kind")
    return table.with_features(features)


def _of_any_kind(table: Table, features: Sequence[str] | None) -> Table:
    names = table.features if features is None else features
    table.check_known(names)
    return table.with_features([f for f in names if table.kind(f) in ("number", "binary", "category")])


def _check_limit(limit: float) -> None:
    if not 0 <= limit <= 1:
        raise UsageError(f"limit must be between 0 and 1, not {limit}")
