"""The folder a run leaves behind, and what to do when it is interrupted."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from chaff.cli.console import Show, tell_of_compiling

if TYPE_CHECKING:
    from chaff.decide.plan import Plan
    from chaff.decide.run import Run
    from chaff.results.pin import Pin
    from chaff.table.table import Table


def run_and_show(
    table: Table, plan: Plan, pins: list[Pin], folder: Path, show: Show, seed: int, workers: int | None, holdout: float | None, **ways: Any
) -> Run:
    """Run the plan, printing as it goes. Interrupted: the ledger of the finished stages is kept."""
    from chaff.decide.run import select

    tell_of_compiling(show)
    try:
        run = select(
            table, plan, pins=pins, seed=seed, workers=workers, holdout=holdout, watch=show.watch, after_stage=show.after_stage, **ways
        )
    except KeyboardInterrupt:
        show.stop()
        if show.ledger is not None:
            show.ledger.save(folder / "ledger.csv")
            show.say(f"interrupted in {show.now}: what the finished stages said is in {folder / 'ledger.csv'}")
        raise
    show.closing(run)
    return run


def leave(run: Run, folder: Path, source: Any, reduced: str = "reduced.csv") -> list[str]:
    """Write selection, ledger, reduced table and figure; returns the names."""
    from chaff.files import write_with
    from chaff.methods.search.stage import SearchTrail

    run.selection.save(folder / "selection.json")
    run.ledger.save(folder / "ledger.csv")
    run.selection.apply(source, folder / reduced)
    names = ["selection.json", "ledger.csv", reduced]
    trails = [r.result for r in run.stages if isinstance(r.result, SearchTrail)]
    if trails:
        from chaff.plots.size_curve import score_by_size

        figure = score_by_size(trails[-1], unit=run.table.target.unit).figure
        write_with(folder / "score_by_size.png", lambda part: figure.savefig(part))
        names.append("score_by_size.png")
    return names
