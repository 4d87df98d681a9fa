"""Cross-validated squared error of many sets, each solved by itself from the tables of the folds.

Cross-validated least squares while a set grows: what every addition would score, without tables of all columns against all.

Cross-validated error of every set there is: each set is its parent with one feature more, whose tables hold only what may still
come.
"""

import numpy as np

from libc.math cimport NAN, sqrt
from libc.stdint cimport int64_t

ctypedef fused Error:
    float
    double


def enter(
    const double[:, ::1] A, const double[:, ::1] V, int64_t c, int64_t k, int64_t[::1] members, double[:, ::1] B, double[::1] d,
    double[::1] v, double[:, ::1] ay, double[:, ::1] vy, int64_t first_target, double[::1] a, double[::1] w
):
    """Column c comes in as the k-th.

    A, V : float64 (q, q), training cross-products and test moments. Not modified.  members : int64 (>= k + 1,).
    B : float64 (q, >= k + 1).  d, v : float64 (q,): products of each residual with itself, on training and test rows.
    ay, vy : float64 (q, targets): with the targets' residuals.  All of these modified in place.  a, w : float64 (q,), overwritten.
    """
    cdef int64_t q, targets, j, s, t
    cdef double[::1] at_members = np.empty(k), of_c = np.empty(k)
    cdef double[::1] f_target = np.empty(A.shape[0] - first_target), v_target = np.empty(A.shape[0] - first_target)
    cdef double f, x, dc, vcc
    cdef const double *row
    with nogil:
        q = A.shape[0]
        targets = q - first_target
        for j in range(q):
            w[j] = V[c, j]
        for s in range(k):
            f = B[c, s]
            row = &V[members[s], 0]
            for j in range(q):
                w[j] -= f * row[j]
        for j in range(q):
            x = A[c, j]
            for s in range(k):
                x -= B[j, s] * A[c, members[s]]
            a[j] = x
        for s in range(k):
            at_members[s] = w[members[s]]
        for j in range(q):  # w becomes the test products of the residuals with that of c
            x = w[j]
            for s in range(k):
                x -= B[j, s] * at_members[s]
            w[j] = x
        dc, vcc = a[c], w[c]
        for s in range(k):
            of_c[s] = B[c, s]
        for t in range(targets):
            f_target[t] = a[first_target + t] / dc
            v_target[t] = w[first_target + t]
        for j in range(q):
            f = a[j] / dc
            d[j] -= f * a[j]
            v[j] += f * (f * vcc - 2.0 * w[j])
            for t in range(targets):
                ay[j, t] -= f * a[first_target + t]
                vy[j, t] += f * (f_target[t] * vcc - v_target[t]) - f_target[t] * w[j]
            for s in range(k):
                B[j, s] -= f * of_c[s]
            B[j, k] = f
        members[k] = c


def errors_with(
    const int64_t[::1] columns, const double[::1] d, const double[::1] v, const double[:, ::1] ay, const double[:, ::1] vy,
    const double[::1] base, int64_t first_target, double tolerance, double[::1] out
):
    """Test error with each column added, NaN where it would be singular; a column of -1 adds nothing.

    columns : int64 (n,).  base : float64 (q,): d before anything came in.  out : float64 (n,). Modified in place.
    """
    cdef int64_t targets, t, i, j
    cdef double now, e, x
    with nogil:
        targets = ay.shape[1]
        now = 0.0
        for t in range(targets):
            now += v[first_target + t]
        for i in range(columns.shape[0]):
            j = columns[i]
            if j < 0:
                out[i] = now
            elif d[j] <= tolerance * base[j]:
                out[i] = NAN
            else:
                e = now
                for t in range(targets):
                    x = ay[j, t] / d[j]
                    e += x * (x * v[j] - 2.0 * vy[j, t])
                out[i] = e


cdef void _errors_without(
    const double[:, ::1] A, const double[:, ::1] V, const int64_t[::1] members, int64_t k, int64_t first_target, double[::1] out,
    double[:, ::1] L, double[:, ::1] C, double[:, ::1] beta, double[:, ::1] gradient
) noexcept nogil:
    cdef int64_t q, targets, i, c, t, s, j, y, l
    cdef double now, e, curve, x, step, along
    cdef const double *row
    q = A.shape[0]
    targets = q - first_target
    for i in range(k):
        for j in range(i + 1):
            x = A[members[i], members[j]]
            for l in range(j):
                x -= L[i, l] * L[j, l]
            if i == j:
                if x <= 0.0:
                    out[:k] = NAN
                    return
                L[i, i] = sqrt(x)
            else:
                L[i, j] = x / L[j, j]
    # C becomes the inverse, column by column.
    for c in range(k):
        for i in range(c, k):
            x = 1.0 if i == c else 0.0
            for l in range(c, i):
                x -= L[i, l] * C[c, l]
            C[c, i] = x / L[i, i]
        for i in range(k - 1, -1, -1):
            x = C[c, i]
            for l in range(i + 1, k):
                x -= L[l, i] * C[c, l]
            C[c, i] = x / L[i, i]
    now = 0.0
    for t in range(targets):
        y = first_target + t
        for i in range(k):
            x = 0.0
            for j in range(k):
                x += C[i, j] * A[members[j], y]
            beta[t, i] = x
        e = V[y, y]
        for i in range(k):
            x = -V[members[i], y]
            for j in range(k):
                x += V[members[i], members[j]] * beta[t, j]
            gradient[t, i] = x
            e += beta[t, i] * (x - V[members[i], y])
        now += e
    for s in range(k):
        curve = 0.0  # the test moment along the direction in which the others move when s goes
        for i in range(k):
            x = 0.0
            row = &V[members[i], 0]
            for j in range(k):
                x += row[members[j]] * C[s, j]
            curve += C[s, i] * x
        e = now
        for t in range(targets):
            step = -beta[t, s] / C[s, s]
            along = 0.0
            for i in range(k):
                along += C[s, i] * gradient[t, i]
            e += step * (2.0 * along + step * curve)
        out[s] = e


def errors_without(
    const double[:, ::1] A, const double[:, ::1] V, const int64_t[::1] members, int64_t k, int64_t first_target, double[::1] out
):
    """Test error with each member taken out; NaN throughout where the set is singular.

    members : int64 (>= k,).  out : float64 (k,). Modified in place.
    """
    cdef int64_t targets = A.shape[0] - first_target
    cdef double[:, ::1] L = np.empty((k, k)), C = np.zeros((k, k)), beta = np.empty((targets, k)), gradient = np.empty((targets, k))
    with nogil:
        _errors_without(A, V, members, k, first_target, out, L, C, beta, gradient)


cdef inline bint bring_in(
    double[:, :, :, ::1] T, int64_t depth, int64_t at, int64_t q, double base, int64_t to, double *c, double tolerance
) noexcept nogil:
    """Bring in one column; what is behind it goes to the tables of another depth. False: singular.

    T : float64 (depths, 2, size, size): A and V of every depth.  at : the column's place at `depth`, of q columns and targets there.
    base : its diagonal in A before anything came in.  c : float64 (>= q,), overwritten.
    """
    cdef double d, v, f, g, a
    cdef int64_t i, to_i, j
    d = T[depth, 0, at, at]
    if d <= tolerance * base:
        return False
    v = T[depth, 1, at, at]
    for i in range(at + 1, q):
        c[i] = T[depth, 0, at, i] / d
    for i in range(at + 1, q):
        f = c[i]
        g = T[depth, 1, at, i] - f * v
        a = T[depth, 0, at, i]
        to_i = i - at - 1
        for j in range(i, q):
            T[to, 0, to_i, j - at - 1] = T[depth, 0, i, j] - a * c[j]
            T[to, 1, to_i, j - at - 1] = T[depth, 1, i, j] - f * T[depth, 1, at, j] - g * c[j]
    return True


cdef inline void pass_on(double[:, :, :, ::1] T, int64_t depth, int64_t at, int64_t q, int64_t to) noexcept nogil:
    """What is behind a place goes to another depth as it is."""
    cdef int64_t i, j
    for i in range(at, q):
        for j in range(i, q):
            T[to, 0, i - at, j - at] = T[depth, 0, i, j]
            T[to, 1, i - at, j - at] = T[depth, 1, i, j]


cdef inline bint bring_in_all(
    double[:, :, :, ::1] T, int64_t depth, int64_t at, int64_t width, int64_t q, const double *base, int64_t first, int64_t to,
    int64_t spare, double *c, double tolerance
) noexcept nogil:
    """Bring in a feature of several columns (or none), by way of two spare depths. False: singular."""
    cdef int64_t k, here, place, left, there
    if width == 0:
        pass_on(T, depth, at, q, to)
        return True
    here, place, left = depth, at, q
    for k in range(width):
        there = to if k == width - 1 else spare + k % 2
        if not bring_in(T, here, place, left, base[first + k], there, c, tolerance):
            return False
        here, left, place = there, left - place - 1, 0
    return True


cdef inline void walk_all(
    double[:, :, :, ::1] T, const double *base, const int64_t[::1] start, int64_t targets, double tolerance, double *c, int64_t *last,
    int64_t *following, int64_t *mask, Error *out
) noexcept nogil:
    """Error of every set; see `errors_of_all`, which makes room for it. T[0] holds the tables of nothing, the last three are spare."""
    cdef int64_t p, size, spare, depth, j, from_, q, at, here, width, t, to, end
    cdef double d, e, x
    p = start.shape[0] - 1
    size = T.shape[2]
    spare = T.shape[0] - 3
    depth = 0
    while depth >= 0:
        j = following[depth]
        if j >= p:
            depth -= 1
            continue
        following[depth] += 1
        from_ = start[last[depth] + 1]
        q = size - from_
        at = start[j] - from_
        here = mask[depth] | (1 << j)
        width = start[j + 1] - start[j]
        if width == 1:
            d = T[depth, 0, at, at]
            if d <= tolerance * base[start[j]]:
                continue
            e = 0.0
            for t in range(q - targets, q):
                x = T[depth, 0, at, t] / d
                e += T[depth, 1, t, t] - 2.0 * x * T[depth, 1, at, t] + x * x * T[depth, 1, at, at]
            out[here] = e
            if j == p - 1:
                continue
            bring_in(T, depth, at, q, base[start[j]], depth + 1, c, tolerance)
        else:
            to = depth + 1 if j < p - 1 else spare + 2
            if not bring_in_all(T, depth, at, width, q, base, start[j], to, spare, c, tolerance):
                continue
            end = q - at - width
            e = 0.0
            for t in range(end - targets, end):
                e += T[to, 1, t, t]
            out[here] = e
        if j < p - 1:
            depth += 1
            last[depth], following[depth], mask[depth] = j, j + 1, here


def errors_of_all(
    const double[:, ::1] A, const double[:, ::1] V, const double[::1] base, const int64_t[::1] widths, int64_t targets, double tolerance,
    Error[::1] out
):
    """Error of every set of the features in one fold.

    A, V : float64 (q, q): columns of the features one after the other, targets last. Not modified.  base : float64 (q,).
    widths : int64 (p,): live columns of each feature in this fold.
    out : float64 (2 ** p,): by the set as a number, feature k its bit k. Only regular sets are written.
    """
    cdef int64_t p = widths.shape[0], size = A.shape[0], k, t
    cdef double[:, :, :, ::1] T = np.empty((p + 4, 2, size, size))
    cdef int64_t[::1] start = np.zeros(p + 1, np.int64), last = np.zeros(p + 1, np.int64)
    cdef int64_t[::1] following = np.zeros(p + 1, np.int64), mask = np.zeros(p + 1, np.int64)
    cdef double[::1] room = np.empty(size)
    T[0, 0, :, :] = A
    T[0, 1, :, :] = V
    with nogil:
        for k in range(p):
            start[k + 1] = start[k] + widths[k]
        last[0] = -1
        out[0] = 0.0
        for t in range(size - targets, size):
            out[0] += V[t, t]
        walk_all(T, &base[0], start, targets, tolerance, &room[0], &last[0], &following[0], &mask[0], &out[0])


def set_errors(
    const double[:, ::1] A, const double[:, ::1] V, const int64_t[::1] starts, const int64_t[::1] members, const int64_t[::1] ends,
    int64_t first_target, double tolerance, double[::1] out
):
    """Test error of each set in one fold, summed over targets; NaN where a set is singular.

    A, V : float64 (q, q): training cross-products with the penalty, test second moments about the training means. Not modified.
    starts : int64 (features + 1,): columns of each feature.
    members : int64: features of all sets, one set after the other;  ends : int64 (sets,): where each set ends in `members`.
    tolerance : a pivot below this share of the column's own diagonal is singular.  out : float64 (sets,). Modified in place.
    """
    cdef int64_t targets, begin, s, k, m, i, t, c, j, y, l
    cdef int64_t[::1] columns = np.empty(first_target, np.int64)
    cdef double[:, ::1] W = np.empty((first_target, A.shape[0]))  # upper triangle of the set's products, targets behind: rows lie together
    cdef double[::1] b = np.empty(first_target)
    cdef bint regular
    cdef double total, d, e, f, x, half
    cdef double *above
    cdef double *here
    cdef const double *row
    with nogil:
        targets = A.shape[0] - first_target
        begin = 0
        for s in range(ends.shape[0]):
            k = 0
            for m in range(begin, ends[s]):
                for c in range(starts[members[m]], starts[members[m] + 1]):
                    columns[k] = c
                    k += 1
            begin = ends[s]
            for i in range(k):
                row = &A[columns[i], 0]
                for j in range(i, k):
                    W[i, j] = row[columns[j]]
                for t in range(targets):
                    W[i, k + t] = row[first_target + t]
            regular = True
            for i in range(k):
                d = W[i, i]
                if d <= tolerance * A[columns[i], columns[i]]:
                    regular = False
                    break
                for j in range(i + 1, k):
                    f = W[i, j] / d
                    above = &W[i, j]
                    here = &W[j, j]
                    for l in range(k + targets - j):
                        here[l] -= f * above[l]
            if not regular:
                out[s] = NAN
                continue
            total = 0.0
            for t in range(targets):
                y = first_target + t
                for i in range(k - 1, -1, -1):
                    x = W[i, k + t]
                    for l in range(i + 1, k):
                        x -= W[i, l] * b[l]
                    b[i] = x / W[i, i]
                e = V[y, y]
                for i in range(k):
                    row = &V[columns[i], 0]
                    half = 0.0
                    for l in range(i):
                        half += b[l] * row[columns[l]]
                    e += b[i] * (b[i] * row[columns[i]] + 2.0 * half - 2.0 * row[y])
                total += e
            out[s] = total
