"""The folder a run leaves behind, and what to do when it is interrupted."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextlib import nullcontext
from pathlib import Path
from typing import TYPE_CHECKING, Any

from chaff.cli.console import Show, report_compiling

if TYPE_CHECKING:
    from chaff.decide.plan import Plan
    from chaff.decide.run import Run
    from chaff.results.pin import Pin
    from chaff.table.table import Table

FIGURE, PLAN = "score_by_size.png", "plan.toml"


def run_and_show(
    table: Table, plan: Plan, pins: list[Pin], folder: Path, show: Show, seed: int, workers: int | None, holdout: float | None, **ways: Any
) -> Run:
    """Run the plan, printing as it goes. Interrupted: the ledger of the finished stages is kept."""
    from chaff.decide.run import select

    report_compiling(show)
    try:
        run = select(
            table, plan, pins=pins, seed=seed, workers=workers, holdout=holdout, watch=show.watch, after_stage=show.after_stage, **ways
        )
    except KeyboardInterrupt:
        show.stop()
        if show.ledger is not None and not (folder / "ledger.csv").exists():
            show.ledger.save(folder / "ledger.csv")
            show.say(f"interrupted in {show.now}: what the finished stages said is in {folder / 'ledger.csv'}")
        raise
    show.final_scores(run)
    return run


def kind_of(data: str) -> str:
    """``.parquet`` for Parquet files, also where a folder or an address holds them; ``.csv`` for all others."""
    from chaff.table.large_tables import is_parquet

    return ".parquet" if is_parquet(data) else ".csv"


def free_for(folder: Path, reduced: str, table: Table, plan: Plan, pins: Sequence[Pin], seed: int, more: Sequence[str] = ()) -> bool:
    """Whether the folder holds the results of this very run; refused, before any work, where it holds others' files.

    Raises
    ------
    DataError
    """
    from chaff.decide.record import same_run
    from chaff.files import check_place, keep_existing

    again = (folder / "selection.json").exists() and same_run(folder / "selection.json", table, plan, pins, seed)
    with keep_existing(False) if again else nullcontext():
        for name in ("selection.json", "ledger.csv", reduced, PLAN, FIGURE, *more):
            check_place(folder / name)
    return again


def leave_figures(options: Mapping[str, Any], figures: Callable[[], Mapping[str, Callable[[], Any]]]) -> list[str]:
    """`--figure FILE`: the first of these; `--figures FOLDER`: all. Returns the paths.

    figures : asked where something is to be drawn; file name without its ending to what draws it (an Axes or a Figure).
    """
    if not (options["figure"] or options["figures"]):
        return []
    from chaff.files import make_folder, write_with

    names, drawn = [], figures()
    if options["figure"]:
        write_with(options["figure"], next(iter(drawn.values()))().figure.savefig)
        names.append(options["figure"])
    if options["figures"]:
        folder = make_folder(options["figures"])
        for name, draw in drawn.items():
            write_with(folder / f"{name}.png", draw().figure.savefig)
            names.append(str(folder / f"{name}.png"))
    return names


def leave(
    run: Run, folder: Path, source: Any, reduced: str = "reduced.csv", more: Mapping[str, Any] | None = None, again: bool = False
) -> list[str]:
    """Write selection, ledger, reduced table and figure, all of them or none; returns the names.

    more : further files, by name, each with what writes it to a path.  again : results of the same run are replaced.
    """
    from chaff.files import keep_existing, together
    from chaff.methods.search.stage import SelectionSearch

    with keep_existing(False) if again else nullcontext(), together(folder) as fresh:
        run.selection.save(fresh / "selection.json")
        run.ledger.save(fresh / "ledger.csv")
        run.selection.apply(source, fresh / reduced)
        head = f"# What was run. Again: chaff select DATA --plan {PLAN} --seed {run.selection.seed}\n\n"
        (fresh / PLAN).write_text(head + run.plan.to_toml(), encoding="utf-8")
        names = ["selection.json", "ledger.csv", reduced, PLAN]
        trails = [r.result for r in run.stages if isinstance(r.result, SelectionSearch)]
        if trails:
            from chaff.plots.size_curve import score_by_size

            score_by_size(trails[-1], unit=run.table.target.unit).figure.savefig(fresh / FIGURE)
            names.append(FIGURE)
        for name, write in (more or {}).items():
            write(fresh / name)
            names.append(name)
    return names
