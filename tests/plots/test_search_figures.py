"""Figures of a search say what the search said."""

import numpy as np
import pytest
from matplotlib.colors import to_rgba

import chaff
from chaff.plots.palette import KEEP, SECOND
from chaff.plots.search_figures import figures_of
from tests.methods.search.test_strategies import table

plots = chaff.plots


@pytest.fixture(scope="module")
def lots():
    names = ["protein_pct", "protein_nir_pct", "ash_pct", "falling_number_s", "straw_pct", "lab_temp_c"]
    return chaff.demo.table(rows=250, priced=True).with_features(names)


@pytest.fixture(scope="module")
def trail(lots):
    return chaff.search(lots, "ridge", "floating")


def words(ax):
    return " ".join(t.get_text() for t in [*ax.texts, ax.title, ax._left_title, *ax.get_yticklabels()])


def test_score_by_size_has_both_curves_and_the_chosen_size(trail):
    chosen = trail.choose({"size": 3})
    ax = plots.search_sizes(trail, chosen)
    lines = {line.get_color(): line for line in ax.lines if len(line.get_xdata()) == len(trail.sizes)}
    np.testing.assert_allclose(lines[SECOND].get_ydata(), trail.sizes["seen"])
    np.testing.assert_allclose(lines[KEEP].get_ydata(), trail.sizes["honest"])
    assert f"chosen: 3 features, {chosen.honest:.3f}" in words(ax) and "search score" in words(ax)
    quick = chaff.search(trail.scorer.table, "ridge", "forward", honest=False)
    alone = plots.search_sizes(quick)
    assert "honest" not in words(alone) and "baseline" in words(alone)
    down = chaff.search(trail.scorer.table, "ridge", "forward", metric="rmse")
    assert "RMSE" in plots.search_sizes(down, down.choose("best")).get_ylabel()


def test_presence_map_holds_the_sets(trail):
    ax = plots.set_presence(trail, trail.choose("best"))
    names = [t.get_text() for t in ax.get_yticklabels()]
    held = np.asarray(ax.images[0].get_array())
    for column, k in enumerate(trail.by_size.values()):
        assert {n for n, here in zip(names, held[:, column], strict=True) if here} == set(trail.features_at(k))
    wide = chaff.open_arrays(np.random.default_rng(0).normal(size=(80, 50)), np.random.default_rng(1).normal(size=80))
    many = plots.set_presence(chaff.search(wide, "ridge", "forward", honest=False))
    assert len(many.get_yticklabels()) == 32 and "18 more come in later" in words(many)


def test_generations_and_their_fronts():
    t = table(1, p=8)
    trail = chaff.search(t, "ridge", chaff.Genetic(population=10, generations=6, aims="score and size"), honest=False)
    figure = plots.generations(trail)
    score, different, front = figure.axes
    np.testing.assert_allclose(score.lines[0].get_ydata(), trail.generations["best"])
    np.testing.assert_allclose(different.lines[0].get_ydata(), trail.generations["diversity"])
    np.testing.assert_allclose(front.lines[-1].get_ydata(), trail.front(6)["score"])
    assert "generation 6" in words(front)
    with pytest.raises(chaff.UsageError, match="has no generations"):
        plots.generations(chaff.search(t, "ridge", "forward", honest=False))


def test_alternatives_are_told_by_colour_and_by_word():
    rng = np.random.default_rng(0)
    X = rng.normal(size=(300, 4))
    X[:, 1] = X[:, 0] + 0.02 * rng.normal(size=300)
    t = chaff.open_arrays(X, X[:, 0] + 2 * X[:, 2] + rng.normal(size=300), names=["one", "two", "needed", "noise"])
    found = chaff.search(t, "ridge", "forward", honest=False).alternatives()
    ax = plots.alternatives_map(found)
    said = words(ax)
    assert "in all" in said and "interchangeable with two" in said and "1 features are in none" in said
    picture = np.asarray(ax.images[0].get_array())
    names = [t.get_text() for t in ax.get_yticklabels()]
    np.testing.assert_allclose(picture[names.index("needed")], np.tile(to_rgba(KEEP)[:3], (2, 1)))
    with pytest.raises(chaff.UsageError, match="alternatives_map draws"):
        plots.alternatives_map(t)


def test_score_by_cost_draws_the_front(lots):
    trail = chaff.search(lots, "ridge", "exhaustive", honest=False, total_cost=20)
    ax = plots.score_by_cost(trail)
    diamonds = next(line for line in ax.lines if line.get_marker() == "D")
    np.testing.assert_allclose(diamonds.get_xdata(), trail.cost_front.index)
    np.testing.assert_allclose(diamonds.get_ydata(), trail.cost_front["score"])
    assert "total" in words(ax)
    with pytest.raises(chaff.UsageError, match="knows no costs"):
        plots.score_by_cost(chaff.search(table(), "ridge", "forward", honest=False))


def test_every_figure_that_there_is_to_draw(trail, lots):
    genetic = chaff.search(lots, "ridge", chaff.Genetic(population=6, generations=2), after=trail, honest=False)
    more = {"chosen": [trail.choose(), genetic.choose()], "alternatives": trail.alternatives()}
    drawn = figures_of([trail, genetic], more)
    assert set(drawn) == {
        "score_by_size_1", "sets_1", "score_by_cost_1", "score_by_size_2", "sets_2", "generations_2",
        "score_by_cost_2", "alternatives",
    }  # fmt: skip
    for wrong in (plots.search_sizes, plots.set_presence, plots.generations, plots.score_by_cost):
        with pytest.raises(chaff.UsageError, match="draws what chaff.search gave"):
            wrong(lots)
