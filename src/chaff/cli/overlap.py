"""`chaff overlap`: which columns of a file repeat each other."""

from __future__ import annotations

from typing import Any

import click

from chaff.cli.table_options import file_ending, numbers, open_said, pin_options, pins_said, table_options

QUIET = "color(243)"


@click.command("overlap")
@click.argument("data", type=click.Path())
@table_options
@pin_options
@click.option("--method", type=click.Choice(["pearson", "spearman", "kendall"]), default="pearson", show_default=True, help="Correlation.")
@click.option("--pair-limit", type=float, default=0.95, show_default=True, help="|r| over which a pair says the same.")
@click.option("--vif-limit", type=float, default=10.0, show_default=True, help="Variance inflation over which a feature goes.")
@click.option("--try", "limits", metavar="A,B,…", help="Pairs and groups there would be at these limits.")
@click.option("--complete", is_flag=True, help="Only rows where every number column is present (each pair's own rows otherwise).")
@click.option("--with-target", is_flag=True, help="Put the target in the picture.")
@click.option("--partial", is_flag=True, help="Correlations with all other columns held fixed.")
@click.option("--every-kind", is_flag=True, help="Associations of columns of every kind in place of correlations of numbers.")
@click.option("--clusters", is_flag=True, help="Also clusters of columns of every kind, one of each to stay and why.")
@click.option("--all", "everything", is_flag=True, help="List everything, not only the heads.")
@click.option("--out", metavar="FILE", help="Save the correlations: .json, .csv or .parquet.")
@click.option("--figures", metavar="FOLDER", help="Draw correlations.png, vif.png, vif_trail.png and scree.png there.")
@click.option("--seed", default=0, show_default=True, help="Fixes every random draw.")
@click.option("--workers", type=click.IntRange(1), help="Threads; every core when left out.")
def command(data: str, **said: Any) -> None:
    """Which columns of DATA repeat each other: pairs and groups, variance inflation and who explains whom, equations, components."""
    import chaff
    from chaff.cli.console import Show, tell_of_compiling
    from chaff.cli.tables import grid

    if said["out"]:
        file_ending(said["out"], (".json", ".csv", ".parquet"), "--out")
    table = open_said(data, said)
    pins = pins_said(said)
    dropped = {p.feature for p in pins if p.verdict == "drop"}
    table = table.with_features([f for f in table.features if f not in dropped])
    show = Show()
    show.table(table)
    tell_of_compiling(show)
    show.watch("overlap", "started")
    try:
        limits = numbers(said["limits"], "--try") if said["limits"] else (0.7, 0.8, 0.9, 0.95, 0.99)
        keeps = [p for p in pins if p.verdict == "keep"]
        if said["every_kind"]:
            pairs = chaff.associations(table, limit=said["pair_limit"], workers=said["workers"])
        else:
            pairs = chaff.correlations(
                table,
                said["method"],
                limit=said["pair_limit"],
                limits=limits,
                partial=said["partial"],
                rows="complete" if said["complete"] else "pairwise",
                with_target=said["with_target"],
                workers=said["workers"],
            )
        cut = _or_words(lambda: chaff.prune_correlations(table, said["pair_limit"], pins=keeps, seed=said["seed"], workers=said["workers"]))
        grouped = chaff.clusters(table, seed=said["seed"], workers=said["workers"]) if said["clusters"] else None
        vif = chaff.inflation(table, workers=said["workers"])
        went = chaff.prune_inflation(table, said["vif_limit"], pins=keeps, seed=said["seed"], workers=said["workers"])
        relations = _or_words(lambda: chaff.dependencies(table))
        parts = _or_words(lambda: chaff.components(table, seed=said["seed"], workers=said["workers"]))
    finally:
        show.stop()
    _pairs(show, grid, pairs, said)
    _cut(show, grid, cut)
    if grouped is not None:
        _clusters(show, grid, grouped)
    _inflation(show, grid, vif, went, said)
    _relations(show, grid, relations)
    if not isinstance(parts, str):
        show.say()
        show.say(" Components", "bold")
        show.say(f" {parts.notes[1]}; {parts.notes[2]}")
    names = []
    if said["out"]:
        pairs.save(said["out"])
        names.append(said["out"])
    if said["figures"]:
        names += _figures(pairs, vif, went, parts, said)
    show.say()
    show.say(f" {'  '.join([*names, ''])}({show.seconds()})")


def _or_words(call: Any) -> Any:
    """The result, or why there is none: too few complete rows must not hide the rest."""
    from chaff.errors import DataError

    try:
        return call()
    except DataError as error:
        return str(error)


def _pairs(show: Any, grid: Any, found: Any, said: dict[str, Any]) -> None:
    from chaff.cli.tables import HEAD, rest
    from chaff.results.digits import cell, figure

    pairs, limit = found.more["pairs"], said["pair_limit"]
    value = next(c for c in pairs.columns if c in ("pearson_r", "spearman_rho", "kendall_tau", "association"))
    show.say()
    show.say(f" {_count(len(pairs), 'pair')} over {limit:g}, in {_count(len(found.more['groups']), 'group')}", "bold")
    some = pairs if said["everything"] else pairs.head(HEAD)
    if "rows" in pairs.columns:
        rows = [
            [
                r["first"],
                r["second"],
                f"{figure(r[value])} ({figure(r[value + '_low'])} to {figure(r[value + '_high'])})",
                figure(r["rows"]),
                cell("p", r["p"]),
            ]
            for _, r in some.iterrows()
        ]
        headers = ["first", "second", value.replace("_", " "), "rows", "p"]
    else:
        rows = [[r["first"], r["second"], figure(r[value]), r["what"]] for _, r in some.iterrows()]
        headers = ["first", "second", "association", "what"]
    if rows:
        grid(show, headers, rows, left=2)
        rest(show, len(some), len(pairs))
    for _, g in found.more["groups"].iterrows():
        if g["size"] > 2:
            show.say(f"   group of {g['size']}: {g['features']}", QUIET)
    if "limits" in found.more:
        tried = " · ".join(
            f"{v:g}: {_count(r['pairs'], 'pair')}, {_count(r['groups'], 'group')}" for v, r in found.more["limits"].iterrows()
        )
        show.say(f"   at other limits {tried}", QUIET)
    for note in found.notes[1:]:
        show.say(f"   {note}", QUIET)


def _cut(show: Any, grid: Any, found: Any) -> None:
    """Of each pair the column that would go, for whom and why."""
    if isinstance(found, str):
        return
    gone = found.frame[found.frame["verdict"] == "drop"]
    if len(gone):
        show.say()
        show.say(f" Of each pair over {found.settings['limit']:g} one goes: {len(gone)} in all", "bold")
        grid(show, ["goes", "why"], [[str(f), r["reason"]] for f, r in gone.iterrows()], left=2)


def _clusters(show: Any, grid: Any, found: Any) -> None:
    frame = found.frame[found.frame["size"] > 1]
    show.say()
    show.say(f" {found.notes[-1]}, {frame['cluster'].nunique()} of more than one column", "bold")
    rows = [[str(r["cluster"]), str(f), "stays" if r["stays"] else "", r["why"]] for f, r in frame.iterrows()]
    if rows:
        grid(show, ["", "feature", "", "why"], rows, left=4)


def _count(number: int, word: str) -> str:
    return f"{number} {word}" + ("" if number == 1 else "s")


def _inflation(show: Any, grid: Any, vif: Any, went: Any, said: dict[str, Any]) -> None:
    from chaff.cli.tables import HEAD, rest
    from chaff.results.digits import figure

    frame = vif.ranked()
    over = frame[frame["vif"] > said["vif_limit"]]
    show.say()
    show.say(f" {len(over)} of {len(frame)} features have a variance inflation factor over {said['vif_limit']:g}", "bold")
    some = over if said["everything"] else over.head(HEAD)
    if len(some):
        rows = [[str(f), figure(r["vif"]), f"{r['r_squared']:.4f}", r["explained_by"]] for f, r in some.iterrows()]
        grid(show, ["feature", "VIF", "R²", "explained by"], rows)
        rest(show, len(some), len(over))
    trail = went.more["trail"]
    if len(trail):
        show.say()
        show.say(
            f" One at a time: {len(trail)} go, and none is left over {said['vif_limit']:g}"
            if _clean(went, said)
            else f" One at a time: {len(trail)} go",
            "bold",
        )
        rows = [
            [str(r["move"]), r["feature"], figure(r["vif"]), r["explained_by"], f"{figure(r['largest_left'])} ({r['whose']})"]
            for _, r in trail.iterrows()
        ]
        grid(show, ["", "goes", "VIF then", "explained by", "largest left"], rows, left=2)
    for note in vif.notes[1:]:
        show.say(f"   {note}", QUIET)


def _clean(went: Any, said: dict[str, Any]) -> bool:
    return not (went.frame["vif_left"].dropna() > said["vif_limit"]).any()


def _relations(show: Any, grid: Any, found: Any) -> None:
    from chaff.results.digits import figure

    show.say()
    if isinstance(found, str):
        show.say(f" Equations: {found}", QUIET)
        return
    equations, directions = found.more["equations"], found.more["directions"]
    show.say(f" {len(equations)} equations among the columns", "bold")
    if len(equations):
        rows = [[r["equation"], "exact" if r["exact"] else f"leaves {figure(r['residual'], 2)} sd"] for _, r in equations.iterrows()]
        grid(show, ["", ""], rows, left=2)
    near = directions[directions["near_singular"]]
    if len(near):
        show.say()
        show.say(f" {len(near)} near-singular directions (condition index over 30, two columns or more on it)", "bold")
        grid(show, ["index", "columns"], [[figure(r["condition_index"]), r["columns"]] for _, r in near.head(10).iterrows()])
    for note in found.notes[1:]:
        show.say(f"   {note}", QUIET)


def _figures(pairs: Any, vif: Any, went: Any, parts: Any, said: dict[str, Any]) -> list[str]:
    from chaff.files import make_folder, write_with
    from chaff.plots import correlation_map, scree, vif_bars, vif_trail

    place = make_folder(said["figures"])
    drawn = {"correlations.png": correlation_map(pairs), "vif.png": vif_bars(vif, said["vif_limit"]).figure}
    if len(went.more["trail"]):
        drawn["vif_trail.png"] = vif_trail(went, said["vif_limit"]).figure
    if not isinstance(parts, str):
        drawn["scree.png"] = scree(parts).figure
    for name, figure in drawn.items():
        write_with(place / name, figure.savefig)
    return [str(place / name) for name in drawn]
