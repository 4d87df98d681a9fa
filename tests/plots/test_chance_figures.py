"""Figures of chance: what is drawn is what was found, limits are marked, decoys are hatched."""

from itertools import pairwise

import numpy as np
import pytest

import chaff
from chaff.plots.palette import DROP, GRID, KEEP
from tests.methods.chance.test_shuffled_target import made

SMALL = chaff.Forest(trees=30, columns_per_split=4, leaf_rows=10, depth=6)


def colours(ax):
    from matplotlib.colors import to_hex

    return [to_hex(p.get_facecolor()).upper() for p in ax.patches]


def test_the_band_reaches_from_the_mean_to_the_largest_shuffle_and_the_limit_is_marked():
    found = chaff.chance_baseline(made(150))
    ax = chaff.plots.chance_band(found, bars=5)
    some = found.ranked().head(5)
    bands = [p for p in ax.patches if p.get_width() > 0]
    assert [p.get_x() for p in bands] == pytest.approx(some["chance_mean"].tolist())
    assert [p.get_x() + p.get_width() for p in bands] == pytest.approx(some["chance_largest"].tolist()) and set(colours(ax)) == {GRID}
    dots = np.asarray(ax.collections[-1].get_offsets())
    np.testing.assert_allclose(dots[:, 0], some["importance"])
    assert "significant (line: 3 standard deviations)" in ax.get_title(loc="left")
    assert [t.get_text() for t in ax.get_yticklabels()] == list(some.index)


def test_nothing_to_draw_is_said():
    with pytest.raises(chaff.UsageError, match="not of chance"):
        chaff.plots.chance_band(chaff.relevance(made(60), "leading"))
    with pytest.raises(chaff.UsageError, match="have no decoys"):
        chaff.plots.decoys_among(chaff.relevance(made(60), "leading"))


def test_rounds_are_lines_over_the_band_of_the_twins():
    found = chaff.twin_test(made(150), SMALL, rounds=16, keep_share=0.5)
    ax = chaff.plots.twin_rounds(found)
    assert len(ax.lines) == 1 + len(found.frame)
    np.testing.assert_allclose(ax.lines[0].get_ydata(), found.more["twins"]["limit"])
    kept = int((found.frame["verdict"] == "keep").sum())
    assert f"{kept} kept" in ax.get_title(loc="left")
    named = {t.get_text() for t in ax.texts}
    assert named == {str(f) for f in found.frame.index if found.frame.loc[f, "verdict"] != "drop"}
    heights = sorted(t.xyann[1] for t in ax.texts)
    assert all(b - a > 0.04 for a, b in pairwise(heights))


def test_shares_threshold_and_bound():
    found = chaff.stability(made(150), chaff.Relevance(["pearson_r"], by="pearson_r"), 2, pairs=6)
    ax = chaff.plots.stability_shares(found)
    widths = sorted((p.get_width() for p in ax.patches), reverse=True)
    shares = found.ranked()["selection_frequency"]
    assert widths == pytest.approx(shares[shares > 0].tolist())
    assert any(line.get_xdata()[0] == 0.75 for line in ax.lines) and "false selections expected" in ax.get_title(loc="left")


def test_decoys_are_hatched_and_the_line_lies_above_the_best():
    found = chaff.relevance(made(150).with_decoys(4), "leading")
    ax = chaff.plots.decoys_among(found)
    hatched = [p for p in ax.patches if p.get_hatch()]
    assert len(hatched) == 4 and all(p.get_edgecolor() for p in hatched)
    above = next(k for k, f in enumerate(found.ranked().index) if str(f).startswith("decoy_"))
    assert sum(c == KEEP.upper() for c in colours(ax)) == above and f"{above} stand above" in ax.get_title(loc="left")


def test_differences_of_knockoffs():
    X = np.random.default_rng(0).normal(size=(150, 10))
    table = chaff.open_arrays(X, X[:, :6].sum(1) + np.random.default_rng(1).normal(size=150))
    found = chaff.knockoffs(table, 0.4, runs=2)
    ax = chaff.plots.knockoff_differences(found)
    assert [p.get_width() for p in ax.patches] == pytest.approx(found.ranked("difference")["difference"].tolist())
    picked = int((found.frame["verdict"] == "keep").sum())
    assert colours(ax).count(KEEP.upper()) == picked and colours(ax).count(DROP.upper()) == 10 - picked
