"""The keep-up test: does a small set lose no more than an allowance against a large one?"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from chaff.errors import UnknownColumn, nearest
from chaff.evaluate.setting import Setting
from chaff.folds import make_folds
from chaff.methods.search.additions import row_losses
from chaff.methods.search.nested_error import nested_error
from chaff.methods.search.search_data import SearchData
from chaff.methods.search.size_choice import keep_up_of
from chaff.models.named import as_model
from chaff.models.protocols import Model
from chaff.stats.paired_loss import KeepUp
from chaff.table.table import Table
from chaff.work import Work, Workers


def keep_up(
    table: Table,
    small: Iterable[str],
    large: Iterable[str] | None = None,
    model: Model | str | Mapping[str, Any] = "forest",
    *,
    metric: str | None = None,
    folds: int = 5,
    repeats: int | None = None,
    seed: int = 0,
    workers: Workers = None,
) -> KeepUp:
    """Whether a small set of features keeps up with a large one: H0, it loses the allowance or more.

    Neither set may have been chosen on these rows: a set that was chosen looks better on them than it is. `chaff.select` tests
    its own choice on losses that no choice has seen.

    Parameters
    ----------
    table : Table
    small : iterable of str
    large : iterable of str, optional
        All features when left out.
    model : model, str or dict
    metric : str, optional
        One under which a row has a loss: r2, rmse, mae, log_loss, accuracy.
    folds, repeats : int
        Repeats by the number of rows when left out: 10 under 100, 3 under 700.
    seed, workers : int

    Returns
    -------
    KeepUp
        `answer` ("keeps up", "worse", "cannot tell"), `difference` (mean, se, df of the paired losses), `allowance` (δ, 5 % of
        what the large set gains over knowing nothing, set beforehand), `rows_to_tell`.

    Raises
    ------
    UnknownColumn, UsageError, ModelError

    Notes
    -----
    Losses of each test row, repeats averaged first; t over rows, over sums of groups, or with a long-run variance in time; the
    error widened by nested cross-validation for folds that share training rows. Source: Diebold and Mariano, 1995; Liang and
    Zeger, 1986; Lazarus, Lewis, Stock and Watson, 2018; Bates, Hastie and Tibshirani, 2023.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=400).with_features(["protein_pct", "ash_pct", "lab_temp_c"])
    >>> chaff.keep_up(lots, ["lab_temp_c"], model="ridge").answer
    'worse'
    """
    from chaff.decide.plan import Scoring

    few, many = frozenset(small), frozenset(table.features if large is None else large)
    for name in sorted((few | many) - set(table.features)):
        raise UnknownColumn(f"column '{name}' is not among the features of {table.label}.{nearest(name, table.features)}")
    work, chosen = Work(seed, workers), as_model(model)
    table = table.with_features(tuple(f for f in table.features if f in few | many))
    scoring = Scoring(folds=folds, repeats=repeats)
    setting = Setting(make_folds(table, folds, scoring.repeats_for(table), work), metric=metric, work=work)
    data = SearchData.of(table, setting, [chosen])
    a, b = row_losses([few, many], chosen, data)
    return keep_up_of(a, b, data, inflation=nested_error(data, chosen, many).inflation)
