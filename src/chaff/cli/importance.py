"""`chaff importance`: what a model loses without a feature."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from chaff.cli.options import all_option, columns_option, file_ending, pin_options, plan_option, rows_options, table_options, work_options

if TYPE_CHECKING:
    from chaff.cli.console import Show
    from chaff.results.findings import Findings


@click.command("importance")
@click.argument("data", type=click.Path())
@table_options
@plan_option
@pin_options
@rows_options
@columns_option
@click.option("--trees", type=click.IntRange(1), help="Trees of the forest (100).")
@click.option("--shuffles", type=click.IntRange(1), help="Times each feature is shuffled in each fold (5).")
@click.option("--top", type=click.IntRange(1), help="Cut: the best so many.")
@click.option("--folds", type=click.IntRange(2), default=5, show_default=True, help="Folds.")
@all_option
@click.option("--out", metavar="FILE", help="Save the findings: .json, .csv or .parquet.")
@click.option("--figure", metavar="FILE", help="Draw the leading features as bars: .png, .svg or .pdf.")
@work_options
def command(data: str, **said: Any) -> None:
    """How much worse a forest predicts held-out rows of DATA when one feature's values are shuffled among them."""
    from chaff.cli.console import Show, tell_of_compiling
    from chaff.cli.ground import stand
    from chaff.decide.calls.judged import findings_of, judge
    from chaff.methods.importance.stage import Importance

    file_ending(said["out"], (".json", ".csv", ".parquet"), "--out")
    file_ending(said["figure"], (".png", ".svg", ".pdf"), "--figure")
    show = Show(said["form"])
    ground = stand(data, said, show, before=("importance",))
    model = {"name": "forest", "trees": said["trees"]} if said["trees"] else None
    stage = ground.stage(Importance, model=model, shuffles=said["shuffles"], cut={"top": said["top"]} if said["top"] else None)
    ground.tell(show)
    tell_of_compiling(show)
    show.watch("importance")
    pins = [p for p in ground.pins if p.feature in ground.table.features]
    draws = {"folds": said["folds"], "seed": said["seed"], "workers": said["workers"], "watch": show.watch}
    try:
        found = findings_of(judge(stage, ground.table, pins=pins, **draws))
    finally:
        show.stop()
    _table(show, found, said["everything"])
    show.finish("importance", {"table": ground, "found": found}, _leave(found, said))


def _table(show: Show, found: Findings, everything: bool) -> None:
    from chaff.cli.grids import HEAD, grid, notes, rest, title, word
    from chaff.results.digits import cell, figure

    frame = found.ranked()
    some = frame if everything else frame.head(HEAD)
    title(show, f"{int(frame['beyond_chance'].sum())} of {len(frame)} features are beyond chance given the others")
    rows = [
        [
            str(place),
            str(f),
            f"{figure(r['importance'])} ± {figure(r['importance_sd'], 2)}",
            figure(r["given_others"]),
            cell("p", r["p"]),
            cell("q", r["q"]),
            "beyond chance" if r["beyond_chance"] else "within chance",
            word(r["verdict"]),
        ]
        for place, (f, r) in enumerate(some.iterrows(), 1)
    ]
    head = ["", "feature", "importance ± sd", "given others", "p", "q", "found", "verdict"]
    grid(show, head, rows, asked=("", "feature", "importance ± sd"), names=2)
    rest(show, len(some), len(frame))
    notes(show, found.notes)


def _leave(found: Findings, said: dict[str, Any]) -> list[str]:
    names = []
    if said["out"]:
        found.save(said["out"], "importance")
        names.append(said["out"])
    if said["figure"]:
        from chaff.files import write_with
        from chaff.plots import relevance_bars

        figure = relevance_bars(found, "importance")
        write_with(said["figure"], lambda part: figure.savefig(part))
        names.append(said["figure"])
    return names
