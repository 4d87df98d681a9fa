"""The command `chaff`: one wrapper turns errors into one line and an exit code.

Exit codes: 0 done, 1 a mistake of our own, 2 usage, 3 data, 4 a model failed, 130 interrupted, 143 ended from outside.
"""

from __future__ import annotations

import errno
import importlib
import itertools
import os
import sys
import traceback
from collections.abc import Sequence
from pathlib import Path

import click

from chaff.cli.process_setup import flush_all, set_up_process, surroundings
from chaff.visible import json_text, visible_lines

GROUPS = {
    "Explore (holdout rows are excluded)": {
        "plan": ("chaff.cli.plan", "Write a plan fitted to a file: roles, kinds, what the screen advises, the stages."),
        "screen": ("chaff.cli.screen", "Check the columns first: missing values, ids, constants, duplicates, leakage."),
        "relevance": ("chaff.cli.relevance", "Score every feature against the target by the statistics that fit."),
        "overlap": ("chaff.cli.overlap", "Find features that repeat each other: pairs, groups, VIF, equations, components."),
        "linear": ("chaff.cli.linear", "Fit a linear model; eliminate features automatically or by hand."),
        "importance": ("chaff.cli.importance", "Importance of each feature in a model, by permutation and other ways."),
        "search": ("chaff.cli.search", "Search subsets with your model; list equivalent sets; respect a budget."),
    },
    "Compare": {"compare": ("chaff.cli.compare", "Compare methods, each fitted in every training fold.")},
    "Choose": {"select": ("chaff.cli.select", "Select features with a plan and test the result against the screened set.")},
    "Defend": {
        "explain": ("chaff.cli.explain", "Explain why features were kept or dropped (needs only selection.json)."),
        "recheck": ("chaff.cli.recheck", "Check a selection on new data: stay, refit or reselect."),
        "changes": ("chaff.cli.changes", "Compare two selections: settings, data, features, scores."),
    },
    "Use": {"apply": ("chaff.cli.apply", "Keep the same columns of another file.")},
    "Try": {
        "demo": ("chaff.cli.demo", "Make the demo mill's lots, select from them, and show the whole job."),
        "help": ("chaff.cli.help", "Explain a statistic, model, strategy, measure or exit code by its name; answer a question."),
        "completion": ("chaff.cli.completion", "Let Tab complete commands, options and columns in bash, zsh or fish."),
    },
}
COMMANDS = {name: entry for group in GROUPS.values() for name, entry in group.items()}


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
        for heading, group in GROUPS.items():
            with formatter.section(heading):
                formatter.write_dl([(name, words) for name, (_, words) in group.items()], col_max=12)

    def resolve_command(self, ctx: click.Context, args: list[str]) -> tuple[str | None, click.Command | None, list[str]]:
        if args and args[0] not in COMMANDS:
            from chaff.errors import nearest

            ctx.fail(f"there is no command '{args[0]}'; choose from {', '.join(COMMANDS)}.{nearest(args[0], COMMANDS)}")
        return super().resolve_command(ctx, args)


@click.group(cls=LazyGroup, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 110})
@click.version_option(package_name="chaff-select", prog_name="chaff")
def chaff() -> None:
    """Screen the features of a table and keep the smallest set that still predicts as well."""


def main(args: Sequence[str] | None = None) -> int:
    """Run a command line; returns the exit code."""
    options = list(sys.argv[1:] if args is None else args)
    with surroundings() as requested:
        try:
            chaff.main(args=options, prog_name="chaff", standalone_mode=False)
        except click.exceptions.NoArgsIsHelpError as error:
            click.echo(error.format_message())
            return 2
        except SystemExit as error:  # how click ends where whoever read along has left: the work is done
            return 0 if error.code == 1 else int(error.code or 0) if isinstance(error.code, int) else 1
        except (Exception, KeyboardInterrupt) as error:
            return _failed(error, options, bool(requested))
    return 0


def _failed(error: BaseException, options: Sequence[str], interrupted: bool) -> int:
    """An error as one line, or as an object where JSON was asked for; the exit code."""
    from chaff.errors import ChaffError

    if isinstance(error, BrokenPipeError):
        return 0
    if isinstance(error, click.exceptions.Abort | KeyboardInterrupt):
        if interrupted:
            return _say("terminated; no partial files were left", 143, "Terminated", options)
        return _say("interrupted; no partial files were left", 130, "Interrupted", options)
    if isinstance(error, click.ClickException):
        context = getattr(error, "ctx", None)
        hint = f" See {context.command_path} --help." if context else ""
        return _say(_sentence(error.format_message()) + hint if hint else error.format_message(), 2, "UsageError", options)
    if isinstance(error, ChaffError):
        return _say(str(error), error.exit_code, type(error).__name__, options)
    if isinstance(error, ImportError) or (isinstance(error, OSError) and error.errno == errno.ENOMEM):
        return _say(
            f"a part of Python could not be loaded ({error}): too little memory, or a damaged installation", 3, "MemoryError", options
        )
    if isinstance(error, MemoryError) or _starved(error):
        return _say(f"not enough memory: {error}. Use fewer columns (--ignore) or fewer folds", 3, "MemoryError", options)
    if isinstance(error, OSError) and error.errno == errno.ENOSPC:
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)  # what is still in the buffer has nowhere to go
        return _say("no space left on the device; no partial files were left", 3, "OSError", ())
    if isinstance(error, ValueError) and "null byte" in str(error):
        return _say("a name or path contains a NUL character", 2, "UsageError", options)
    if os.environ.get("CHAFF_TRACEBACK"):
        raise error
    where = traceback.extract_tb(error.__traceback__)[-1]
    message = f"{type(error).__name__}: {error} (in {Path(where.filename).name}, line {where.lineno})"
    return _say(f"internal error in Chaff, please report it: {message}. CHAFF_TRACEBACK=1 shows the traceback", 1, "Mistake", options)


def _sentence(words: str) -> str:
    return words if words.endswith((".", "?", "!")) else f"{words}."


def _say(message: str, code: int, kind: str, options: Sequence[str]) -> int:
    if "--format=json" in options or "json" in [b for a, b in itertools.pairwise(options) if a == "--format"]:
        click.echo(json_text({"error": {"kind": kind, "message": message, "exit_code": code}}))
    click.echo(f"chaff: {visible_lines(message)}", err=True)
    return code


def entry() -> None:
    """What the installed command calls."""
    set_up_process()
    code = main()
    flush_all()
    sys.exit(code)


def _starved(error: BaseException) -> bool:
    """Python without memory may say so in other ways: a C function that gave nothing, a thread that could not start."""
    return isinstance(error, SystemError) or (isinstance(error, RuntimeError) and "can't start new thread" in str(error))


if __name__ == "__main__":
    entry()
