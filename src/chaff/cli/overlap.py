"""`chaff overlap`: which columns of a file repeat each other."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from chaff.cli.options import (
    all_option,
    columns_option,
    file_ending,
    numbers,
    pin_options,
    plan_option,
    rows_options,
    table_options,
    work_options,
)
from chaff.files import SAVED

if TYPE_CHECKING:
    from chaff.cli.console import Show
    from chaff.decide.calls.overlaps import Overlaps
    from chaff.results.findings import Findings
    from chaff.table.table import Table

USES = ("overlap", "correlation", "inflation")


@click.command("overlap")
@click.argument("data", type=click.Path())
@table_options
@plan_option
@pin_options
@rows_options
@columns_option
@click.option("--method", type=click.Choice(["pearson", "spearman", "kendall"]), default="pearson", show_default=True, help="Correlation.")
@click.option("--pair-limit", type=float, help="|r| over which a pair says the same (0.95).")
@click.option("--vif-limit", type=float, help="Variance inflation over which a feature goes (10).")
@click.option(
    "--vif-order",
    type=click.Choice(["claim", "largest"]),
    help="Of the features over it, drop the one with the weakest claim to stay first (claim), or the largest VIF.",
)
@click.option("--try", "limits", metavar="A,B,…", help="Pairs and groups there would be at these limits.")
@click.option(
    "--complete", is_flag=True, help="Only rows where every number column is present, for VIF too (each pair's own rows otherwise)."
)
@click.option("--with-target", is_flag=True, help="Put the target in the picture.")
@click.option("--partial", is_flag=True, help="Correlations with all other columns held fixed.")
@click.option("--every-kind", is_flag=True, help="Associations of columns of every kind in place of correlations of numbers.")
@click.option("--clusters", is_flag=True, help="Also clusters of columns of every kind, one of each to stay and why.")
@all_option
@click.option("--out", metavar="FILE", help="Save the correlations: .json, .csv or .parquet.")
@click.option("--figures", metavar="FOLDER", help="Draw correlations.png, vif.png, vif_trail.png and scree.png there.")
@work_options
def command(data: str, **said: Any) -> None:
    """Which columns of DATA repeat each other: pairs and groups, variance inflation and who explains whom, equations, components."""
    from chaff.cli.console import Show, tell_of_compiling
    from chaff.cli.ground import stand
    from chaff.decide.calls.overlaps import overlaps
    from chaff.methods.overlap.correlations import Correlating
    from chaff.methods.overlap.stage import Overlap

    file_ending(said["out"], SAVED, "--out")
    limits = numbers(said["limits"], "--try") if said["limits"] else (0.7, 0.8, 0.9, 0.95, 0.99)
    show = Show(said["form"])
    ground = stand(data, said, show, before=USES, sees="matrix")
    stage = ground.stage(Overlap, pair_limit=said["pair_limit"], vif_limit=said["vif_limit"], vif_order=said["vif_order"])
    rows = "complete" if said["complete"] else "pairwise"
    how = Correlating(said["method"], stage.pair_limit, limits, rows, said["with_target"], said["partial"])
    ground.tell(show)
    tell_of_compiling(show)
    show.watch("overlap")
    try:
        found = overlaps(
            ground.table,
            how=how,
            every_kind=said["every_kind"] or _few_numbers(ground.table),
            pair_limit=stage.pair_limit,
            vif_limit=stage.vif_limit,
            vif_order=stage.vif_order,
            clusters=said["clusters"],
            pins=[p for p in ground.pins if p.feature in ground.table.features],
            seed=said["seed"],
            workers=said["workers"],
        )
    finally:
        show.stop()
    _show(show, found, stage.pair_limit, stage.vif_limit, said["everything"])
    names = []
    if said["out"]:
        found.pairs.save(said["out"])
        names.append(said["out"])
    if said["figures"]:
        names += _figures(found, stage.vif_limit, said["figures"])
    show.finish("overlap", {"table": ground, "found": found}, names)


def _few_numbers(table: Table) -> bool:
    """A table of categories is compared as one."""
    kinds = [table.kind(f) for f in table.features]
    return sum(k in ("number", "binary") for k in kinds) < 2 <= sum(k in ("number", "binary", "category") for k in kinds)


def _show(show: Show, found: Overlaps, pair_limit: float, vif_limit: float, everything: bool) -> None:
    from chaff.cli.grids import title

    _pairs(show, found.pairs, pair_limit, everything)
    _cut(show, found.cut, pair_limit)
    if found.clusters is not None:
        _clusters(show, found.clusters)
    _inflation(show, found.inflation, vif_limit, everything)
    _elimination(show, found.elimination, vif_limit)
    _relations(show, found.relations)
    if not isinstance(found.components, str):
        title(show, "Components")
        show.say(f" {found.components.notes[1]}; {found.components.notes[2]}")


def _pairs(show: Show, found: Findings, limit: float, everything: bool) -> None:
    from chaff.cli.grids import HEAD, count, grid, notes, rest, title
    from chaff.results.digits import cell, figure

    pairs = found.more["pairs"]
    value = next(c for c in pairs.columns if c in ("pearson_r", "spearman_rho", "kendall_tau", "association"))
    title(show, f"{count(len(pairs), 'pair')} over {limit:g}, in {count(len(found.more['groups']), 'group')}")
    some = pairs if everything else pairs.head(HEAD)
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
            for _, r in some.iterrows()
        ]
        headers = ["first", "second", value.replace("_", " "), "95 %", "rows", "p"]
    else:
        rows = [[r["first"], r["second"], figure(r[value]), r["what"]] for _, r in some.iterrows()]
        headers = ["first", "second", "association", "what"]
    if rows:
        grid(show, headers, rows, names=2)
        rest(show, len(some), len(pairs))
    for _, g in found.more["groups"].iterrows():
        if g["size"] > 2:
            notes(show, [f"group of {g['size']}: {g['features']}"])
    if "limits" in found.more:
        with_some = [(v, r) for v, r in found.more["limits"].iterrows() if r["pairs"]]
        tried = [f"{v:g}: {count(int(r['pairs']), 'pair')}, {count(int(r['groups']), 'group')}" for v, r in with_some]
        notes(show, [f"at other limits {' · '.join(tried)}" if tried else "none at any other limit that was tried"])
    notes(show, found.notes[1:])


def _cut(show: Show, found: Findings, limit: float) -> None:
    """Of each pair the column that would go, for whom and why."""
    from chaff.cli.grids import grid, title

    gone = found.frame[(found.frame["verdict"] == "drop") & (found.frame["by"] != "pin")]
    if len(gone):
        title(show, f"Of each pair over {limit:g} one would go: {len(gone)} in all")
        grid(show, ["goes", "why"], [[str(f), r["reason"]] for f, r in gone.iterrows()])


def _clusters(show: Show, found: Findings) -> None:
    from chaff.cli.grids import grid, title, word

    frame = found.frame[found.frame["size"] > 1]
    title(show, f"{found.notes[-1]}, {frame['cluster'].nunique()} of more than one column")
    rows = [[f"{int(r['cluster']):d}", str(f), word(r["verdict"]), r["why"]] for f, r in frame.iterrows()]
    if rows:
        grid(show, ["", "feature", "verdict", "why"], rows, names=2)


def _inflation(show: Show, vif: Findings, limit: float, everything: bool) -> None:
    from chaff.cli.grids import HEAD, grid, notes, rest, title
    from chaff.results.digits import figure

    frame = vif.shown()
    over = frame[frame["vif"] > limit]
    title(show, f"{len(over)} of {len(frame)} features have a variance inflation factor over {limit:g}")
    some = frame if everything else over.head(HEAD)
    if len(some):
        beside = ["vif_complete"] if "vif_complete" in frame.columns else []
        rows = [
            [str(f), figure(r["vif"]), *(figure(r[c]) for c in beside), f"{r['r_squared']:.4f}", r["explained_by"]]
            for f, r in some.iterrows()
        ]
        heads = ["feature", "VIF", *("VIF, complete rows" for _ in beside), "R²", "explained by"]
        grid(show, heads, rows, asked=("VIF",))
        if not everything:
            rest(show, len(some), len(over))
    notes(show, vif.notes[1:])


def _elimination(show: Show, went: Findings, limit: float) -> None:
    from chaff.cli.grids import grid, notes, title
    from chaff.results.digits import figure

    trail = went.more["trail"]
    if not len(trail):
        return
    clean = not (went.frame["vif_left"].dropna() > limit).any()
    title(show, f"One at a time: {len(trail)} would go" + (f", and none is left over {limit:g}" if clean else ""))
    rows = [
        [str(move), r["feature"], figure(r["vif"]), f"{r['r_squared_after']:.4f}", figure(r["largest_left"]), r["whose"], r["explained_by"]]
        for move, r in trail.iterrows()
    ]
    heads = ["", "goes", "VIF then", "R² left", "largest left", "whose", "explained by"]
    grid(show, heads, rows, asked=("", "VIF then", "R² left"), names=2)
    notes(show, [f"R² of the target on all of them: {trail['r_squared_before'].iloc[0]:.4f} before the first went"])


def _relations(show: Show, found: Findings | str) -> None:
    from chaff.cli.grids import count, grid, notes, title
    from chaff.results.digits import figure

    if isinstance(found, str):
        show.say()
        notes(show, [f"Equations: {found}"])
        return
    equations, directions = found.more["equations"], found.more["directions"]
    title(show, f"{count(len(equations), 'equation')} among the columns")
    if len(equations):
        rows = [[r["equation"], "exact" if r["exact"] else f"leaves {figure(r['residual'], 2)} sd"] for _, r in equations.iterrows()]
        grid(show, ["equation", "holds"], rows, asked=("holds",))
    near = directions[directions["near_singular"]]
    if len(near):
        title(show, f"{count(len(near), 'near-singular direction')} (condition index over 30, two columns or more on it)")
        grid(show, ["index", "columns"], [[figure(r["condition_index"]), r["columns"]] for _, r in near.head(10).iterrows()])
    notes(show, found.notes[1:])


def _figures(found: Overlaps, vif_limit: float, folder: str) -> list[str]:
    from chaff.files import make_folder, write_with
    from chaff.plots import correlation_map, scree, vif_bars, vif_trail

    place = make_folder(folder)
    drawn = {"correlations.png": correlation_map(found.pairs), "vif.png": vif_bars(found.inflation, vif_limit).figure}
    if len(found.elimination.more["trail"]):
        drawn["vif_trail.png"] = vif_trail(found.elimination, vif_limit).figure
    if not isinstance(found.components, str):
        drawn["scree.png"] = scree(found.components).figure
    for name, figure in drawn.items():
        write_with(place / name, figure.savefig)
    return [str(place / name) for name in drawn]
