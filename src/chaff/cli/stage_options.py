"""Options made from the fields of a stage: the docstring of the field is the help, its type and default are the option's."""

from __future__ import annotations

import ast
from collections.abc import Callable, Mapping
from typing import Any

import click

from chaff.cli.help_pages import group_of, in_group
from chaff.declared import DeclaredField, declared

DEST = "setting_"


class CountOrShare(click.ParamType[Any]):
    """A whole number, or a share below 1."""

    name = "size"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        return click.INT.convert(value, param, ctx) if str(value).lstrip("+-").isdigit() else click.FLOAT.convert(value, param, ctx)


WORDS: dict[str, tuple[str, click.ParamType[Any]]] = {
    "int": ("N", click.INT), "float": ("NUMBER", click.FLOAT), "size": ("N|SHARE", CountOrShare()),
}  # fmt: skip


class NumberOrOff(click.ParamType[Any]):
    """A number, or a word that switches the limit off."""

    name = "number"

    def __init__(self, plain: click.ParamType[Any]) -> None:
        self.plain = plain

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        return False if str(value).lower() in ("off", "none", "false") else self.plain.convert(value, param, ctx)


def stage_options(
    module: str, stage: str, *, hand: tuple[str, ...] = (), only: tuple[str, ...] = (), names: Mapping[str, str] | None = None,
    needs: str = "",
) -> Callable[[Any], Any]:  # fmt: skip
    """An option for every plain setting of a stage.

    hand : settings that the command has options of its own for
    only : just these
    names : other names of options, for settings whose own name is taken
    needs : the option that runs this stage, where the command runs several
    """
    fields = [f for f in declared(f"chaff.methods.{module}", stage).fields if f.name not in hand and (not only or f.name in only)]
    made = [option for f in fields if (option := _option(f, (names or {}).get(f.name, f.name.replace("_", "-")), needs)) is not None]
    return in_group(f"Settings{f' with {needs}' if needs else ''}", *made)


def given_settings(options: Mapping[str, Any]) -> dict[str, Any]:
    """The settings that were given, by the names of the fields."""
    return {k.removeprefix(DEST): v for k, v in options.items() if k.startswith(DEST) and v is not None}


def goes_with(setting: str) -> str:
    """The option that a setting of the running command needs; empty where it needs none."""
    groups = [group_of(p) for p in click.get_current_context().command.params if p.name == DEST + setting]
    return groups[0].partition(" with ")[2] if groups else ""


def _option(field: DeclaredField, name: str, needs: str) -> Callable[[Any], Any] | None:
    """None where the setting is no plain value."""
    hint, _, rest = field.hint.replace("int | float", "size").partition(" | ")
    about = _first_sentence(field.about)
    default = "" if field.default in ("", "None", "''") else f" ({field.default.strip(chr(39))})"
    settings: dict[str, Any] = {"help": f"{about}{default}" if not about else f"{about.rstrip('.')}{default}.", "default": None}
    if hint == "bool":
        flag = default.replace("True", "on").replace("False", "off")
        settings["help"] = f"{about.rstrip('.')}{flag}."
        return click.option(f"--{name}/--no-{name}", f"{DEST}{field.name}", **settings)
    if hint.startswith("Literal["):
        kind: Any = click.Choice([str(v) for v in ast.literal_eval(f"({hint[8:-1]},)")])
    elif hint in WORDS and rest in ("", "None"):
        settings["metavar"], kind = WORDS[hint]
        kind = NumberOrOff(kind) if rest else kind
    else:
        return None
    return click.option(f"--{name}", f"{DEST}{field.name}", type=kind, **settings)


def _first_sentence(text: str) -> str:
    """Up to the first full stop or semicolon, without the marks of code."""
    plain = text.replace("``", "").replace("`", "")
    ends = [k for k in (plain.find(". "), plain.find("; ")) if k >= 0]
    return (plain[: min(ends)] if ends else plain).rstrip(".") + "."
