"""What chance alone would give, as single calls."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any, Literal

from chaff.decide.calls.one_stage import findings_of, judge, stage_of
from chaff.evaluate.stage import Stage
from chaff.methods.chance.knockoffs import Knockoffs
from chaff.methods.chance.shuffled_target import ChanceBaseline
from chaff.methods.chance.stability import Stability
from chaff.methods.chance.twin_test import TwinTest
from chaff.methods.importance.way import Way
from chaff.models.protocols import Model
from chaff.results.findings import Findings
from chaff.results.pin import Pin
from chaff.stats.knockoffs import Form
from chaff.table.table import Table
from chaff.work import Workers

BEYOND = {"standard_deviations": 3.0}


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
    alpha: float = 0.05,
    pins: Iterable[Pin] = (),
    features: Sequence[str] | None = None,
    seed: int = 0,
    workers: Workers = None,
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
        ``{"standard_deviations": 3}``: more than so many standard deviations above chance. ``{"maximum": 0.05}``: family p no more
        than this, so that in at most 5 % of tables without effect anything is kept. None only measures.
    seeds : int
        Times the real target is measured.
    trees : int
        Of split standing, over all seeds; more where a column would stand in fewer than ten of them.
    draws : "shared" or "independent"
        Whether all targets share the draws of columns (several times faster), or each has its own.
    alpha : float
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
    given = {"by": by, "model": model, "shuffles": shuffles, "seeds": seeds, "trees": trees, "draws": draws, "alpha": alpha, "keep": keep}
    return findings_of(judge(stage_of(ChanceBaseline, given), table, pins=pins, features=features, folds=0, seed=seed, workers=workers))


def twin_test(
    table: Table,
    model: Model | str | Mapping[str, Any] | None = None,
    by: Way | str | Mapping[str, Any] = "impurity",
    *,
    rounds: int = 100,
    percentile: float = 100.0,
    keep_share: float = 0.9,
    drop_share: float = 0.5,
    alpha: float = 0.05,
    pins: Iterable[Pin] = (),
    features: Sequence[str] | None = None,
    seed: int = 0,
    workers: Workers = None,
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
    alpha : float
        Chance of ever being wrong about the side on which a column's share lies, however early it is decided.
    pins : iterable of Pin
    features : list of str, optional
    seed, workers : int

    Returns
    -------
    Findings
        One row a feature: worth (importance in units of what its own twins are worth, mean over rounds), to_beat (what the best twin was
        worth in those), hits, rounds, beaten_share, decided,
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
    >>> found = chaff.twin_test(lots, chaff.Forest(trees=50))
    >>> found.frame.loc["protein_pct", "verdict"], found.frame.loc["line_voltage_v", "verdict"]
    ('keep', 'drop')
    """
    given = {
        "model": model, "by": by, "rounds": rounds, "percentile": percentile, "keep_share": keep_share, "drop_share": drop_share,
        "alpha": alpha,
    }  # fmt: skip
    return findings_of(judge(stage_of(TwinTest, given), table, pins=pins, features=features, folds=0, seed=seed, workers=workers))


def stability(
    table: Table,
    stage: Stage | str | Mapping[str, Any] = "relevance",
    size: int | None = None,
    *,
    pairs: int = 50,
    threshold: float = 0.75,
    pins: Iterable[Pin] = (),
    features: Sequence[str] | None = None,
    seed: int = 0,
    workers: Workers = None,
) -> Findings:
    """How often a stage chooses each column on complementary halves of the rows.

    Parameters
    ----------
    table : Table
        20 rows or more. Classes keep their shares, groups stay whole; with an order, halves are made of blocks in time.
    stage : stage, str or dict
        What chooses: ``chaff.Relevance()``, "importance", ``{"use": "importance", "model": "lasso", "by": "coefficient"}``,
        ``chaff.Search("ridge")``, "chance", "twins".
    size : int, optional
        How many it chooses in each half; a fifth of the columns, ten at most, when left out.
    pairs : int
        Pairs of halves, so twice as many halves.
    threshold : float
        Kept: chosen in at least this share of the halves; above 0.5.
    pins : iterable of Pin
    features : list of str, optional
    seed, workers : int

    Returns
    -------
    Findings
        One row a feature: selection_frequency, interchangeable_with (the feature selected in its place), verdict.
        ``more["thresholds"]``: how many are selected at each, and the bound on false selections, by complementary pairs and by
        plain half-samples; ``more["pairs"]``: interchangeable features; ``settings["stability"]`` of the whole set with its interval.

    Raises
    ------
    UsageError, DataError

    Notes
    -----
    An accidental pick is a column that a half chooses no more often than one in the mean. The bound holds for these, not for
    proxies. Source: Shah and Samworth, 2013; Meinshausen and Bühlmann, 2010; of the set: Nogueira, Sechidis and Brown, 2018.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=200).with_features(["protein_pct", "ash_pct", "lab_temp_c", "line_voltage_v", "straw_pct"])
    >>> found = chaff.stability(lots, chaff.Relevance(["pearson_r"], by="pearson_r"), size=1, pairs=20)
    >>> found.ranked().index[0], found.frame["selection_frequency"].sum()
    ('protein_pct', np.float64(1.0))
    """
    given = {"stage": stage, "size": size, "pairs": pairs, "threshold": threshold}
    return findings_of(judge(stage_of(Stability, given), table, pins=pins, features=features, folds=0, seed=seed, workers=workers))


def knockoffs(
    table: Table,
    q: float = 0.1,
    *,
    statistic: Literal["lasso difference", "forest difference"] = "lasso difference",
    form: Form = "minimum reconstructability",
    marginals: Literal["as they are", "normal scores"] = "as they are",
    runs: int = 10,
    pins: Iterable[Pin] = (),
    features: Sequence[str] | None = None,
    seed: int = 0,
    workers: Workers = None,
) -> Findings:
    """Columns that beat copies which know nothing of the target, with a limit on the share of false picks.

    Parameters
    ----------
    table : Table
        Numbers only, rows that are independent (no groups, order or weights), fewer columns than rows; twice as many rows as
        columns for the rate. Exact combinations of other columns are left out first, gaps are filled by the median.
    q : float
        Share of false picks that is allowed in the mean, between 0 and 1.
    statistic : "lasso difference" or "forest difference"
    form : "minimum reconstructability", "semidefinite" or "equicorrelated"
        How far copies stand from their originals.
    marginals : "as they are" or "normal scores"
    runs : int
        Times copies are drawn. With 1 the picks are those of knockoff+; with more, e-values are averaged, so that the answer hardly
        depends on the draw.
    pins : iterable of Pin
    features : list of str, optional
    seed, workers : int

    Returns
    -------
    Findings
        One row a feature: difference (what the column is worth less what its copy is, mean over runs), difference_sd, selection_frequency
        (of the runs), e_value, apart (variance that sets the copy apart; near 0 there is no power), verdict. No column is a
        possible answer: q = 0.1 picks ten at once or none (14 in a run where there are several). A note says how well
        the normal law fits the columns.

    Raises
    ------
    UsageError, DataError
        For categories, for rows that hang together, for more columns than rows: says what is possible.

    Notes
    -----
    A column without effect *given all others* is a false pick; a proxy is one. Source: Barber and Candès, 2015; Candès, Fan, Janson
    and Lv, 2018; Spector and Janson, 2022; Ren and Barber, 2024.

    Examples
    --------
    >>> import chaff
    >>> import numpy as np
    >>> X = np.random.default_rng(0).normal(size=(200, 12))
    >>> table = chaff.open_arrays(X, X[:, :8].sum(1) + np.random.default_rng(1).normal(size=200))
    >>> found = chaff.knockoffs(table, q=0.2, runs=5)
    >>> found.frame["stays"].sum() >= 8
    np.True_
    """
    given = {"q": q, "statistic": statistic, "form": form, "marginals": marginals, "runs": runs}
    return findings_of(judge(stage_of(Knockoffs, given), table, pins=pins, features=features, folds=0, seed=seed, workers=workers))
