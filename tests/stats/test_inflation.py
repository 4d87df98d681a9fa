import numpy as np
import pytest

from chaff.stats.inflation import dependent_columns, inflation, inverse_of, nearest_positive, prune_inflation


def plain_vif(X, j):
    """Regress one column on the others."""
    A = np.column_stack([np.ones(len(X)), np.delete(X, j, 1)])
    r = X[:, j] - A @ np.linalg.lstsq(A, X[:, j], rcond=None)[0]
    return ((X[:, j] - X[:, j].mean()) ** 2).sum() / (r @ r)


def single(p):
    return np.arange(p + 1, dtype=np.int64), np.arange(p, dtype=np.int64)


def correlated(n=400, p=12, seed=0):
    rng = np.random.default_rng(seed)
    X = rng.normal(size=(n, p)) @ (np.eye(p) + 0.35 * rng.normal(size=(p, p))) + 3
    X[:, 5] = X[:, 1] - X[:, 2] + 0.05 * rng.normal(size=n)
    X[:, 8] = X[:, 0] + 0.2 * rng.normal(size=n)
    return X


def test_every_vif_equals_a_plain_regression():
    X = correlated()
    C = np.corrcoef(X.T)
    np.testing.assert_allclose(inflation(C, *single(12)), [plain_vif(X, j) for j in range(12)], rtol=1e-8)


def test_elimination_equals_refitting_after_every_removal():
    X = correlated(p=14, seed=4)
    done = prune_inflation(np.corrcoef(X.T), *single(14), 4.0, np.arange(14), np.zeros(14, bool))
    left, wanted = list(range(14)), []
    while True:
        vifs = [plain_vif(X[:, left], k) for k in range(len(left))]
        if max(vifs) <= 4.0:
            break
        wanted.append((left.pop(int(np.argmax(vifs))), max(vifs)))
    assert [f for f, _ in wanted] == done.went.tolist()
    np.testing.assert_allclose(done.vif, [v for _, v in wanted], rtol=1e-8)
    np.testing.assert_allclose(done.kept_vif, [plain_vif(X[:, left], k) for k in range(len(left))], rtol=1e-8)


def test_after_hundreds_of_removals_updates_equal_a_fresh_factorisation():
    rng = np.random.default_rng(1)
    base = rng.normal(size=(2000, 100))
    X = np.hstack([base, base @ rng.normal(size=(100, 200)) * 0.3 + 0.3 * rng.normal(size=(2000, 200))])
    C = np.corrcoef(X.T)
    done = prune_inflation(C, *single(300), 5.0, np.arange(300), np.zeros(300, bool))
    assert done.went.size > 150
    fresh = np.diagonal(np.linalg.inv(C[np.ix_(done.kept, done.kept)]))
    np.testing.assert_allclose(done.kept_vif, fresh, rtol=1e-10)
    assert fresh.max() <= 5.0


def test_every_member_of_an_exact_dependency_is_infinite_and_the_key_says_who_goes():
    rng = np.random.default_rng(2)
    X = rng.normal(size=(300, 6))
    X[:, 4] = 100 - X[:, 0] - X[:, 1]
    C = np.corrcoef(X.T)
    assert np.isinf(inflation(C, *single(6))).tolist() == [True, True, False, False, True, False]
    assert dependent_columns(C).tolist() == [0, 1, 4]
    key = np.array([9, 1, 2, 3, 4, 5])
    done = prune_inflation(C, *single(6), 10.0, key, np.zeros(6, bool))
    assert done.went.tolist() == [0] and np.isinf(done.vif[0])
    guarded = prune_inflation(C, *single(6), 10.0, key, np.array([True, True, False, False, False, False]))
    assert guarded.went.tolist() == [4]


def test_protected_members_of_a_dependency_stay_and_stay_infinite():
    X = np.random.default_rng(3).normal(size=(100, 3))
    X[:, 2] = X[:, 0] + X[:, 1]
    done = prune_inflation(np.corrcoef(X.T), *single(3), 10.0, np.arange(3), np.ones(3, bool))
    assert done.went.size == 0 and np.isinf(done.kept_vif).all()


def test_generalised_vif_of_a_category_is_the_determinant_ratio():
    rng = np.random.default_rng(5)
    x = rng.normal(size=(500, 3))
    level = np.digitize(x[:, 0] + 0.5 * rng.normal(size=500), [-0.5, 0.5])
    X = np.column_stack([x, level == 1, level == 2]).astype(float)
    R = np.corrcoef(X.T)
    starts, columns = np.array([0, 1, 2, 3, 5]), np.arange(5)
    own, rest = [3, 4], [0, 1, 2]
    det = np.linalg.det
    wanted = det(R[np.ix_(own, own)]) * det(R[np.ix_(rest, rest)]) / det(R)
    assert inflation(R, starts, columns)[3] == pytest.approx(wanted**0.5, rel=1e-10)


def test_nearest_positive_repairs_only_what_is_broken():
    C = np.array([[1, 0.9, -0.9], [0.9, 1, 0.9], [-0.9, 0.9, 1.0]])
    assert np.linalg.eigvalsh(C)[0] < 0
    fixed = nearest_positive(C)
    assert np.linalg.eigvalsh(fixed)[0] > 0 and (np.diagonal(fixed) == 1).all()
    fine = np.eye(3)
    assert nearest_positive(fine) is fine
    assert inverse_of(np.ones((2, 2))) is None
