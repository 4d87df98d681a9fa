"""Principal components of the number columns: how many directions there are, and which columns make them up."""

from __future__ import annotations

from typing import Any

import numpy as np

from chaff.arrays import Floats
from chaff.errors import UsageError
from chaff.methods.overlap.correlations import Matrix, complete_rows, correlation_matrix, enough_complete, number_matrix
from chaff.methods.overlap.overlap_data import OverlapData
from chaff.results.findings import Findings
from chaff.stats.dependence import components as components_of
from chaff.stats.inflation import nearest_positive
from chaff.stats.tolerances import HAIR
from chaff.work import Work, task


def components(data: OverlapData, share: float, shuffles: int) -> Findings:
    """See `chaff.components`."""
    if not 0 < share <= 1 or shuffles < 0:
        raise UsageError("share must be above 0 and at most 1, shuffles 0 or more")
    matrix = number_matrix(data.table)
    notes = [matrix.note] if matrix.note else []
    if enough_complete(matrix):
        matrix, note = complete_rows(matrix)
        notes += [note] if note else []
    C = np.nan_to_num(correlation_matrix(matrix, "pearson", data.work)[0])
    np.fill_diagonal(C, 1.0)
    if np.isnan(matrix.X).any():
        C = nearest_positive(C)
        notes.append("missing values: pairwise-complete correlations, negative eigenvalues clipped")
    return _component_findings(matrix, C, share, shuffles, notes, data.work)


def _component_findings(matrix: Matrix, C: Any, share: float, shuffles: int, notes: list[str], work: Work) -> Findings:
    """Components of a correlation matrix as frames."""
    import pandas as pd

    result = components_of(C)
    p = len(matrix.names)
    explained = result.eigenvalues / p
    reach = int(np.searchsorted(np.cumsum(explained), share - HAIR) + 1)
    chance = _chance(matrix.X, work, shuffles)
    beyond = int(np.argmin(np.append(result.eigenvalues > chance, False))) if shuffles else reach
    kept = max(beyond, 1)
    held = (result.loadings[:, :kept] ** 2).sum(1)
    top = np.abs(result.loadings[:, :kept]).argmax(1)
    frame = pd.DataFrame(
        {"communality": held, "component": top + 1, "loading": result.loadings[np.arange(p), top]},
        index=pd.Index(matrix.names, name="feature"),
    )
    parts = pd.DataFrame(
        {
            "eigenvalue": result.eigenvalues,
            "explained": explained,
            "cumulative": np.cumsum(explained),
            "chance": chance if shuffles else np.nan,
        },
        index=pd.Index(np.arange(1, p + 1), name="component"),
    )
    loadings = pd.DataFrame(result.loadings, index=list(matrix.names), columns=np.arange(1, p + 1))
    words = f"{reach} of {p} principal components explain {share:.0%} of the variance" + (
        f"; {beyond} exceed the permutation threshold" if shuffles else ""
    )
    notes = [f"{matrix.X.shape[1]:,} rows, {p} number columns", words, "components combine features; they do not select them", *notes]
    settings = {"share": share, "shuffles": shuffles, "reach": reach, "significant": beyond}
    more = {"components": parts, "loadings": loadings}
    return Findings("components", frame, "communality", {"communality": "higher", "loading": "magnitude"}, settings, tuple(notes), more)


def _chance(X: Any, work: Work, shuffles: int) -> Any:
    """95th percentile of each eigenvalue when every column is shuffled by itself."""
    Z = np.where(np.isnan(X), np.nanmean(X, 1, keepdims=True), X)
    Z = Z - Z.mean(1, keepdims=True)
    Z /= np.sqrt((Z * Z).sum(1, keepdims=True))

    drawn = work.each(task(_shuffled_eigenvalues, Z, work), range(shuffles))
    return np.quantile(np.array(drawn), 0.95, axis=0) if drawn else np.zeros(len(X))


def _shuffled_eigenvalues(Z: Floats, work: Work, k: int) -> Floats:
    S = work.stream("parallel analysis", k).permuted(Z, axis=1)
    return np.linalg.eigvalsh(S @ S.T)[::-1]
