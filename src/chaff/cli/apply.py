"""`chaff apply`: the same columns of another file."""

from __future__ import annotations

import click

from chaff.cli.options import work_options


@click.command("apply")
@click.argument("selection", type=click.Path())
@click.argument("data", type=click.Path())
@click.option("-o", "--out", required=True, type=click.Path(dir_okay=False), help="Output, .csv or .parquet by its ending.")
@work_options
def command(selection: str, data: str, out: str, seed: int, workers: int | None, form: str) -> None:
    """Keep the columns of SELECTION (a selection.json) in the file DATA.

    The target comes first if it is there, ids and groups are carried along if they are there. A kept column that is missing
    or holds another kind is refused.
    """
    from chaff.cli.console import Show
    from chaff.decide.selection import read_selection
    from chaff.files import check_place, keep_existing, reads

    show = Show(form)
    for read in (selection, data):
        reads(read)
    with keep_existing(False):  # whether it is there, and holds the same, is asked when it is made
        check_place(out)
    chosen = read_selection(selection)
    chosen.apply(data, out)
    show.say(f" {len(chosen.kept)} kept features of {data}")
    show.finish("apply", {"kept": list(chosen.features), "data": data}, [out])
