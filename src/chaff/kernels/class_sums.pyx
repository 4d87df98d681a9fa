"""Sums by class, columns side by side: everything the one-way tests need, in one pass over the cells."""

from libc.stdint cimport int64_t, uint8_t


def class_sums_of_eight(
    const double[::1] c0, const double[::1] c1, const double[::1] c2, const double[::1] c3, const double[::1] c4, const double[::1] c5,
    const double[::1] c6, const double[::1] c7, const uint8_t[::1] classes, const double[::1] shift, double[:, ::1] out
):
    """out[k] += (sums of the eight columns over class k, their sums of squares), about the shift.

    c0..c7 : float64 (n,).  classes : uint8 (n,), 0..K-1.  shift : float64 (8,).  out : float64 (K, 16). Modified in place.
    Written out by hand: eight columns share one look at the class, and their adds do not wait for one another.
    """
    cdef int64_t i
    cdef double s0, s1, s2, s3, s4, s5, s6, s7, z0, z1, z2, z3, z4, z5, z6, z7
    cdef double *line
    with nogil:
        s0, s1, s2, s3, s4, s5, s6, s7 = shift[0], shift[1], shift[2], shift[3], shift[4], shift[5], shift[6], shift[7]
        for i in range(classes.shape[0]):
            line = &out[classes[i], 0]
            z0, z1, z2, z3 = c0[i] - s0, c1[i] - s1, c2[i] - s2, c3[i] - s3
            z4, z5, z6, z7 = c4[i] - s4, c5[i] - s5, c6[i] - s6, c7[i] - s7
            line[0] += z0
            line[1] += z1
            line[2] += z2
            line[3] += z3
            line[4] += z4
            line[5] += z5
            line[6] += z6
            line[7] += z7
            line[8] += z0 * z0
            line[9] += z1 * z1
            line[10] += z2 * z2
            line[11] += z3 * z3
            line[12] += z4 * z4
            line[13] += z5 * z5
            line[14] += z6 * z6
            line[15] += z7 * z7


def class_sums(const double[::1] values, const int64_t[::1] classes, const double[::1] weights, double shift, double[:, ::1] out):
    """out[k] += (rows, weight, weighted sum, weighted sum of squares) of class k over the cells that are there.

    values : float64 (n,), NaN where missing.  classes : int64 (n,); a negative class takes no part.
    weights : float64 (n,), or length 0.  out : float64 (K, 4). Modified in place.
    """
    cdef bint weighted
    cdef int64_t i
    cdef double v, w, z
    cdef double *line
    with nogil:
        weighted = weights.shape[0] > 0
        for i in range(values.shape[0]):
            v = values[i]
            if v != v or classes[i] < 0:
                continue
            w = weights[i] if weighted else 1.0
            z = v - shift
            line = &out[classes[i], 0]
            line[0] += 1.0
            line[1] += w
            line[2] += w * z
            line[3] += w * z * z


def sums_with_targets(
    const double[::1] values, double shift, const int64_t[::1] part, const double[:, ::1] targets, const double[::1] weights,
    double[:, ::1] out
):
    """Per part of the rows, over those where the column is present: weight, Σx, Σx², and for each target Σy and Σxy.

    values : float64 (n,), NaN where missing; taken about `shift`.  part : int64 (n,), -1 for none.  targets : float64 (n, t).
    weights : float64 (n,) or length 0.  out : float64 (parts, 3 + 2 t). Added to in place.
    """
    cdef int64_t t, i, k, j
    cdef bint weighted
    cdef double x, w, y
    cdef double *line
    with nogil:
        t = targets.shape[1]
        weighted = weights.shape[0] > 0
        for i in range(values.shape[0]):
            x = values[i] - shift
            k = part[i]
            if x != x or k < 0:
                continue
            w = weights[i] if weighted else 1.0
            line = &out[k, 0]
            line[0] += w
            line[1] += w * x
            line[2] += w * x * x
            for j in range(t):
                y = w * targets[i, j]
                line[3 + j] += y
                line[3 + t + j] += x * y


def joint_moments(const double[::1] x, const double[::1] y, const double[::1] centre, double[::1] out):
    """Σ x², Σ y², Σ xy, Σ x⁴, Σ x³y, Σ x²y², Σ xy³, Σ y⁴ about the two centres.

    x, y : float64 (n,), without NaN.  centre : float64 (2,).  out : float64 (8,). Added to in place.
    """
    cdef int64_t i
    cdef double mx, my, a0, a1, a2, a3, a4, a5, a6, a7, a, b, aa, bb, ab
    with nogil:
        mx, my = centre[0], centre[1]
        a0, a1, a2, a3, a4, a5, a6, a7 = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
        for i in range(x.shape[0]):
            a, b = x[i] - mx, y[i] - my
            aa, bb, ab = a * a, b * b, a * b
            a0 += aa
            a1 += bb
            a2 += ab
            a3 += aa * aa
            a4 += aa * ab
            a5 += aa * bb
            a6 += ab * bb
            a7 += bb * bb
        out[0] += a0
        out[1] += a1
        out[2] += a2
        out[3] += a3
        out[4] += a4
        out[5] += a5
        out[6] += a6
        out[7] += a7


def sums_beside(const double[::1] x, const double[::1] y, double[::1] out):
    """(rows, Σx, Σx², Σy, Σy², Σxy) about the two means, over the rows where x is there.

    x : float64 (n,), NaN where missing.  y : float64 (n,), without NaN.  out : float64 (6,). Written.
    """
    cdef int64_t i, n
    cdef double sx, sy, mx, my, a0, a1, a2, a3, a4, a, b
    with nogil:
        n, sx, sy = 0, 0.0, 0.0
        for i in range(x.shape[0]):
            if x[i] == x[i]:
                n += 1
                sx += x[i]
                sy += y[i]
        mx, my = sx / max(n, 1), sy / max(n, 1)
        a0, a1, a2, a3, a4 = 0.0, 0.0, 0.0, 0.0, 0.0
        for i in range(x.shape[0]):
            if x[i] == x[i]:
                a, b = x[i] - mx, y[i] - my
                a0 += a
                a1 += a * a
                a2 += b
                a3 += b * b
                a4 += a * b
        out[0], out[1], out[2], out[3], out[4], out[5] = n, a0, a1, a2, a3, a4


cdef void _shape_where(const double[::1] values, const double[::1] there, double[::1] out) noexcept nogil:
    cdef int64_t i, n
    cdef double square, s, mean, third, fourth, unit, z, zz
    n, s = 0, 0.0
    for i in range(values.shape[0]):
        if there[i] == there[i]:
            n += 1
            s += values[i]
    mean, square = s / max(n, 1), 0.0
    for i in range(values.shape[0]):
        if there[i] == there[i]:
            square += (values[i] - mean) * (values[i] - mean)
    square /= max(n, 1)
    out[0], out[1], out[2] = n, 0.0, 0.0
    if not square > 1e-30 * mean * mean:  # rounding of the mean, at the most
        return
    third, fourth, unit = 0.0, 0.0, 1.0 / square**0.5
    for i in range(values.shape[0]):
        if there[i] == there[i]:
            z = (values[i] - mean) * unit
            zz = z * z
            third += zz * z
            fourth += zz * zz
    out[1], out[2] = third / n, fourth / n - 3.0


def shape_where(const double[::1] values, const double[::1] there, double[::1] out):
    """(rows, skewness, excess kurtosis) over the rows where `there` is a number; both 0 where nothing varies.

    values, there : float64 (n,), NaN in `there` where missing.  out : float64 (3,). Written.
    """
    with nogil:
        _shape_where(values, there, out)
