"""`chaff select`: a plan on a person's own file."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from chaff.cli.table_options import open_said, pairs, pin_options, pins_said, table_options, toml_value


@click.command("select")
@click.argument("data", type=click.Path())
@table_options
@click.option("--plan", "plan_file", type=click.Path(), help="A plan in TOML; `chaff plan` prints the built-in one.")
@click.option("--holdout", help="A share of the rows (default 0.2, 0 for none), or a file with separate rows.")
@click.option("--out", default="chaff-out", show_default=True, help="Folder for the results.")
@pin_options
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
    from chaff.decide.plan import built_in_plan, read_plan, with_settings
    from chaff.files import make_folder

    plan = read_plan(said["plan_file"]) if said["plan_file"] else built_in_plan()
    plan = with_settings(plan, _stage_settings(said))
    score = {k: said[k] for k in ("metric", "folds", "repeats") if said[k] is not None}
    plan = dataclasses.replace(plan, score=plan.score.model_copy(update=score))
    share, rows = _holdout(said["holdout"])
    pins = pins_said(said)
    table = open_said(data, said, plan.table.options(), rows)
    folder = make_folder(said["out"])
    show = Show()
    show.table(table)
    run = run_and_show(table, plan, pins, folder, show, said["seed"], said["workers"], share)
    parquet = Path(data).suffix.lower() in (".parquet", ".pq")
    names = leave(run, folder, data, "reduced.parquet" if parquet else "reduced.csv")
    show.say()
    show.say(f" {folder}/  {'  '.join(names)}   ({show.seconds()})")
    show.command(f" next: chaff apply {folder}/selection.json NEW{Path(data).suffix} -o NEW_reduced.csv")


def _stage_settings(said: dict[str, Any]) -> dict[str, dict[str, Any]]:
    out: dict[str, dict[str, Any]] = {}
    for option, stage in (("pair_limit", "overlap"), ("vif_limit", "overlap"), ("margin", "search")):
        if said[option] is not None:
            out.setdefault(stage, {})[option] = said[option]
    for name, value in pairs(said["settings"], "--set").items():
        if "." not in name:
            raise click.UsageError(f"--set {name}: write STAGE.KEY=VALUE, for example screen.missing_share=0.8")
        stage, key = name.split(".", 1)
        out.setdefault(stage, {})[key] = toml_value(value)
    return out


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
