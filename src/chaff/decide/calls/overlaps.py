"""All looks at repeats at once, from one reading of the table."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Literal

from chaff.decide.calls.one_stage import with_verdicts
from chaff.decide.calls.repeats import rebuild_search_data, with_cluster_verdicts
from chaff.decide.pins import checked_pins
from chaff.decide.stage_report import judge_pins
from chaff.errors import DataError
from chaff.methods.overlap import associations as associations_of
from chaff.methods.overlap import components as components_of
from chaff.methods.overlap import inflation as inflation_of
from chaff.methods.overlap import relations
from chaff.methods.overlap.correlations import Correlating
from chaff.methods.overlap.correlations import correlations as correlations_of
from chaff.methods.overlap.elimination import Inflation
from chaff.methods.overlap.overlap_data import able, complete_only
from chaff.methods.overlap.pair_cut import Correlation
from chaff.results.findings import Findings
from chaff.results.pin import Pin
from chaff.table.table import Table
from chaff.work import Workers


@dataclass(frozen=True)
class Overlaps:
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
    pins: Iterable[Pin] = (),
    seed: int = 0,
    workers: Workers = None,
) -> Overlaps:
    """All looks at repeats at once: pairs, who would go of each, VIF and its elimination, equations, components.

    The same as the single calls, which each read the table anew; here it is read once.

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
    if how is not None and how.rows == "complete":
        table = complete_only(table)
    pinned = checked_pins(list(pins), table)
    ground = rebuild_search_data(able(table, None), pinned.values(), seed, workers)
    pair, vif = Correlation(pair_limit), Inflation(vif_limit, vif_order)
    cut = pair.cut(ground, ground.table.features)
    went = vif.eliminate(ground, ground.table.features, ground.setting)
    given = judge_pins(pair.verdicts(cut, ground.setting), pinned, table.features)
    text = judge_pins(vif.verdicts(went, ground.setting), pinned, table.features)
    if every_kind:
        pairs = associations_of.associations(ground, pair_limit)
    else:
        pairs = correlations_of(ground, how or Correlating(limit=pair_limit))
    return Overlaps(
        pairs,
        with_verdicts(cut, given),
        inflation_of.inflation(ground),
        with_verdicts(inflation_of.with_path(went, ground), text),
        _or_words(lambda: relations.dependencies(ground, 1e-3)),
        _or_words(lambda: components_of.components(ground, 0.9, 20)),
        with_cluster_verdicts(associations_of.clusters(ground, 0.7, "average"), ground, table.features) if clusters else None,
    )


def _or_words(review: Callable[[], Findings]) -> Findings | str:
    """The findings, or why there are none: too few complete rows must not hide the rest."""
    try:
        return review()
    except DataError as error:
        return str(error)
