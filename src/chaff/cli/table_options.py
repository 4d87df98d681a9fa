"""Options that say how a file is opened, the same for every command that takes one."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

if TYPE_CHECKING:
    from chaff.table.table import Table

Many = tuple[str, ...]
OPTIONS = [
    click.option("--target", help="Column to predict (or in the plan's [table])."),
    click.option("--task", type=click.Choice(["auto", "regression", "classification"]), help="Kind of target."),
    click.option("--positive", help="With two classes, the one that counts as positive."),
    click.option(
        "--target-above", type=float, metavar="NUMBER", help="Predict whether the target is above; the column itself then takes no part."
    ),
    click.option("--ids", multiple=True, metavar="NAME", help="Column that identifies rows; repeatable."),
    click.option("--ignore", multiple=True, metavar="NAME", help="Column that takes no part; repeatable."),
    click.option("--groups", metavar="NAME", help="Rows of one group stay together in every split."),
    click.option("--order", metavar="NAME", help="Date or number by which rows are split in time."),
    click.option("--weights", metavar="NAME", help="Column of row weights."),
    click.option("--kind", "kinds", multiple=True, metavar="NAME=KIND", help="Set a kind: number, binary, category, date, text."),
    click.option("--together", multiple=True, metavar="NAME=A,B,…", help="Columns made from one category are one feature."),
    click.option("--cost", "costs", multiple=True, metavar="NAME=NUMBER", help="Cost of a column; of equals the dearer goes."),
    click.option(
        "--missing-flag",
        "missing_flags",
        multiple=True,
        metavar="NAME",
        help="Add a feature that says whether this column is missing; repeatable.",
    ),
    click.option("--fill", multiple=True, metavar="NAME=VALUE", help="What a missing cell of this column means; repeatable."),
    click.option("--dictionary", type=click.Path(), help="CSV with the columns name, meaning, unit."),
    click.option("--missing", multiple=True, metavar="WORD", help="Word that stands for a missing cell; repeatable."),
    click.option("--infinite", type=click.Choice(["error", "missing"]), help="What to do with infinite numbers."),
    click.option("--delimiter", help="Column separator of the CSV file."),
    click.option("--decimal", type=click.Choice([".", ","]), help="Decimal mark of the CSV file."),
    click.option("--encoding", help="Text encoding of the CSV file."),
]


def table_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """The options, in their order."""
    for option in reversed(OPTIONS):
        command = option(command)
    return command


def pin_options(command: Callable[..., Any]) -> Callable[..., Any]:
    for option in reversed(
        [
            click.option("--pin-keep", multiple=True, metavar="NAME", help="Keep this feature; needs --because."),
            click.option("--pin-drop", multiple=True, metavar="NAME", help="Leave this feature out; needs --because."),
            click.option("--because", multiple=True, metavar="TEXT", help="Reason for the pins: one for all, or one a pin in order."),
        ]
    ):
        command = option(command)
    return command


def open_said(data: str, said: dict[str, Any], plan: dict[str, Any] | None = None, holdout: str | None = None) -> Table:
    """The table that the options describe; what they do not say, the plan's [table] may."""
    from chaff.errors import UsageError
    from chaff.table.derive_target import derive_target
    from chaff.table.opening import open_table

    options = {**(plan or {}), **said_options(said)}
    target = options.pop("target", None)
    if not target:
        where = ", or name it in the plan's [table]" if plan is not None else ""
        raise UsageError(f"which column is to be predicted? Pass --target NAME{where}")
    if holdout is not None:
        options["holdout"] = holdout
    if said.get("target_above") is None:
        return open_table(data, target, **options)
    if holdout is not None:
        raise UsageError("--target-above with separate holdout rows is not possible: make the target in both files first")
    return derive_target(data, target, above=said["target_above"], **{k: v for k, v in options.items() if k != "task"})


def said_options(said: dict[str, Any]) -> dict[str, Any]:
    """What was said on the command line, for `open_table`; what was not said leaves the plan's word."""
    plain = ("target", "task", "positive", "groups", "order", "weights", "dictionary", "infinite", "delimiter", "decimal", "encoding")
    out = {k: said[k] for k in plain if said[k] is not None}
    out |= {k: list(said[k]) for k in ("ids", "ignore", "missing", "missing_flags") if said[k]}
    if said["kinds"]:
        out["kinds"] = pairs(said["kinds"], "--kind")
    if said["together"]:
        out["together"] = {k: [m.strip() for m in v.split(",")] for k, v in pairs(said["together"], "--together").items()}
    if said["costs"]:
        out["costs"] = {k: number(v, f"--cost {k}") for k, v in pairs(said["costs"], "--cost").items()}
    if said["fill"]:
        out["fill"] = pairs(said["fill"], "--fill")
    return out


def pins_said(said: dict[str, Any]) -> list[Any]:
    from chaff.decide.pins import pin_drop, pin_keep

    because = said["because"]
    wanted = [(pin_keep, n) for n in said["pin_keep"]] + [(pin_drop, n) for n in said["pin_drop"]]
    if wanted and len(because) not in (1, len(wanted)):
        raise click.UsageError(f"{len(wanted)} pins need one --because for all, or one each; {len(because)} given")
    if because and not wanted:
        raise click.UsageError("--because gives the reason of a pin: --pin-keep NAME or --pin-drop NAME is missing")
    reasons = because * len(wanted) if len(because) == 1 else because
    return [pin(name, because=reason) for (pin, name), reason in zip(wanted, reasons, strict=True)]


def pairs(items: Many, option: str) -> dict[str, str]:
    out = {}
    for item in items:
        name, mark, value = item.partition("=")
        if not mark or not name or not value:
            raise click.UsageError(f"{option} {item}: write NAME=VALUE")
        out[name] = value
    return out


def toml_value(text: str) -> Any:
    """A TOML value where it is one, else the text itself."""
    import tomllib

    try:
        return tomllib.loads(f"x = {text}")["x"]
    except tomllib.TOMLDecodeError:
        return text


def number(text: str, where: str) -> float:
    try:
        return float(text)
    except ValueError as error:
        raise click.UsageError(f"{where}: {text} is not a number") from error


def numbers(text: str, where: str) -> list[float]:
    return [number(part.strip(), where) for part in text.split(",") if part.strip()]


def file_ending(path: str, allowed: tuple[str, ...], option: str) -> str:
    """The path, when its ending is one of those; said before any work is done."""
    if Path(path).suffix.lower() not in allowed:
        raise click.UsageError(f"{option} {path}: the file must end in {' or '.join(allowed)}")
    return path
