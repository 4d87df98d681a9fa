"""`chaff compare`: methods side by side on equal footing."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from chaff.cli.choices_said import choice_said
from chaff.cli.options import (
    all_option,
    columns_option,
    file_ending,
    numbers,
    pin_options,
    plan_option,
    rows_options,
    table_options,
    work_options,
)
from chaff.files import SAVED

if TYPE_CHECKING:
    from chaff.cli.console import Show
    from chaff.methods.comparing.comparison import Comparison


@click.command("compare")
@click.argument("data", type=click.Path())
@table_options
@plan_option
@pin_options
@rows_options
@columns_option
@click.option(
    "--method", "methods", multiple=True, metavar="NAME",
    help="pearson_r, leading, mrmr_difference, lasso, permutation, impurity, forward, genetic, …; with settings "
    "'{ use = \"importance\", model = \"boosting\", by = \"shapley\" }'. Repeatable; a usual mix when left out.",
)  # fmt: skip
@click.option("--model", metavar="NAME", help="The final model that scores every set (ridge, or logistic with classes).")
@click.option("--metric", metavar="NAME", help="r2, rmse, mae, log_loss, auc or accuracy.")
@click.option("--sizes", metavar="A,B,…", help="Sizes to cut to; all up to 12 and some beyond when left out.")
@click.option("--at", "at", type=float, help="Also all methods at one size, or at one share of the features (below 1).")
@click.option("--vote", type=click.IntRange(1), help="How many methods have to keep a feature for the vote (half of them and one).")
@click.option("--truth", metavar="A,B,…", help="Features that matter, where that is known: found, missed and false are counted.")
@click.option("--seconds", type=float, help="Refuse what would take longer, by the first fold's time.")
@click.option("--folds", type=click.IntRange(2), help="Folds (5).")
@click.option("--repeats", type=click.IntRange(1), help="Repeats of the folds (1).")
@all_option
@click.option(
    "--out", metavar="FILE", help="Save the scores of every feature under every method: .csv or .parquet; .json holds everything."
)
@click.option("--figures", metavar="FOLDER", help="Draw compared.png (score by size) and kept_by.png (which method keeps what) there.")
@click.option(
    "--decoys",
    type=click.IntRange(1),
    metavar="N",
    help="Put N columns of known noise in: how many of them each method ranks among its first N.",
)
@click.option("--against", metavar="MODEL", help="Also: the sets that --model and this one keep; shared, only here, loss with the other's.")
@click.option("--scales", metavar="A,B,…", help="Also: scales of the columns side by side: standard, range, robust, none.")
@click.option("--transforms", metavar="A,B,…", help="Also: transforms of the target side by side: none, log, square root.")
@click.option("--report", metavar="FILE", help="Write one page that tells it all: .html.")
@work_options
def command(data: str, **said: Any) -> None:
    """Compare methods on DATA: each learned inside every training fold, every set scored by one model on the rows left out."""
    from chaff.cli.console import Show, tell_of_compiling
    from chaff.cli.ground import stand
    from chaff.decide.calls.compare import USUAL, compare
    from chaff.decide.calls.side_by_side import check_preparations
    from chaff.files import check_place
    from chaff.methods.comparing.scales import SCALES
    from chaff.models.named import as_model

    file_ending(said["out"], SAVED, "--out")
    file_ending(said["report"], (".html",), "--report")
    if said["report"]:
        check_place(said["report"])
    sizes = [_whole(v) for v in numbers(said["sizes"], "--sizes")] if said["sizes"] else None
    methods = [choice_said(m, "--method") for m in said["methods"]] or list(USUAL)
    truth = [n.strip() for n in said["truth"].split(",") if n.strip()] if said["truth"] else None
    show = Show(said["form"])
    ground = stand(data, said, show, before=("search",), sees="models")
    ground.tell(show)
    scales, transforms = (_words(said[k]) for k in ("scales", "transforms"))
    check_preparations(ground.table, scales or SCALES, transforms or ("none",))
    against = as_model(choice_said(said["against"], "--against")) if said["against"] else None
    tell_of_compiling(show)
    score = ground.plan.score if ground.plan else None
    model = choice_said(said["model"], "--model") or (score.model if score and score.model is not None else None)
    show.watch("compare")
    try:
        table = ground.table.with_decoys(said["decoys"], seed=said["seed"]) if said["decoys"] else ground.table
        found = compare(
            table, methods, model if model is not None else ground.linear_model, sizes=sizes,
            metric=said["metric"] or (score.metric if score else None), repeats=said["repeats"] or 1,
            folds=said["folds"] or (score.folds_for(ground.table) if score else 5), vote=said["vote"], truth=truth, seconds=said["seconds"],
            pins=[p for p in ground.pins if p.feature in ground.table.features], seed=said["seed"], workers=said["workers"],
            watch=show.watch,
        )  # fmt: skip
        at = found.at(said["at"]) if said["at"] is not None else None
        beside = _beside(found, scales, transforms, against, said, show)
    finally:
        show.stop()
    _show(show, found, at, said["at"], said["everything"])
    for shown in beside.values():
        _show_beside(show, shown)
    at_size = {"at": at} if at is not None else {}
    show.finish("compare", {"table": ground, "comparison": found, **at_size, **beside}, _leave(found, said))


def _beside(
    found: Comparison, scales: list[str], transforms: list[str], against: Any, said: dict[str, Any], show: Show
) -> dict[str, Any]:  # fmt: skip
    """What is asked for beside the comparison, on the same folds and with the same model."""
    from chaff.decide.calls.side_by_side import try_scales, two_models
    from chaff.methods.comparing.scales import SCALES

    more = {"folds": found.scorer.folds, "seed": said["seed"], "workers": said["workers"], "watch": show.watch}
    model, table = found.scorer.model, found.scorer.table
    out: dict[str, Any] = {}
    if against is not None:
        out["two_models"] = two_models(table, model, against, metric=found.scorer.metric.name, **more)
    if scales or transforms:
        out["preparations"] = try_scales(table, model, scales=scales or SCALES, transforms=transforms or ("none",), **more)
    return out


def _words(text: str | None) -> list[str]:
    return [w.strip() for w in text.split(",") if w.strip()] if text else []


def _show_beside(show: Show, found: Any) -> None:
    from chaff.cli.grids import grid, notes, title
    from chaff.results.digits import figure

    title(show, found.headline)
    frame = found.frame if found.frame.index.name == "model" else found.frame.set_index("scale")
    rows = [[str(i), *(figure(v) for v in r)] for i, r in zip(frame.index, frame.itertuples(index=False), strict=True)]
    grid(show, [str(frame.index.name), *(str(c).replace("_", " ") for c in frame.columns)], rows, names=0)
    if hasattr(found, "shared"):
        (a, b), only = found.labels, found.only
        for word, names in (("both", found.shared), (f"{a} only", only[0]), (f"{b} only", only[1])):
            show.say(f"   {word}: {', '.join(names) or 'none'}")
        notes(show, found.words)
    notes(show, found.notes)


def _whole(value: float) -> int:
    if value != int(value):
        raise click.UsageError(f"--sizes must be whole numbers, not {value:g}")
    return int(value)


def _show(show: Show, found: Comparison, at: Any, size: float | None, everything: bool) -> None:
    from chaff.cli.grids import HEAD, grid, notes, rest, title
    from chaff.results.digits import figure, score

    frame = found.frame.sort_values("score", ascending=found.sign < 0, kind="stable")
    title(show, found.headline)
    head = ["method", "smallest", "kept", "score", "stable", "best", "at", "own rule", "seconds"]
    if found.truth is not None:
        head += ["found", "missed", "false"]
    head += ["decoys"] if "decoys" in found.frame.columns else []
    further = [c for c in ("found", "missed", "false", "decoys") if c in head]
    rows = []
    for m, r in frame.iterrows():
        own = f"{figure(r['own'])} → {score(r['own_score'])}" if r["own"] == r["own"] else ""
        row = [str(m), figure(r["smallest"]), figure(r["kept"]), f"{score(r['score'])} ± {score(r['score_se'])}", figure(r["stability"], 2)]
        row += [score(r["best"]), figure(r["best_size"]), own, f"{r['seconds']:.1f}" if r["seconds"] == r["seconds"] else ""]
        rows.append([*row, *(figure(r[c]) for c in further)])
    for word, values in found.yardsticks.items():
        count = str(len(found.scorer.features)) if word == "all features" else "0"
        rows.append([word, count, count, score(float(values.mean())), *[""] * (len(head) - 4)])
    asked = ("method", "smallest", "score", *further)
    grid(show, head, rows, asked=asked, names=1)
    notes(show, (*found.notes, "smallest: within one standard error (of the paired difference) and 2 % of the gain of its own best"))
    if at is not None:
        title(show, f"All at {size:g}" + (" of the features" if size is not None and size < 1 else " features"))
        told = [
            [str(m), figure(r["kept"]), f"{score(r['score'])} ± {score(r['score_se'])}", figure(r["stability"], 2)]
            for m, r in at.iterrows()
        ]
        grid(show, ["method", "kept", "score", "stable"], told, names=1)
    kept = found.kept()
    kept = kept[kept.any(axis=1)]
    some = kept if everything else kept.head(HEAD)
    title(show, "Which method keeps what, each at its own smallest size")
    of = int(kept.shape[1])
    by_method = []
    for f, r in some.iterrows():
        by = int(r.sum())
        few = [str(m) for m in kept.columns if r[m] == (by <= of / 2)]
        by_method.append([str(f), f"{by} of {of}", f"{'only' if by <= of / 2 else 'not'} {', '.join(few)}" if few else ""])
    grid(show, ["feature", "kept by", "says"], by_method, asked=("kept by",), names=1)
    rest(show, len(some), len(kept))


def _leave(found: Comparison, said: dict[str, Any]) -> list[str]:
    from chaff.files import make_folder, save_frame, write_with
    from chaff.results.plain import plain

    names = []
    if said["out"]:
        flat = found.scores.copy()
        flat.columns = [f"{m} {what}" for m, what in flat.columns]
        save_frame(said["out"], flat, lambda: plain(found.as_plain()))
        names.append(said["out"])
    if said["report"]:
        from chaff.report.writing import write_report

        names.append(str(write_report(found, said["report"])))
    if said["figures"]:
        from chaff.plots.compare_figures import compared_curves, kept_by_methods

        place = make_folder(said["figures"])
        for name, ax in (("compared.png", compared_curves(found)), ("kept_by.png", kept_by_methods(found))):
            write_with(place / name, ax.figure.savefig)
            names.append(str(place / name))
    return names
