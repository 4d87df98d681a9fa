import io

import numpy as np
import pytest

import chaff
from chaff.evaluate.setting import Setting
from chaff.plots.palette import INK, KEEP, new_axes
from tests.commands import run


def test_both_curves_are_drawn_and_the_chosen_size_is_marked(mill_run):
    trail = mill_run.result("search")
    ax = chaff.plots.score_by_size(trail)
    drawn = {tuple(line.get_xdata()): line.get_color() for line in ax.lines if len(line.get_xdata()) > 2}
    assert {tuple(c.sizes) for c in trail.best_curves()} == set(drawn) and drawn[tuple(trail.decided.sizes)] == KEEP
    rings = [line for line in ax.lines if len(line.get_xdata()) == 1]
    assert any(line.get_xdata()[0] == trail.decided.sizes[trail.choice.place] for line in rings)
    texts = [t.get_text() for t in ax.texts]
    assert any(t.startswith("chosen") for t in texts) and {"linear", "forest", "baseline"} <= set(texts)
    assert f"of {len(trail.offered)} features" in ax.get_title(loc="left") and "CV R²" in ax.get_ylabel()


def test_figures_draw_on_given_axes_and_are_of_a_readable_size(mill_run):
    ax = new_axes()
    assert chaff.plots.score_by_size(mill_run.result("search"), ax=ax) is ax
    width, height = ax.figure.get_size_inches() * ax.figure.dpi
    assert (width, height) == (1280, 800)
    buffer = io.BytesIO()
    ax.figure.savefig(buffer)
    assert buffer.getbuffer().nbytes > 10_000


def test_one_feature_one_lens_and_a_metric_with_a_unit():
    table = chaff.demo.table(rows=200).with_features(["protein_pct"])
    trail = chaff.Search("ridge").judge(table, Setting.of(table, metric="rmse"))
    ax = chaff.plots.score_by_size(trail, unit="ml")
    assert "RMSE (ml)" in ax.get_ylabel() and ax.xaxis.label.get_color() == INK
    with pytest.raises(chaff.UsageError, match="run.result"):
        chaff.plots.score_by_size(trail.decided)


@pytest.mark.long
def test_histograms_show_rows_gaps_verdicts_and_no_more_than_a_page(mill_table):
    found = chaff.screen(mill_table)
    figure = chaff.plots.histograms(mill_table, found)
    panels = [ax for ax in figure.axes if ax.get_title(loc="left")]
    assert len(panels) == 20 and panels[0].get_title(loc="left") == found.ranked().index[0]
    texts = [t.get_text() for ax in panels for t in ax.texts]
    assert "review" in texts and "76% missing" in texts
    assert sum(p.get_height() for p in panels[1].patches) == mill_table.column(panels[1].get_title(loc="left")).missing.size
    few = chaff.plots.histograms(mill_table, features=["variety"])
    assert next(t.get_text() for t in few.axes[0].get_xticklabels()) == "Alba"


def test_the_missing_map_orders_columns_and_says_where_absence_tells(mill_table):
    ax = chaff.plots.missing_map(mill_table, chaff.screen(mill_table))
    labels = [t.get_text() for t in ax.get_yticklabels()]
    assert labels[0] == "mycotoxin_ppb  76%\ninformative" and labels[1].startswith("seed_width_mm  12%")
    assert ax.images[0].get_array().shape == (6, 200)


@pytest.mark.long
def test_bars_show_the_leading_with_intervals_and_p_beside_them():
    found = chaff.relevance(chaff.demo.table(rows=300), cut={"top": 6})
    figure = chaff.plots.relevance_bars(found, bars=10)
    bars = figure.axes[0].patches
    assert len(bars) == 10 and sum(b.get_facecolor() == matplotlib_rgba(KEEP) for b in bars) == 6
    assert "6 kept" in figure.axes[0].get_title(loc="left") and figure.axes[1].get_xscale() == "log"
    signed = chaff.plots.relevance_bars(found, "pearson_r", bars=200)
    assert min(b.get_width() for b in signed.axes[0].patches) < 0 < max(b.get_width() for b in signed.axes[0].patches)
    assert (
        len(chaff.plots.relevance_bars(chaff.relevance(chaff.demo.table(rows=100), ["mutual_information"]), "mutual_information").axes) == 1
    )


def matplotlib_rgba(colour):
    from matplotlib.colors import to_rgba

    return to_rgba(colour)


def test_one_feature_against_the_target_in_every_pair_of_kinds(mill_table):
    classes = chaff.demo.table(target="grade")
    points = chaff.plots.feature_target(mill_table, "falling_number_s")
    assert any("1,506 rows" in t.get_text() and "94 rows missing" in t.get_text() for t in points.texts)
    boxes = chaff.plots.feature_target(mill_table, "variety")
    assert boxes.get_xticklabels()[0].get_text().endswith("rows") and boxes.get_ylabel() == "loaf_volume (ml)"
    assert [t.get_text().split("\n")[0] for t in chaff.plots.feature_target(classes, "protein_pct").get_xticklabels()] == ["A", "B", "C"]
    mosaic = chaff.plots.feature_target(classes, "variety")
    assert sum(p.get_width() * p.get_height() for p in mosaic.patches) == pytest.approx(1.0)
    many = chaff.plots.feature_target(mill_table, "farm_code")
    assert "rarer levels not shown" in many.get_title(loc="left")
    two = chaff.plots.two_features(mill_table, "protein_pct", "protein_nir_pct")
    assert "r 0.9" in two.get_title(loc="left")
    with pytest.raises(chaff.UsageError, match="draws numbers"):
        chaff.plots.two_features(mill_table, "protein_pct", "variety")
    with pytest.raises(chaff.UnknownColumn):
        chaff.plots.feature_target(mill_table, "protien_pct")


@pytest.mark.long
def test_the_map_orders_by_cluster_and_mutes_what_is_weak(mill_table):
    figure = chaff.plots.correlation_map(chaff.correlations(mill_table), limit=0.3)
    names = [t.get_text() for t in figure.axes[0].get_yticklabels()]
    places = sorted(names.index(n) for n in ("gluten_wet_pct", "gluten_dry_pct", "gluten_washed_g", "gluten_machine_pct"))
    assert places[-1] - places[0] == 3  # neighbours
    cells = np.abs(np.asarray(figure.axes[0].images[0].get_array()))
    assert ((cells == 0) | (cells >= 0.3)).all() and len(names) == 48
    few = chaff.plots.correlation_map(
        chaff.correlations(mill_table.with_features(["protein_pct", "protein_nir_pct", "gluten_wet_pct", "ash_pct"]))
    )
    assert any(t.get_text() == "0.99" for t in few.axes[0].texts)
    wide = chaff.demo.table(rows=150, noise=220, repeats=30, signal=25)
    big = chaff.plots.correlation_map(chaff.correlations(wide), limit=0.5)
    assert len(big.axes[0].get_yticklabels()) <= 70
    with pytest.raises(chaff.UsageError, match="no matrix"):
        chaff.plots.correlation_map(chaff.relevance(mill_table, "leading"))


@pytest.mark.long
def test_inflation_figures_show_limit_path_and_components(mill_table):
    bars = chaff.plots.vif_bars(chaff.inflation(mill_table), bars=10)
    assert len(bars.patches) == 10 and any(t.get_text() == "infinite" for t in bars.texts) and "11 of 52" in bars.get_title(loc="left")
    went = chaff.prune_inflation(mill_table)
    trail = chaff.plots.vif_trail(went)
    assert sum(t.get_text().endswith(" goes") for t in trail.texts) == len(went.more["trail"])
    scree = chaff.plots.scree(chaff.components(mill_table))
    assert sum(p.get_facecolor() == matplotlib_rgba(KEEP) for p in scree.patches) == 8
    for draw in (chaff.plots.vif_bars, chaff.plots.vif_trail, chaff.plots.scree):
        with pytest.raises(chaff.UsageError, match="to draw"):
            draw(chaff.relevance(mill_table, "leading"))


def test_residual_figures(mill_table):
    checked = chaff.residuals(mill_table, ["protein_pct", "falling_number_s", "variety"])
    four = chaff.plots.residual_checks(checked)
    assert len(four.axes) == 4 and sum(p.get_height() * p.get_width() for p in four.axes[0].patches) == pytest.approx(1)
    assert len(chaff.plots.residuals_by_feature(checked).axes) == len(checked.form.columns)
    ax = chaff.plots.predicted_true(checked)
    assert f"{checked.true.size} rows" in ax.get_title(loc="left") and ax.get_xlabel() == "predicted loaf_volume (ml)"
    with pytest.raises(chaff.UsageError, match="no rows were held out"):
        chaff.plots.predicted_true(chaff.residuals(mill_table, ["protein_pct"], holdout=0))


def _few(**settings):
    names = ["protein_pct", "ash_pct", "variety", "mycotoxin_ppb", "lab_temp_c"]
    return chaff.importance(chaff.demo.table(rows=200).with_features(names), folds=3, **settings)


def test_bars_of_importance_have_whiskers_and_what_is_within_chance_is_pale():
    found = _few(model="ridge", by="permutation")
    ax = chaff.plots.importance_bars(found)
    assert [t.get_text() for t in ax.get_yticklabels()] == list(found.ranked().index)
    widths = [bar.get_width() for bar in ax.patches]
    assert widths == pytest.approx(found.ranked()["importance"].to_list())
    strong = found.ranked()["significant"].to_numpy()
    colours = {tuple(bar.get_facecolor()) for bar, s in zip(ax.patches, strong, strict=True) if s}
    assert len(colours) <= 1 and "whiskers" in ax.get_xlabel()


@pytest.mark.long
def test_the_path_marks_both_penalties_and_names_lie_apart():
    found = _few(model="lasso", by=chaff.Coefficient(resamples=0))
    top, below = chaff.plots.coefficient_path(found).axes
    scored = found.more["penalties"]
    marked = {round(float(line.get_xdata()[0]), 9) for line in below.lines if len(line.get_xdata()) == 2}
    assert marked == {round(float(scored.index[scored[c]][0]), 9) for c in ("best", "one_standard_error")}
    heights = sorted(t.xyann[1] for t in top.texts)
    assert np.diff(heights).min() >= 0.05 * np.ptp(found.more["path"].to_numpy()) and below.get_xlim()[0] > below.get_xlim()[1]
    with pytest.raises(chaff.UsageError, match="only a penalised model"):
        chaff.plots.coefficient_path(_few(model="ridge", by="coefficient"))


@pytest.mark.long
def test_effects_folds_and_disagreement_show_what_the_frames_hold():
    found = _few(model="tree", by=chaff.Shapley(rows=60))
    axes = chaff.plots.effects(found).axes
    assert [ax.get_xlabel() for ax in axes if ax.get_visible()] == [str(f) for f in found.ranked().index]
    variety = next(ax for ax in axes if ax.get_xlabel() == "variety")
    assert {t.get_text() for t in variety.get_xticklabels()} <= set(chaff.demo.lots(rows=200)["variety"])
    assert any(t.get_text() == "missing" for ax in axes for t in ax.texts)
    folds = chaff.plots.fold_spread(_few(model="ridge", by="permutation"))
    assert sum(len(c.get_offsets()) for c in folds.collections if len(c.get_offsets()) == 3) == 15
    pooled = _few(model="tree", by=chaff.Pooled(models=["ridge"]))
    legend = chaff.plots.disagreement(pooled).get_legend()
    assert [t.get_text().split(" (")[0] for t in legend.get_texts()] == ["tree, permutation", "ridge, permutation", "pooled"]
    for draw, wrong in ((chaff.plots.effects, pooled), (chaff.plots.disagreement, found)):
        with pytest.raises(chaff.UsageError):
            draw(wrong)


def test_a_notebook_shows_figures_as_pictures(mill_table):
    found = chaff.relevance(mill_table, ["pearson_r"])
    for drawn in (found.plot(), chaff.plots.scree(chaff.components(mill_table, shuffles=0))):
        png = drawn._repr_png_()
        assert png[:8] == b"\x89PNG\r\n\x1a\n" and len(png) > 5_000


def test_two_features_are_coloured_by_class_and_components_named():
    lots = chaff.demo.lots(rows=200)
    table = chaff.open_table(lots, "accepted", features=["protein_pct", "ash_pct", "falling_number_s"])
    ax = chaff.plots.two_features(table, "protein_pct", "ash_pct")
    assert [t.get_text() for t in ax.get_legend().get_texts()] == ["no", "yes"]
    drawn = [len(c.get_offsets()) for c in ax.collections]
    there = ~(table.column("protein_pct").missing | table.column("ash_pct").missing)
    assert drawn == [int((table.y[there] == k).sum()) for k in (0, 1)]
    found = chaff.components(table, shuffles=0)
    panels = chaff.plots.component_loadings(found, 2).axes
    strongest = found.more["loadings"][1].abs().idxmax()
    assert panels[0].get_yticklabels()[-1].get_text() == strongest
    with pytest.raises(chaff.UsageError, match="has no loadings"):
        chaff.plots.component_loadings(chaff.relevance(table, ["auc"]))


def test_the_results_of_searches_show_what_the_terminal_shows():
    table = chaff.demo.table(rows=200).with_features(["protein_pct", "ash_pct", "lab_temp_c"])
    trail = chaff.search(table, "ridge", "forward")
    text = str(trail)
    assert "optimism" in text and "cv se" in text and str(trail.choose()).split(" (")[0] in text and "chosen" in text
    assert trail.plot().get_xlabel() == "number of features"
    assert "optimism" not in str(chaff.search(table, "ridge", "forward", honest=False))
    found = chaff.compare(table, ["pearson_r", "forward"], sizes=[1, 2])
    firsts = [line.split("  ")[0] for line in str(found).splitlines()]
    assert firsts.index("nothing") == firsts.index("all features") + 1
    assert "nothing" in found._repr_html_() and found.plot().get_ylabel()


def test_a_column_that_is_named_as_another_figure_has_a_file_of_its_own(tmp_path):
    frame = chaff.demo.lots(rows=80)[["protein_pct", "ash_pct", "loaf_volume"]].rename(columns={"ash_pct": "relevance"})
    frame.to_csv(tmp_path / "t.csv", index=False)
    run("relevance", "t.csv", "--target", "loaf_volume", "--figures", "f", "--draw", "protein_pct,relevance", cwd=tmp_path)
    names = {p.name for p in (tmp_path / "f").iterdir()}
    assert names == {"protein_pct_and_relevance.png", "relevance.png", "relevance_.png", "protein_pct.png"}
    assert "--draw goes with --figure" in run("relevance", "t.csv", "--target", "loaf_volume", "--draw", "relevance", cwd=tmp_path, code=2)
