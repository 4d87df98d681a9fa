"""Trees against a plain tree that tries every cut, and shuffled predictions against predicting anew."""

import itertools

import numpy as np
import pytest

from chaff.kernels.random_draws import columns_drawn, times_drawn
from chaff.metrics import log_loss, squared_loss
from chaff.models.forest import Forest
from chaff.models.protocols import Sample
from chaff.models.tree_growth import Target
from chaff.table.bins import Bins
from chaff.work import Work

WORK = Work(3, 1)
MASK = 2**64 - 1


def sample(codes, y, classes=0, category=None, weights=None):
    names = tuple(f"c{j}" for j in range(codes.shape[1]))
    category = np.zeros(len(names), bool) if category is None else category
    bins = Bins(names, np.ascontiguousarray(codes.T), codes.max(0).astype(np.int64) + 1, category)
    targets = np.asarray(y, float)[:, None] if classes < 3 else np.eye(classes)[y]
    return Sample(names, bins, targets, weights, tuple(map(str, range(classes))))


def streams(trees):
    return [(WORK.key("forest") + (t + 1) * 0xD1B54A32D192ED03) % 2**64 for t in range(trees)]


class PlainTree:
    """Every cut of every drawn column tried on sets of rows, in whole numbers."""

    def __init__(self, s, classes, times, want, leaf, depth, state):
        self.codes, self.y, self.times = s.data.by_rows, Target.of(s, int(times.sum())).y, times.astype(object)
        self.one, self.classes, self.category, self.want, self.leaf = classes < 3, classes, s.data.category, want, leaf
        self.order, self.state, self.nodes, self.gains = list(range(self.codes.shape[1])), state, {}, np.zeros(self.codes.shape[1])
        stack, count = [(np.flatnonzero(times), 0, 0)], 1
        while stack:
            rows, k, deep = stack.pop()
            m, t = self.sums(rows)
            self.nodes[k] = ("leaf", m, t)
            pure = t == 0 if self.one else max(t) == m
            split = None if m < 2 * leaf or deep >= depth or pure or len(rows) < 2 else self.split(rows, m, t)
            if split is not None:
                go, *rest = split
                self.nodes[k] = ("split", *rest, count)
                stack += [(rows[go], count, deep + 1), (rows[~go], count + 1, deep + 1)]
                count += 2

    def sums(self, rows):
        w = self.times[rows]
        if self.one:
            return int(sum(w)), int(sum(a * int(b) for a, b in zip(w, self.y[rows], strict=True)))
        total = [0] * self.classes
        for a, b in zip(w, self.y[rows], strict=True):
            total[b] += int(a)
        return sum(total), total

    def score(self, c, a, m, t):
        if self.one:
            d = a * m - t * c
            return float(d) * float(d) / float(c * (m - c))
        return float(sum(x * x for x in a) * (m - c) + sum((y - x) ** 2 for x, y in zip(a, t, strict=True)) * c) / float(c * (m - c))

    def draws(self):
        p = len(self.order)
        for q in range(self.want):
            self.state = (self.state + 0x9E3779B97F4A7C15) & MASK
            z = self.state
            z = ((z ^ (z >> 30)) * 0xBF58476D1CE4E5B9) & MASK
            z = ((z ^ (z >> 27)) * 0x94D049BB133111EB) & MASK
            j = q + ((((z ^ (z >> 31)) >> 32) * (p - q)) >> 32)
            self.order[q], self.order[j] = self.order[j], self.order[q]
        return self.order[: self.want]

    def sequences(self, rows, f, t):
        code = self.codes[rows, f].astype(int)
        present = sorted(set(code))
        if not self.category[f]:
            return [present] + ([present[1:] + [0]] if 0 in present else [])
        lead = 0 if self.one else t.index(max(t))

        def mean(b):
            c, a = self.sums(rows[code == b])
            return (a if self.one else a[lead]) / c

        return [sorted(present, key=mean)]

    def split(self, rows, m, t):
        start = 0.0 if self.one else float(sum(x * x for x in t)) / float(m)
        best, found = start, None
        for f in self.draws():
            code = self.codes[rows, f].astype(int)
            for sequence in self.sequences(rows, f, t):
                for u in range(len(sequence) - 1):
                    go = np.isin(code, sequence[: u + 1])
                    c, a = self.sums(rows[go])
                    if c >= self.leaf and m - c >= self.leaf and (g := self.score(c, a, m, t)) > best:
                        best, found = g, (f, go, set(sequence[: u + 1]), sequence[u], c)
        if found is None:
            return None
        f, go, left, cut, c = found
        self.gains[f] += best / m if self.one else best - start
        present = set(self.codes[rows, f].astype(int))
        if self.category[f]:  # codes that no row here has go with the larger side
            whole = left if 2 * c < m else set(range(256)) - (present - left)
        else:
            whole = set(range(1, cut + 1)) | ({0} if 0 in left or (0 not in present and 2 * c >= m) else set())
        return go, f, whole

    def leaf_of(self, row):
        k = 0
        while self.nodes[k][0] == "split":
            _, f, left, child = self.nodes[k]
            k = child + (0 if int(row[f]) in left else 1)
        return self.nodes[k]


CASES = list(itertools.product((0, 2, 3, 5), (0, 2), ((1, 500, 200), (5, 500, 5), (3, 4, 12))))


@pytest.mark.long
@pytest.mark.parametrize(("classes", "categories", "shape"), CASES)
def test_trees_are_those_of_a_plain_search_over_every_cut(classes, categories, shape):
    leaf, depth, codes_in_use = shape
    rng = np.random.default_rng(classes * 100 + categories * 10 + leaf)
    n, p = 110, 5
    codes = rng.integers(1, codes_in_use + 1, (n, p)).astype(np.uint8)
    codes[rng.random((n, p)) < (0.2 if leaf != 5 else 0.0)] = 0
    category = np.arange(p) < categories
    z = codes[:, 0] / codes_in_use + 0.5 * (codes[:, 1] % 3 == 1) + 0.4 * (codes[:, 2] == 0) + 0.3 * rng.normal(size=n)
    y = z if classes == 0 else np.digitize(z, np.quantile(z, np.linspace(0, 1, classes + 1)[1:-1]))
    weights = rng.random(n) * (rng.random(n) < 0.8) if leaf == 3 else None
    s = sample(codes, y, classes, category, weights)
    forest = Forest(trees=3, columns_per_split=3, leaf_rows=leaf, depth=depth).grow(s, WORK, mark=np.arange(n))
    gains, total = np.zeros(p), np.zeros((n, s.targets.shape[1]))
    cumulated = np.empty(0) if weights is None else np.cumsum(weights)
    guide = np.minimum(np.searchsorted(cumulated, np.arange(n) / n * cumulated[-1], side="right"), n - 1) if weights is not None else None
    target = Target.of(s, n)
    shares = np.average(s.targets, axis=0, weights=weights)
    for t, stream in enumerate(streams(3)):
        times = np.empty(n, np.int32)
        state = times_drawn(np.uint64(stream), n, cumulated, np.empty(0, np.int64) if guide is None else guide, times)
        assert times.sum() == n and (forest.in_bag[t] == (times > 0)).all()
        assert weights is None or times[weights == 0].sum() == 0
        plain = PlainTree(s, classes, times, 3, leaf, depth, int(state))
        gains += plain.gains
        assert len(plain.nodes) == forest.first[t + 1] - forest.first[t]
        for i in range(n):
            _, m, sums = plain.leaf_of(codes[i])
            mean = np.array([sums]) / m if classes < 3 else np.array(sums) / m
            total[i] += (mean * m + shares) / (m + 1) if classes else mean * target.unit + target.zero
    np.testing.assert_allclose(forest.predict(s), total / 3, atol=1e-9)
    np.testing.assert_allclose(forest.gains, gains * target.unit**2, rtol=1e-9)


def test_missing_may_go_either_way():
    rng = np.random.default_rng(5)
    x = rng.integers(1, 9, 300).astype(np.uint8)
    x[rng.random(300) < 0.3] = 0
    y = np.where((x == 0) | (x >= 7), 5.0, 0.0)  # missing behaves like large values: one cut tells all
    forest = Forest(trees=5, depth=1, leaf_rows=1).grow(sample(x[:, None], y), WORK)
    np.testing.assert_allclose(forest.predict(sample(x[:, None], y))[:, 0], y, atol=1e-8)


def test_leaves_hold_the_rows_they_must():
    rng = np.random.default_rng(2)
    codes = np.stack([rng.permutation(90) + 1, rng.integers(1, 5, 90)], 1).astype(np.uint8)
    forest = Forest(trees=1, columns_per_split=2, leaf_rows=7).grow(sample(codes, rng.normal(size=90)), WORK)
    leaves = (forest.node >> 32) == np.arange(forest.node.size)
    assert forest.pick[leaves].min() >= 7 and forest.pick[leaves].sum() == 90


@pytest.mark.parametrize("classes", [0, 2, 3])
def test_shuffle_changes_equal_predicting_anew(classes):
    rng = np.random.default_rng(7)
    codes = rng.integers(0, 12, (150, 5)).astype(np.uint8)
    z = codes[:, 0] * 1.0 + codes[:, 1] * codes[:, 2] * 0.2 + rng.normal(size=150)
    y = z if not classes else np.digitize(z, np.quantile(z, np.linspace(0, 1, classes + 1)[1:-1]))
    s = sample(codes, y, classes, np.array([False, False, True, False, False]))
    forest = Forest(trees=7, leaf_rows=2).grow(s, WORK)
    partner = np.array([rng.permutation(150) for _ in range(3)])
    base, blocks = forest.shuffled(s, [sample(codes[q], y, classes, s.data.category) for q in partner], WORK)
    change = np.concatenate([c for _, c in blocks], axis=2)
    for q, j in itertools.product(range(3), range(5)):
        foreign = codes.copy()
        foreign[:, j] = codes[partner[q], j]
        anew = forest.predict(sample(foreign, y, classes, s.data.category))
        np.testing.assert_allclose(base + change[q, j], anew, atol=1e-12)
    assert np.abs(change).max() > 0


@pytest.mark.parametrize("classes", [0, 2, 3])
def test_out_of_bag_importance_equals_its_definition(classes):
    rng = np.random.default_rng(11)
    codes = rng.integers(0, 9, (120, 4)).astype(np.uint8)
    z = codes[:, 0] + 0.5 * codes[:, 1] + rng.normal(size=120)
    y = z if not classes else np.digitize(z, np.quantile(z, np.linspace(0, 1, classes + 1)[1:-1]))
    s = sample(codes, y, classes, weights=rng.random(120) + 0.1)
    forest = Forest(trees=12).grow(s, WORK, mark=np.arange(120))
    chosen = np.sort(rng.choice(120, 70, replace=False))
    found = Forest(trees=12).grow(s, WORK, mark=chosen).out_of_bag_importance(s, chosen, 2, WORK)
    loss = squared_loss if not classes else log_loss

    def losses(rows):
        total, seen = np.zeros((120, s.targets.shape[1])), np.zeros(120)
        for t in range(12):
            a, b = forest.first[t], forest.first[t + 1]
            alone = type(forest)(
                s.features, forest.node[a:b], np.array([0, b - a]), forest.pick[a:b], forest.sets, forest.value[a:b], *[None] * 2
            )
            out = forest.in_bag[t] == 0
            total[out] += alone.predict(rows)[out]
            seen += out
        return np.where(seen > 0, loss(s.targets, total / np.maximum(seen, 1)[:, None]), 0.0)

    want = np.zeros(4)
    for q in range(2):
        partner = np.arange(120)
        partner[chosen] = chosen[WORK.stream("shuffle", q).permutation(chosen.size)]
        for j in range(4):
            foreign = codes.copy()
            foreign[:, j] = codes[partner, j]
            rise = losses(sample(foreign, y, classes)) - losses(s)
            want[j] += (rise * s.weights)[chosen].sum() / s.weights[chosen].sum() / 2
    np.testing.assert_allclose(found, want, atol=1e-10)


def test_rows_of_one_unit_are_drawn_together():
    rng = np.random.default_rng(1)
    units = np.repeat(np.arange(30), 4)
    codes = rng.integers(1, 9, (120, 3)).astype(np.uint8)
    weights = np.where(np.arange(120) % 4 == 3, 0.0, 1.0)
    forest = Forest(trees=40).grow(sample(codes, rng.normal(size=120), weights=weights), WORK, units, np.arange(120))
    together = forest.in_bag.reshape(40, 30, 4)
    assert (together[:, :, 0] == together[:, :, 1]).all() and (together[:, :, 0] == together[:, :, 2]).all()
    assert not together[:, :, 3].any()  # weighs nothing
    assert 0.57 < together[:, :, 0].mean() < 0.69  # 1 - 1/e


def test_no_worker_count_changes_a_forest():
    rng = np.random.default_rng(3)
    s = sample(rng.integers(0, 30, (400, 6)).astype(np.uint8), rng.normal(size=400))
    one, two = (Forest(trees=25).fit(s, Work(1, w)) for w in (1, 2))
    assert (one.node == two.node).all() and (one.value == two.value).all()


def test_draws_are_uniform_and_repeatable():
    times, again, none = np.empty(1000, np.int32), np.empty(1000, np.int32), np.empty(0, np.int64)
    times_drawn(np.uint64(5), 1000, np.empty(0), none, times)
    times_drawn(np.uint64(5), 1000, np.empty(0), none, again)
    assert times.sum() == 1000 and (times == again).all()
    assert 0.60 < (times > 0).mean() < 0.66  # 1 - 1/e
    counts, state = np.zeros(10), np.uint64(1)
    for _ in range(2000):
        order, front = np.arange(10), np.empty(3, np.uint32)
        state = np.uint64(columns_drawn(state, order, 3, front))
        assert sorted(order) == list(range(10)) and (front == order[:3]).all()
        counts[order[:3]] += 1
    assert np.abs(counts - 600).max() < 5 * np.sqrt(2000 * 0.3 * 0.7)
