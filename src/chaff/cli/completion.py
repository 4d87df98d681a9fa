"""`chaff completion SHELL`: what a shell reads so that Tab completes commands, options, names of columns, models and the like."""

from __future__ import annotations

from pathlib import Path

import click

from chaff.cli.help_pages import Command

VARIABLE = "_CHAFF_COMPLETE"
HOW = {
    "bash": '# add to ~/.bashrc:  eval "$(chaff completion bash)"',
    "zsh": '# add to ~/.zshrc:  eval "$(chaff completion zsh)"',
    "fish": "# write to ~/.config/fish/completions/chaff.fish:  chaff completion fish > …",
}


@click.command("completion", cls=Command, examples=['eval "$(chaff completion bash)"'])
@click.argument("shell", type=click.Choice(list(HOW)))
def command(shell: str) -> None:
    """Print what SHELL reads so that Tab completes commands, options, and the columns of the file."""
    from click.shell_completion import get_completion_class

    from chaff.cli.main import chaff

    made = get_completion_class(shell)
    assert made is not None
    click.echo(f"{HOW[shell]}\n{made(chaff, {}, 'chaff', VARIABLE).source()}", nl=False)


def columns_of(ctx: click.Context, _: click.Parameter, typed: str) -> list[str]:
    """Columns of the file that the command line names, for options that take one; nothing where it cannot be read at once."""
    data = next(
        (w for w in (ctx.params.get("data"), *ctx.args) if w and Path(w).is_file()), None
    )  # an option without its value ends parsing
    if data is None:
        return []
    *before, last = typed.split(",")
    start = "".join(f"{b}," for b in before)
    try:
        return [start + name for name in _header(Path(data)) if name.startswith(last)]
    except Exception:  # a shell has no place for words
        return []


def _header(path: Path) -> list[str]:
    if path.suffix.lower() in (".parquet", ".feather", ".arrow"):
        import pyarrow.dataset as dataset

        return list(map(str, dataset.dataset(path, format="parquet" if path.suffix.lower() == ".parquet" else "feather").schema.names))
    import csv

    with path.open(encoding="utf-8-sig", newline="") as file:
        first = file.readline()
    mark = max(",;\t|", key=first.count)
    return next(csv.reader([first], delimiter=mark))
