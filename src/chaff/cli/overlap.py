"""`chaff overlap`: which columns of a file repeat each other."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING, Any

import click

from chaff.cli.help_pages import Command
from chaff.cli.options import columns_option, file_ending, looking_options, numbers
from chaff.cli.output import leave_figures, leave_tables
from chaff.cli.stage_options import stage_options
from chaff.files import SAVED

if TYPE_CHECKING:
    from chaff.cli.console import Show
    from chaff.decide.overlap_calls import Overlaps
    from chaff.results.findings import Findings
    from chaff.table.table import Table

USES = ("overlap", "correlation", "inflation")


@click.command(
    "overlap",
    cls=Command,
    everyday=["--target", "--plan", "--pair-limit", "--vif-limit", "--method", "--clusters", "--try", "--all", "--out", "--figure"],
    examples=["chaff overlap lots.csv --target loaf_volume --pair-limit 0.9 --vif-limit 5"],
)
@click.argument("data", type=click.Path())
@looking_options
@columns_option
@click.option("--method", type=click.Choice(["pearson", "spearman", "kendall"]), default="pearson", show_default=True, help="Correlation.")
@stage_options("overlap.stage", "Overlap")
@click.option("--try", "limits", metavar="A,B,…", help="Number of pairs and groups at these thresholds.")
@click.option(
    "--complete", is_flag=True, help="Only rows where every number column is present, for VIF too (each pair's own rows otherwise)."
)
@click.option("--with-target", is_flag=True, help="Include the target in the correlations and the map.")
@click.option("--partial", is_flag=True, help="Correlations with all other columns held fixed.")
@click.option("--every-kind", is_flag=True, help="Associations of columns of every kind in place of correlations of numbers.")
@click.option("--clusters", is_flag=True, help="Also clusters of features of every kind, with the one to keep of each, and why.")
@click.option(
    "--component-share",
    type=click.FloatRange(0, 1, min_open=True),
    default=0.9,
    show_default=True,
    help="Share of the variance that the principal components have to explain.",
)
@click.option("--out", metavar="FILE", help="Save the correlations: .json, .csv or .parquet.")
@click.option(
    "--map-limit",
    type=click.FloatRange(0, 1),
    default=0.3,
    show_default=True,
    help="|r| from which a cell of the correlation map is drawn.",
)
def command(data: str, **options: Any) -> None:
    """Which columns of DATA repeat each other: pairs and groups, variance inflation and who explains whom, equations, components."""
    from chaff.cli.command_context import stand
    from chaff.cli.console import Show
    from chaff.decide.overlap_calls import overlaps
    from chaff.methods.overlap.correlations import Correlating
    from chaff.methods.overlap.stage import Overlap

    file_ending(options["out"], SAVED, "--out")
    limits = numbers(options["limits"], "--try") if options["limits"] else (0.7, 0.8, 0.9, 0.95, 0.99)
    show = Show(options["form"])
    context = stand(data, options, show, before=USES, sees="matrix", needs_target=False)
    if options["with_target"]:
        context.table.check_target()
    stage = context.stage(Overlap)
    rows = "complete" if options["complete"] else "pairwise"
    how = Correlating(options["method"], stage.pair_limit, limits, rows, options["with_target"], options["partial"])
    context.tell(show)
    show.watch("overlap")
    try:
        result = overlaps(
            context.table,
            how=how,
            every_kind=options["every_kind"] or _few_numbers(context.table),
            pair_limit=stage.pair_limit,
            vif_limit=stage.vif_limit,
            vif_order=stage.vif_order,
            clusters=options["clusters"],
            component_share=options["component_share"],
            pins=[p for p in context.pins if p.feature in context.table.features],
            seed=options["seed"],
            workers=options["workers"],
        )
    finally:
        show.stop()
    _show(show, result, stage.pair_limit, stage.vif_limit, options["everything"])
    names = []
    if options["out"]:
        result.pairs.save(options["out"])
        names.append(options["out"])
    names += leave_tables(options, lambda: _parts(result))
    names += leave_figures(options, lambda: _figures(result, stage.vif_limit, options["map_limit"]))
    following = context.following(data, options, "importance") if context.table.has_target else ""
    show.finish("overlap", {"table": context, "result": result}, names, following)


def _parts(result: Overlaps) -> dict[str, Findings]:
    """What was found, by the name of its file."""
    parts = {
        "correlations": result.pairs, "pair_cut": result.cut, "vif": result.inflation, "elimination": result.elimination,
        "dependencies": result.relations, "components": result.components, "clusters": result.clusters,
    }  # fmt: skip
    return {name: part for name, part in parts.items() if part is not None and not isinstance(part, str)}


def _few_numbers(table: Table) -> bool:
    """A table of categories is compared as one."""
    kinds = [table.kind(f) for f in table.features]
    return sum(k in ("number", "binary") for k in kinds) < 2 <= sum(k in ("number", "binary", "category") for k in kinds)


def _show(show: Show, result: Overlaps, pair_limit: float, vif_limit: float, everything: bool) -> None:
    from chaff.cli.tables import title

    _pairs(show, result.pairs, pair_limit, everything)
    _cut(show, result.cut, pair_limit)
    if result.clusters is not None:
        _clusters(show, result.clusters)
    _inflation(show, result.inflation, vif_limit, everything)
    _elimination(show, result.elimination, vif_limit)
    _relations(show, result.relations)
    if not isinstance(result.components, str):
        title(show, "Components")
        show.say(f" {result.components.notes[1]}; {result.components.notes[2]}")


def _pairs(show: Show, result: Findings, limit: float, everything: bool) -> None:
    from chaff.cli.tables import HEAD, count, grid, notes, rest, title
    from chaff.results.digits import cell, figure

    pairs = result.more["pairs"]
    value = next(c for c in pairs.columns if c in ("pearson_r", "spearman_rho", "kendall_tau", "association"))
    title(show, f"{count(len(pairs), 'pair')} over {limit:g}, in {count(len(result.more['groups']), 'group')}")
    subset = pairs if everything else pairs.head(HEAD)
    if "rows" in pairs.columns:
        rows = [
            [
                r["first"],
                r["second"],
                figure(r[value]),
                f"{figure(r[value + '_low'])} to {figure(r[value + '_high'])}",
                figure(r["rows"]),
                cell("p", r["p"]),
            ]
            for _, r in subset.iterrows()
        ]
        headers = ["first", "second", value.replace("_", " "), "95 %", "rows", "p"]
    else:
        rows = [[r["first"], r["second"], figure(r[value]), r["what"]] for _, r in subset.iterrows()]
        headers = ["first", "second", "association", "what"]
    if rows:
        grid(show, headers, rows, names=2)
        rest(show, len(subset), len(pairs))
    for _, g in result.more["groups"].iterrows():
        if g["size"] > 2:
            notes(show, [f"group of {g['size']}: {g['features']}"])
    if "limits" in result.more:
        with_pairs = [(v, r) for v, r in result.more["limits"].iterrows() if r["pairs"]]
        tried = [f"{v:g}: {count(int(r['pairs']), 'pair')}, {count(int(r['groups']), 'group')}" for v, r in with_pairs]
        notes(show, [f"at other thresholds {' · '.join(tried)}" if tried else "none at any other threshold tried"])
    notes(show, result.notes[1:])


def _cut(show: Show, result: Findings, limit: float) -> None:
    """Of each pair the column that would go, for whom and why."""
    from chaff.cli.tables import count, grid, title

    gone = result.frame[(result.frame["verdict"] == "drop") & (result.frame["by"] != "pin")]
    if len(gone):
        title(show, f"{count(len(gone), 'feature')} proposed for removal (one per pair with |r| > {limit:g})")
        grid(show, ["feature to drop", "reason"], [[str(f), r["reason"]] for f, r in gone.iterrows()])


def _clusters(show: Show, result: Findings) -> None:
    from chaff.cli.tables import grid, title, word

    frame = result.frame[result.frame["size"] > 1]
    title(show, f"{result.notes[-1]}, {frame['cluster'].nunique()} of more than one feature")
    rows = [[f"{int(r['cluster']):d}", str(f), word(r["verdict"]), r["why"]] for f, r in frame.iterrows()]
    if rows:
        grid(show, ["cluster", "feature", "verdict", "reason"], rows, names=2)


def _inflation(show: Show, vif: Findings, limit: float, everything: bool) -> None:
    from chaff.cli.tables import HEAD, grid, notes, rest, title
    from chaff.results.digits import figure

    frame = vif.shown()
    over = frame[frame["vif"] > limit]
    title(show, f"{len(over)} of {len(frame)} features have a variance inflation factor over {limit:g}")
    subset = frame if everything else over.head(HEAD)
    if len(subset):
        beside = ["vif_complete"] if "vif_complete" in frame.columns else []
        rows = [
            [str(f), figure(r["vif"]), *(figure(r[c]) for c in beside), f"{r['r_squared']:.4f}", r["explained_by"]]
            for f, r in subset.iterrows()
        ]
        heads = ["feature", "VIF", *("VIF, complete rows" for _ in beside), "R²", "explained by"]
        grid(show, heads, rows, required=("VIF",))
        if not everything:
            rest(show, len(subset), len(over))
    notes(show, vif.notes[1:])


def _elimination(show: Show, went: Findings, limit: float) -> None:
    from chaff.cli.tables import count, grid, notes, title
    from chaff.results.digits import figure

    trail = went.more["trail"]
    if not len(trail):
        return
    clean = not (went.frame["vif_left"].dropna() > limit).any()
    title(show, f"Stepwise VIF elimination: {count(len(trail), 'feature')} dropped" + (f"; none above {limit:g} remains" if clean else ""))
    measured = trail["r_squared_after"].notna().all()  # there is a target
    rows = [
        [str(move), r["feature"], figure(r["vif"])]
        + ([f"{r['r_squared_after']:.4f}"] if measured else [])
        + [figure(r["largest_left"]), r["whose"], r["explained_by"]]
        for move, r in trail.iterrows()
    ]
    heads = ["step", "dropped", "VIF when dropped", *(["R² of the target after"] if measured else [])]
    heads += ["largest remaining VIF", "feature with it", "explained by"]
    grid(show, heads, rows, required=("step", "VIF when dropped", "R² of the target after"), names=2)
    if measured:
        notes(show, [f"R² of the target on all of them: {trail['r_squared_before'].iloc[0]:.4f} before the first was dropped"])


def _relations(show: Show, result: Findings | str) -> None:
    from chaff.cli.tables import count, grid, notes, title
    from chaff.results.digits import figure

    if isinstance(result, str):
        show.say()
        notes(show, [f"Equations: {result}"])
        return
    equations, directions = result.more["equations"], result.more["directions"]
    title(show, f"{count(len(equations), 'equation')} among the columns")
    if len(equations):
        rows = [[r["equation"], "0 (exact)" if r["exact"] else figure(r["residual"], 2)] for _, r in equations.iterrows()]
        grid(show, ["equation", "residual SD"], rows, required=("residual SD",))
    near = directions[directions["near_singular"]]
    if len(near):
        title(show, f"{count(len(near), 'near-singular direction')} (condition index over 30, two columns or more on it)")
        grid(show, ["index", "columns"], [[figure(r["condition_index"]), r["columns"]] for _, r in near.head(10).iterrows()])
    notes(show, result.notes[1:])


def _figures(result: Overlaps, vif_limit: float, map_limit: float) -> dict[str, Callable[[], Any]]:
    from chaff.plots import component_loadings, correlation_map, scree, vif_bars, vif_trail

    drawn: dict[str, Callable[[], Any]] = {
        "correlations": lambda: correlation_map(result.pairs, map_limit),
        "vif": lambda: vif_bars(result.inflation, vif_limit),
    }
    if len(result.elimination.more["trail"]):
        drawn["vif_trail"] = lambda: vif_trail(result.elimination, vif_limit)
    if not isinstance(result.components, str):
        drawn["scree"] = partial(scree, result.components)
        drawn["component_loadings"] = partial(component_loadings, result.components)
    return drawn
