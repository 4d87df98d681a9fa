"""Genetic search: its pieces against what they promise, the optimum of small problems, limits, and what is refused."""

import numpy as np
import pytest

import chaff
from chaff.methods.search import breeding
from tests.methods.search.test_strategies import table, walked

DRAWS = np.random.default_rng


@pytest.mark.parametrize("kind", sorted(breeding.PARENTS))
def test_better_ones_mate_more_often(kind):
    fitness = np.array([0.1, 0.5, 0.9, 0.3])
    count = np.bincount(breeding.parents(kind, fitness, 4000, DRAWS(0)), minlength=4)
    assert count[2] > count[1] > count[3] > count[0] and count.sum() == 4000
    even = np.bincount(breeding.parents(kind, np.full(4, 2.0), 4000, DRAWS(1)), minlength=4)
    assert even.min() > 850  # equals alike


def test_even_draws_give_each_what_is_due():
    fitness = np.array([1.0, 3.0, 2.0, 4.0, 1.5])
    due = breeding._shares(breeding._above_worst(fitness)) * 50
    for seed in range(20):
        count = np.bincount(breeding.parents("even draws", fitness, 50, DRAWS(seed)), minlength=5)
        assert (np.abs(count - due) < 1).all()


def test_ranks_share_the_places_of_equals():
    np.testing.assert_allclose(breeding._places(np.array([5.0, 1.0, 5.0, 3.0])), [3.5, 1.0, 3.5, 2.0])


@pytest.mark.parametrize("kind", sorted(breeding.CROSSOVER))
def test_children_hold_what_their_parents_held(kind):
    rng = DRAWS(4)
    for _ in range(200):
        a, b = rng.random((2, 11)) < 0.5
        one, two = breeding.mixed(kind, a, b, rng)
        assert ((one == a) & (two == b) | (one == b) & (two == a)).all()  # column by column, nothing made up
        if kind == "half uniform":
            assert (one != a).sum() == (a != b).sum() // 2


def test_cuts_keep_neighbours_together_and_shuffled_cuts_do_not():
    a, b = np.zeros(30, bool), np.ones(30, bool)

    def breaks(kind):
        return np.mean([np.abs(np.diff(breeding.mixed(kind, a, b, DRAWS(k))[0].astype(int))).sum() for k in range(200)])

    assert breaks("one cut") == 1 and 1 < breaks("two cuts") <= 2 and breaks("shuffled cut") > 5 and breaks("uniform") > 10


def test_fronts_and_the_room_on_them():
    aims = np.array([[1.0, 5.0], [3.0, 3.0], [5.0, 1.0], [2.0, 2.0], [3.0, 3.0], [0.0, 0.0]])
    assert breeding.fronts(aims).tolist() == [0, 0, 0, 1, 0, 2]
    room = breeding.crowding(np.array([[0.0, 4.0], [1.0, 3.0], [3.0, 1.0], [4.0, 0.0]]), np.zeros(4, int))
    assert np.isinf(room[[0, 3]]).all() and room[1] == pytest.approx(1.5) and room[2] == pytest.approx(1.5)


def test_diversity_is_the_share_of_columns_in_which_two_differ():
    rng = DRAWS(1)
    some = rng.random((7, 9)) < 0.4
    pairs = [(some[i] != some[j]).mean() for i in range(7) for j in range(i)]
    assert breeding.diversity(some) == pytest.approx(np.mean(pairs))
    assert breeding.diversity(some[:1]) == 0 and breeding.diversity(np.repeat(some[:1], 4, 0)) == 0


@pytest.mark.long
def test_it_finds_the_optimum_of_small_problems_on_nearly_all_seeds():
    hits = 0
    for seed in range(20):
        t = table(seed, p=10, n=70)
        _, every = walked(chaff.Exhaustive(), t)
        scorer = chaff.SubsetScorer(t, chaff.Ridge(0.1), folds=4)
        from chaff.methods.search.strategy import trail_of

        trail = trail_of(chaff.Genetic(population=40, generations=25), scorer, frozenset(), chaff.Work(seed, 1))
        hits += trail.means.max() >= every.means.max() - 1e-12
    assert hits >= 18


def test_two_aims_end_with_the_front_of_the_best_of_each_size():
    t = table(2, p=8)
    _, every = walked(chaff.Exhaustive(), t)
    best = {s: every.means[k] for s, k in every.best_by_size().items()}
    trail = chaff.search(t, chaff.Ridge(0.1), chaff.Genetic(population=40, generations=25, aims="score and size"), folds=4, honest=False)
    front = trail.front(25)
    assert front["score"].is_monotonic_increasing
    for size, score in front["score"].items():
        assert score == pytest.approx(best[size], abs=1e-9)
    assert trail.generations["on_front"].iloc[-1] == len(front)


def test_the_best_live_on_or_not():
    t = table(5, p=9)
    kept = chaff.search(t, chaff.Ridge(0.1), chaff.Genetic(population=8, generations=15), honest=False).generations
    assert kept["best"].is_monotonic_increasing and kept["tried"].is_monotonic_increasing
    lost = [
        chaff.search(table(k, p=9), chaff.Ridge(0.1), chaff.Genetic(population=6, generations=15, survivors=0, mutations=3.0), honest=False)
        for k in range(4)
    ]
    assert not all(x.generations["best"].is_monotonic_increasing for x in lost)


def test_sizes_price_pins_and_patience():
    t = table(1, p=9)
    _, trail = walked(chaff.Genetic(population=12, generations=6, size=4, smallest=2), t)
    assert {len(m.features) for m in trail.moves} <= {2, 3, 4}
    _, dear = walked(chaff.Genetic(population=20, generations=15, price=10.0), t)
    assert len([m for m in dear.moves if m.action == "generation"][-1].features) <= len(
        [m for m in walked(chaff.Genetic(population=20, generations=15), t)[1].moves if m.action == "generation"][-1].features
    )
    _, pinned = walked(chaff.Genetic(population=6, generations=3), t, {"c0", "c3"})
    assert all({"c0", "c3"} <= m.features for m in pinned.moves)
    _, short = walked(chaff.Genetic(population=30, generations=200, patience=3), t)
    assert max(m.facts["generation"] for m in short.moves) < 200
    _, all_pinned = walked(chaff.Genetic(population=6, generations=2), t, set(t.features))
    assert len(all_pinned.moves) == 1


@pytest.mark.parametrize("how", [{"parents": k} for k in breeding.PARENTS] + [{"crossover": k} for k in breeding.CROSSOVER])
def test_the_order_of_the_columns_decides_nothing(how):
    t = table(3, p=8)
    one = walked(chaff.Genetic(population=8, generations=4, **how), t)[1]
    two = walked(chaff.Genetic(population=8, generations=4, **how), t.with_features(t.features[::-1]))[1]
    assert [m.features for m in one.moves] == [m.features for m in two.moves]


@pytest.mark.parametrize(
    ("said", "words"),
    [
        ({"population": 2}, "population must be 4 or more"),
        ({"fullness": 0.0}, "fullness must lie between"),
        ({"crossover_share": 1.5}, "crossover_share"),
        ({"parents": "lottery"}, "parents must be 'tournament'"),
        ({"crossover": "three cuts"}, "crossover must be 'uniform'"),
        ({"aims": "all"}, "aims must be"),
        ({"survivors": 50}, "survivors fewer"),
        ({"generations": 0}, "generations must be 1"),
    ],
)
def test_what_makes_no_sense_is_refused(said, words):
    with pytest.raises(chaff.UsageError, match=words):
        chaff.Genetic(**said)


def test_the_pair_that_works_only_together_is_found_with_trees():
    rng = DRAWS(3)
    X = rng.normal(size=(400, 6))
    t = chaff.open_arrays(X, np.sign(X[:, 1] * X[:, 4]) + 0.3 * rng.normal(size=400), names=list("abcdef"))
    forest = chaff.Forest(trees=25)
    trail = chaff.search(t, forest, chaff.Genetic(population=12, generations=5), honest=False)
    assert {"b", "e"} <= set(trail.choose("best").features) and trail.means.max() > 0.5
    forward = chaff.search(t, forest, chaff.Forward(size=1), honest=False)
    assert forward.means.max() < 0.2  # one alone says nothing
