"""`chaff importance`: what a model uses, by one of several ways."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

import click

from chaff.cli import against_chance
from chaff.cli.choices_said import choice_said
from chaff.cli.options import all_option, columns_option, file_ending, pin_options, plan_option, rows_options, table_options, work_options
from chaff.files import SAVED

if TYPE_CHECKING:
    from chaff.cli.console import Show
    from chaff.cli.ground import Ground
    from chaff.results.findings import Findings

CUTS = ("top", "share", "above", "times_mean", "beyond_chance")
SHOWN = (
    "given_others", "p", "q", "coefficient", "raw", "kept_share", "enters", "raw_share", "won_share", "direction", "spread", "low", "high",
)  # fmt: skip
FIGURES = (".png", ".svg", ".pdf")


@click.command("importance")
@click.argument("data", type=click.Path())
@table_options
@plan_option
@pin_options
@rows_options
@columns_option
@click.option("--model", metavar="NAME", help="What is fitted: forest, lasso, boosting, … or '{ name = \"forest\", trees = 300 }'.")
@click.option(
    "--by", metavar="WAY",
    help="given others, permutation, coefficient, impurity, split standing, drop column, shapley, pooled; or with settings, "
    "'{ name = \"permutation\", together = 0.9 }'.",
)  # fmt: skip
@click.option("--against", metavar="NAME", help="The same for another model, and the two kept sets compared.")
@click.option("--trees", type=click.IntRange(1), help="Trees of the forest (100).")
@click.option("--shuffles", type=click.IntRange(1), help="Times each feature is shuffled in each fold, for ways that shuffle.")
@click.option("--top", type=click.IntRange(1), help="Cut: the best so many.")
@click.option("--share", type=float, help="Cut: the best share of the features.")
@click.option("--above", type=float, help="Cut: importance above this.")
@click.option("--times-mean", type=float, help="Cut: at least so many times the mean.")
@click.option("--beyond-chance", type=float, help="Cut: adjusted p below this, for ways that test.")
@click.option("--limits", metavar="A,B,…", help="Importances to try as limits, side by side.")
@against_chance.options
@click.option("--folds", type=click.IntRange(2), default=5, show_default=True, help="Folds.")
@all_option
@click.option("--out", metavar="FILE", help="Save the findings: .json, .csv or .parquet.")
@click.option("--figure", metavar="FILE", help="Draw the leading features as bars: .png, .svg or .pdf.")
@click.option("--close-up", metavar="FILE", help="Draw what the way has of its own: the path, effects, folds, disagreement.")
@work_options
def command(data: str, **said: Any) -> None:
    """What a model uses of DATA: by shuffling, coefficients, splits, leaving out, sharing out, or several together.

    With --chance, --shadow, --stability or --knockoffs: which columns are beyond what chance alone would give.
    """
    from chaff.cli.console import Show, tell_of_compiling
    from chaff.cli.ground import stand
    from chaff.decide.calls.judged import findings_of, judge
    from chaff.decide.calls.models import side_by_side
    from chaff.methods.importance.stage import Importance

    file_ending(said["out"], SAVED, "--out")
    for option in ("figure", "close_up"):
        file_ending(said[option], FIGURES, f"--{option.replace('_', '-')}")
    model, against, limits = choice_said(said["model"], "--model"), choice_said(said["against"], "--against"), _limits(said["limits"])
    if said["trees"]:
        if model not in (None, "forest"):
            raise click.UsageError("--trees is the forest's; say them with the model: --model '{ name = \"boosting\", rounds = 100 }'")
        model = {"name": "forest", "trees": said["trees"]}
    test = against_chance.asked_for(said)
    show = Show(said["form"])
    options = {"by": choice_said(said["by"], "--by"), "shuffles": said["shuffles"], "cut": _cut(said)}

    def in_passes(ground: Ground) -> bool:
        if test:
            return False
        stages = [ground.stage(Importance, model=m, **options) for m in (model, against) if m is not None or m is model]
        return all(stage.learns_in_passes for stage in stages)

    ground = stand(data, said, show, before=("importance", *against_chance.TESTS), sees="models", in_passes=in_passes)
    if said["decoys"]:
        ground = replace(ground, table=ground.table.with_decoys(said["decoys"], seed=said["seed"]))
    if test:
        _against_chance(test, ground, said, model, limits, show)
        return
    stage = ground.stage(Importance, model=model, **options)
    other = ground.stage(Importance, model=against, **options) if against is not None else None
    ground.tell(show)
    tell_of_compiling(show)
    show.watch("importance")
    pins = [p for p in ground.pins if p.feature in ground.table.features]
    draws = {"folds": said["folds"], "seed": said["seed"], "workers": said["workers"], "watch": show.watch}
    try:
        found = findings_of(judge(stage, ground.table, pins=pins, **draws))
        if other is not None:
            found = side_by_side(found, findings_of(judge(other, ground.table, pins=pins, **draws)), stage.model.label, other.model.label)
    finally:
        show.stop()
    _table(show, found, said["everything"])
    _more(show, found, limits, said["everything"])
    show.finish("importance", {"table": ground, "found": found}, _leave(found, said))


def _against_chance(test: str, ground: Any, said: dict[str, Any], model: Any, limits: list[float], show: Show) -> None:
    from chaff.cli.console import tell_of_compiling
    from chaff.decide.calls.judged import findings_of, judge

    stage = against_chance.stage_of(test, ground, said, model, choice_said(said["by"], "--by"))
    ground.tell(show)
    tell_of_compiling(show, test)
    show.watch(test)
    pins = [p for p in ground.pins if p.feature in ground.table.features]
    try:
        found = findings_of(judge(stage, ground.table, pins=pins, seed=said["seed"], workers=said["workers"], watch=show.watch))
    finally:
        show.stop()
    against_chance.show_table(show, found, said["everything"], limits)
    show.finish("importance", {"table": ground, "found": found}, _leave(found, said))


def _limits(text: str | None) -> list[float]:
    try:
        return [float(v) for v in text.split(",")] if text else []
    except ValueError:
        raise click.UsageError(f"--limits must be numbers with commas between them, not {text!r}") from None


def _cut(said: dict[str, Any]) -> dict[str, float] | None:
    given = {k: said[k] for k in CUTS if said[k] is not None}
    if len(given) > 1:
        raise click.UsageError(f"one cut at a time, not {' and '.join('--' + k.replace('_', '-') for k in given)}")
    return given or None


def _table(show: Show, found: Findings, everything: bool) -> None:
    from chaff.cli.grids import HEAD, grid, notes, rest, title, word
    from chaff.results.digits import cell, figure
    from chaff.results.shown import Cell

    frame = found.ranked()
    some = frame if everything else frame.head(HEAD)
    title(show, _headline(found))
    own = [c for c in SHOWN if c in frame.columns and not frame[c].isna().all()]
    tested = "beyond_chance" in frame.columns
    rows: list[list[Cell]] = []
    for place, (f, r) in enumerate(some.iterrows(), 1):
        row: list[Cell] = [str(place), str(f), f"{figure(r['importance'])} ± {figure(r['importance_sd'], 2)}"]
        row += [("beyond chance" if r["beyond_chance"] else "within chance")] if tested else []
        row += [("in" if r["kept"] else "out")] if "kept" in frame.columns else []
        row += [cell(c, r[c]) if c in ("p", "q") else figure(r[c]) if r[c] == r[c] else "" for c in own]
        rows.append([*row, word(r["verdict"])])
    head = ["", "feature", "importance ± sd", *(["found"] if tested else []), *(["model"] if "kept" in frame.columns else [])]
    head += [*[c.replace("_", " ") for c in own], "verdict"]
    grid(show, head, rows, asked=("", "feature", "importance ± sd"), names=2)
    rest(show, len(some), len(frame))
    notes(show, found.notes)


def _headline(found: Findings) -> str:
    frame = found.frame
    if "beyond_chance" in frame.columns:
        count, given = int(frame["beyond_chance"].sum()), " given the others" if "given_others" in frame.columns else ""
        return f"{count} of {len(frame)} features {'is' if count == 1 else 'are'} beyond chance{given}"
    if "kept" in frame.columns:
        kept = [str(f) for f in found.ranked().index if frame.loc[f, "kept"]]
        return f"{len(kept)} of {len(frame)} features are in, {len(frame) - len(kept)} are out"
    return f"{len(frame)} features by {found.settings['by']}"


def _more(show: Show, found: Findings, limits: list[float], everything: bool) -> None:
    """Limits side by side, and another model beside this one."""
    from chaff.cli.grids import HEAD, grid, rest, title
    from chaff.results.digits import figure

    if limits:
        tried = found.try_limits(limits)
        title(show, "Limits side by side")
        rows = [[figure(float(v)), str(int(r["stay"])), ", ".join(r["goes_here"])] for v, r in tried.iterrows()]
        grid(show, ["above", "stay", "goes here"], rows, asked=("above", "stay"), names=0)
    if "against" in found.more:
        frame = found.more["against"].loc[found.ranked().index]
        some = frame if everything else frame.head(HEAD)
        title(show, f"Beside {frame.columns[1]}")
        rows = [[str(f), *[figure(float(v)) for v in r.iloc[:4]], str(r.iloc[4])] for f, r in some.iterrows()]
        grid(show, ["feature", *frame.columns], rows, asked=("feature", frame.columns[2], frame.columns[3]), names=1)
        rest(show, len(some), len(frame))


def _leave(found: Findings, said: dict[str, Any]) -> list[str]:
    names = []
    if said["out"]:
        found.save(said["out"], found.lead)
        names.append(said["out"])
    for option in ("figure", "close_up"):
        if said[option]:
            from chaff.files import write_with

            write_with(said[option], _figure(found, option).savefig)
            names.append(said[option])
    return names


def _figure(found: Findings, option: str) -> Any:
    from chaff.plots.chance_figures import decoys_among
    from chaff.plots.importance_figures import close_up, importance_bars

    if found.method in against_chance.TESTS:
        return against_chance.draw(found, option)
    if option == "close_up" and "planted" in found.settings:
        return decoys_among(found)
    return (importance_bars if option == "figure" else close_up)(found)
