"""`chaff select`: a plan on a person's own file."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

Many = tuple[str, ...]


@click.command("select")
@click.argument("data", type=click.Path())
@click.option("--target", help="Column to predict (or in the plan's [table]).")
@click.option("--plan", "plan_file", type=click.Path(), help="A plan in TOML; `chaff plan` prints the built-in one.")
@click.option("--holdout", help="A share of the rows (default 0.2, 0 for none), or a file with separate rows.")
@click.option("--out", default="chaff-out", show_default=True, help="Folder for the results.")
@click.option("--task", type=click.Choice(["auto", "regression", "classification"]), help="Kind of target.")
@click.option("--positive", help="With two classes, the one that counts as positive.")
@click.option("--ids", multiple=True, metavar="NAME", help="Column that identifies rows; repeatable.")
@click.option("--ignore", multiple=True, metavar="NAME", help="Column that takes no part; repeatable.")
@click.option("--groups", metavar="NAME", help="Rows of one group stay together in every split.")
@click.option("--order", metavar="NAME", help="Date or number by which rows are split in time.")
@click.option("--weights", metavar="NAME", help="Column of row weights.")
@click.option("--kind", "kinds", multiple=True, metavar="NAME=KIND", help="Set a kind: number, binary, category, date, text.")
@click.option("--together", multiple=True, metavar="NAME=A,B,…", help="Columns made from one category are one feature.")
@click.option("--cost", "costs", multiple=True, metavar="NAME=NUMBER", help="Cost of a column; of equals the dearer goes.")
@click.option("--dictionary", type=click.Path(), help="CSV with the columns name, meaning, unit.")
@click.option("--missing", multiple=True, metavar="WORD", help="Word that stands for a missing cell; repeatable.")
@click.option("--infinite", type=click.Choice(["error", "missing"]), help="What to do with infinite numbers.")
@click.option("--delimiter", help="Column separator of the CSV file.")
@click.option("--decimal", type=click.Choice([".", ","]), help="Decimal mark of the CSV file.")
@click.option("--encoding", help="Text encoding of the CSV file.")
@click.option("--pin-keep", multiple=True, metavar="NAME", help="Keep this feature; needs --because.")
@click.option("--pin-drop", multiple=True, metavar="NAME", help="Leave this feature out; needs --because.")
@click.option("--because", multiple=True, metavar="TEXT", help="Reason for the pins: one for all, or one a pin in order.")
@click.option("--metric", help="r2, rmse, mae; log_loss, auc, accuracy.")
@click.option("--folds", type=click.IntRange(2), help="Folds (5).")
@click.option("--repeats", type=click.IntRange(1), help="Repeats of the folds (1).")
@click.option("--pair-limit", type=float, help="Overlap: |r| over which a pair says the same (0.95).")
@click.option("--vif-limit", type=float, help="Overlap: variance inflation over which a feature goes (10).")
@click.option("--margin", type=float, help="Search: at most so much worse than the best, in place of one standard error.")
@click.option("--set", "settings", multiple=True, metavar="STAGE.KEY=VALUE", help="Any other field of a stage; repeatable.")
@click.option("--seed", default=0, show_default=True, help="Fixes every random draw.")
@click.option("--workers", type=click.IntRange(1), help="Threads; every core when left out.")
def command(data: str, **said: Any) -> None:
    """Select features of the file DATA (.csv, .parquet, .feather, .jsonl) by a plan.

    Leaves selection.json, ledger.csv, the reduced table and a figure in the --out folder.
    """
    import dataclasses

    from chaff.cli.console import Show
    from chaff.cli.output import leave, run_and_show
    from chaff.decide.files import make_folder
    from chaff.decide.plan import built_in_plan, read_plan, with_settings
    from chaff.errors import UsageError
    from chaff.table.opening import open_table

    plan = read_plan(said["plan_file"]) if said["plan_file"] else built_in_plan()
    plan = with_settings(plan, _stage_settings(said))
    score = {k: said[k] for k in ("metric", "folds", "repeats") if said[k] is not None}
    plan = dataclasses.replace(plan, score=plan.score.model_copy(update=score))
    options = {**plan.table.options(), **_table_options(said)}
    target = options.pop("target", None)
    if not target:
        raise UsageError("which column is to be predicted? Pass --target NAME, or name it in the plan's [table]")
    share, rows = _holdout(said["holdout"])
    pins = _pins(said["pin_keep"], said["pin_drop"], said["because"])
    table = open_table(data, target, holdout=rows, **options)
    folder = make_folder(said["out"])
    show = Show()
    show.table(table)
    run = run_and_show(table, plan, pins, folder, show, said["seed"], said["workers"], share)
    parquet = Path(data).suffix.lower() in (".parquet", ".pq")
    names = leave(run, folder, data, "reduced.parquet" if parquet else "reduced.csv")
    show.say()
    show.say(f" {folder}/  {'  '.join(names)}   ({show.seconds()})")
    show.command(f" next: chaff apply {folder}/selection.json NEW{Path(data).suffix} -o NEW_reduced.csv")


def _table_options(said: dict[str, Any]) -> dict[str, Any]:
    """What was said on the command line, for `open_table`; what was not said leaves the plan's word."""
    plain = ("target", "task", "positive", "groups", "order", "weights", "dictionary", "infinite", "delimiter", "decimal", "encoding")
    out = {k: said[k] for k in plain if said[k] is not None}
    out |= {k: list(said[k]) for k in ("ids", "ignore", "missing") if said[k]}
    if said["kinds"]:
        out["kinds"] = _pairs(said["kinds"], "--kind")
    if said["together"]:
        out["together"] = {k: [m.strip() for m in v.split(",")] for k, v in _pairs(said["together"], "--together").items()}
    if said["costs"]:
        out["costs"] = {k: _number(v, f"--cost {k}") for k, v in _pairs(said["costs"], "--cost").items()}
    return out


def _stage_settings(said: dict[str, Any]) -> dict[str, dict[str, Any]]:
    out: dict[str, dict[str, Any]] = {}
    for option, stage in (("pair_limit", "overlap"), ("vif_limit", "overlap"), ("margin", "search")):
        if said[option] is not None:
            out.setdefault(stage, {})[option] = said[option]
    for name, value in _pairs(said["settings"], "--set").items():
        if "." not in name:
            raise click.UsageError(f"--set {name}: write STAGE.KEY=VALUE, for example screen.missing_share=0.8")
        stage, key = name.split(".", 1)
        out.setdefault(stage, {})[key] = _value(value)
    return out


def _value(text: str) -> Any:
    """A TOML value where it is one, else the text itself."""
    import tomllib

    try:
        return tomllib.loads(f"x = {text}")["x"]
    except tomllib.TOMLDecodeError:
        return text


def _pairs(items: Many, option: str) -> dict[str, str]:
    out = {}
    for item in items:
        name, mark, value = item.partition("=")
        if not mark or not name or not value:
            raise click.UsageError(f"{option} {item}: write NAME=VALUE")
        out[name] = value
    return out


def _number(text: str, where: str) -> float:
    try:
        return float(text)
    except ValueError as error:
        raise click.UsageError(f"{where}: {text} is not a number") from error


def _holdout(said: str | None) -> tuple[float | None, str | None]:
    """(share, file): one of the two, or neither."""
    if said is None:
        return None, None
    try:
        share = float(said)
    except ValueError:
        return None, said
    if not 0 <= share < 1:
        raise click.UsageError(f"--holdout {said}: a share must be 0 or more and below 1")
    return share, None


def _pins(keeps: Many, drops: Many, because: Many) -> list[Any]:
    from chaff.decide.pins import pin_drop, pin_keep

    wanted = [(pin_keep, n) for n in keeps] + [(pin_drop, n) for n in drops]
    if wanted and len(because) not in (1, len(wanted)):
        raise click.UsageError(f"{len(wanted)} pins need one --because for all, or one each; {len(because)} given")
    if because and not wanted:
        raise click.UsageError("--because gives the reason of a pin: --pin-keep NAME or --pin-drop NAME is missing")
    reasons = because * len(wanted) if len(because) == 1 else because
    return [pin(name, because=reason) for (pin, name), reason in zip(wanted, reasons, strict=True)]
