"""`chaff plan`: the built-in plan as a file to start from."""

from __future__ import annotations

import click


@click.command("plan")
@click.option("-o", "--out", type=click.Path(dir_okay=False), help="Write to this file; printed when left out.")
def command(out: str | None) -> None:
    """Print the built-in plan as TOML: change it and pass it to `chaff select --plan`."""
    from chaff.decide.plan import built_in_plan
    from chaff.files import write_text

    text = built_in_plan().to_toml()
    if out:
        write_text(out, text)
    else:
        click.echo(text, nl=False)
