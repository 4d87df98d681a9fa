"""Dependencies: equations among columns, near-singular directions, and principal components."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.errors import UsageError
from chaff.methods.overlap.correlations import _matrix
from chaff.methods.overlap.matrix import Matrix, complete_rows, enough_complete, number_matrix
from chaff.results.findings import Findings
from chaff.stats.dependence import Relation, directions, relations
from chaff.stats.dependence import components as components_of
from chaff.stats.inflation import nearest_positive
from chaff.table.table import Table
from chaff.work import Work

if TYPE_CHECKING:
    import pandas as pd

LOADS = 0.5  # variance proportion from which a column is said to load on a direction
HIGH_INDEX = 30.0
WIDEST = 5000


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
    import pandas as pd

    if not 0 < tolerance < 1:
        raise UsageError(f"tolerance must be between 0 and 1, not {tolerance}")
    matrix = number_matrix(table, features)
    notes = [matrix.note] if matrix.note else []
    if len(matrix.names) > WIDEST:
        raise UsageError(f"dependencies among {len(matrix.names):,} columns would take too long; name some with features=…")
    gaps = np.isnan(matrix.X).mean(1)
    if not enough_complete(matrix) and gaps.max() > 0:
        keep = gaps <= max(float(np.median(gaps)), 0.2)
        left = [n for n, k in zip(matrix.names, keep, strict=True) if not k]
        if left and keep.sum() >= 2:
            notes.append(f"too many gaps, so left out: {', '.join(left[:5])}")
            matrix = number_matrix(table, [n for n, k in zip(matrix.names, keep, strict=True) if k])
    matrix, note = complete_rows(matrix)
    notes += [note] if note else []
    X, names = np.ascontiguousarray(matrix.X.T), list(matrix.names)
    rows = [(names[r.column], equation(r, names), r.residual, r.residual <= 1e-9) for r in relations(X, tolerance)]
    equations = pd.DataFrame(rows, columns=["column", "equation", "residual", "exact"]).sort_values("residual", ignore_index=True)
    raw = directions(np.column_stack([np.ones(len(X)), X]), centred=False)
    centred = directions(X, centred=True)
    frame = pd.DataFrame(index=pd.Index(names, name="feature"))
    frame["equation"] = [
        next((e for c, e in zip(equations["column"], equations["equation"], strict=True) if c == n or n in _words(e)), "") for n in names
    ]
    frame["condition_index"] = [float(centred.indices[int(np.argmax(centred.proportions[:, k]))]) for k in range(len(names))]
    more = {
        "equations": equations,
        "directions": _table(raw, ["(intercept)", *names]),
        "directions_centred": _table(centred, names),
        "proportions": pd.DataFrame(raw.proportions, columns=["(intercept)", *names], index=np.round(raw.indices, 3)),
        "proportions_centred": pd.DataFrame(centred.proportions, columns=names, index=np.round(centred.indices, 3)),
    }
    words = (f"{len(X):,} rows, {len(names)} number columns", *notes)
    return Findings("dependencies", frame, "condition_index", True, {"tolerance": tolerance}, words, more, {"condition_index": "higher"})


def _words(equation: str) -> set[str]:
    return set(equation.replace("=", " ").split())


def equation(r: Relation, names: Sequence[str]) -> str:
    """`sieve_fine = 100 - sieve_coarse - sieve_medium`."""
    terms = sorted(zip(r.coefficients, r.others, strict=True), key=lambda t: int(t[1]))
    text = f"{r.intercept:.10g}" if r.intercept or not terms else ""
    for weight, k in terms:
        if weight == 0:
            continue
        size = "" if abs(abs(weight) - 1) < 1e-12 else f"{abs(weight):.6g} × "
        sign = (" - " if weight < 0 else " + ") if text else ("-" if weight < 0 else "")
        text += f"{sign}{size}{names[int(k)]}"
    return f"{names[r.column]} = {text}"


def _table(d: Any, names: list[str]) -> pd.DataFrame:
    import pandas as pd

    rows = []
    for k in range(d.indices.size - 1, -1, -1):
        loading = [names[j] for j in np.argsort(-d.proportions[k], kind="stable") if d.proportions[k, j] > LOADS]
        rows.append((d.indices[k], d.eigenvalues[k], len(loading) > 1 and d.indices[k] > HIGH_INDEX, ", ".join(loading)))
    return pd.DataFrame(rows, columns=["condition_index", "eigenvalue", "near_singular", "columns"])


def components(
    table: Table,
    *,
    share: float = 0.9,
    shuffles: int = 20,
    features: Sequence[str] | None = None,
    seed: int = 0,
    workers: int | None = None,
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
        beyond_chance.

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
    matrix = number_matrix(table, features)
    work = Work(seed, workers)
    notes = [matrix.note] if matrix.note else []
    if enough_complete(matrix):
        matrix, note = complete_rows(matrix)
        notes += [note] if note else []
    C = np.nan_to_num(_matrix(matrix, "pearson", work)[0])
    np.fill_diagonal(C, 1.0)
    if np.isnan(matrix.X).any():
        C = nearest_positive(C)
        notes.append("gaps: correlations over the rows where both columns are present, negative eigenvalues clipped")
    return _component_findings(matrix, C, share, shuffles, notes, work)


def _component_findings(matrix: Matrix, C: Any, share: float, shuffles: int, notes: list[str], work: Work) -> Findings:
    """Components of a correlation matrix as frames."""
    import pandas as pd

    found = components_of(C)
    p = len(matrix.names)
    explained = found.eigenvalues / p
    reach = int(np.searchsorted(np.cumsum(explained), share - 1e-12) + 1)
    chance = _chance(matrix.X, work, shuffles)
    beyond = int(np.argmin(np.append(found.eigenvalues > chance, False))) if shuffles else reach
    kept = max(beyond, 1)
    held = (found.loadings[:, :kept] ** 2).sum(1)
    top = np.abs(found.loadings[:, :kept]).argmax(1)
    frame = pd.DataFrame(
        {"communality": held, "component": top + 1, "loading": found.loadings[np.arange(p), top]},
        index=pd.Index(matrix.names, name="feature"),
    )
    parts = pd.DataFrame(
        {
            "eigenvalue": found.eigenvalues,
            "explained": explained,
            "cumulative": np.cumsum(explained),
            "chance": chance if shuffles else np.nan,
        },
        index=pd.Index(np.arange(1, p + 1), name="component"),
    )
    loadings = pd.DataFrame(found.loadings, index=list(matrix.names), columns=np.arange(1, p + 1))
    words = f"{reach} of {p} components hold {share:.0%} of the variation" + (f"; {beyond} are beyond chance" if shuffles else "")
    notes = [
        f"{matrix.X.shape[1]:,} rows, {p} number columns",
        words,
        "components are mixtures of columns, not a choice of columns",
        *notes,
    ]
    settings = {"share": share, "shuffles": shuffles, "reach": reach, "beyond_chance": beyond}
    return Findings(
        "components",
        frame,
        "communality",
        True,
        settings,
        tuple(notes),
        {"components": parts, "loadings": loadings},
        {"communality": "higher", "loading": "magnitude"},
    )


def _chance(X: Any, work: Work, shuffles: int) -> Any:
    """95th percentile of each eigenvalue when every column is shuffled by itself."""
    Z = np.where(np.isnan(X), np.nanmean(X, 1, keepdims=True), X)
    Z = Z - Z.mean(1, keepdims=True)
    Z /= np.sqrt((Z * Z).sum(1, keepdims=True))

    def one(k: int) -> Any:
        S = work.stream("parallel analysis", k).permuted(Z, axis=1)
        return np.linalg.eigvalsh(S @ S.T)[::-1]

    drawn = work.each(one, range(shuffles))
    return np.quantile(np.array(drawn), 0.95, axis=0) if drawn else np.zeros(len(X))
