"""What each column is worth to a linear model, and models of growing size side by side."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from chaff.errors import UsageError
from chaff.evaluate.setting import Setting
from chaff.methods.linear.linear_form import linear_form
from chaff.methods.linear.swept_model import Swept, standardised_blocks
from chaff.models.least_squares import LeastSquares
from chaff.results.findings import Better, Findings
from chaff.results.score import paired_difference
from chaff.stats.shapley import EXACT_UP_TO, exact_shares, sampled_shares
from chaff.table.table import Table
from chaff.work import Work, Workers

if TYPE_CHECKING:
    import pandas as pd


def column_worth(
    table: Table, features: Sequence[str] | None = None, *, orders: int = 200, folds: int = 5, seed: int = 0, workers: Workers = None
) -> Findings:
    """R² that goes when a feature is dropped, cross-validated too, and its Shapley share of R².

    Parameters
    ----------
    table : Table
        With a number target.
    features : list of str, optional
    orders : int
        Random orders for the Shapley shares past 18 features; 0 leaves them out.
    folds, seed, workers : int

    Returns
    -------
    Findings
        One row a feature: r_squared_lost, p (of that loss), cv_lost with cv_lost_se (paired over folds), shapley_share with
        shapley_share_se (0 where exact). Shares add up to R². A repeat loses nothing when dropped and yet has a share.

    Notes
    -----
    Losses in closed form, all at once.  Source: Shapley shares of R² Lindeman, Merenda and Gold, 1980.

    Examples
    --------
    >>> import chaff
    >>> worth = chaff.column_worth(chaff.demo.table(), ["protein_pct", "protein_nir_pct", "ash_pct"]).frame
    >>> bool(worth.loc["protein_nir_pct", "r_squared_lost"] < 0.01 < worth.loc["protein_nir_pct", "shapley_share"])
    True
    """
    import pandas as pd

    if orders < 0:
        raise UsageError(f"orders must be 0 or more, not {orders}")
    form = linear_form(table, features)
    work = Work(seed, workers)
    swept = Swept(form)
    swept.enter_all(form.features)
    s, losses = swept.state(), swept.losses()
    frame = pd.DataFrame(index=pd.Index(form.features, name="feature"))
    frame["r_squared_lost"] = [losses[f][0] if f in losses else 0.0 for f in form.features]
    frame["p"] = [s.p.get(f, np.nan) for f in form.features]
    walk = Setting.of(form.table, folds, work=work).scorer(form.table, LeastSquares(), "r2").walk(list(s.features))
    whole = walk.score
    frame["cv_lost"], frame["cv_lost_se"] = np.nan, np.nan
    if s.features:
        changes = walk.changes(list(s.features))
        for f, values in zip(s.features, changes.by_fold, strict=True):
            d = paired_difference(whole.values, values, whole.test_share)
            frame.loc[f, ["cv_lost", "cv_lost_se"]] = d.mean, d.se
    C, r, starts = standardised_blocks(form)
    if len(form.features) <= EXACT_UP_TO:
        frame["shapley_share"], frame["shapley_share_se"] = exact_shares(C, r, starts), 0.0
    elif orders:
        frame["shapley_share"], frame["shapley_share_se"] = sampled_shares(C, r, starts, orders, work.stream("orders"))
    out = [f for f in form.features if f not in losses]
    notes = [f"{form.y.size:,} rows, R² {s.r_squared:.4f}, cross-validated {whole.mean:.4f}", *form.notes]
    if out:
        notes.append(f"combinations of others, which lose nothing: {', '.join(out[:5])}")
    better: dict[str, Better] = {"r_squared_lost": "higher", "cv_lost": "higher", "shapley_share": "higher", "p": "lower"}
    return Findings("column worth", frame, "r_squared_lost", better, {"orders": orders}, tuple(notes))


def try_sizes(
    table: Table,
    ranking: Sequence[str] | Findings | None = None,
    sizes: Sequence[int] | None = None,
    *,
    by: str | None = None,
    folds: int = 5,
    seed: int = 0,
    workers: Workers = None,
) -> pd.DataFrame:
    """Linear models of the top 5, 10, 15, … features of a ranking, side by side.

    Parameters
    ----------
    table : Table
        With a number target.
    ranking : list of str, or Findings
        The best first; the relevance of the table by effect size when left out.
    sizes : list of int, optional
        5, 10, 15, … up to all.
    by : str, optional
        Column of the findings that ranks.

    Returns
    -------
    frame indexed by size: r_squared, adjusted_r_squared, aic, bic, cv_r_squared, cv_r_squared_se

    Notes
    -----
    A ranking that saw the target on these rows makes the cross-validated column optimistic too; `chaff.select` nests it.

    Examples
    --------
    >>> import chaff
    >>> chaff.try_sizes(chaff.demo.table(rows=300), sizes=[2, 8]).index.tolist()
    [2, 8]
    """
    import pandas as pd

    work = Work(seed, workers)
    if ranking is None:
        from chaff.methods.relevance.stage import Relevance

        ranking = Relevance("leading").judge(table, Setting.unfolded(table, work))
    names = [str(f) for f in ranking.ranked(by).index] if isinstance(ranking, Findings) else list(ranking)
    form = linear_form(table.with_features(names))
    names = [f for f in names if f in form.features]
    wanted = [int(s) for s in (sizes if sizes is not None else [*range(5, len(names), 5), len(names)])]
    if not wanted or min(wanted) < 1:
        raise UsageError("sizes must be 1 or more")
    wanted = sorted({min(s, len(names)) for s in wanted})
    swept, rows = Swept(form), []
    scores = Setting.of(form.table, folds, work=work).scorer(form.table, LeastSquares(), "r2").many([names[:s] for s in wanted])
    done = 0
    for size, score in zip(wanted, scores, strict=True):
        for f in names[done:size]:
            if swept.enters(f):
                swept.toggle(f)
        done = size
        s = swept.state()
        rows.append((s.r_squared, s.adjusted, s.aic, s.bic, score.mean, score.se))
    columns = ["r_squared", "adjusted_r_squared", "aic", "bic", "cv_r_squared", "cv_r_squared_se"]
    return pd.DataFrame(rows, columns=columns, index=pd.Index(wanted, name="size"))
