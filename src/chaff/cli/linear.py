"""`chaff linear`: what a linear model says, and the loop by hand."""

from __future__ import annotations

import sys
from typing import Any

import click

from chaff.cli.table_options import open_said, pin_options, pins_said, table_options

QUIET = "color(243)"


@click.command("linear")
@click.argument("data", type=click.Path())
@table_options
@pin_options
@click.option("--features", metavar="A,B,…", help="Only these features.")
@click.option("--no-intercept", is_flag=True, help="Through the origin; R² is then uncentred.")
@click.option("--errors", type=click.Choice(["plain", "robust", "groups"]), default="plain", show_default=True, help="Standard errors.")
@click.option("--prune", type=click.Choice(["p", "vif", "both", "aic", "bic"]), help="Take features out one at a time by this rule.")
@click.option(
    "--direction", type=click.Choice(["backward", "forward", "both"]), default="backward", show_default=True, help="With --prune."
)
@click.option("--p-limit", type=float, default=0.05, show_default=True, help="With --prune: largest p that stays.")
@click.option("--vif-limit", type=float, default=10.0, show_default=True, help="With --prune: largest VIF that stays.")
@click.option("--splits", type=click.IntRange(0), default=50, show_default=True, help="With --prune: half-splits for honest p-values.")
@click.option("--worth", is_flag=True, help="What each column is worth: R² lost, cross-validated, Shapley share.")
@click.option("--sizes", is_flag=True, help="Models of the top 5, 10, 15, … features side by side.")
@click.option("--forms", is_flag=True, help="Scalers and target transforms side by side.")
@click.option("--checks", is_flag=True, help="Residual checks, and a holdout in the target's own units.")
@click.option(
    "--by-hand", is_flag=True, help="Change the model one feature a line: drop NAME, add NAME, undo, show, trail, save FILE, quit."
)
@click.option("--all", "everything", is_flag=True, help="List every coefficient, not only the head.")
@click.option("--out", metavar="FILE", help="Save the coefficients as .csv.")
@click.option("--figures", metavar="FOLDER", help="Draw residuals.png, residuals_by_feature.png and predicted_true.png there.")
@click.option("--seed", default=0, show_default=True, help="Fixes every random draw.")
@click.option("--workers", type=click.IntRange(1), help="Threads; every core when left out.")
def command(data: str, **said: Any) -> None:
    """Fit a linear model of the features of DATA and say all of it; two classes get logistic regression."""
    import chaff
    from chaff.cli.console import Show, tell_of_compiling

    table = open_said(data, said)
    pins = pins_said(said)
    dropped = {p.feature for p in pins if p.verdict == "drop"}
    features = [f.strip() for f in said["features"].split(",")] if said["features"] else None
    if features is not None:
        table.check_known(features)
    table = table.with_features([f for f in table.features if f not in dropped])
    show = Show()
    show.table(table)
    tell_of_compiling(show)
    if said["by_hand"]:
        _by_hand(chaff.by_hand(table, features, seed=said["seed"]), show)
        return
    summary = chaff.linear_summary(table, features, intercept=not said["no_intercept"], errors=said["errors"])
    _summary(show, summary, said["everything"])
    if said["prune"]:
        keeps = [p for p in pins if p.verdict == "keep"]
        _pruned(
            show,
            chaff.prune_linear(
                table,
                said["prune"],
                direction=said["direction"],
                p_limit=said["p_limit"],
                vif_limit=said["vif_limit"],
                splits=said["splits"],
                pins=keeps,
                features=features,
                seed=said["seed"],
                workers=said["workers"],
            ),
        )
    if said["worth"]:
        _worth(show, chaff.column_worth(table, features, seed=said["seed"], workers=said["workers"]), said["everything"])
    if said["sizes"]:
        some = table.with_features(features or table.features)
        _frame(show, "Sizes: the leading features by effect size", chaff.try_sizes(some, seed=said["seed"]))
    if said["forms"]:
        tried = chaff.try_forms(table, features, seed=said["seed"]).head(10)
        _frame(show, "Scalers and target transforms, errors in the target's own units", tried)
    names = []
    if said["checks"] or said["figures"]:
        checked = chaff.residuals(table, features, seed=said["seed"])
        if said["checks"]:
            _frame(show, "Residual checks", checked.tests[["statistic", "p", "rows", "in_words"]])
            _frame(show, "Scores", checked.holdout)
            for note in checked.notes:
                show.say(f"   {note}", QUIET)
        names += _figures(checked, said)
    if said["out"]:
        from chaff.files import write_with

        write_with(said["out"], lambda part: summary.frame.to_csv(part))
        names.append(said["out"])
    show.say()
    show.say(f" {'  '.join([*names, ''])}({show.seconds()})")


def _summary(show: Any, summary: Any, everything: bool) -> None:
    from chaff.cli.tables import HEAD, grid, rest
    from chaff.results.digits import cell, figure

    frame = summary.frame
    order = frame["p"].fillna(2).sort_values(kind="stable").index
    first = [c for c in order if c == "(intercept)"] + [c for c in order if c != "(intercept)"]
    some = first if everything else first[: HEAD + 5]
    last = "vif" if "vif" in frame.columns else "odds_ratio"
    t = "t" if "t" in frame.columns else "z"
    rows = []
    for c in some:
        r = frame.loc[c]
        interval = f"{figure(r['low'])} to {figure(r['high'])}" if r["low"] == r["low"] else ""
        rows.append(
            [
                c,
                figure(r["coefficient"], 4),
                figure(r["standardised"]),
                figure(r["standard_error"]),
                figure(r[t]),
                cell("p", r["p"]),
                interval,
                figure(r[last]),
                r["in_words"].replace(", all else equal", ""),
            ]
        )
    show.say()
    grid(
        show, ["column", "coefficient", "standardised", "error", t, "p", "95 %", "VIF" if last == "vif" else "odds ratio", "in words"], rows
    )
    rest(show, len(some), len(frame))
    show.say()
    show.say(
        " "
        + " · ".join(f"{_label(k)} {figure(v, 4) if not k.endswith('_p') else cell('p', v)}" for k, v in summary.figures.items() if v == v),
        "bold",
    )
    if len(frame) <= 12:
        show.say(f" {summary.equation}", QUIET)
    for note in summary.notes:
        show.say(f"   {note}", QUIET)


LABELS = {"f": "F", "f_p": "p of F", "aic": "AIC", "bic": "BIC", "residual_sd": "residual sd", "condition": "condition number"}


def _label(name: str) -> str:
    return LABELS.get(name, name.replace("_", " ").replace("r squared", "R²"))


def _pruned(show: Any, found: Any) -> None:
    from chaff.cli.tables import grid
    from chaff.results.digits import cell, figure

    trail = found.more["trail"]
    show.say()
    show.say(f" {found.notes[0]}", "bold")
    some = trail if len(trail) <= 18 else trail.iloc[[0, *range(len(trail) - 16, len(trail))]]
    rows = [
        [
            str(k),
            f"{r['action']} {r['feature']}".strip(),
            r["why"],
            str(r["size"]),
            f"{r['adjusted_r_squared']:.4f}",
            f"{r['aic']:.1f}",
            f"{r['bic']:.1f}",
            f"{r['cv_r_squared']:.4f}",
        ]
        for k, r in some.iterrows()
    ]
    grid(show, ["", "move", "why", "features", "adjusted R²", "AIC", "BIC", "cross-validated R²"], rows, left=3)
    stays = found.frame[found.frame["stays"]].sort_values("p")
    show.say()
    split = "p_split" in stays.columns
    grid(
        show,
        ["stays", "p", *(["p split"] if split else []), "VIF"],
        [[str(f), cell("p", r["p"]), *([cell("p", r["p_split"])] if split else []), figure(r["vif"])] for f, r in stays.iterrows()],
    )
    show.say(f"   {found.notes[1]}" if split else "   p-values after selection are optimistic: the same rows chose the features", QUIET)


def _worth(show: Any, found: Any, everything: bool) -> None:
    from chaff.cli.tables import HEAD, grid, rest
    from chaff.results.digits import cell, figure

    by = "shapley_share" if "shapley_share" in found.frame else None
    frame = found.ranked(by)
    some = frame if everything else frame.head(HEAD)
    show.say()
    show.say(" What each column is worth", "bold")
    rows = [
        [
            str(f),
            figure(r["r_squared_lost"]),
            cell("p", r["p"]),
            f"{figure(r['cv_lost'])} ± {figure(r['cv_lost_se'], 2)}" if r["cv_lost"] == r["cv_lost"] else "",
            figure(r.get("shapley_share", float("nan"))),
        ]
        for f, r in some.iterrows()
    ]
    grid(show, ["feature", "R² lost without it", "p", "cross-validated", "Shapley share of R²"], rows)
    rest(show, len(some), len(frame))
    show.say(f"   {found.notes[0]}", QUIET)


def _frame(show: Any, title: str, frame: Any) -> None:
    """A small frame as it is."""
    from chaff.cli.tables import grid
    from chaff.results.digits import cell

    show.say()
    show.say(f" {title}", "bold")
    names = [n or "" for n in frame.index.names]
    rows = []
    for key, r in frame.iterrows():
        keys = [str(k) for k in key] if isinstance(key, tuple) else [str(key)]
        rows.append([*keys, *[cell(c, r[c]) for c in frame.columns]])
    headers = [c.replace("_", " ").replace("r squared", "R²") for c in frame.columns]
    grid(show, [*names, *headers], rows, left=len(names))


def _by_hand(hand: Any, show: Any) -> None:
    """One line a move, until quit or the end of the input."""
    from chaff.errors import ChaffError

    for note in hand.notes:
        show.say(f"   {note}", QUIET)
    show.say(f" {hand.last()}")
    show.say(f"   next: {hand.suggestion}", QUIET)
    while True:
        if show.console.is_terminal:
            show.console.print(" > ", end="")
        line = sys.stdin.readline()
        if not line:
            return
        action, _, rest = line.strip().partition(" ")
        name = rest.strip()
        try:
            if action in ("quit", "exit", "q"):
                return
            if action in ("drop", "add") and name:
                getattr(hand, action)(name)
                show.say(f" {hand.last()}")
            elif action == "undo":
                show.say(f" {hand.undo().last()}")
            elif action == "show":
                _frame(show, "In the model", hand.frame)
            elif action == "trail":
                _frame(show, "Moves", hand.trail.drop(columns=["undone", "bic", "r_squared"]))
            elif action == "save" and name:
                hand.save(name)
                show.say(f" {name}")
            elif action == "replay" and name:
                show.say(f" {hand.replay(name).last()}")
            elif action:
                show.say(" drop NAME, add NAME, undo, show, trail, save FILE, replay FILE, quit", QUIET)
            if action in ("drop", "add", "undo", "replay"):
                show.say(f"   next: {hand.suggestion}", QUIET)
        except ChaffError as error:
            show.say(f" {error}")


def _figures(checked: Any, said: dict[str, Any]) -> list[str]:
    if not said["figures"]:
        return []
    from chaff.files import make_folder, write_with
    from chaff.plots import predicted_true, residual_checks, residuals_by_feature

    place = make_folder(said["figures"])
    drawn: dict[str, Any] = {"residuals.png": residual_checks(checked), "residuals_by_feature.png": residuals_by_feature(checked)}
    if checked.true.size:
        drawn["predicted_true.png"] = predicted_true(checked).figure
    for name, figure in drawn.items():
        write_with(place / name, figure.savefig)
    return [str(place / name) for name in drawn]
