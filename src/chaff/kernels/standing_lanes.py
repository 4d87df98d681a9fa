"""Trees of two levels on three columns each for 64 targets at once; see `chaff.kernels.standing`.

One row of 64 targets side by side is added to the bin of that row, so that 64 targets cost a few vector operations.
"""

from __future__ import annotations

from chaff.kernels.jit import lean_helper, lean_kernel
from chaff.kernels.standing import best_levels, mark_levels

LANES = 64


@lean_helper
def add_lanes(c0, c1, c2, Y, S0, S1, S2):
    """S[bin, l] += Y[i, l] for every row, lane and column. Modified in place."""
    for i in range(c0.size):
        a = c0[i]
        b = c1[i]
        d = c2[i]
        for l in range(LANES):
            S0[a, l] += Y[i, l]
        for l in range(LANES):
            S1[b, l] += Y[i, l]
        for l in range(LANES):
            S2[d, l] += Y[i, l]


@lean_helper
def add_left(c0, c1, c2, Y, M0, M1, M2, L, one, P0, P1, P2):
    """P[bin, :64] sums and P[bin, 64:] counts of the rows that go left, in the lanes. Modified in place.

    M : (bins, 64), all bits set where a bin of the column that splits in this lane goes left.  L : (128,), room.
    """
    for i in range(c0.size):
        a = c0[i]
        b = c1[i]
        d = c2[i]
        for l in range(LANES):
            s = M0[a, l] | M1[b, l] | M2[d, l]
            L[l] = s & Y[i, l]
            L[LANES + l] = s & one
        for l in range(2 * LANES):
            P0[a, l] += L[l]
        for l in range(2 * LANES):
            P1[b, l] += L[l]
        for l in range(2 * LANES):
            P2[d, l] += L[l]


@lean_helper
def add_classes(g, classes, targets):
    """Gains of a target's class lanes added up, in its first lanes."""
    if classes > 1:
        for t in range(targets):
            x = 0.0
            for k in range(classes):
                x += g[t * classes + k]
            g[t] = x


@lean_helper
def scan_root(S, count, size, n, totals, leaf, classes, targets, acc, g, best, cut):
    """Best gain and last bin on the left of an ordered column, in the lanes."""
    for l in range(LANES):
        acc[l] = 0.0
        best[l] = 0.0
        cut[l] = -1.0
    c = 0.0
    for b in range(size - 1):
        c += count[b]
        for l in range(LANES):
            acc[l] += S[b, l]
        if c < leaf or n - c < leaf:
            continue
        den = n * (c * (n - c))
        at = float(b)
        for l in range(LANES):
            d = acc[l] * n - totals[l] * c
            g[l] = d * d / den
        add_classes(g, classes, targets)
        for l in range(LANES):
            up = g[l] > best[l]
            best[l] = g[l] if up else best[l]
            cut[l] = at if up else cut[l]


@lean_helper
def scan_child(P, S, count, size, right, m, totals, leaf, classes, targets, ac, acc, g, best):
    """Best gain of an ordered column in one child, in the lanes."""
    for l in range(LANES):
        ac[l] = 0.0
        acc[l] = 0.0
        best[l] = 0.0
    for b in range(size - 1):
        c0 = count[b]
        if right:
            for l in range(LANES):
                ac[l] += c0 - float(P[b, LANES + l])
                acc[l] += float(S[b, l]) - float(P[b, l])
        else:
            for l in range(LANES):
                ac[l] += float(P[b, LANES + l])
                acc[l] += float(P[b, l])
        for l in range(LANES):
            fits = (ac[l] >= leaf) & (m[l] - ac[l] >= leaf)
            d = acc[l] * m[l] - totals[l] * ac[l]
            den = m[l] * (ac[l] * (m[l] - ac[l]))
            g[l] = d * d / den if fits else 0.0
        add_classes(g, classes, targets)
        for l in range(LANES):
            best[l] = max(best[l], g[l])


@lean_helper
def levels_of_root(S, count, size, n, totals, leaf, classes, lead, t, c, s, key, order, own, left):
    at = t * classes
    for b in range(size):
        c[b] = count[b]
        for k in range(classes):
            s[b, k] = float(S[b, at + k])
    for k in range(classes):
        own[k] = totals[at + k]
    return best_levels(size, classes, lead, leaf, n, own, c, s, key, order, left)


@lean_helper
def levels_of_child(P, S, count, size, right, m, totals, leaf, classes, lead, t, c, s, key, order, own, left):
    at = t * classes
    for b in range(size):
        x = float(P[b, LANES + at])
        c[b] = count[b] - x if right else x
        for k in range(classes):
            y = float(P[b, at + k])
            s[b, k] = float(S[b, at + k]) - y if right else y
    for k in range(classes):
        own[k] = totals[at + k]
    return best_levels(size, classes, lead, leaf, m[at], own, c, s, key, order, left)[0]


@lean_helper
def send_left(S, counts, sizes, category, cols, n, totals, leaf, classes, lead, t, full, best, cut, M, m, tt, c, s, key, order, own, left):
    """Split the root by the best column of target t: mark its bins on the left in M, count their rows in m[0] and sum them up in
    tt[0], in the lanes of the target. Modified in place."""
    win = 0
    for j in range(1, cols.size):
        if best[j, t] > best[win, t]:
            win = j
    if best[win, t] <= 0.0:
        return
    f = cols[win]
    if category[f]:
        _, at = levels_of_root(S[win], counts[f], sizes[f], n, totals, leaf, classes, lead, t, c, s, key, order, own, left)
        for b in range(sizes[f]):
            c[b] = counts[f, b]
        for k in range(classes):
            mark_levels(c, leaf, sizes[f], order, at, M[win, :, t * classes + k], full)
    else:
        for b in range(int(cut[win, t]) + 1):
            for k in range(classes):
                M[win, b, t * classes + k] = full
    for b in range(sizes[f]):
        for k in range(classes):
            l = t * classes + k
            if M[win, b, l] != 0:
                m[0, l] += counts[f, b]
                tt[0, l] += float(S[win, b, l])


@lean_kernel
def lanes_of_trees(
    columns, Y, drawn, sizes, category, counts, classes, targets, lead, leaf, levels, full, one, gains,
    S, P, M, L, totals, best, cut, acc, ac, g, m, tt, c, s, key, order, own, left,
):  # fmt: skip
    """Add what each column explains in each tree to `gains`, for up to 64 lanes of targets at once.

    columns : uint8 (p, n).  Y : (n, 64) unsigned, targets side by side; of several classes an indicator each.
    drawn : int64 (trees, 3), columns of each tree.  sizes : int64 (p,) codes.  category : bool (p,).
    counts : float64 (p, 256) rows of each code.  leaf : float.  levels : 1 or 2.  full : the unsigned number with all bits set,
    one : 1 in the same type.  gains : float64 (64, p), rows 0..targets - 1 are filled.  The rest is room to work in.
    """
    n = float(Y.shape[0])
    for l in range(LANES):
        totals[l] = 0.0
    for i in range(Y.shape[0]):
        for l in range(LANES):
            totals[l] += float(Y[i, l])
    q = 3
    for tree in range(drawn.shape[0]):
        cols = drawn[tree]
        for j in range(q):
            for b in range(sizes[cols[j]]):
                for l in range(LANES):
                    S[j, b, l] = 0
        add_lanes(columns[cols[0]], columns[cols[1]], columns[cols[2]], Y, S[0], S[1], S[2])
        for j in range(q):
            f = cols[j]
            if category[f]:
                for t in range(targets):
                    x, at = levels_of_root(
                        S[j], counts[f], sizes[f], n, totals, leaf, classes, lead, t, c, s, key, order, own, left
                    )  # fmt: skip
                    best[j, t] = x
                    cut[j, t] = float(at)
            else:
                scan_root(S[j], counts[f], sizes[f], n, totals, leaf, classes, targets, acc, g, best[j], cut[j])
            for t in range(targets):
                gains[t, f] += best[j, t]
        if levels < 2:
            continue
        for j in range(q):
            for b in range(sizes[cols[j]]):
                for l in range(LANES):
                    M[j, b, l] = 0
                for l in range(2 * LANES):
                    P[j, b, l] = 0
        for l in range(LANES):
            m[0, l] = 0.0
            tt[0, l] = 0.0
        for t in range(targets):
            send_left(
                S, counts, sizes, category, cols, n, totals, leaf, classes, lead, t, full, best, cut, M, m, tt, c, s, key, order, own, left
            )
        add_left(columns[cols[0]], columns[cols[1]], columns[cols[2]], Y, M[0], M[1], M[2], L, one, P[0], P[1], P[2])
        for l in range(LANES):
            m[1, l] = n - m[0, l]
            tt[1, l] = totals[l] - tt[0, l]
        for side in range(2):
            for j in range(q):
                f = cols[j]
                if category[f]:
                    for t in range(targets):
                        gains[t, f] += levels_of_child(
                            P[j], S[j], counts[f], sizes[f], side == 1, m[side], tt[side], leaf, classes, lead, t, c, s, key, order,
                            own, left,
                        ) if m[0, t * classes] > 0.0 else 0.0  # fmt: skip
                else:
                    scan_child(
                        P[j], S[j], counts[f], sizes[f], side == 1, m[side], tt[side], leaf, classes, targets, ac, acc, g, best[j]
                    )  # fmt: skip
                    for t in range(targets):
                        if m[0, t * classes] > 0.0:
                            gains[t, f] += best[j, t]
