"""`chaff importance`: what a model uses, by one of several ways."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial
from typing import TYPE_CHECKING, Any

import click

from chaff.cli import chance_tests
from chaff.cli.help_pages import Command
from chaff.cli.options import MODELS, WAYS, columns_option, file_ending, looking_options, parse_choice, selection_option
from chaff.cli.output import leave_figures, leave_selection, leave_tables
from chaff.cli.stage_options import stage_options
from chaff.files import SAVED

if TYPE_CHECKING:
    from chaff.cli.command_context import CommandContext
    from chaff.cli.console import Show
    from chaff.results.findings import Findings

CUTS = ("top", "share", "above", "times_mean", "significant")
SHOWN = (
    "given_others", "p", "q", "coefficient", "raw", "selection_frequency", "enters", "raw_share", "won_share", "direction", "spread",
    "low", "high",
)  # fmt: skip


@click.command(
    "importance",
    cls=Command,
    everyday=["--target", "--plan", "--model", "--by", "--top", "--significant", "--against", "--chance", "--twins", "--out", "--figure"],
    examples=[
        "chaff importance lots.csv --target loaf_volume --model forest --by permutation",
        "chaff importance lots.csv --target loaf_volume --twins",
    ],
)
@click.argument("data", type=click.Path())
@looking_options
@columns_option
@selection_option
@click.option("--model", metavar="NAME", help=f"What is fitted: {MODELS}; or '{{ name = \"forest\", trees = 300 }}'.")
@click.option(
    "--by", metavar="WAY",
    help=f"How importance is measured: {WAYS}; or with settings, "
    "'{ name = \"permutation\", together = 0.9 }'.",
)  # fmt: skip
@click.option("--against", metavar="NAME", help="Also with another model; compares the two kept sets.")
@click.option("--trees", type=click.IntRange(1), help="Trees of the forest (100).")
@click.option("--top", type=click.IntRange(1), help="Keep the N best features.")
@click.option("--share", type=float, help="Keep this share of the features.")
@click.option("--above", type=float, help="Keep importance above this.")
@click.option("--times-mean", type=float, help="Keep features at F × the mean or more.")
@click.option("--significant", type=float, help="Keep adjusted p below this, for ways that test.")
@click.option("--try", "limits", metavar="A,B,…", help="How many features would be kept at these thresholds, and which.")
@stage_options("importance.stage", "Importance")
@chance_tests.options
@click.option("--folds", type=click.IntRange(2), default=5, show_default=True, help="Folds.")
@click.option("--out", metavar="FILE", help="Save the findings: .json, .csv or .parquet.")
def command(data: str, **given: Any) -> None:
    """What a model uses of DATA: by shuffling, coefficients, splits, leaving out, sharing out, or several together.

    With --chance, --twins, --stability or --knockoffs: which columns are beyond what chance alone would give.
    """
    from chaff.cli.command_context import stand
    from chaff.cli.console import Show
    from chaff.decide.one_stage import findings_of, judge
    from chaff.methods.importance.stage import Importance, side_by_side

    file_ending(given["out"], SAVED, "--out")
    model, against, limits = parse_choice(given["model"], "--model"), parse_choice(given["against"], "--against"), _limits(given["limits"])
    if given["trees"]:
        if model not in (None, "forest"):
            raise click.UsageError(
                "--trees needs the forest; pass settings with the model: --model '{ name = \"boosting\", rounds = 100 }'"
            )
        model = {"name": "forest", "trees": given["trees"]}
    test = chance_tests.chosen_test(given)
    show = Show(given["form"])
    options = {"by": parse_choice(given["by"], "--by"), "cut": _cut(given)}

    def in_passes(context: CommandContext) -> bool:
        if test:
            return False
        stages = [context.stage(Importance, model=m, **options) for m in (model, against) if m is not None or m is model]
        return all(stage.learns_in_passes for stage in stages)

    context = stand(data, given, show, before=("importance", *chance_tests.TESTS), sees="models", in_passes=in_passes)
    if given["decoys"]:
        context = replace(context, table=context.table.with_decoys(given["decoys"], seed=given["seed"]))
    if test:
        _against_chance(test, context, given, model, limits, show)
        return
    stage = context.stage(Importance, model=model, **options)
    other = context.stage(Importance, model=against, **options) if against is not None else None
    context.tell(show)
    show.watch("importance")
    pins = [p for p in context.pins if p.feature in context.table.features]
    draws = {"folds": given["folds"], "seed": given["seed"], "workers": given["workers"], "watch": show.watch}
    try:
        result = findings_of(judge(stage, context.table, pins=pins, **draws))
        if other is not None:
            result = side_by_side(
                result, findings_of(judge(other, context.table, pins=pins, **draws)), stage.model.label, other.model.label
            )
    finally:
        show.stop()
    _table(show, result, given["everything"], given["top"] or 0)
    _more(show, result, limits, given["everything"])
    names = _leave(result, given, context, stage.model)
    show.finish("importance", {"table": context, "result": result}, names, _following(context, data, given, result))


def _following(context: CommandContext, data: str, options: dict[str, Any], result: Findings) -> str:
    """The search, with what a cut left where there was one."""
    if result.frame["stays"].all():
        return context.following(data, options, "search")
    return context.following_search(data, options, result.kept)


def _against_chance(test: str, context: Any, options: dict[str, Any], model: Any, limits: list[float], show: Show) -> None:
    from chaff.decide.one_stage import findings_of, judge

    stage = chance_tests.stage_of(test, context, options, model, parse_choice(options["by"], "--by"))
    context.tell(show)
    show.watch(test)
    pins = [p for p in context.pins if p.feature in context.table.features]
    try:
        result = findings_of(judge(stage, context.table, pins=pins, seed=options["seed"], workers=options["workers"], watch=show.watch))
    finally:
        show.stop()
    chance_tests.show_table(show, result, options["everything"], limits)
    show.finish("importance", {"table": context, "result": result}, _leave(result, options, context, None))


def _limits(text: str | None) -> list[float]:
    try:
        return [float(v) for v in text.split(",")] if text else []
    except ValueError:
        raise click.UsageError(f"--try must be numbers separated by commas, not {text!r}") from None


def _cut(options: dict[str, Any]) -> dict[str, float] | None:
    given = {k: options[k] for k in CUTS if options[k] is not None}
    if len(given) > 1:
        raise click.UsageError(f"{' and '.join('--' + k.replace('_', '-') for k in given)} cannot be combined: one cut at a time")
    return given or None


def _table(show: Show, result: Findings, everything: bool, shown: int) -> None:
    from chaff.cli.tables import HEAD, grid, notes, rest, title, word
    from chaff.decide.one_stage import MEASURED
    from chaff.results.digits import cell, figure
    from chaff.results.shown import Cell

    frame = result.ranked()
    subset = frame if everything else frame.head(max(HEAD, shown))
    title(show, _headline(result))
    own = [c for c in SHOWN if c in frame.columns and not frame[c].isna().all()]
    tested, decided = "significant" in frame.columns, bool((frame["verdict"] != MEASURED).any())
    rows: list[list[Cell]] = []
    for place, (f, r) in enumerate(subset.iterrows(), 1):
        row: list[Cell] = [str(place), str(f), f"{figure(r['importance'])} ± {figure(r['importance_sd'], 2)}"]
        row += [("significant" if r["significant"] else "not significant")] if tested else []
        row += [("in" if r["kept"] else "out")] if "kept" in frame.columns else []
        row += [cell(c, r[c]) if c in ("p", "q") else figure(r[c]) if r[c] == r[c] else "" for c in own]
        rows.append([*row, *([word(r["verdict"])] if decided else [])])
    head = ["rank", "feature", "importance ± SD", *(["result"] if tested else []), *(["model"] if "kept" in frame.columns else [])]
    head += [*[c.replace("_", " ") for c in own], *(["verdict"] if decided else [])]
    grid(show, head, rows, required=("rank", "feature", "importance ± SD"), names=2)
    rest(show, len(subset), len(frame))
    notes(show, result.notes)


def _headline(result: Findings) -> str:
    frame = result.frame
    if "significant" in frame.columns:
        count, given = int(frame["significant"].sum()), " given the other features" if "given_others" in frame.columns else ""
        return f"{count} of {len(frame)} features {'is' if count == 1 else 'are'} significant{given}"
    if "kept" in frame.columns:
        kept = [str(f) for f in result.ranked().index if frame.loc[f, "kept"]]
        return f"{len(kept)} of {len(frame)} features are in the model"
    return f"{len(frame)} features by {result.settings['by']}"


def _more(show: Show, result: Findings, limits: list[float], everything: bool) -> None:
    """Limits side by side, and another model beside this one."""
    from chaff.cli.tables import HEAD, grid, rest, title
    from chaff.results.digits import figure

    if limits:
        tried = result.try_limits(limits)
        title(show, "Thresholds side by side")
        rows = [[figure(float(v)), str(int(r["stay"])), ", ".join(r["goes_here"])] for v, r in tried.iterrows()]
        grid(show, ["above", "stay", "dropped at this step"], rows, required=("above", "stay"), names=0)
    if "against" in result.more:
        frame = result.more["against"].loc[result.ranked().index]
        subset = frame if everything else frame.head(HEAD)
        title(show, f"Comparison with {frame.columns[1]}")
        rows = [[str(f), *[figure(float(v)) for v in r.iloc[:4]], str(r.iloc[4])] for f, r in subset.iterrows()]
        grid(show, ["feature", *frame.columns], rows, required=("feature", frame.columns[2], frame.columns[3]), names=1)
        rest(show, len(subset), len(frame))


def _leave(result: Findings, options: dict[str, Any], context: CommandContext, model: Any) -> list[str]:
    names = leave_selection(options, context, result, model=model)
    if options["out"]:
        result.save(options["out"], result.lead)
        names.append(options["out"])
    names += leave_tables(options, lambda: {"importance": result}, None if result.frame["stays"].all() else result.kept)
    return names + leave_figures(options, lambda: _figures(result, options["top"] or 0))


def _figures(result: Findings, top: int) -> dict[str, Callable[[], Any]]:
    """The bars, or the figure of the test; then what this way has of its own, and decoys."""
    from chaff.plots.chance_figures import DRAWN, decoys_among
    from chaff.plots.importance_figures import BARS, close_up, importance_bars

    if result.method in chance_tests.TESTS:
        drawn: dict[str, Callable[[], Any]] = {result.method: partial(DRAWN[result.method], result)}
    else:
        drawn = {"importance": lambda: importance_bars(result, max(BARS, top)), "close_up": partial(close_up, result)}
    return drawn | ({"decoys": partial(decoys_among, result)} if "planted" in result.settings else {})
