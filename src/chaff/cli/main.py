"""The command `chaff`: one wrapper turns errors into one line and an exit code.

Exit codes: 0 done, 2 usage, 3 data, 4 a model failed, 130 interrupted.
"""

from __future__ import annotations

import importlib
import sys
from collections.abc import Sequence

import click

COMMANDS = {
    "demo": ("chaff.cli.demo", "Make the demo mill's lots, select from them, and show the whole job."),
    "screen": ("chaff.cli.screen", "Look at the columns first: missing, ids, one value, repeats, leaks."),
    "relevance": ("chaff.cli.relevance", "Score every feature against the target by the statistics that fit."),
    "overlap": ("chaff.cli.overlap", "Which columns repeat each other: pairs, groups, VIF, equations, components."),
    "linear": ("chaff.cli.linear", "What a linear model says; prune it, or change it by hand."),
    "select": ("chaff.cli.select", "Select features of a CSV or Parquet file by a plan."),
    "apply": ("chaff.cli.apply", "Keep the same columns of another file."),
    "plan": ("chaff.cli.plan", "Print the built-in plan as TOML, to be changed and passed to select."),
}


class LazyGroup(click.Group):
    """Commands are imported when they are called, so that `chaff --help` costs next to nothing."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in COMMANDS:
            return None
        command: click.Command = importlib.import_module(COMMANDS[cmd_name][0]).command
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands"):
            formatter.write_dl([(name, words) for name, (_, words) in COMMANDS.items()])

    def resolve_command(self, ctx: click.Context, args: list[str]) -> tuple[str | None, click.Command | None, list[str]]:
        if args and args[0] not in COMMANDS:
            from chaff.errors import nearest

            ctx.fail(f"there is no command '{args[0]}'; there are {', '.join(COMMANDS)}.{nearest(args[0], COMMANDS)}")
        return super().resolve_command(ctx, args)


@click.group(cls=LazyGroup, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 110})
@click.version_option(package_name="chaff-select", prog_name="chaff")
def chaff() -> None:
    """Screen the features of a table and keep the smallest set that still predicts as well."""


def main(args: Sequence[str] | None = None) -> int:
    """Run a command line; returns the exit code."""
    try:
        chaff.main(args=list(args) if args is not None else None, prog_name="chaff", standalone_mode=False)
    except click.exceptions.Abort:
        return _say("interrupted", 130)
    except click.exceptions.NoArgsIsHelpError as error:
        click.echo(error.format_message())
        return 2
    except click.ClickException as error:
        hint = f" See {error.ctx.command_path} --help." if getattr(error, "ctx", None) else ""  # type: ignore[attr-defined]
        return _say(error.format_message() + hint, 2)
    except KeyboardInterrupt:
        return _say("interrupted; nothing half-written was left behind", 130)
    except BrokenPipeError:
        return 0
    except Exception as error:
        from chaff.errors import ChaffError

        if isinstance(error, ChaffError):
            return _say(str(error), error.exit_code)
        if isinstance(error, MemoryError):
            return _say(f"not enough memory: {error}. Use fewer columns (ignore=…) or fewer folds", 3)
        raise
    return 0


def _say(message: str, code: int) -> int:
    click.echo(f"chaff: {message}", err=True)
    return code


def entry() -> None:
    """What the installed command calls."""
    sys.exit(main())


if __name__ == "__main__":
    entry()
