"""`chaff compare`: methods side by side on equal footing."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from chaff.cli.help_pages import Command
from chaff.cli.options import columns_option, file_ending, looking_options, numbers, parse_choice, selection_option
from chaff.cli.output import leave_figures, leave_selection, leave_tables
from chaff.files import SAVED

if TYPE_CHECKING:
    from chaff.cli.command_context import CommandContext
    from chaff.cli.console import Show
    from chaff.methods.comparing.comparison import Comparison


FORMAT = "chaff comparison"


@click.command(
    "compare",
    cls=Command,
    everyday=["--target", "--plan", "--method", "--model", "--metric", "--at", "--decoys", "--report", "--out", "--figure"],
    examples=["chaff compare lots.csv --target loaf_volume --method spearman --method lasso --method forward --at 8"],
)
@click.argument("data", type=click.Path())
@looking_options
@columns_option
@selection_option
@click.option(
    "--method", "methods", multiple=True, metavar="NAME",
    help="A method to compare: pearson_r, leading, mrmr_difference, lasso, permutation, impurity, forward, genetic, …; with settings "
    "'{ use = \"importance\", model = \"boosting\", by = \"shapley\" }'. Repeatable; a usual mix when left out.",
)  # fmt: skip
@click.option("--model", metavar="NAME", help="The final model that scores every set (ridge, or logistic with classes).")
@click.option("--metric", metavar="NAME", help="r2, rmse, mae, log_loss, auc or accuracy.")
@click.option("--sizes", metavar="A,B,…", help="Sizes to cut to; all up to 12 and some beyond when left out.")
@click.option("--at", "at", type=float, help="Also all methods at one size, or at one share of the features (below 1).")
@click.option("--vote", type=click.IntRange(1), help="Methods that must keep a feature for the vote (default: more than half).")
@click.option(
    "--truth",
    metavar="A,B,…",
    help="Features that matter, where that is known: counts true positives, false negatives and false positives.",
)
@click.option("--seconds", type=float, help="Refuse a run that would take longer, judged by the first fold.")
@click.option(
    "--journal",
    type=click.Path(),
    metavar="FILE",
    help="Store what each method learned in each fold in FILE; the same command then resumes.",
)
@click.option("--folds", type=click.IntRange(2), help="Folds (5).")
@click.option("--repeats", type=click.IntRange(1), help="Repeats of the folds (1).")
@click.option(
    "--out", metavar="FILE", help="Save the scores of every feature under every method: .csv or .parquet; .json holds everything."
)
@click.option(
    "--decoys",
    type=click.IntRange(1),
    metavar="N",
    help="Add N noise features (decoys): how many of them each method ranks among its first N.",
)
@click.option(
    "--against", metavar="MODEL", help="Also: the sets that --model and this model select; shared, exclusive, loss with the other set."
)
@click.option("--scales", metavar="A,B,…", help="Scales of the columns side by side: standard, min-max, robust, log, rank-normal, none.")
@click.option("--transforms", metavar="A,B,…", help="Transforms of the target side by side: none, log, square root, rank-normal.")
@click.option("--report", metavar="FILE", help="Write an HTML report.")
def command(data: str, **options: Any) -> None:
    """Compare methods on DATA: each learned inside every training fold, every set scored by one model on the rows left out.

    DATA is a table, or a comparison saved before as .json: it is cut at another size without learning anything.
    """
    from chaff.cli.command_context import stand
    from chaff.cli.console import Show
    from chaff.decide.compare_calls import USUAL, check_preparations, compare_from
    from chaff.files import check_place
    from chaff.methods.comparing.scale_comparison import SCALES
    from chaff.models.named import as_model

    file_ending(options["out"], SAVED, "--out")
    file_ending(options["report"], (".html",), "--report")
    saved = None
    if Path(data).suffix.lower() == ".json":
        data, options, saved = _saved(data, options)
    if options["report"]:
        check_place(options["report"])
    if options["save_selection"] and options["at"] is None:
        raise click.UsageError("--save-selection goes with --at N, the size of the set; the best method's set is saved")
    sizes = [_whole(v) for v in numbers(options["sizes"], "--sizes")] if options["sizes"] else None
    methods = [parse_choice(m, "--method") for m in options["methods"]] or list(USUAL)
    truth = [n.strip() for n in options["truth"].split(",") if n.strip()] if options["truth"] else None
    show = Show(options["form"])
    context = stand(data, options, show, before=("search",), sees="models")
    context.tell(show)
    scales, transforms = (_words(options[k]) for k in ("scales", "transforms"))
    check_preparations(context.table, scales or SCALES, transforms or ("none",))
    against = as_model(parse_choice(options["against"], "--against")) if options["against"] else None
    score = context.plan.score if context.plan else None
    model = parse_choice(options["model"], "--model") or (score.model if score and score.model is not None else None)
    show.watch("compare")
    try:
        table = context.table.with_decoys(options["decoys"], seed=options["seed"]) if options["decoys"] else context.table
        result = compare_from(
            saved,
            table,
            methods,
            model if model is not None else context.linear_model,
            sizes=sizes,
            metric=options["metric"] or (score.metric if score else None),
            repeats=options["repeats"] or 1,
            folds=options["folds"] or (score.folds_for(context.table) if score else 5),
            vote=options["vote"],
            truth=truth,
            seconds=options["seconds"],
            pins=[p for p in context.pins if p.feature in context.table.features],
            journal=options["journal"],
            seed=options["seed"],
            workers=options["workers"],
            watch=show.watch,
        )
        at = result.at(options["at"]) if options["at"] is not None else None
        beside = _beside(result, scales, transforms, against, options, show)
    finally:
        show.stop()
    _show(show, result, at, options["at"], options["everything"])
    for shown in beside.values():
        _show_beside(show, shown)
    at_size = {"at": at} if at is not None else {}
    show.finish(
        "compare",
        {"table": context, "comparison": result, **at_size, **beside},
        _leave(result, at, data, options, context),
        context.following(data, options, "select"),
    )


def _beside(
    result: Comparison, scales: list[str], transforms: list[str], against: Any, options: dict[str, Any], show: Show
) -> dict[str, Any]:  # fmt: skip
    """What is asked for beside the comparison, on the same folds and with the same model."""
    from chaff.decide.compare_calls import try_scales, two_models
    from chaff.methods.comparing.scale_comparison import SCALES

    more = {"folds": result.scorer.folds, "seed": options["seed"], "workers": options["workers"], "watch": show.watch}
    model, table = result.scorer.model, result.scorer.table
    out: dict[str, Any] = {}
    if against is not None:
        out["two_models"] = two_models(table, model, against, metric=result.scorer.metric.name, **more)
    if scales or transforms:
        out["preparations"] = try_scales(table, model, scales=scales or SCALES, transforms=transforms or ("none",), **more)
    return out


def _words(text: str | None) -> list[str]:
    return [w.strip() for w in text.split(",") if w.strip()] if text else []


def _show_beside(show: Show, result: Any) -> None:
    from chaff.cli.tables import grid, notes, title
    from chaff.results.digits import figure

    title(show, result.headline)
    frame = result.frame if result.frame.index.name == "model" else result.frame.set_index("scale")
    rows = [[str(i), *(figure(v) for v in r)] for i, r in zip(frame.index, frame.itertuples(index=False), strict=True)]
    grid(show, [str(frame.index.name), *(str(c).replace("_", " ") for c in frame.columns)], rows, names=0)
    if hasattr(result, "shared"):
        (a, b), only = result.labels, result.only
        for word, names in (("both", result.shared), (f"{a} only", only[0]), (f"{b} only", only[1])):
            show.say(f"   {word}: {', '.join(names) or 'none'}")
        notes(show, result.words)
    notes(show, result.notes)


def _whole(value: float) -> int:
    if value != int(value):
        raise click.UsageError(f"--sizes must be whole numbers, not {value:g}")
    return int(value)


def _show(show: Show, result: Comparison, at: Any, size: float | None, everything: bool) -> None:

    from chaff.cli.tables import HEAD, grid, notes, rest, title
    from chaff.methods.comparing.comparison import COMBINED
    from chaff.methods.search.size_choice import SizeRule
    from chaff.results.digits import figure, score

    frame = result.frame.sort_values("score", ascending=result.sign < 0, kind="stable")
    title(show, result.headline)
    label = result.scorer.metric.label
    head = ["method", "chosen size", "mean features", f"{label} ± SE", "stability", f"best {label}", "size at best", "own rule", "seconds"]
    if result.truth is not None:
        head += ["true positives", "false negatives", "false positives"]
    head += ["noise features"] if "decoys" in result.frame.columns else []
    further: dict[str, str] = {h: h.replace(" ", "_") for h in ("true positives", "false negatives", "false positives") if h in head}
    further |= {"noise features": "decoys"} if "noise features" in head else {}
    noise = len(result.scorer.table.decoys)
    rows = []
    for m, r in frame.iterrows():
        own = f"{figure(r['own'])} → {score(r['own_score'])}" if r["own"] == r["own"] else ""
        row = [str(m), figure(r["smallest"]), figure(r["kept"]), f"{score(r['score'])} ± {score(r['score_se'])}", figure(r["stability"], 2)]
        row += [score(r["best"]), figure(r["best_size"]), own, f"{r['seconds']:.1f}" if r["seconds"] == r["seconds"] else ""]
        rows.append([*row, *(figure(r[c]) for c in further.values())])
    for word, values in result.yardsticks.items():
        count = str(len(result.scorer.features) - noise) if word == "all features" else "0"
        word += f" (+ {noise} noise features)" if noise and word == "all features" else ""
        rows.append(["baseline" if word == "nothing" else word, count, count, score(float(values.mean())), *[""] * (len(head) - 4)])
    requested = ("method", "chosen size", f"{label} ± SE", *further)
    grid(show, head, rows, required=requested, names=1)
    notes(show, (*result.notes, f"chosen size: {SizeRule()}, of each method"))
    if at is not None and size is not None:
        title(show, f"All at {size:g}" + (" of the features" if size < 1 else " features"))
        text = [
            [str(m), figure(r["kept"]), f"{score(r['score'])} ± {score(r['score_se'])}", figure(r["stability"], 2)]
            for m, r in at.iterrows()
        ]
        grid(show, ["method", "mean features", f"{label} ± SE", "stability"], text, names=1)
        held = result.kept(result.count_of(size))
        show.say()
        for m in held.columns:
            show.say(f"   {m}: {', '.join(str(f) for f in held.index[held[m]])}")
    title(show, f"{label} by size")
    curves = result.curves["score"].unstack("size").reindex(frame.index)
    sizes = list(curves.columns)
    by_size = [[str(m), *(score(v) if v == v else "" for v in curves.loc[m])] for m in curves.index]
    grid(show, ["method", *map(str, sizes)], by_size, names=1)
    kept = result.kept()
    kept = kept[kept.any(axis=1)]
    subset = kept if everything else kept.head(HEAD)
    title(show, "Features selected by each method at its chosen size")
    kept = kept.drop(columns=[m for m in COMBINED if m in kept.columns])
    subset = subset[kept.columns]
    of = int(kept.shape[1])
    by_method = []
    for f, r in subset.iterrows():
        by = int(r.sum())
        few = [str(m) for m in kept.columns if r[m] == (by <= of / 2)]
        by_method.append([str(f), f"{by} of {of}", f"{'only' if by <= of / 2 else 'not'} {', '.join(few)}" if few else ""])
    grid(show, ["feature", "selected by", "exceptions"], by_method, required=("selected by",), names=1)
    rest(show, len(subset), len(kept))


def _selected(result: Comparison, at: Any, options: dict[str, Any], context: CommandContext) -> list[str]:
    """`--save-selection`: the set that the best method keeps of all rows at the size of --at."""
    if not options["save_selection"]:
        return []
    best = next(m for m in at.index if m in result.whole)
    size = result.count_of(options["at"])
    why = f"{best} at {size} features, the best of {len(result.methods)} methods at that size"
    held = result.whole[best].at(size)
    return leave_selection(options, context, [f for f in result.scorer.features if f in held], why, result.scorer.model)


NOW = ("at", "out", "save_selection", "figure", "figures", "report", "form", "everything", "workers", "journal", "save")
"""Options that are of this call, and not of the comparison that was saved."""


def _saved(path: str, options: dict[str, Any]) -> tuple[str, dict[str, Any], dict[str, Any]]:
    """(the table, the options, what was learned) of a comparison that --out saved; other options than those of `NOW` are refused."""
    from chaff.errors import DataError
    from chaff.files import read_json

    file = read_json(path, "comparison", "is not a saved comparison", FORMAT, 1)
    given = click.get_current_context()
    asked = [k for k in options if k not in NOW and given.get_parameter_source(k) == click.core.ParameterSource.COMMANDLINE]
    if asked:
        raise click.UsageError(
            f"a saved comparison keeps its options: leave out --{asked[0].replace('_', '-')}, or compare the table again"
        )
    try:
        then, learned = dict(file["again"]["options"]), dict(file["learned"])
        data = str(file["again"]["data"])
    except (KeyError, TypeError, ValueError) as error:
        raise DataError(f"{path} is not a saved comparison: it lacks what was learned") from error
    then = {k: tuple(v) if isinstance(v, list) else v for k, v in then.items() if k in options}
    return data, {**options, **then, **{k: options[k] for k in NOW}}, learned


def _leave(result: Comparison, at: Any, data: str, options: dict[str, Any], context: CommandContext) -> list[str]:
    from chaff.files import save_frame
    from chaff.results.plain import plain

    names = _selected(result, at, options, context)
    if options["out"]:
        flat = result.scores.copy()
        flat.columns = [f"{m} {what}" for m, what in flat.columns]
        again = {"data": data, "options": {k: v for k, v in options.items() if k not in NOW}}
        learned = {"key": result.learned.key, "entries": result.learned.entries()}
        head = {"format": FORMAT, "version": 1}
        save_frame(options["out"], flat, lambda: head | plain(result.as_plain() | {"again": again, "learned": learned}))
        names.append(options["out"])
    if options["report"]:
        from chaff.report.writing import write_report

        names.append(str(write_report(result, options["report"])))
    names += leave_tables(options, lambda: _tables(result, at))
    return names + leave_figures(options, lambda: _figures(result))


def _tables(result: Comparison, at: Any) -> dict[str, Any]:
    flat = result.scores.copy()
    flat.columns = [f"{m} {what}" for m, what in flat.columns]
    parts = {"methods": result.frame, "curves": result.curves, "kept": result.kept(), "agreement": result.agreement, "scores": flat}
    return parts | ({"at": at} if at is not None else {})


def _figures(result: Comparison) -> dict[str, Callable[[], Any]]:
    from chaff.plots.compare_figures import compared_curves, kept_by_methods

    return {"compared": partial(compared_curves, result), "kept_by": partial(kept_by_methods, result)}
