"""`chaff search`: sets of features, searched with the model that will be used.

`chaff search --journal FILE --show`: what a journal holds.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import click

from chaff.cli.help_pages import Command
from chaff.cli.options import (
    MODELS,
    STRATEGIES,
    columns_option,
    file_ending,
    looking_options,
    number,
    parse_choice,
    parse_strategies,
    selection_option,
)
from chaff.cli.output import leave_figures, leave_selection, leave_tables
from chaff.files import SAVED

if TYPE_CHECKING:
    from chaff.cli.command_context import CommandContext
    from chaff.cli.console import Show
    from chaff.methods.search.search_result import SearchResult


def show_journal(show: Show, data: str | None, journal: str | None) -> None:
    """A row for every model, metric and folds."""
    from chaff.cli.tables import count, grid, title
    from chaff.evaluate.journal import read_journal
    from chaff.results.digits import score

    if journal is None:
        raise click.UsageError("--show lists a journal: say --journal FILE with it")
    if data is not None:
        raise click.UsageError("--show lists a journal and searches nothing: leave DATA out")
    about, entries = read_journal(journal)
    title(show, f"Journal {journal}: {int(about.get('rows', 0)):,} rows, target {about.get('target', '')}, {about['columns']} columns")
    rows = [[f"{e.sets:,}", score(e.best), str(e.size) if e.sets else "", e.metrics.split(" ")[0], e.how, e.model] for e in entries]
    if rows:
        grid(show, ["sets", "best", "size", "metric", "folds", "what"], rows, required=("sets", "best", "size", "metric", "what"), names=0)
    for e in entries:
        if e.sets and not e.how.endswith("inside"):
            show.note(f"best, {e.size}: {', '.join(e.features)}")
    show.note(f"{count(sum(e.sets for e in entries), 'scored set')} in all")
    show.finish("search", {"data": about, "grounds": entries})


RULES = "smallest, best, one standard error, knee, adjusted_r2, aic, bic, share=0.98, size=5, cost=20"


@click.command(
    "search",
    cls=Command,
    everyday=["--target", "--plan", "--model", "--strategy", "--size", "--choose", "--alternatives", "--total-cost", "--out", "--figure"],
    examples=["chaff search lots.csv --target loaf_volume --model ridge --strategy floating --size 8"],
)
@click.argument("data", type=click.Path(), required=False)
@looking_options
@columns_option
@selection_option
@click.option("--model", metavar="NAME", help=f"The model you will use: {MODELS}; or '{{ name = \"forest\", trees = 300 }}'.")
@click.option(
    "--strategy", "strategies", multiple=True, metavar="NAME",
    help=f"How sets are searched: {STRATEGIES}; or with settings, "
    "'{ name = \"genetic\", population = 80 }'. Repeatable: compared on the same folds.",
)  # fmt: skip
@click.option("--against", metavar="NAME", help="Also with another model; compares the sets.")
@click.option("--metric", metavar="NAME", help="r2, rmse, mae, log_loss, auc or accuracy.")
@click.option("--size", type=float, help="Select a set of this size (a number, or a share below 1), and search no further than that.")
@click.option("--choose", metavar="RULE", help=f"Rule for the selected set: {RULES}. Default: --size, else smallest.")
@click.option("--quick", is_flag=True, help="Skip the CV scores by size: the search is not repeated inside the folds.")
@click.option(
    "--alternatives",
    "alternatives_",
    is_flag=True,
    help="List equivalent sets: features that are in all of them, interchangeable, or in none.",
)
@click.option(
    "--within", type=float, default=0.02, show_default=True, help="Share of the best improvement over the baseline that a set may lack."
)
@click.option("--now", metavar="A,B,…", help="Your present set: report the nearest equivalent one.")
@click.option("--total-cost", type=float, help="What a set may cost, by --cost and --panel.")
@click.option("--seconds", type=float, help="Stop after N seconds and return the best set so far.")
@click.option("--evaluations", type=click.IntRange(1), help="Stop after N scored sets and return the best set so far.")
@click.option("--journal", type=click.Path(), metavar="FILE", help="Store every scored set in FILE; the same command then resumes.")
@click.option("--show", "show_journal", is_flag=True, help="List what the --journal holds, and do nothing else.")
@click.option("--folds", type=click.IntRange(2), help="Folds (5).")
@click.option("--repeats", type=click.IntRange(1), help="Repeats of the folds (1).")
@click.option("--out", metavar="FILE", help="Save the trail: .json, .csv or .parquet.")
def command(data: str | None, **options: Any) -> None:
    """Search sets of features of DATA with the model that will be used in the end, and say what is honest of it."""
    from chaff.cli.console import Show

    show = Show(options["form"])
    if options["show_journal"]:
        from chaff.cli.search import show_journal

        show_journal(show, data, options["journal"])
        return
    if data is None:
        raise click.UsageError("missing DATA (the file to search), or --journal FILE --show")
    file_ending(options["out"], SAVED, "--out")
    requested = _search_request(options)
    from chaff.cli.command_context import stand
    from chaff.models.memory_needs import learns_in_passes

    context = stand(
        data, options, show, before=("search",), sees="models", in_passes=lambda g: all(map(learns_in_passes, _models(g, requested)))
    )
    context.tell(show)
    result = _searched(context, options, requested, show)
    _show(show, result, requested, options)
    names = _leave(result, options, context)
    more = {k: v for k, v in result.more.items() if k != "rule"}
    words = ["--model", model] if isinstance(model := options["model"], str) else []
    show.finish("search", {"table": context, "searches": result.trails, **more}, names, context.following(data, options, "select", *words))


@dataclass(frozen=True)
class SearchRequest:
    """What the options said, checked before any work is done."""

    rule: Any
    """None: the size that was asked for."""
    model: Any
    against: Any
    now: tuple[str, ...]


@dataclass(frozen=True)
class SearchOutput:
    """What was searched, and what was asked of it."""

    trails: list[SearchResult]
    more: dict[str, Any]


def _search_request(options: dict[str, Any]) -> SearchRequest:
    from chaff.methods.search.choice_rules import Rule

    name, mark, value = (options["choose"] or "smallest").partition("=")
    parsed = Rule.parse({name.strip(): number(value, "--choose")} if mark else name.strip())
    rule = None if options["size"] is not None and options["choose"] is None else parsed
    now = tuple(n.strip() for n in (options["now"] or "").split(",") if n.strip())
    return SearchRequest(rule, parse_choice(options["model"], "--model"), parse_choice(options["against"], "--against"), now)


def _models(context: CommandContext, requested: SearchRequest) -> list[Any]:
    """The model that is searched with, and the one beside it."""
    from chaff.methods.search.stage import Search
    from chaff.models.named import as_model

    stage, score = context.stage(Search, model=requested.model), context.plan.score if context.plan else None
    model = stage.model if stage.model is not None else (score.model if score and score.model is not None else context.linear_model)
    return [as_model(model), *([as_model(requested.against)] if requested.against is not None else [])]


def _searched(context: CommandContext, options: dict[str, Any], requested: SearchRequest, show: Show) -> SearchOutput:
    from chaff.cli.search_tables import SearchBar
    from chaff.decide.search_call import runs, search
    from chaff.methods.search.stage import Search

    stage = context.stage(Search, model=requested.model)
    score = context.plan.score if context.plan else None
    models = _models(context, requested)
    how = parse_strategies(options["strategies"], stage.strategy, options["size"])
    shared = {
        "metric": options["metric"] or (score.metric if score else None),
        "folds": options["folds"] or (score.folds_for(context.table) if score else 5),
        "repeats": options["repeats"] or 1,
        "honest": not options["quick"],
        "pins": [p for p in context.pins if p.feature in context.table.features],
        **{k: options[k] if options[k] is not None else getattr(stage, k) for k in ("total_cost", "seconds", "evaluations")},
        **{k: options[k] for k in ("journal", "seed", "workers")},
    }
    trails: list[SearchResult] = []
    try:
        for used in models:
            after = None
            for strategy in how:
                after = search(context.table, used, strategy, after=after, progress=SearchBar(show), **shared)
                trails.append(after)
        show.stop()
        rule = requested.rule or {"size": _size_of(trails, options["size"], show)}
        more: dict[str, Any] = {"chosen": [t.choose(rule) for t in trails], "rule": rule}
        if len(trails) > 1:
            more["runs"] = runs(trails, rule)
        if options["alternatives_"] or requested.now:
            show.watch("alternatives")
            more["alternatives"] = trails[0].alternatives(options["within"], requested.now)
    finally:
        show.stop()
    return SearchOutput(trails, more)


def _size_of(trails: Sequence[SearchResult], size: float, show: Show) -> int:
    """The size that was asked for, if every search came through it; the nearest smaller one where a search was stopped before.

    Raises
    ------
    UsageError
        Where a search ended of itself without it, with the sizes that there are.
    """
    from chaff.cli.console import REVIEW
    from chaff.errors import UsageError
    from chaff.methods.search.strategy import largest

    wanted = largest(int(size) if size >= 1 else size, len(trails[0].offered))
    for trail in trails:
        if wanted in trail.by_size:
            continue
        if not trail.stopped:
            there = ", ".join(map(str, trail.by_size))
            raise UsageError(
                f"{trail.strategy.name} visited no set of {wanted} features, but of {there}: pass one of these, or another --strategy"
            )
        nearest = max((s for s in trail.by_size if s < wanted), default=min(trail.by_size))
        show.say(f" {trail.strategy.name} was stopped before it came to {wanted} features: a set of {nearest} is taken", REVIEW)
        wanted = nearest
    return wanted


def _show(show: Show, result: SearchOutput, requested: SearchRequest, options: dict[str, Any]) -> None:
    from chaff.cli.search_tables import show_alternatives, show_chosen, show_runs, show_sizes

    for trail, chosen in zip(result.trails, result.more["chosen"], strict=True):
        show_sizes(show, trail, chosen, options["everything"] or (len(result.trails) == 1 and len(trail.by_size) <= 15))
        show_chosen(show, trail, chosen)
    if "runs" in result.more:
        show_runs(show, result.more["runs"])
    if "alternatives" in result.more:
        show_alternatives(show, result.more["alternatives"], requested.now, options["everything"])


def _leave(result: SearchOutput, options: dict[str, Any], context: CommandContext) -> list[str]:
    first = result.trails[0]
    names = leave_selection(options, context, first.findings(result.more["rule"]), model=first.scorer.model)
    if options["out"]:
        result.trails[0].save(options["out"], result.more["rule"])
        names.append(options["out"])
    kept = result.more["chosen"][0].features
    names += leave_tables(options, lambda: _tables(result), kept)
    return names + leave_figures(options, lambda: _figures(result))


def _tables(result: SearchOutput) -> dict[str, Any]:
    """Moves and sizes of every search, why each column of the first stayed or went, and what they share."""
    out: dict[str, Any] = {}
    for k, trail in enumerate(result.trails):
        end = "" if k == 0 else f"_{k + 1}"
        out |= {f"moves{end}": trail.frame, f"sizes{end}": trail.sizes}
    out["features"] = result.trails[0].findings(result.more["rule"]).frame
    if "runs" in result.more:
        out |= {"searches": result.more["runs"].frame, "shared": result.more["runs"].shared}
    if "alternatives" in result.more:
        out["alternatives"] = result.more["alternatives"].frame
    return out


def _figures(result: SearchOutput) -> dict[str, Callable[[], Any]]:
    from chaff.plots.search_figures import figures_of

    return figures_of(result.trails, result.more)
