import io

import numpy as np

import chaff
from chaff.plots.palette import INK, KEEP, new_axes
from chaff.results.trail import Move, Trail


def test_the_curve_shows_every_size_and_marks_the_chosen_one(mill_run):
    trail = mill_run.result("search")
    ax = chaff.plots.score_by_size(trail)
    curve = next(line for line in ax.lines if line.get_color() == KEEP and len(line.get_xdata()) > 2)
    assert list(curve.get_xdata()) == list(trail.decided.best_by_size())
    chosen = trail.decided.chosen_move()
    rings = [line for line in ax.lines if len(line.get_xdata()) == 1]
    assert any(line.get_xdata()[0] == len(trail.decided.moves[chosen].features) for line in rings)
    texts = [t.get_text() for t in ax.texts]
    assert any(t.startswith("chosen") for t in texts) and any("optimistic" in t for t in texts)
    assert f"of {len(trail.offered)} features" in ax.get_title(loc="left") and "R²" in ax.get_ylabel()


def test_figures_draw_on_given_axes_and_are_of_a_readable_size(mill_run):
    ax = new_axes()
    assert chaff.plots.score_by_size(mill_run.result("search"), ax=ax) is ax
    width, height = ax.figure.get_size_inches() * ax.figure.dpi
    assert (width, height) == (1280, 800)
    buffer = io.BytesIO()
    ax.figure.savefig(buffer)
    assert buffer.getbuffer().nbytes > 10_000


def test_a_trail_of_one_move_and_metrics_with_units():
    moves = (Move("add", "a", frozenset("a"), np.array([3.0, 4.0]), "forward"),)
    trail = Trail("test", moves, ("a",), "rmse", False, 0.25)
    ax = chaff.plots.score_by_size(trail, unit="ml")
    assert "RMSE (ml)" in ax.get_ylabel() and ax.xaxis.label.get_color() == INK
