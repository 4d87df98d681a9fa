"""Relations: equations among columns, exact or nearly so, and near-singular directions."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.errors import UsageError
from chaff.methods.overlap.correlations import complete_rows, enough_complete, number_matrix
from chaff.methods.overlap.overlap_data import OverlapData
from chaff.results.findings import Findings
from chaff.stats.dependence import Relation, directions, relations
from chaff.stats.tolerances import EXACT, HAIR

if TYPE_CHECKING:
    import pandas as pd

LOADS = 0.5  # variance proportion from which a column is said to load on a direction
HIGH_INDEX = 30.0
WIDEST = 5000


def dependencies(data: OverlapData, tolerance: float) -> Findings:
    """See `chaff.dependencies`."""
    import pandas as pd

    if not 0 < tolerance < 1:
        raise UsageError(f"tolerance must be between 0 and 1, not {tolerance}")
    matrix = number_matrix(data.table)
    notes = [matrix.note] if matrix.note else []
    if len(matrix.names) > WIDEST:
        raise UsageError(f"dependencies among {len(matrix.names):,} columns would take too long; name some with features=…")
    gaps = np.isnan(matrix.X).mean(1)
    if not enough_complete(matrix) and gaps.max() > 0:
        keep = gaps <= max(float(np.median(gaps)), 0.2)
        left = [n for n, k in zip(matrix.names, keep, strict=True) if not k]
        if left and keep.sum() >= 2:
            notes.append(f"too many gaps, so left out: {', '.join(left[:5])}")
            matrix = number_matrix(data.table, [n for n, k in zip(matrix.names, keep, strict=True) if k])
    matrix, note = complete_rows(matrix)
    notes += [note] if note else []
    X, names = np.ascontiguousarray(matrix.X.T), list(matrix.names)
    result = sorted(relations(X, tolerance), key=lambda r: r.residual)
    rows = [(names[r.column], equation(r, names), r.residual, r.residual <= EXACT, members(r, names)) for r in result]
    equations = pd.DataFrame(rows, columns=["column", "equation", "residual", "exact", "members"])
    raw = directions(np.column_stack([np.ones(len(X)), X]), centred=False)
    centred = directions(X, centred=True)
    frame = pd.DataFrame(index=pd.Index(names, name="feature"))
    frame["equation"] = [next((str(e["equation"]) for _, e in equations.iterrows() if n in e["members"]), "") for n in names]
    frame["condition_index"] = [float(centred.indices[int(np.argmax(centred.proportions[:, k]))]) for k in range(len(names))]
    more = {
        "equations": equations,
        "directions": _table(raw, ["(intercept)", *names]),
        "directions_centred": _table(centred, names),
        "proportions": pd.DataFrame(raw.proportions, columns=["(intercept)", *names], index=np.round(raw.indices, 3)),
        "proportions_centred": pd.DataFrame(centred.proportions, columns=names, index=np.round(centred.indices, 3)),
    }
    words = (f"{len(X):,} rows, {len(names)} number columns", *notes)
    return Findings("dependencies", frame, "condition_index", {"condition_index": "lower"}, {"tolerance": tolerance}, words, more, "worst")


def members(r: Relation, names: Sequence[str]) -> tuple[str, ...]:
    """Every column that an equation names."""
    others = [names[int(k)] for weight, k in zip(r.coefficients, r.others, strict=True) if weight != 0]
    return (names[r.column], *others)


def equation(r: Relation, names: Sequence[str]) -> str:
    """`sieve_fine = 100 - sieve_coarse - sieve_medium`."""
    terms = sorted(zip(r.coefficients, r.others, strict=True), key=lambda t: int(t[1]))
    text = f"{r.intercept:.10g}" if r.intercept or not terms else ""
    for weight, k in terms:
        if weight == 0:
            continue
        size = "" if abs(abs(weight) - 1) < HAIR else f"{abs(weight):.6g} × "
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
