"""Help on one screen: the everyday options of a command with a line each, all others by name in their groups."""

from __future__ import annotations

import textwrap
from collections.abc import Callable, Mapping, Sequence
from typing import Any

import click

OWN, OUTPUT = "More of this command", "Output and work"
ORDER = ("Target", "Columns", "Reading the file", "Plan and pins", "Rows", OWN, "Settings", OUTPUT)
"""Groups in the order in which help shows them; settings of one test come after those of the stage."""

LINE = 54  # characters that a line of help has beside the option, at 80 columns
Decorator = Callable[[Any], Any]


def in_group(title: str, *options: Decorator) -> Decorator:
    """These options, which help shows under one heading."""

    def put(command: Any) -> Any:
        for option in reversed(options):
            before = len(_params(command))
            command = option(command)
            for param in _params(command)[before:]:
                if not hasattr(param, "group"):
                    param.group = title
        return command

    return put


def _params(command: Any) -> list[Any]:
    return list(getattr(command, "__click_params__", ()))


class Command(click.Command):
    """A command with help on one screen, `--help-all`, and `--help NAME` for a model, strategy, importance measure or statistic.

    everyday : the options that most runs need, in the order of help; all where none are named
    examples : lines to paste
    """

    def __init__(self, *args: Any, everyday: Sequence[str] = (), examples: Sequence[str] = (), **settings: Any) -> None:
        super().__init__(*args, **settings)
        self.everyday, self.examples = tuple(everyday), tuple(examples)
        self.whole = False

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        """`--help NAME` before anything else is read."""
        for flag in ctx.help_option_names:
            topic = args[args.index(flag) + 1 :] if flag in args else []
            if topic and not topic[0].startswith("-"):
                from chaff.cli.topics import topic_page

                click.echo(topic_page(" ".join(topic), ctx), nl=False)
                ctx.exit()
        return super().parse_args(ctx, args)

    def get_params(self, ctx: click.Context) -> list[click.Parameter]:
        def show_all(context: click.Context, _: click.Parameter, value: bool) -> None:
            if value and not context.resilient_parsing:
                self.whole = True
                click.echo(self.get_help(context))
                context.exit()

        every = click.Option(
            ["--help-all"], is_flag=True, is_eager=True, expose_value=False, callback=show_all, help="Explain every option."
        )
        return [*super().get_params(ctx), every]

    def format_options(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        options = [p for p in self.get_params(ctx) if isinstance(p, click.Option) and not p.hidden]
        everyday = [p for name in self.everyday for p in options if name in p.opts] or [p for p in options if group_of(p) == OWN]
        rest = [p for p in options if p not in everyday and not {"--help", "--help-all"} & set(p.opts)]
        with formatter.section("Everyday options" if self.everyday else "Options"):
            formatter.write_dl([_entry(p, ctx, whole=self.whole) for p in everyday], col_max=26)
        groups = _by_group(rest)
        if self.whole:
            for title, inside in groups.items():
                with formatter.section(title):
                    formatter.write_dl([_entry(p, ctx, whole=True) for p in inside], col_max=26)
        elif groups:
            with formatter.section("Further options"):
                _write_names(formatter, {t: [max(p.opts, key=len) for p in inside] for t, inside in groups.items()})
        if self.examples:
            with formatter.section("Examples"):
                for line in self.examples:
                    formatter.write(f"{'':{formatter.current_indent}}{line}\n")
        formatter.write_paragraph()
        with formatter.indentation():
            formatter.write_text(
                "chaff help lists what else is explained."
                if self.whole
                else "--help-all explains every option; --help NAME a statistic, model, strategy or setting."
            )


def groups_of(command: click.Command, ctx: click.Context) -> dict[str, list[click.Option]]:
    """All options of a command but those for help, by their headings."""
    options = [p for p in command.get_params(ctx) if isinstance(p, click.Option) and not p.hidden]
    return _by_group([p for p in options if not {"--help", "--help-all"} & set(p.opts)])


def _by_group(options: Sequence[click.Option]) -> dict[str, list[click.Option]]:
    return {t: [p for p in options if group_of(p) == t] for t in sorted({group_of(p) for p in options}, key=_place)}


def group_of(param: click.Parameter) -> str:
    return str(getattr(param, "group", OWN))


def _place(title: str) -> tuple[int, str]:
    known = [k for k, t in enumerate(ORDER) if title.startswith(t)]
    return (known[-1] if known else len(ORDER), title)


def _write_names(formatter: click.HelpFormatter, groups: Mapping[str, Sequence[str]]) -> None:
    """Headings and the options below them, no option broken at a hyphen."""
    wide = max(map(len, groups)) + 4
    for title, names in groups.items():
        start = f"{'':{formatter.current_indent}}{title:<{wide - 2}}"
        lines = textwrap.fill(
            " ".join(names), formatter.width, initial_indent=start, subsequent_indent=" " * len(start), break_on_hyphens=False
        )
        formatter.write(lines + "\n")


def _entry(param: click.Option, ctx: click.Context, whole: bool) -> tuple[str, str]:
    """The option and what it does; of an everyday one the first sentence."""
    names, text = param.get_help_record(ctx) or ("", "")
    if whole:
        return names, text
    value = "N" if isinstance(param.type, click.IntRange) else "NUMBER" if isinstance(param.type, click.types.FloatParamType) else ""
    metavar = "" if param.is_flag else f" {param.metavar or value or param.make_metavar(ctx)}"
    return f"{', '.join(param.opts)}{metavar}", _short(text)


def _short(text: str) -> str:
    """As much of the start as one line holds, cut where a thought ends."""
    for mark in (". ", "; ", ": ", " (", ", "):
        text = text.split(mark)[0] if mark == ". " or len(text) > LINE else text
    return text.rstrip(".") + "."
