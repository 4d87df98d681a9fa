"""From columns to row blocks: gather, shift, mark what is missing, and add up the complements."""

from __future__ import annotations

from chaff.kernels.jit import kernel

TILE = 8  # columns written side by side: eight float64 fill one cache line


@kernel
def gather_eight(columns, j, rows, shift, out):
    """Eight columns from j on, shifted, into a row-major block; returns a sum that is NaN when any cell was missing.

    Written out by hand: with the eight streams in registers it takes half the time of a loop over them.
    """
    c0, c1, c2, c3 = columns[j], columns[j + 1], columns[j + 2], columns[j + 3]
    c4, c5, c6, c7 = columns[j + 4], columns[j + 5], columns[j + 6], columns[j + 7]
    s0, s1, s2, s3 = shift[j], shift[j + 1], shift[j + 2], shift[j + 3]
    s4, s5, s6, s7 = shift[j + 4], shift[j + 5], shift[j + 6], shift[j + 7]
    total = 0.0
    for i in range(rows.size):
        r = rows[i]
        z0, z1, z2, z3 = c0[r] - s0, c1[r] - s1, c2[r] - s2, c3[r] - s3
        z4, z5, z6, z7 = c4[r] - s4, c5[r] - s5, c6[r] - s6, c7[r] - s7
        total += z0 + z1 + z2 + z3 + z4 + z5 + z6 + z7
        line = out[i]
        line[j], line[j + 1], line[j + 2], line[j + 3] = z0, z1, z2, z3
        line[j + 4], line[j + 5], line[j + 6], line[j + 7] = z4, z5, z6, z7
    return total


@kernel
def gather_shifted(columns, rows, shift, root_weights, out):
    """Write rows of a column-major table into a row-major block, shifted, scaled by root weight, zero where missing.

    columns : float64 (p, n), NaN where missing.  rows : int64 (b,).  shift : float64 (p,).
    root_weights : float64 (b,), or length 0 for all ones.  out : float64 (>= b, p). Modified in place.
    Returns whether any gathered cell was missing.
    """
    p = columns.shape[0]
    b = rows.size
    holes = False
    for j0 in range(0, p, TILE):
        j1 = min(j0 + TILE, p)
        total = 0.0
        if j1 - j0 == TILE:
            total = gather_eight(columns, j0, rows, shift, out)
        else:
            for i in range(b):
                for j in range(j0, j1):
                    out[i, j] = columns[j, rows[i]] - shift[j]
                    total += out[i, j]
        if total != total:
            for i in range(b):
                for j in range(j0, j1):
                    if out[i, j] != out[i, j]:
                        out[i, j] = 0.0
                        holes = True
    if root_weights.size > 0:
        for i in range(b):
            for j in range(p):
                out[i, j] *= root_weights[i]
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
