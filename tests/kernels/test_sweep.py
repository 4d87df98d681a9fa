"""Sweeping against plain linear algebra."""

import numpy as np
import pytest

from chaff.kernels.inflation import errors_after_toggle, toggle
from chaff.stats.blas import add_gram, mirror


def tables(seed=0, n=80, p=6, t=2, penalty=0.1):
    rng = np.random.default_rng(seed)
    Z, W = rng.normal(size=(n, p + t)) @ rng.normal(size=(p + t, p + t)), rng.normal(size=(30, p + t))
    A, V = Z.T @ Z, W.T @ W
    A[np.arange(p), np.arange(p)] *= 1 + penalty
    return A, V


def plain_error(A, V, inside, p):
    """Test error of the fit on `inside`, straight from the normal equations."""
    t, s = np.arange(p, len(A)), np.array(sorted(inside), int)
    beta = np.linalg.solve(A[np.ix_(s, s)], A[np.ix_(s, t)])
    return sum(V[k, k] - 2 * beta[:, j] @ V[s, k] + beta[:, j] @ V[np.ix_(s, s)] @ beta[:, j] for j, k in enumerate(t))


def test_toggling_twice_gives_the_tables_back():
    A, V = tables()
    a, v, scratch = A.copy(), V.copy(), np.empty((3, len(A)))
    for k in (2, 4, 0, 2, 0, 4):
        toggle(a, v, k, scratch)
    np.testing.assert_allclose(np.triu(a), np.triu(A), rtol=1e-9)
    np.testing.assert_allclose(np.triu(v), np.triu(V), rtol=1e-9, atol=1e-9)


def test_columns_exactly_orthogonal_in_training_still_meet_in_testing():
    """A rare level and a rare flag may share no training row and yet share a test row."""
    rng = np.random.default_rng(5)
    Z = np.zeros((40, 4))
    Z[:10, 0], Z[10:18, 1], Z[18:30, 2] = 1, 1, 1  # no row in common: cross-products exactly 0
    Z[:, 3] = rng.normal(size=40)
    W = (rng.random((25, 4)) < 0.5).astype(float)
    W[:, 3] = rng.normal(size=25)
    A, V = Z.T @ Z, W.T @ W
    a, v, scratch = A.copy(), V.copy(), np.empty((3, 4))
    for count, k in enumerate((1, 0, 2), 1):
        toggle(a, v, k, scratch)
        assert v[3, 3] == pytest.approx(plain_error(A, V, [1, 0, 2][:count], 3), rel=1e-12)


@pytest.mark.parametrize("blocks", [[1] * 6, [1, 2, 3], [2, 1, 1, 2]])
def test_every_toggle_scores_like_its_own_normal_equations(blocks):
    p = sum(blocks)
    A, V = tables(seed=len(blocks))
    starts = np.concatenate([[0], np.cumsum(blocks)]).astype(np.int64)
    m = len(blocks)
    a, v, scratch, inside = A.copy(), V.copy(), np.empty((3, len(A))), np.zeros(m, bool)
    for f in (1, 0):
        for c in range(starts[f], starts[f + 1]):
            toggle(a, v, c, scratch)
        inside[f] = True
    out = np.empty(m)
    errors_after_toggle(a, v, np.diagonal(A).copy(), starts, np.arange(p), np.arange(m), inside, 1e-10, p, out)
    for f in range(m):
        now = {g for g in range(m) if inside[g]} ^ {f}
        cols = [c for g in now for c in range(starts[g], starts[g + 1])]
        assert out[f] == pytest.approx(plain_error(A, V, cols, p), rel=1e-9)
    assert np.trace(v[p:, p:]) == pytest.approx(plain_error(A, V, range(starts[2]), p), rel=1e-9)


def test_singular_additions_are_marked_and_empty_features_change_nothing():
    rng = np.random.default_rng(1)
    Z = rng.normal(size=(50, 4))
    Z[:, 2] = Z[:, 0] + Z[:, 1]
    A, V = Z.T @ Z, Z.T @ Z
    base, scratch = np.diagonal(A).copy(), np.empty((3, 4))
    a, v = A.copy(), V.copy()
    toggle(a, v, 0, scratch)
    toggle(a, v, 1, scratch)
    out, inside = np.empty(4), np.array([True, True, False, False])
    errors_after_toggle(a, v, base, np.array([0, 1, 2, 3, 3]), np.arange(3), np.arange(4), inside, 1e-10, 3, out)
    assert np.isnan(out).tolist() == [False, False, True, False]
    assert out[3] == pytest.approx(v[3, 3])


@pytest.mark.parametrize("b, q", [(1, 1), (7, 3), (300, 150), (5, 400)])
def test_added_grams_equal_products(b, q):
    X = np.random.default_rng(b).normal(size=(b, q))
    total = np.zeros((q, q))
    Z = np.ascontiguousarray(X.T)
    add_gram(Z, 0, b, total)
    add_gram(Z, 0, b // 2, total)
    with pytest.raises(ValueError, match="matching shapes"):
        add_gram(Z, 0, b + 1, total)
    np.testing.assert_allclose(mirror(total), X.T @ X + X[: b // 2].T @ X[: b // 2], atol=1e-10)
