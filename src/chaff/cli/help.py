"""`chaff help TOPIC`: what a name means."""

from __future__ import annotations

import click

from chaff.cli.help_pages import OWN, Command, group_of


@click.command("help", cls=Command, examples=["chaff help strategies", "chaff help genetic", "chaff help codes"])
@click.argument("topic", nargs=-1)
@click.pass_context
def command(ctx: click.Context, topic: tuple[str, ...]) -> None:
    """Explain TOPIC: a model, strategy, importance measure or statistic by its name, or a list of them."""
    from chaff.cli.main import COMMANDS, chaff
    from chaff.cli.topics import overview, topic_page

    name = " ".join(topic)
    if not name:
        click.echo(overview(), nl=False)
    elif name == "options":
        click.echo(_shared_options(ctx))
    elif name in COMMANDS:
        chaff.main(args=[name, "--help"], prog_name="chaff", standalone_mode=False)
    else:
        click.echo(topic_page(name, ctx), nl=False)


def _shared_options(ctx: click.Context) -> str:
    """The groups that most commands share, as `chaff screen` has them, in full."""
    from chaff.cli.screen import command as screen

    shared = [p for p in screen.params if group_of(p) != OWN and not group_of(p).startswith("Settings")]
    page, formatter = Command("options", params=shared), ctx.make_formatter()
    page.whole = True
    page.format_options(ctx, formatter)
    return formatter.getvalue().strip("\n")
