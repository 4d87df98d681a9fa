"""`chaff linear`: what a linear model says, and the loop by hand.

The loop by hand in a terminal: one line a move, until quit or the end of the input.
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING, Any

import click

from chaff.cli.console import QUIET
from chaff.cli.help_pages import Command
from chaff.cli.options import columns_option, file_ending, looking_options, selection_option
from chaff.cli.output import leave_figures, leave_selection, leave_tables
from chaff.cli.stage_options import given_settings, stage_options
from chaff.cli.tables import frame_grid, notes

if TYPE_CHECKING:
    from chaff.cli.command_context import CommandContext
    from chaff.cli.console import Show
    from chaff.methods.linear.by_hand import ByHand
    from chaff.methods.linear.summary import LinearSummary
    from chaff.results.findings import Findings
    from chaff.table.table import Table


HELP = "drop NAME, add NAME, undo, show, trail, save FILE, replay FILE, quit"
SHOWN = ["p", "vif", "coefficient", "cv_without", "aic_without", "adjusted_without"]
MOVES = ["action", "feature", "size", "adjusted_r_squared", "cv_r_squared", "aic", "largest_p", "largest_vif"]


def by_hand_loop(hand: ByHand, show: Show) -> None:
    """Read lines and make moves; a move that cannot be made is said, and the next line is read."""
    from chaff.errors import ChaffError

    notes(show, hand.notes)
    show.say(f" {hand.last()}")
    show.say(f"   next: {hand.suggestion}", QUIET)
    while True:
        if show.console.is_terminal:
            show.console.print(" > ", end="")
        line = sys.stdin.readline() if sys.stdin is not None else ""  # None: somebody closed it
        action, _, rest = line.strip().partition(" ")
        if not line or action in ("quit", "exit", "q"):
            return
        try:
            _do(hand, show, action, rest.strip())
        except ChaffError as error:
            show.say(f" {error}")


def _do(hand: ByHand, show: Show, action: str, name: str) -> None:
    moves: dict[str, Any] = {"drop": hand.drop, "add": hand.add, "replay": hand.replay}
    if action in moves and name:
        moves[action](name)
    elif action == "undo":
        hand.undo()
    elif action == "show":
        frame_grid(show, "In the model", hand.frame[SHOWN])
    elif action == "trail":
        frame_grid(show, "Moves", hand.trail[MOVES])
    elif action == "save" and name:
        hand.save(name)
        show.say(f" {name}")
    elif action:
        show.say(f" {HELP}", QUIET)
    if action == "undo" or (action in moves and name):
        show.say(f" {hand.last()}")
        show.say(f"   next: {hand.suggestion}", QUIET)


LABELS = {"f": "F", "f_p": "p of F", "aic": "AIC", "bic": "BIC", "residual_sd": "residual sd", "condition": "condition number"}


@click.command(
    "linear",
    cls=Command,
    everyday=["--target", "--plan", "--features", "--errors", "--prune", "--by-hand", "--worth", "--checks", "--out", "--figure"],
    examples=["chaff linear lots.csv --target loaf_volume --prune p --figure residuals.png"],
)
@click.argument("data", type=click.Path())
@looking_options
@columns_option
@selection_option
@click.option("--start", metavar="A,B,…", help="By hand: the features in the model at first; all others can be added.")
@click.option("--no-intercept", is_flag=True, help="Through the origin; R² is then uncentred.")
@click.option("--errors", type=click.Choice(["plain", "robust", "groups"]), default="plain", show_default=True, help="Standard errors.")
@click.option("--prune", type=click.Choice(["p", "vif", "both", "aic", "bic"]), help="Eliminate features one at a time by this rule.")
@stage_options("linear.pruning", "Pruning", hand=("by",), names={"order": "vif-order"}, needs="--prune")
@click.option("--worth", is_flag=True, help="Feature importance: drop in R², drop in CV R², Shapley share.")
@click.option("--sizes", is_flag=True, help="Models of the top 5, 10, 15, … features side by side.")
@click.option("--forms", is_flag=True, help="Scales of the columns and transforms of the target side by side.")
@click.option("--checks", is_flag=True, help="Residual checks, and errors on a validation split in the units of the target.")
@click.option(
    "--by-hand", is_flag=True, help="Change the model one feature a line: drop NAME, add NAME, undo, show, trail, save FILE, quit."
)
@click.option("--out", metavar="FILE", help="Save the coefficients: .csv or .parquet; .json holds all that was found.")
def command(data: str, **options: Any) -> None:
    """Fit a linear model of the features of DATA and say all of it; two classes get logistic regression."""
    import chaff
    from chaff.cli.command_context import stand
    from chaff.cli.console import QUIET, Show
    from chaff.cli.linear import by_hand_loop
    from chaff.files import SAVED, save_frame
    from chaff.results.plain import plain

    file_ending(options["out"], SAVED, "--out")
    if options["by_hand"] and options["form"] == "json":
        raise click.UsageError("--by-hand is interactive: it has no JSON output")
    if options["start"] and not options["by_hand"]:
        raise click.UsageError("--start goes with --by-hand; --features names the columns that are offered")
    if (given := given_settings(options)) and not options["prune"]:
        raise click.UsageError(f"--{next(iter(given)).replace('_', '-')} goes with --prune")
    if options["save_selection"] and not options["prune"]:
        raise click.UsageError("--save-selection goes with --prune: nothing is dropped otherwise")
    show = Show(options["form"])
    context = stand(data, options, show, before=("linear",), sees="matrix")
    table, features = context.table, None
    if options["start"]:
        features = list(dict.fromkeys(f.strip() for f in options["start"].split(",")))
        table.check_known(features)
    context.tell(show)
    if options["by_hand"]:
        by_hand_loop(chaff.by_hand(table, start=features, seed=options["seed"]), show)
        return
    result: dict[str, Any] = {}
    whole = {"intercept": not options["no_intercept"], "errors": options["errors"]}
    if options["prune"]:
        before = chaff.linear_summary(table, features, **whole)
        features = _left_by_pruning(show, context, table, features, options, result)
        show.say()
        show.say(f" before pruning: {_figures_line(before)}", QUIET)
        if not features:
            show.finish("linear", {"table": context, **result})
            return
    summary = chaff.linear_summary(table, features, **whole)
    _summary(show, summary, options["everything"])
    result = {"summary": {"coefficients": summary.frame, "figures": summary.figures, "notes": summary.notes}, **result}
    names = _further_parts(show, table, features, options, result)
    frames = {"coefficients": summary.frame, **{k: v for k, v in result.items() if k != "summary"}}
    names += leave_tables(options, lambda: _flat(frames), features if options["prune"] else None)
    if options["prune"]:
        names += leave_selection(options, context, result["pruned"], model="least squares")
    if options["out"]:
        save_frame(options["out"], summary.frame, lambda: plain(result))
        names.append(options["out"])
    show.finish("linear", {"table": context, **result}, names)


def _left_by_pruning(
    show: Show, context: CommandContext, table: Table, features: list[str] | None, options: dict[str, Any], result: dict[str, Any]
) -> list[str]:
    """The features that pruning leaves, of which everything after it is said."""
    import chaff

    pins = [p for p in context.pins if p.verdict == "keep" and p.feature in table.features]
    limits = given_settings(options) | {k: options[k] for k in ("seed", "workers")}
    pruned = result["pruned"] = chaff.prune_linear(table, options["prune"], pins=pins, features=features, **limits)
    _pruned(show, pruned)
    return [str(f) for f in pruned.frame.index[pruned.frame["stays"]]]


def _further_parts(show: Show, table: Table, features: list[str] | None, options: dict[str, Any], result: dict[str, Any]) -> list[str]:
    """What was asked for beyond the summary; names of the files that were written."""
    import chaff
    from chaff.cli.tables import frame_grid, notes

    draws = {"seed": options["seed"], "workers": options["workers"]}
    if options["worth"]:
        result["worth"] = chaff.column_worth(table, features, **draws)
        _worth(show, result["worth"], options["everything"])
    if options["sizes"]:
        result["sizes"] = chaff.try_sizes(table.with_features(features or table.features), seed=options["seed"])
        frame_grid(show, "Sizes: the leading features by effect size", result["sizes"])
    if options["forms"]:
        transforms = ["none", *(["log"] if float(table.y.min()) > 0 else []), "rank-normal"]
        scales = ("none", "log", "rank-normal")  # least squares cannot tell the others from none
        tried = chaff.try_scales(table, "least squares", scales=scales, transforms=transforms, features=features, **draws)
        result["forms"] = tried.frame
        frame_grid(show, "Scales of the columns and transforms of the target, errors in the target's own units", tried.frame)
        notes(show, tried.notes)
    if not (options["checks"] or options["figures"] or options["figure"]):
        return []
    checked = chaff.residuals(table, features, seed=options["seed"])
    result["checks"] = {"tests": checked.tests, "scores": checked.holdout, "notes": checked.notes}
    if options["checks"]:
        frame_grid(show, "Residual checks", checked.tests[["statistic", "p", "rows", "in_words"]])
        frame_grid(show, "Scores", checked.holdout)
        notes(show, checked.notes)
    return _figures(checked, options)


def _flat(found: dict[str, Any]) -> dict[str, Any]:
    """Frames by the name of their file; of parts that hold several each by its own."""
    out: dict[str, Any] = {}
    for name, value in found.items():
        parts = {f"{name}_{k}": v for k, v in value.items()} if isinstance(value, dict) else {name: value}
        out |= {k: v for k, v in parts.items() if hasattr(getattr(v, "frame", v), "to_csv")}
    return out


def _summary(show: Show, summary: LinearSummary, everything: bool) -> None:
    from chaff.cli.console import QUIET
    from chaff.cli.tables import HEAD, grid, notes, rest
    from chaff.results.digits import cell, figure

    frame = summary.frame
    order = frame["p"].fillna(2).sort_values(kind="stable").index
    first = [c for c in order if c == "(intercept)"] + [c for c in order if c != "(intercept)"]
    subset = first if everything else first[: HEAD + 5]
    last, label = ("vif", "VIF") if "vif" in frame.columns else ("odds_ratio", "odds ratio")
    t = "t" if "t" in frame.columns else "z"
    rows = []
    for c in subset:
        r = frame.loc[c]
        interval = f"{figure(r['low'])} to {figure(r['high'])}" if r["low"] == r["low"] else ""
        words = r["in_words"].replace(", all else equal", "")
        shown = [figure(r["coefficient"], 4), interval, cell("p", r["p"]), figure(r["standardised"]), figure(r[last])]
        rows.append([c, *shown, figure(r["standard_error"]), figure(r[t]), words])
    show.say()
    heads = ["column", "coefficient", "95 %", "p", "standardised", label, "error", t, "in words"]
    grid(show, heads, rows, required=("coefficient", "95 %", "p"))
    rest(show, len(subset), len(frame))
    show.say()
    show.say(f" {_figures_line(summary)}", "bold")
    if len(frame) <= 12:
        show.say(f" {summary.equation}", QUIET)
    notes(show, summary.notes)


def _figures_line(summary: LinearSummary) -> str:
    from chaff.results.digits import cell, figure

    options = [f"{_label(k)} {figure(v, 4) if not k.endswith('_p') else cell('p', v)}" for k, v in summary.figures.items() if v == v]
    return " · ".join([f"{len(summary.form.features)} features", *options])


def _label(name: str) -> str:
    return LABELS.get(name, name.replace("_", " ").replace("r squared", "R²"))


def _pruned(show: Show, result: Findings) -> None:
    from chaff.cli.tables import grid, notes, title
    from chaff.results.digits import cell, figure

    trail = result.more["trail"]
    title(show, result.notes[0])
    subset = trail if len(trail) <= 18 else trail.iloc[[0, *range(len(trail) - 16, len(trail))]]
    rows = [
        [
            str(k),
            f"{r['action']} {r['feature']}".strip(),
            r["why"],
            str(r["size"]),
            f"{r['adjusted_r_squared']:.4f}",
            f"{r['cv_r_squared']:.4f}",
            f"{r['aic']:.1f}",
            f"{r['bic']:.1f}",
        ]
        for k, r in subset.iterrows()
    ]
    heads = ["step", "change", "criterion", "features in model", "adjusted R²", "CV R²", "AIC", "BIC"]
    grid(show, heads, rows, required=("step", "change", "criterion"))
    stays = result.frame[result.frame["stays"]].sort_values("p")
    split = "p_split" in stays.columns
    show.say()
    heads = ["kept feature", "p (naive)", *(["p (split-sample)"] if split else []), "VIF"]
    kept = [[str(f), cell("p", r["p"]), *([cell("p", r["p_split"])] if split else []), figure(r["vif"])] for f, r in stays.iterrows()]
    grid(show, heads, kept, required=("p (naive)",))
    notes(show, [result.notes[1] if split else "naive p-values ignore the selection"])


def _worth(show: Show, result: Findings, everything: bool) -> None:
    from chaff.cli.tables import HEAD, grid, notes, rest, title
    from chaff.results.digits import cell, figure

    by = "shapley_share" if "shapley_share" in result.frame else None
    frame = result.ranked(by)
    subset = frame if everything else frame.head(HEAD)
    title(show, "Feature importance in the linear model")
    rows = [
        [
            str(f),
            figure(r.get("shapley_share", float("nan"))),
            figure(r["r_squared_lost"]),
            cell("p", r["p"]),
            f"{figure(r['cv_lost'])} ± {figure(r['cv_lost_se'], 2)}" if r["cv_lost"] == r["cv_lost"] else "",
        ]
        for f, r in subset.iterrows()
    ]
    grid(show, ["feature", "Shapley R²", "drop in R²", "p", "drop in CV R² (± SE)"], rows)
    rest(show, len(subset), len(frame))
    notes(show, result.notes[:1])


def _figures(checked: Any, options: dict[str, Any]) -> list[str]:
    def figures() -> dict[str, Callable[[], Any]]:
        from chaff.plots import predicted_true, residual_checks, residuals_by_feature

        drawn = {"residuals": partial(residual_checks, checked), "residuals_by_feature": partial(residuals_by_feature, checked)}
        return drawn | ({"predicted_true": partial(predicted_true, checked)} if checked.true.size else {})

    return leave_figures(options, figures)
