"""Least squares and logistic regression as the user reads them: from the rows themselves, by QR.

Tests of residuals: normality, constant variance, lack of fit.

Least squares and ridge from cross-products.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.stats.dependence import independent, triangle
from chaff.stats.logistic import fit_logistic
from chaff.stats.tail_probabilities import chi_square_upper, f_upper, normal_upper, t_two_sided
from chaff.stats.tolerances import FLAT, SINGULAR


@dataclass(frozen=True)
class Test:
    statistic: float
    df: float
    p: float


def normality(e: Floats) -> tuple[Test, float, float]:
    """(test, skew, excess kurtosis): skewness and kurtosis together.  Source: D'Agostino and Pearson, 1973.

    Needs 20 rows; NaN below.
    """
    n = e.size
    z = e - e.mean()
    m2 = float((z**2).mean())
    if n < 20 or m2 == 0:
        return Test(float("nan"), 2.0, float("nan")), float("nan"), float("nan")
    skew, kurtosis = float((z**3).mean() / m2**1.5), float((z**4).mean() / m2**2)
    y = skew * np.sqrt((n + 1.0) * (n + 3) / (6.0 * (n - 2)))
    beta = 3.0 * (n * n + 27.0 * n - 70) * (n + 1) * (n + 3) / ((n - 2.0) * (n + 5) * (n + 7) * (n + 9))
    w2 = -1.0 + np.sqrt(2.0 * (beta - 1.0))
    z1 = np.arcsinh(y / np.sqrt(2.0 / (w2 - 1.0))) / np.sqrt(0.5 * np.log(w2))
    expected = 3.0 * (n - 1.0) / (n + 1)
    variance = 24.0 * n * (n - 2.0) * (n - 3) / ((n + 1.0) ** 2 * (n + 3) * (n + 5))
    x = (kurtosis - expected) / np.sqrt(variance)
    root = 6.0 * (n * n - 5.0 * n + 2) / ((n + 7.0) * (n + 9)) * np.sqrt(6.0 * (n + 3) * (n + 5) / (n * (n - 2.0) * (n - 3)))
    a = 6.0 + 8.0 / root * (2.0 / root + np.sqrt(1.0 + 4.0 / root**2))
    inner = (1.0 - 2.0 / a) / (1.0 + x * np.sqrt(2.0 / (a - 4.0)))
    z2 = (1.0 - 2.0 / (9.0 * a) - np.sign(inner) * np.abs(inner) ** (1 / 3)) / np.sqrt(2.0 / (9.0 * a))
    k2 = float(z1**2 + z2**2)
    return Test(k2, 2.0, float(chi_square_upper(np.array(k2), np.array(2.0)))), skew, kurtosis - 3.0


def constant_variance(e: Floats, X: Floats) -> Test:
    """n R² of the squared residuals on the columns.  Source: Breusch and Pagan, 1979, studentised by Koenker, 1981."""
    n, q = X.shape
    u = e**2
    Z = X - X.mean(0)
    v = u - u.mean()
    if not q or float(v @ v) == 0:
        return Test(float("nan"), float(q), float("nan"))
    fit = Z @ np.linalg.lstsq(Z, v, rcond=None)[0]
    statistic = n * float(fit @ fit) / float(v @ v)
    rank = float(np.linalg.matrix_rank(Z))
    return Test(statistic, rank, float(chi_square_upper(np.array(statistic), np.array(rank))))


def lack_of_fit(y: Floats, fitted: Floats, X: Floats) -> Test:
    """Whether squares and cubes of the fitted values still explain something.  Source: Ramsey, 1969."""
    n = y.size
    z = (fitted - fitted.mean()) / (fitted.std() or 1.0)
    base = np.column_stack([np.ones(n), X])
    more = np.column_stack([base, z**2, z**3])
    rss = [float(((y - M @ np.linalg.lstsq(M, y, rcond=None)[0]) ** 2).sum()) for M in (base, more)]
    df = n - np.linalg.matrix_rank(more)
    if df < 1 or rss[1] <= 0:
        return Test(float("nan"), 2.0, float("nan"))
    f = (rss[0] - rss[1]) / 2.0 / (rss[1] / df)
    return Test(float(f), 2.0, float(f_upper(np.array(f), np.array(2.0), np.array(float(df)))))


def pivoted_solve(A: Floats, B: Floats) -> Floats:
    """Coefficients (p, t) of A x = B for positive semidefinite A (p, p) and B (p, t); columns past the rank get 0.

    Columns are scaled to unit diagonal and enter in the order of the largest remaining pivot (ties: column order), so the
    answer for a singular set does not depend on how a search came to it.
    Source: pivoted Cholesky, Higham, 1990.
    """
    from scipy.linalg import solve_triangular
    from scipy.linalg.lapack import dpstrf

    if not A.size:
        return np.zeros((0, B.shape[1]))
    d = np.sqrt(np.diagonal(A))
    out = np.zeros(B.shape)
    live = np.flatnonzero(d > 0)
    scaled = A[np.ix_(live, live)] / np.outer(d[live], d[live])
    factor, pivots, rank, _ = dpstrf(scaled, lower=1, tol=SINGULAR)
    used = live[pivots[:rank] - 1]
    L = np.tril(factor[:rank, :rank])
    half = solve_triangular(L, B[used] / d[used, None], lower=True)
    out[used] = solve_triangular(L, half, lower=True, trans="T") / d[used, None]
    return out


REFINEMENTS = 2


@dataclass(frozen=True)
class LeastSquaresFit:
    """A fit of q columns; entries of columns that are combinations of earlier ones are NaN."""

    coefficients: Floats
    intercept: float
    errors: Floats
    """Standard errors, of the kind asked for."""
    intercept_error: float
    df: int
    rss: float
    tss: float
    """About the mean with an intercept, about zero without."""
    sigma: float
    """Residual standard deviation."""
    f: float
    f_p: float
    log_likelihood: float
    aic: float
    bic: float
    condition: float
    """Of the columns scaled to unit length, centred with an intercept."""
    vif: Floats
    fitted: Floats
    residuals: Floats
    leverage: Floats
    rank: int

    @property
    def r_squared(self) -> float:
        return 1.0 - self.rss / self.tss if self.tss > 0 else float("nan")

    @property
    def adjusted(self) -> float:
        n = self.residuals.size
        whole = n - 1 if np.isfinite(self.intercept_error) else n
        return 1.0 - (1.0 - self.r_squared) * whole / self.df if self.df > 0 else float("nan")


def least_squares(
    X: Floats, y: Floats, weights: Floats | None = None, intercept: bool = True, errors: str = "plain", groups: Ints | None = None
) -> LeastSquaresFit:
    """Least squares of y on the columns X (n, q), with two rounds of refinement in extended precision.

    Parameters
    ----------
    weights : float64 (n,), optional
        Precision weights; scaled to add up to n.
    errors : "plain", "robust" or "groups"
        "robust": HC3 (MacKinnon and White, 1985).  "groups": clustered with the usual small-sample factor (Liang and Zeger, 1986).

    Notes
    -----
    AIC and BIC count σ². Source: Gauss, 1809; QR Golub, 1965.
    """
    n, q = X.shape
    w = np.ones(n) if weights is None else weights * (n / weights.sum())
    root = np.sqrt(w)
    means = (w @ X) / n if intercept else np.zeros(q)
    middle = float(w @ y) / n if intercept else 0.0
    Z, v = (X - means) * root[:, None], (y - middle) * root
    whole = np.sqrt((Z * Z).sum(0))
    keep = independent(triangle(Z / np.where(whole > 0, whole, 1.0)), SINGULAR)
    length = whole[keep]
    Q, R = np.linalg.qr(Z[:, keep] / length)
    beta = _refined(Z[:, keep], length, Q, R, v)
    fit = Z[:, keep] @ beta
    rest = v - fit
    rank = int(keep.sum())
    df = n - rank - intercept
    rss, tss = float(rest @ rest), float(v @ v)
    sigma2 = rss / df if df > 0 else float("nan")
    inverse = np.linalg.inv(R) if rank else np.zeros((0, 0))
    leverage = (Q * Q).sum(1) + (w / n if intercept else 0.0)
    cov = _covariance(Q, inverse, rest, leverage, sigma2, errors, groups, df, n, rank + intercept) / np.outer(length, length)
    coefficients, se, vif = np.full(q, np.nan), np.full(q, np.nan), np.full(q, np.nan)
    coefficients[keep], se[keep], vif[keep] = beta, np.sqrt(np.maximum(np.diagonal(cov), 0.0)), (inverse**2).sum(1)
    base = float(sigma2 / n + means[keep] @ cov @ means[keep]) if intercept else float("nan")
    with np.errstate(all="ignore"):
        f = float(np.float64(tss - rss) / rank / sigma2) if rank and sigma2 == sigma2 else float("nan")  # without an error: infinite
        log_likelihood = -0.5 * n * (np.log(2 * np.pi) + np.log(rss / n) + 1.0) + 0.5 * float(np.log(w[w > 0]).sum()) if rss > 0 else np.inf
    count = rank + intercept + 1
    s = np.linalg.svd(R, compute_uv=False) if rank else np.ones(1)
    constant = middle - float(means[keep] @ beta) if intercept else 0.0
    return LeastSquaresFit(
        coefficients,
        constant,
        se,
        float(np.sqrt(base)) if intercept and base >= 0 else float("nan"),  # below 0 by rounding: not known
        df,
        rss,
        tss,
        float(np.sqrt(sigma2)),
        float(f),
        float(f_upper(np.array(f), np.array(rank), np.array(df))) if rank else float("nan"),
        float(log_likelihood),
        float(2 * count - 2 * log_likelihood),
        float(np.log(n) * count - 2 * log_likelihood),
        float(s[0] / s[-1]) if s[-1] > 0 else float("inf"),
        vif,
        constant + X[:, keep] @ beta,
        y - constant - X[:, keep] @ beta,
        leverage,
        rank,
    )


def _refined(Z: Floats, length: Floats, Q: Floats, R: Floats, v: Floats) -> Floats:
    """Coefficients, with residuals formed in extended precision so that an ill-conditioned set loses fewer digits."""
    from scipy.linalg import solve_triangular

    if not Z.shape[1]:
        return np.zeros(0)
    beta = solve_triangular(R, Q.T @ v) / length
    wide_Z, wide_v = Z.astype(np.longdouble), v.astype(np.longdouble)
    for _ in range(REFINEMENTS):
        rest = (wide_v - wide_Z @ beta.astype(np.longdouble)).astype(float)
        beta = beta + solve_triangular(R, Q.T @ rest) / length
    return np.asarray(beta)


def _covariance(
    Q: Floats, inverse: Floats, rest: Floats, leverage: Floats, sigma2: float, errors: str, groups: Ints | None, df: int, n: int, count: int
) -> Floats:
    if errors == "plain":
        return np.asarray(sigma2 * inverse @ inverse.T)
    if errors == "robust" or groups is None:
        scores = Q * (rest / np.maximum(1.0 - leverage, FLAT))[:, None]
        return np.asarray(inverse @ (scores.T @ scores) @ inverse.T)
    names, code = np.unique(groups, return_inverse=True)
    sums = np.zeros((names.size, Q.shape[1]))
    np.add.at(sums, code, Q * rest[:, None])
    factor = names.size / max(names.size - 1.0, 1.0) * (n - 1.0) / max(n - count, 1.0)
    return np.asarray(factor * inverse @ (sums.T @ sums) @ inverse.T)


def t_interval(coefficients: Floats, errors: Floats, df: float, level: float) -> tuple[Floats, Floats, Floats, Floats]:
    """(t, p, low, high)."""
    from scipy.special import stdtrit

    with np.errstate(all="ignore"):
        t = coefficients / errors
        half = (stdtrit(df, 0.5 + level / 2) if df > 0 else np.nan) * errors
    return t, t_two_sided(t, np.full(t.shape, float(df))), coefficients - half, coefficients + half


@dataclass(frozen=True)
class LogisticModelFit:
    """Logistic regression of a 0/1 target; first entry is the intercept."""

    coefficients: Floats
    errors: Floats
    z: Floats
    p: Floats
    deviance: float
    null_deviance: float
    probabilities: Floats
    separated: bool
    """Some combination of the columns parts the classes, or some of their rows, without exception: estimates run off to infinity."""
    runaway: Ints
    """Columns whose estimates do; the others' are those of the rows that are left."""
    complete: bool
    """Whether all rows are parted: then no estimate is one."""
    steps: int


def logistic(X: Floats, y: Floats, weights: Floats | None = None) -> LogisticModelFit:
    """Logistic regression without a penalty, with its standard errors.

    Source: Cox, 1958; separation Albert and Anderson, 1984.
    """
    n = len(X)
    w = np.ones(n) if weights is None else weights * (n / weights.sum())
    means, spread = X.mean(0), np.where(X.std(0) > 0, X.std(0), 1.0)
    Z = np.column_stack([np.ones(n), (X - means) / spread])
    fit = fit_logistic(Z[:, 1:], y[:, None], w, 0.0)
    beta = fit.coefficients[:, 0]
    complete = bool(((Z @ beta > 0) == (y > 0.5))[w > 0].all())
    if not complete:  # a last step, and the curvature where it ends: errors are those of the estimates themselves
        beta = beta + np.linalg.lstsq(_curvature(Z, beta, w), Z.T @ (w * (y - _logistic(Z @ beta))), rcond=1e-12)[0]
    H = _curvature(Z, beta, w)
    cov = np.linalg.pinv(H, hermitian=True)
    wild = np.sqrt(np.maximum(np.diagonal(cov), 0.0))[1:] > HUGE_ERROR
    deviance, share = _deviance(Z @ beta, y, w), float(np.clip((w @ y) / n, 1e-9, 1 - 1e-9))
    back = np.concatenate([[1.0], 1.0 / spread])
    turn = np.diag(back)
    turn[0, 1:] = -means / spread
    beta, cov = turn @ beta, turn @ cov @ turn.T
    errors = np.sqrt(np.maximum(np.diagonal(cov), 0.0))
    with np.errstate(all="ignore"):
        z = beta / errors
    p = np.minimum(2.0 * normal_upper(np.abs(z)), 1.0)
    return LogisticModelFit(
        beta,
        errors,
        z,
        p,
        deviance,
        _deviance(np.full(n, np.log(share / (1 - share))), y, w),
        _logistic(np.column_stack([np.ones(n), X]) @ beta),
        complete or bool(wild.any()),
        np.flatnonzero(wild),
        complete,
        fit.steps,
    )


HUGE_ERROR = 50.0  # standard error, on standardised columns


def _curvature(Z: Floats, beta: Floats, w: Floats) -> Floats:
    mu = _logistic(Z @ beta)
    return np.asarray((Z * (w * mu * (1 - mu))[:, None]).T @ Z)


def _logistic(eta: Floats) -> Floats:
    return 1.0 / (1.0 + np.exp(-np.clip(eta, -700, 700)))


def _deviance(eta: Floats, y: Floats, w: Floats) -> float:
    return float(2.0 * (w * (np.logaddexp(0.0, eta) - y * eta)).sum())
