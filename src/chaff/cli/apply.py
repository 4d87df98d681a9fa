"""`chaff apply`: the same columns of another file."""

from __future__ import annotations

import click


@click.command("apply")
@click.argument("selection", type=click.Path())
@click.argument("data", type=click.Path())
@click.option("-o", "--out", required=True, type=click.Path(dir_okay=False), help="Output, .csv or .parquet by its ending.")
def command(selection: str, data: str, out: str) -> None:
    """Keep the columns of SELECTION (a selection.json) in the file DATA.

    The target comes first if it is there, ids and groups are carried along if they are there. A kept column that is missing
    or holds another kind is refused.
    """
    from chaff.decide.selection import read_selection

    chosen = read_selection(selection)
    chosen.apply(data, out)
    click.echo(f"{out}: {len(chosen.kept)} kept features of {data}")
