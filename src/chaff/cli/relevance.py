"""`chaff relevance`: score every feature of a file against its target."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Container
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from chaff.cli.help_pages import Command
from chaff.cli.options import columns_option, file_ending, looking_options, numbers, selection_option
from chaff.cli.output import leave_figures, leave_selection, leave_tables
from chaff.cli.stage_options import stage_options
from chaff.files import SAVED

if TYPE_CHECKING:
    from chaff.cli.command_context import CommandContext
    from chaff.cli.console import Show
    from chaff.results.findings import Findings
    from chaff.table.table import Table

PANELS = 12
SIGN = "sign"
CUTS = ("top", "share", "above", "below", "times_mean")


@click.command(
    "relevance",
    cls=Command,
    everyday=["--target", "--plan", "--statistics", "--by", "--top", "--above", "--try", "--pairs", "--all", "--out", "--figure"],
    examples=[
        "chaff relevance lots.csv --target loaf_volume --statistics pearson_r,spearman",
        "chaff relevance lots.csv --target loaf_volume --top 20 --out found.json",
    ],
)
@click.argument("data", type=click.Path())
@looking_options
@columns_option
@selection_option
@click.option(
    "--statistics", metavar="NAMES", help="What is measured: names separated by commas, or tests, leading, fitting, all (fitting)."
)
@click.option("--by", metavar="COLUMN", help="Rank and cut by this measure (effect_size).")
@click.option("--top", type=click.IntRange(1), help="Keep the N best features.")
@click.option("--share", type=click.FloatRange(0, 1, min_open=True), help="Keep this share of the features, rounded up.")
@click.option("--above", type=float, help="Keep features above this value.")
@click.option("--below", type=float, help="Keep features below this value, for p and q.")
@click.option("--times-mean", type=float, help="Keep features at F × the mean or more.")
@click.option("--try", "limits", metavar="A,B,…", help="How many features would be kept at these thresholds, and which.")
@stage_options("relevance.stage", "Relevance", hand=("by",))
@click.option(
    "--pairs", is_flag=True, help="Also test all pairs for interactions: what two features predict together beyond the sum of each."
)
@click.option("--triage", type=click.IntRange(1), metavar="N", help="A very wide table: keep the best N columns, read block by block.")
@click.option("--scaled", is_flag=True, help="Also show every measure rescaled from 0 to 1, side by side.")
@click.option("--draw", metavar="A[,B]", help="The leading figure: this feature against the target, or two against each other.")
@click.option("--out", metavar="FILE", help="Save the findings: .json (can be read again), .csv or .parquet.")
@click.option("--decimals", type=click.IntRange(0), help="Digits after the point in a saved .csv or .parquet.")
def command(data: str, **options: Any) -> None:
    """Score every feature of DATA by the statistics that fit its kind and the target's.

    DATA is a table, or findings saved before as .json: those are ranked, cut and tried again without computing.
    """
    from chaff.cli.console import Show
    from chaff.cli.tables import limits_grid

    file_ending(options["out"], SAVED, "--out")
    if options["draw"] and not (options["figure"] or options["figures"]):
        raise click.UsageError("--draw goes with --figure FILE or --figures FOLDER")
    cut = _cut(options)
    show = Show(options["form"])
    context: CommandContext | None = None
    if Path(data).suffix.lower() == ".json":
        result = _again(data, cut, options)
    elif options["triage"]:
        result = _triage(data, cut, options, show)
    else:
        result, context = _measured(data, cut, options, show)
    by = result.lead
    _table(show, result, by, options["everything"], options["top"] or 0)
    if options["scaled"]:
        _scaled(show, result, by, options["everything"])
    for note in result.notes[1:]:
        show.say(f" note: {note}", "#7A4E8A")
    if options["limits"]:
        limits_grid(show, result.try_limits(numbers(options["limits"], "--try"), by), by, len(result.frame))
    pairs = _pairs(show, _needed(context, "--pairs"), options) if options["pairs"] else None
    names = _leave(result, pairs, by, options, context)
    show.finish("relevance", {"table": context, "result": result, "pairs": pairs}, names, _following(context, data, options, result))


def _following(context: CommandContext | None, data: str, options: dict[str, Any], result: Findings) -> str:
    """With a cut the search goes on with what stayed, from the saved findings where there are any."""
    if context is None:
        return ""
    if "stays" not in result.frame:
        return context.following(data, options, "overlap")
    return context.following_search(data, options, result.kept)


def _needed(context: CommandContext | None, option: str) -> Table:
    if context is None:
        raise click.UsageError(f"{option} needs the table itself, not saved findings or a triage")
    return context.table


def _measured(data: str, cut: dict[str, float] | None, options: dict[str, Any], show: Show) -> tuple[Findings, CommandContext]:
    from chaff.cli.command_context import stand
    from chaff.decide.one_stage import StageResult, findings_of, judge
    from chaff.methods.relevance.catalogue import GROUPS
    from chaff.methods.relevance.stage import Relevance

    context = stand(data, options, show, before=("relevance",))
    settings: dict[str, Any] = {}
    requested = options["statistics"]
    if requested is not None:
        settings["statistics"] = requested if requested in GROUPS else [n.strip() for n in requested.split(",") if n.strip()]
    elif context.plan is None:
        settings["statistics"] = "fitting"
    stage = context.stage(Relevance, by=options["by"], cut=cut, **settings)
    if options["by"]:
        stage = stage.able_to_rank(context.table)
    context.tell(show)
    show.watch("relevance")
    pins = [p for p in context.pins if p.feature in context.table.features]
    judged: StageResult = judge(stage, context.table, pins=pins, seed=options["seed"], workers=options["workers"], watch=show.watch)
    show.stop()
    return (findings_of(judged) if stage.cut is not None else judged.result), context  # type: ignore[return-value]


def _triage(data: str, cut: dict[str, float] | None, given: dict[str, Any], show: Show) -> Findings:
    from chaff.cli.command_context import read_plan_option
    from chaff.cli.options import parse_table_options
    from chaff.decide.triage import triage

    plan = read_plan_option(given)
    options = {**(plan.table.as_mapping() if plan else {}), **parse_table_options(given)}
    target = options.pop("target", None)
    if not target:
        raise click.UsageError("missing --target NAME (the column to predict)")
    if cut or given["pairs"] or given["target_above"] is not None:
        raise click.UsageError("--triage keeps the best N by itself: it excludes the other cuts, --pairs and --target-above")
    try:
        return triage(
            data,
            target,
            top=given["triage"],
            by=given["by"] or "effect_size",
            seed=given["seed"],
            workers=given["workers"],
            watch=lambda done, of: show.watch("columns", done, of),
            **options,
        )
    finally:
        show.stop()


def _again(data: str, cut: dict[str, float] | None, options: dict[str, Any]) -> Findings:
    """Saved findings under another cut."""
    from chaff.methods.relevance.catalogue import our_name
    from chaff.results.findings import read_findings

    result = read_findings(data)
    if options["by"]:
        result = dataclasses.replace(result, lead=our_name(options["by"]))
    if cut:
        stays = set(result.stays(cut))
        frame = result.frame.assign(verdict=["keep" if f in stays else "drop" for f in result.frame.index])
        result = dataclasses.replace(result, frame=frame)
    return result


def _cut(options: dict[str, Any]) -> dict[str, float] | None:
    given = {k: options[k] for k in CUTS if options[k] is not None}
    if len(given) > 1:
        raise click.UsageError(f"{' and '.join('--' + k.replace('_', '-') for k in given)} cannot be combined: one cut at a time")
    return given or None


def _table(show: Show, result: Findings, by: str, everything: bool, shown: int = 0) -> None:
    """The leading features with the statistics that fit into the window; what was asked for is always there."""
    from chaff.cli.tables import HEAD, grid, rest, with_interval, word
    from chaff.results.digits import cell
    from chaff.results.shown import Cell, Styled

    frame = result.ranked(by)
    subset = frame if everything else frame.head(max(HEAD, shown))
    columns = _columns(result, by)
    named = _named(result)
    unfit = set(result.settings.get("not_fitted", ()))
    verdicts = "verdict" in frame.columns
    rows: list[list[Cell]] = []
    for place, (f, r) in enumerate(subset.iterrows(), 1):
        # several statistics side by side have room for the interval of the one that ranks
        cells = [sign_of(r) if c == SIGN else with_interval(c, r) if c == by or len(named) < 2 else cell(c, r[c]) for c in columns]
        verdict = Styled("not judged", "quiet") if f in unfit else word(r["verdict"]) if verdicts else ""
        rows.append([str(place), str(f), *([verdict] if verdicts else []), *cells])
    headers = ["", "feature", *(["verdict"] if verdicts else []), *[c.replace("_", " ") for c in columns]]
    show.say()
    grid(show, headers, rows, required=("", "feature", "verdict", by.replace("_", " "), *(c.replace("_", " ") for c in named)), names=2)
    rest(show, len(subset), len(frame))


def _named(result: Findings) -> list[str]:
    """The statistics that were named, as columns."""
    from chaff.methods.relevance.catalogue import named_statistics

    return [c for c in named_statistics(result.settings.get("statistics", "fitting")) if c in result.frame.columns]


def sign_of(row: Any) -> str:
    """+ or − where the feature goes up or down with the target: by r, else by the AUC of the positive of two classes."""
    r = row.get("pearson_r", row.get("spearman_rho", float("nan")))
    r = r if r == r and r is not None else row.get("auc", float("nan")) - 0.5
    return "+" if r > 0 else "−" if r < 0 else ""


def _columns(result: Findings, by: str) -> list[str]:
    """The statistics that were named, else what leads with the direction; then every other measure that has a value at all."""
    frame, named = result.frame, _named(result)
    own = [by, f"{by}_p", f"{by}_family_p", f"{by}_q"]
    first = ["kind", "statistic", "effect_size", SIGN, "p", "q", "rows"]
    ranking = [c for c in result.better if not c.endswith(("_p", "_q")) and c not in first]
    if named:  # no figure twice: the effect size of these would be one of them
        order = dict.fromkeys([by, *named, *own, *(f"{n}_p" for n in named), "kind", "rows", *ranking])
    else:
        ranking = [c for c in ranking if c != "pearson_r"]  # which effect size and sign tell already
        order = dict.fromkeys([*first[:4], *([] if by in first else own), *first[4:], *ranking])
    if SIGN in order and any(sign_of(r) for _, r in frame.iterrows()):
        frame = frame.assign(**{SIGN: "+"})
    return [c for c in order if c in frame.columns and (frame[c].notna() & (frame[c].astype(str) != "")).any()]


def _scaled(show: Show, result: Findings, by: str, everything: bool) -> None:
    """Every measure from 0 (the worst feature) to 1 (the best), side by side."""
    from chaff.cli.tables import HEAD, grid, rest, title

    scaled = result.scaled().loc[result.ranked(by).index].dropna(axis=1, how="all")
    subset = scaled if everything else scaled.head(HEAD)
    title(show, "From 0, the worst feature, to 1, the best")
    rows = [[str(f), *["" if r[c] != r[c] else f"{r[c]:.2f}" for c in scaled.columns]] for f, r in subset.iterrows()]
    grid(show, ["feature", *[str(c).replace("_", " ") for c in scaled.columns]], rows, required=("feature", by.replace("_", " ")))
    rest(show, len(subset), len(scaled))


def _pairs(show: Show, table: Table, options: dict[str, Any]) -> Findings:
    from chaff.cli.tables import HEAD, grid, notes, rest, title, word
    from chaff.methods.relevance.pairs import interactions
    from chaff.results.digits import cell, figure, share
    from chaff.results.shown import Cell

    show.watch("pairs")
    try:
        result = interactions(table, seed=options["seed"], workers=options["workers"], watch=show.watch)
    finally:
        show.stop()
    pairs = result.more["pairs"]
    over = pairs[pairs["significant"]]
    title(show, f"Pairwise interactions: {len(over)} significant")
    subset = pairs if options["everything"] else pairs.head(max(min(len(over), HEAD), 5))
    rows: list[list[Cell]] = [
        [
            r["first"],
            r["second"],
            word("review") if r["significant"] else "not significant",
            share(r["share"]),
            figure(r["f"]),
            cell("f_p", r["f_p"]),
            figure(r["score"]),
        ]
        for _, r in subset.iterrows()
    ]
    grid(show, ["feature A", "feature B", "result", "interaction, share of target variance", "F", "p", "score"], rows, names=2)
    rest(show, len(subset), len(pairs))
    notes(show, result.notes)
    return result


def _leave(result: Findings, pairs: Findings | None, by: str, options: dict[str, Any], context: CommandContext | None) -> list[str]:
    names = leave_selection(options, context, result)
    if options["out"]:
        result.save(options["out"], by, options["decimals"])
        names.append(options["out"])
    table = None if context is None else context.table
    found = {"relevance": result} | ({"interactions": pairs} if pairs is not None else {})
    names += leave_tables(options, lambda: found, result.kept if "stays" in result.frame else None)
    return names + leave_figures(options, lambda: _figures(result, by, options["top"], table, options["draw"]))


def _figures(result: Findings, by: str, top: int | None, table: Table | None, draw: str | None) -> dict[str, Callable[[], Any]]:
    """The bars, and each of the leading features against the target where the table is there."""
    from chaff.plots import feature_target, relevance_bars, two_features
    from chaff.plots.relevance_bars import BARS

    bars: dict[str, Callable[[], Any]] = {"relevance": lambda: relevance_bars(result, by, max(BARS, top or 0))}
    if table is None:
        return bars
    if draw:
        names = [n.strip() for n in draw.split(",")]
        one = partial(feature_target, table, names[0]) if len(names) == 1 else partial(two_features, table, *names[:2])
        bars = {_file_name("_and_".join(names[:2]), bars): one, **bars}
    for name in [str(f) for f in result.ranked(by).index[:PANELS]]:
        bars[_file_name(name, bars)] = partial(feature_target, table, name)
    return bars


def _file_name(name: str, taken: Container[str]) -> str:
    """A name that a file may have, and that no other figure has."""
    plain = "".join(c if c.isalnum() or c in "-_." else "_" for c in name)
    while plain in taken:
        plain += "_"
    return plain
