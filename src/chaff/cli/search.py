"""`chaff search`: sets of features, searched with the model that will be used."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import click

from chaff.cli.choices_said import choice_said, strategies_said
from chaff.cli.options import (
    all_option,
    columns_option,
    file_ending,
    number,
    pin_options,
    plan_option,
    rows_options,
    table_options,
    work_options,
)
from chaff.files import SAVED

if TYPE_CHECKING:
    from chaff.cli.console import Show
    from chaff.cli.ground import Ground
    from chaff.methods.search.searched import SearchedTrail

RULES = "smallest, best, one standard error, knee, adjusted_r2, aic, bic, share=0.98, size=5, cost=20"


@click.command("search")
@click.argument("data", type=click.Path(), required=False)
@table_options
@plan_option
@pin_options
@rows_options
@columns_option
@click.option("--model", metavar="NAME", help="The model you will use: ridge, logistic, forest, … or '{ name = \"forest\", trees = 300 }'.")
@click.option(
    "--strategy", "strategies", multiple=True, metavar="NAME",
    help="forward, backward, both, floating, recursive, genetic, exhaustive, branch and bound, swap, along, random, annealing; or with "
    "settings, '{ name = \"genetic\", population = 80 }'. Repeatable: compared on the same folds.",
)  # fmt: skip
@click.option("--against", metavar="NAME", help="The same with another model, and the sets compared.")
@click.option("--metric", metavar="NAME", help="r2, rmse, mae, log_loss, auc or accuracy.")
@click.option("--size", type=float, help="Largest set (backward, recursive: smallest) to go to: a number, or a share below 1.")
@click.option("--choose", metavar="RULE", default="smallest", show_default=True, help=f"Which set is taken: {RULES}.")
@click.option("--quick", is_flag=True, help="Leave out the honest scores: the search is not run anew inside the folds.")
@click.option("--alternatives", "alternatives_", is_flag=True, help="Which features are in all good sets, interchangeable, or in none.")
@click.option("--within", type=float, default=0.02, show_default=True, help="Share of the best's gain that a good set may lack.")
@click.option("--now", metavar="A,B,…", help="The set that you have now: the nearest good one is named.")
@click.option("--total-cost", type=float, help="What a set may cost, by --cost and --panel.")
@click.option("--seconds", type=float, help="Stop after so long, with the best so far.")
@click.option("--evaluations", type=click.IntRange(1), help="Stop after so many scored sets, with the best so far.")
@click.option(
    "--journal", type=click.Path(), metavar="FILE", help="Keep every scored set there; the same command then goes on where it was."
)
@click.option("--show", "show_journal", is_flag=True, help="List what the --journal holds, and do nothing else.")
@click.option("--folds", type=click.IntRange(2), help="Folds (5).")
@click.option("--repeats", type=click.IntRange(1), help="Repeats of the folds (1).")
@all_option
@click.option("--out", metavar="FILE", help="Save the trail: .json, .csv or .parquet.")
@click.option("--figures", metavar="FOLDER", help="Draw score by size, which sets hold what, and what the strategy has of its own, there.")
@work_options
def command(data: str | None, **said: Any) -> None:
    """Search sets of features of DATA with the model that will be used in the end, and say what is honest of it."""
    from chaff.cli.console import Show

    show = Show(said["form"])
    if said["show_journal"]:
        from chaff.cli.journal import show_journal

        show_journal(show, data, said["journal"])
        return
    if data is None:
        raise click.UsageError("which file is to be searched? Name DATA (or --journal FILE --show)")
    file_ending(said["out"], SAVED, "--out")
    asked = _asked(said)
    from chaff.cli.ground import stand
    from chaff.models.needs import learns_in_passes

    ground = stand(data, said, show, before=("search",), sees="models", in_passes=lambda g: all(map(learns_in_passes, _models(g, asked))))
    ground.tell(show)
    found = _searched(ground, said, asked, show)
    _show(show, found, asked, said)
    names = _leave(found, said)
    show.finish("search", {"table": ground, "searches": found.trails, **found.more}, names)


@dataclass(frozen=True)
class Asked:
    """What the options said, checked before any work is done."""

    rule: Any
    model: Any
    against: Any
    now: tuple[str, ...]


@dataclass(frozen=True)
class Found:
    """What was searched, and what was asked of it."""

    trails: list[SearchedTrail]
    more: dict[str, Any]


def _asked(said: dict[str, Any]) -> Asked:
    from chaff.methods.search.choosing import Rule

    name, mark, value = said["choose"].partition("=")
    rule = Rule.said({name.strip(): number(value, "--choose")} if mark else name.strip())
    now = tuple(n.strip() for n in (said["now"] or "").split(",") if n.strip())
    return Asked(rule, choice_said(said["model"], "--model"), choice_said(said["against"], "--against"), now)


def _models(ground: Ground, asked: Asked) -> list[Any]:
    """The model that is searched with, and the one beside it."""
    from chaff.methods.search.stage import Search
    from chaff.models.named import as_model

    stage, score = ground.stage(Search, model=asked.model), ground.plan.score if ground.plan else None
    model = stage.model if stage.model is not None else (score.model if score and score.model is not None else ground.linear_model)
    return [as_model(model), *([as_model(asked.against)] if asked.against is not None else [])]


def _searched(ground: Ground, said: dict[str, Any], asked: Asked, show: Show) -> Found:
    from chaff.cli.search_bar import SearchBar
    from chaff.decide.calls.search import runs, search
    from chaff.methods.search.stage import Search

    stage = ground.stage(Search, model=asked.model)
    score = ground.plan.score if ground.plan else None
    models = _models(ground, asked)
    how = strategies_said(said["strategies"], stage.strategy, said["size"])
    shared = {
        "metric": said["metric"] or (score.metric if score else None),
        "folds": said["folds"] or (score.folds_for(ground.table) if score else 5),
        "repeats": said["repeats"] or 1,
        "honest": not said["quick"],
        "pins": [p for p in ground.pins if p.feature in ground.table.features],
        **{k: said[k] if said[k] is not None else getattr(stage, k) for k in ("total_cost", "seconds", "evaluations")},
        **{k: said[k] for k in ("journal", "seed", "workers")},
    }
    trails: list[SearchedTrail] = []
    try:
        for used in models:
            after = None
            for strategy in how:
                after = search(ground.table, used, strategy, after=after, progress=SearchBar(show), **shared)
                trails.append(after)
        show.stop()
        more: dict[str, Any] = {"chosen": [t.choose(asked.rule) for t in trails]}
        if len(trails) > 1:
            more["runs"] = runs(trails, asked.rule)
        if said["alternatives_"] or asked.now:
            show.watch("alternatives")
            more["alternatives"] = trails[0].alternatives(said["within"], asked.now)
    finally:
        show.stop()
    return Found(trails, more)


def _show(show: Show, found: Found, asked: Asked, said: dict[str, Any]) -> None:
    from chaff.cli.search_shown import show_alternatives, show_chosen, show_runs, show_sizes

    for trail, chosen in zip(found.trails, found.more["chosen"], strict=True):
        show_sizes(show, trail, chosen, said["everything"] or (len(found.trails) == 1 and len(trail.by_size) <= 15))
        show_chosen(show, trail, chosen)
    if "runs" in found.more:
        show_runs(show, found.more["runs"])
    if "alternatives" in found.more:
        show_alternatives(show, found.more["alternatives"], asked.now, said["everything"])


def _leave(found: Found, said: dict[str, Any]) -> list[str]:
    names = []
    if said["out"]:
        found.trails[0].save(said["out"])
        names.append(said["out"])
    if said["figures"]:
        from chaff.files import make_folder, write_with
        from chaff.plots.search_figures import figures_of

        place = make_folder(said["figures"])
        for name, figure in figures_of(found.trails, found.more).items():
            write_with(place / name, figure.savefig)
            names.append(str(place / name))
    return names
