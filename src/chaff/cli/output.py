"""The folder a run leaves behind, and what to do when it is interrupted."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextlib import nullcontext
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from chaff.cli.console import Show

if TYPE_CHECKING:
    from chaff.cli.command_context import CommandContext
    from chaff.decide.plan import Plan
    from chaff.decide.run import Run
    from chaff.results.findings import Findings
    from chaff.results.verdict import Pin
    from chaff.table.table import Table

FIGURE, PLAN = "score_by_size.png", "plan.toml"


def run_and_show(
    table: Table, plan: Plan, pins: list[Pin], folder: Path, show: Show, seed: int, workers: int | None, holdout: float | None, **ways: Any
) -> Run:
    """Run the plan, printing as it goes. Interrupted: the ledger of the finished stages is kept."""
    from chaff.decide.run import select

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


def leave_tables(options: Mapping[str, Any], tables: Callable[[], Mapping[str, Any]], kept: Sequence[str] | None = None) -> list[str]:
    """`--tables FOLDER`: each of these as .csv, those inside findings too, and the kept features as a list; returns the paths.

    tables : asked where something is to be written; file name without its ending to findings or a frame.
    """
    if not options["tables"]:
        return []
    from chaff.files import harmless, make_folder, write_text, write_with

    folder, names = make_folder(options["tables"]), []
    for name, frame in _frames(tables()).items():
        write_with(folder / f"{name}.csv", partial(_as_csv, harmless(frame)))
        names.append(str(folder / f"{name}.csv"))
    if kept is not None:
        write_text(folder / "kept.txt", "".join(f"{f}\n" for f in kept))
        names.append(str(folder / "kept.txt"))
    return names


def _as_csv(frame: Any, part: Any) -> None:
    frame.to_csv(part)


def _frames(tables: Mapping[str, Any]) -> dict[str, Any]:
    """Findings as their frame and all that is with it; a Series as a frame."""
    out: dict[str, Any] = {}
    for name, value in tables.items():
        frame = getattr(value, "frame", value)
        out[name] = frame.to_frame() if frame.ndim == 1 else frame
        out |= {f"{name}_{key}": more for key, more in getattr(value, "more", {}).items()}
    return out


def leave_selection(
    options: Mapping[str, Any], context: CommandContext | None, kept: Findings | Sequence[str], because: str = "", model: Any = None
) -> list[str]:
    """`--save-selection FILE`: what stays, as a selection; returns the path.

    kept : findings with verdicts, or names.
    """
    if not options["save_selection"]:
        return []
    from chaff.decide.chosen_set import listed_verdicts, selection_of_verdicts, verdicts_of
    from chaff.errors import UsageError
    from chaff.methods.screen.stage import Screen
    from chaff.results.findings import Findings

    if context is None:
        raise UsageError("--save-selection needs the table itself, not saved findings or a triage")
    table = context.whole.with_features(context.table.features)
    verdicts = verdicts_of(kept) if isinstance(kept, Findings) else listed_verdicts(context.table, kept, because)
    stages = context.plan.stages if context.plan else (Screen(),)
    selection_of_verdicts(table, context.table, verdicts, stages, model, options["seed"]).save(options["save_selection"])
    return [str(options["save_selection"])]


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
