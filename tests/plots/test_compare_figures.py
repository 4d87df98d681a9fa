"""Figures of a comparison say what it says."""

import numpy as np
import pytest
from matplotlib.colors import to_rgb

import chaff
from chaff.plots.palette import KEEP, SECOND


@pytest.fixture(scope="module")
def found():
    names = ["protein_pct", "ash_pct", "straw_pct", "lab_temp_c", "falling_number_s"]
    lots = chaff.demo.table(rows=250).with_features(names)
    return chaff.compare(lots, ["leading", "forward"], folds=3, truth=["protein_pct", "ash_pct", "falling_number_s"])


def test_a_line_a_method_and_the_yardsticks(found):
    ax = chaff.plots.compared_curves(found)
    lines = {line.get_label(): line for line in ax.lines}
    for m in (*found.methods, "random sets"):
        np.testing.assert_allclose(lines[m].get_ydata(), found.curves.loc[m, "score"])
    words = " ".join(t.get_text() for t in ax.texts)
    assert "all features" in words and "baseline" in words and "3 folds by group" in words
    assert {t.get_text() for t in ax.get_legend().get_texts()} == {*found.methods, "random sets"}


def test_which_method_keeps_what(found):
    ax = chaff.plots.kept_by_methods(found, size=3)
    kept = found.kept(3)
    kept = kept[kept.any(axis=1)]
    picture = np.asarray(ax.images[0].get_array())
    for y, f in enumerate(kept.index):
        colour = to_rgb(KEEP if f in found.truth else SECOND)
        for x, m in enumerate(kept.columns):
            assert np.allclose(picture[y, x], colour if kept.loc[f, m] else (1, 1, 1))
    assert ax.get_yticklabels()[0].get_text().endswith(str(int(kept.sum(axis=1).iloc[0])))
    for draw in (chaff.plots.compared_curves, chaff.plots.kept_by_methods):
        with pytest.raises(chaff.UsageError, match="draws what chaff.compare gave"):
            draw(found.scorer)
