"""From columns to row blocks: gather, shift, mark what is missing, and add up the complements."""

from __future__ import annotations

from chaff.kernels.jit import kernel

TILE = 8  # columns written side by side: eight float64 fill one cache line


@kernel
def gather_shifted(columns, rows, shift, root_weights, out):
    """Write rows of a column-major table into a row-major block, shifted, scaled by root weight, zero where missing.

    columns : float64 (p, n), NaN where missing.  rows : int64 (b,).  shift : float64 (p,).
    root_weights : float64 (b,), or length 0 for all ones.  out : float64 (>= b, p). Modified in place.
    Returns whether any gathered cell was missing.
    """
    p = columns.shape[0]
    b = rows.size
    weighted = root_weights.size > 0
    holes = False
    for j0 in range(0, p, TILE):
        j1 = min(j0 + TILE, p)
        for i in range(b):
            r = rows[i]
            w = root_weights[i] if weighted else 1.0
            for j in range(j0, j1):
                z = (columns[j, r] - shift[j]) * w
                if z != z:
                    z = 0.0
                    holes = True
                out[i, j] = z
    return holes


@kernel
def mark_missing(columns, gaps, rows, out):
    """out[i, g] = 1 where column gaps[g] is missing in rows[i], else 0; returns how many cells are missing.

    columns : float64 (p, n).  gaps : int64 (g,).  rows : int64 (b,).  out : float64 (>= b, g). Modified in place.
    """
    count = 0
    for g in range(gaps.size):
        j = gaps[g]
        for i in range(rows.size):
            v = columns[j, rows[i]]
            if v != v:
                out[i, g] = 1.0
                count += 1
            else:
                out[i, g] = 0.0
    return count


@kernel
def add_complements(block, missing, root_weights, sums, squares, both):
    """Add each row with holes to the sums over 'rows where column g is missing'; linear in the missing cells.

    block : float64 (b, q), shifted, times root weight.  missing : float64 (b, g), 0 or 1.
    root_weights : float64 (b,) or length 0.  sums, squares : float64 (g, q).  both : float64 (g, g).
    sums, squares and both are modified in place.
    """
    b, q = block.shape
    g = missing.shape[1]
    weighted = root_weights.size > 0
    for i in range(b):
        w = root_weights[i] if weighted else 1.0
        for a in range(g):
            if missing[i, a] == 0.0:
                continue
            for c in range(g):
                if missing[i, c] != 0.0:
                    both[a, c] += w * w
            for l in range(q):
                z = block[i, l]
                sums[a, l] += w * z
                squares[a, l] += z * z
