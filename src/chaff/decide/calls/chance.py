"""What chance alone would give, as single calls."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any, Literal

from chaff.decide.calls.judged import findings_of, judge, stage_of
from chaff.methods.chance.shadows import ShadowTest
from chaff.methods.chance.shuffled_target import ChanceBaseline
from chaff.methods.importance.way import Way
from chaff.models.protocols import Model
from chaff.results.findings import Findings
from chaff.results.pin import Pin
from chaff.table.table import Table

BEYOND = {"beyond_chance": 3.0}


def chance_baseline(
    table: Table,
    by: Way | str | Mapping[str, Any] = "split standing",
    model: Model | str | Mapping[str, Any] = "forest",
    *,
    shuffles: int = 50,
    keep: Mapping[str, float] | None = BEYOND,
    seeds: int = 5,
    trees: int = 1500,
    draws: Literal["shared", "independent"] = "shared",
    level: float = 0.05,
    pins: Iterable[Pin] = (),
    features: Sequence[str] | None = None,
    seed: int = 0,
    workers: int | None = None,
) -> Findings:
    """Hold a measure on the real target against the same on shuffled ones: where chance begins.

    Parameters
    ----------
    table : Table
        20 rows or more. With groups, targets are dealt out within them (whole groups swap where the target is theirs); with an
        order the series of targets is turned round; a weight goes with its target.
    by : str, way or dict
        "split standing": what a column explains at best in 1,500 trees of two levels on three columns each; a statistic of
        `chaff.relevance`, such as "mutual_information"; or a way of `chaff.importance`, such as "permutation".
    model : model, str or dict
        What is fitted, for ways of importance.
    shuffles : int
        Shuffled targets; where fewer differ, all that do are taken, and it is said.
    keep : dict or None
        ``{"beyond_chance": 3}``: more than so many standard deviations above chance. ``{"maximum": 0.05}``: family p no more
        than this, so that in at most 5 % of tables without effect anything is kept. None only measures.
    seeds : int
        Times the real target is measured.
    trees : int
        Of split standing, over all seeds.
    draws : "shared" or "independent"
        Whether all targets share the draws of columns (several times faster), or each has its own.
    level : float
        For the adjusted p-values, given only where the shuffles suffice.
    pins : iterable of Pin
    features : list of str, optional
    seed, workers : int

    Returns
    -------
    Findings
        One row a feature: importance (mean over seeds, with its sd), chance_mean, chance_sd, chance_largest, standard_score,
        p = (1 + beaten) / (1 + shuffles), family_p (of the largest score over all columns), q, verdict. ``more["limits"]`` says how
        many columns lie beyond 2, 2.5, 3, … standard deviations and how many chance alone would keep, counted from the shuffles
        themselves; ``more["shuffles"]`` has every shuffle's values.

    Raises
    ------
    UsageError, DataError
        When shuffling cannot change the target, or there are fewer than 20 rows.

    Notes
    -----
    What is learned from the target is learned anew on every shuffle; bins that never saw it are shared. Beyond chance means: has
    to do with the target at all, by itself or in company; a proxy has. Source: Westfall and Young, 1993 (the maximum); Phipson and
    Smyth, 2010 (p is never 0).

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=300).with_features(["protein_pct", "ash_pct", "lab_temp_c", "line_voltage_v"])
    >>> found = chaff.chance_baseline(lots, keep={"maximum": 0.05})
    >>> list(found.frame.index[found.frame["stays"]])
    ['protein_pct', 'ash_pct']
    >>> found.more["limits"].loc[3, "beyond"]
    np.int64(2)
    """
    said = {"by": by, "model": model, "shuffles": shuffles, "seeds": seeds, "trees": trees, "draws": draws, "level": level, "keep": keep}
    return findings_of(judge(stage_of(ChanceBaseline, said), table, pins=pins, features=features, folds=0, seed=seed, workers=workers))


def shadow_test(
    table: Table,
    model: Model | str | Mapping[str, Any] | None = None,
    by: Way | str | Mapping[str, Any] = "impurity",
    *,
    rounds: int = 100,
    percentile: float = 100.0,
    keep_share: float = 0.9,
    drop_share: float = 0.5,
    level: float = 0.05,
    pins: Iterable[Pin] = (),
    features: Sequence[str] | None = None,
    seed: int = 0,
    workers: int | None = None,
) -> Findings:
    """Put a shuffled twin beside every column, and see over rounds which columns are worth more than the best twin.

    Parameters
    ----------
    table : Table
        20 rows or more. With groups, twins are shuffled within them; with an order, turned round in time.
    model : model, str or dict, optional
        What is fitted in each round; a forest of 500 trees, eight levels deep, when left out.
    by : str, way or dict
        "impurity" or "out of bag" (both forests, fast), or a way of `chaff.importance` such as "permutation" or "coefficient".
    rounds : int
        At most so many; it ends early when every column is decided.
    percentile : float
        Of the twins that a column has to beat; 100 for the best.
    keep_share, drop_share : float
        Kept: beats the twins in more than this share of the rounds. Dropped: in less than that. Between, or undecided: look.
    level : float
        Chance of ever being wrong about the side on which a column's share lies, however early it is decided.
    pins : iterable of Pin
    features : list of str, optional
    seed, workers : int

    Returns
    -------
    Findings
        One row a feature: worth (importance in units of what its own twins are worth, mean over rounds), to_beat (what the best twin was
        worth in those), hits, rounds, hit_share, decided,
        to_decide (rounds more, if the share stays), rank (also of the dropped: how far from keeping), verdict.
        ``more["history"]`` has the worth round by round, ``more["twins"]`` the limit, best, median and least of the twins.

    Raises
    ------
    UsageError, DataError

    Notes
    -----
    Rounds on the same rows measure how repeatable a place is. A column of noise that happens to go with the target in these rows
    beats its twins again and again: where nothing has an effect, about one table in ten keeps something with the default shares
    (measured in docs/which-way.md). The pool of twins stays whole when columns drop out. The decision may be looked at after every
    batch of rounds: its evidence is a test martingale. Source: Ville, 1939; Robbins, 1970.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=300).with_features(["protein_pct", "ash_pct", "lab_temp_c", "line_voltage_v"])
    >>> found = chaff.shadow_test(lots, chaff.Forest(trees=50))
    >>> found.frame.loc["protein_pct", "verdict"], found.frame.loc["line_voltage_v", "verdict"]
    ('keep', 'drop')
    """
    said = {
        "model": model, "by": by, "rounds": rounds, "percentile": percentile, "keep_share": keep_share, "drop_share": drop_share, "level": level,
    }  # fmt: skip
    return findings_of(judge(stage_of(ShadowTest, said), table, pins=pins, features=features, folds=0, seed=seed, workers=workers))
