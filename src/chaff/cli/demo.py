"""`chaff demo`: the whole job on the demo mill."""

from __future__ import annotations

from pathlib import Path

import click

from chaff.cli.help_pages import Command
from chaff.cli.options import force_option, form_option


@click.command("demo", cls=Command, examples=["chaff demo --target accepted --out accepted"])
@click.option("--out", default="chaff-demo", show_default=True, help="Folder for the results.")
@click.option("--rows", default=1600, show_default=True, type=click.IntRange(60), help="Lots to make.")
@click.option(
    "--target", default="loaf_volume", show_default=True, type=click.Choice(["loaf_volume", "accepted", "grade"]), help="What to predict."
)
@click.option("--seed", default=0, show_default=True, help="Fixes the lots and every random draw.")
@click.option("--workers", type=click.IntRange(1), help="Threads; every core when left out.")
@force_option
@form_option
def command(out: str, rows: int, target: str, seed: int, workers: int | None, form: str) -> None:
    """Make the demo mill's lots, run the built-in plan on them, and show what was kept and why."""
    import chaff
    from chaff.cli.console import Show
    from chaff.cli.output import free_for, leave, run_and_show
    from chaff.decide.plan import built_in_plan
    from chaff.files import make_folder

    folder = make_folder(out)
    show = Show(form)
    table = chaff.demo.table(rows=rows, target=target, seed=seed)
    frame = chaff.demo.lots(rows, seed=seed)
    again = free_for(folder, "reduced.csv", table, built_in_plan(), [], seed)
    show.table(table)
    run = run_and_show(table, built_in_plan(), [], folder, show, seed, workers, None)
    names = leave(run, folder, frame, more={"lots.csv": lambda part: frame.to_csv(part, index=False)}, again=again)
    show.finish("demo", {"run": run}, [str(folder / n) for n in names])
    looked = " ".join(f"--ignore {t}" for t in ("loaf_volume", "accepted", "grade") if t != target)
    other = "accepted" if target != "accepted" else "grade"
    ignored = [t for t in ("loaf_volume", "accepted", "grade") if t != other]
    show.command(f" next: chaff plan {folder}/lots.csv --target {target} {looked} --groups mill -o lots.toml")
    show.command(f"       chaff overlap {folder}/lots.csv --plan lots.toml     (also screen, relevance, linear, importance, select)")
    show.command(f"       chaff apply {folder}/selection.json {folder}/lots.csv -o {folder}/again.parquet")
    options = " ".join(f"--ignore {t}" for t in ignored)
    show.command(f"       chaff select {Path(folder) / 'lots.csv'} --target {other} {options} --groups mill")
