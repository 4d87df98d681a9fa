"""Options that commands share: how a file is opened (made from the terms), pins, the context to stand on, the form of the output."""

from __future__ import annotations

import dataclasses
import typing
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import click

from chaff.choices import names_in
from chaff.cli.completion import columns_of
from chaff.cli.help_pages import OUTPUT, in_group
from chaff.table.terms import Terms

READING = ("dictionary", "missing", "missing_codes", "infinite", "delimiter", "decimal", "encoding")
COLUMN_VALUES = ("NAME", "A,B,…|@FILE", "NAME=KIND", "NAME=FORMAT", "NAME=VALUE", "NAME=NUMBER")  # that begin with a column
Many = tuple[str, ...]
Command = Callable[..., Any]


def _term_option(field: dataclasses.Field[Any], hint: Any) -> Callable[[Command], Command]:
    """One option from a field of the terms."""
    about, options = str(field.metadata["about"]), field.metadata["form"]
    repeats = options in ("words", "pairs", "number pairs", "word lists")
    literal = next((a for a in (hint, *typing.get_args(hint)) if typing.get_origin(a) is typing.Literal), None)
    settings: dict[str, Any] = {
        "multiple": repeats,
        "help": about.split(" found out when left out")[0].rstrip(";") + (" Repeatable." if repeats else ""),
    }
    if literal is not None:
        settings["type"] = click.Choice([str(a) for a in typing.get_args(literal)])
    elif options == "number":
        settings |= {"type": float, "metavar": field.metadata["shown"]}
    elif options == "path":
        settings |= {"type": click.Path(), "metavar": field.metadata["shown"]}
    else:
        settings["metavar"] = field.metadata["shown"] or None
    if settings.get("metavar") in COLUMN_VALUES:
        settings["shell_complete"] = columns_of
    return click.option(field.metadata["option"], field.name, **settings)


MODELS, WAYS, STRATEGIES = (
    ", ".join(names_in(package, key))
    for package, key in (("chaff.models", "label"), ("chaff.methods.importance.ways", "name"), ("chaff.methods.search.strategies", "name"))
)
"""The names there are, for help."""

memory_option = click.option(
    "--memory", metavar="SIZE", help="What the whole process may take, such as 4GB: a table that would take more stays on disk."
)
scratch_option = click.option(
    "--scratch", type=click.Path(), metavar="DIR", help="Folder for what stays on disk; without --memory every table stays there."
)
rows_option = in_group(
    "Rows",
    click.option(
        "--rows",
        "model_rows",
        metavar="N|ERROR|all",
        help="Rows used by models and searches: a number, all, or a target SE of a score difference (e.g. 0.001). Default: "
        "40,000 sampled if there are more than 50,000.",
    ),
)


def table_options(command: Command) -> Command:
    """Everything that `chaff.open_table` takes, in the order of the terms."""
    hints = typing.get_type_hints(Terms)
    for option in (scratch_option, memory_option):
        command = in_group("Reading the file", option)(command)
    for field in reversed(dataclasses.fields(Terms)):
        command = in_group(_group_of(field.name), _term_option(field, hints[field.name]))(command)
    return command


def _group_of(term: str) -> str:
    """The heading of a term in help."""
    if term in ("target", "task", "positive") or term.startswith("target_"):
        return "Target"
    return "Reading the file" if term in READING else "Columns"


plan_option = in_group(
    "Plan and pins",
    click.option(
        "--plan",
        "plan_file",
        type=click.Path(),
        metavar="FILE|NAME",
        help="Plan: a file, or quick, linear, trees, wide, thorough. Options override it; the output reports this.",
    ),
)
pin_options = in_group(
    "Plan and pins",
    click.option(
        "--pin-keep", multiple=True, metavar="NAME", shell_complete=columns_of, help="Keep this feature; needs --because. Repeatable."
    ),
    click.option(
        "--pin-drop", multiple=True, metavar="NAME", shell_complete=columns_of, help="Leave this feature out; needs --because. Repeatable."
    ),
    click.option(
        "--pins", "pins_file", type=click.Path(), metavar="FILE", help="Pins from a TOML file of [[pin]], as the page copies them."
    ),
    click.option("--because", multiple=True, metavar="TEXT", help="Reason for the pins: one for all, or one a pin in order."),
    click.option("--save", is_flag=True, help="Write the pins into the --plan file, its comments kept."),
)


def _force(context: click.Context, _: click.Parameter, value: bool) -> None:
    """From here to the end of the command, what is there already stays, unless --force was said."""
    from chaff.files import keep_existing

    context.with_resource(keep_existing(not value))


def _cluster(context: click.Context, _: click.Parameter, value: str | None) -> None:
    """Connect before anything is read: an address that nobody answers at is said at once."""
    if value and not context.resilient_parsing:
        from chaff.cluster import Cluster

        context.meta["cluster"] = cluster = Cluster(value)
        context.call_on_close(cluster.shutdown)


def _workers(context: click.Context, _: click.Parameter, value: int | None) -> Any:
    """Threads, or the cluster in their place."""
    cluster = context.meta.get("cluster")
    if cluster is not None and value is not None:
        raise click.UsageError("--workers and --cluster cannot be combined: --workers counts threads of this machine")
    return cluster if cluster is not None else value


force_option = in_group(
    OUTPUT, click.option("--force", is_flag=True, expose_value=False, callback=_force, help="Replace existing outputs; never an input.")
)
form_option = in_group(
    OUTPUT,
    click.option(
        "--format",
        "form",
        type=click.Choice(["text", "json"]),
        default="text",
        show_default=True,
        help="json: one object for scripts, errors too.",
    ),
)
work_options = in_group(
    OUTPUT,
    force_option,
    click.option("--seed", default=0, show_default=True, help="Fixes every random draw."),
    click.option(
        "--cluster",
        metavar="ADDRESS",
        is_eager=True,
        expose_value=False,
        callback=_cluster,
        help="Work on the workers of a Dask scheduler, such as tcp://10.0.0.7:8786; they have to see the same files.",
    ),
    click.option("--workers", type=click.IntRange(1), callback=_workers, help="Threads; every core when left out."),
    form_option,
)
rows_options = in_group(
    "Rows",
    click.option(
        "--holdout",
        metavar="SHARE|FILE",
        help="Holdout rows to exclude, the same that `chaff select` holds out: a share (0.2), or a file of separate rows.",
    ),
    rows_option,
    click.option("--all-rows", is_flag=True, help="Include the holdout rows. Holdout scores of a later select are then biased."),
)
FIGURES = (".png", ".svg", ".pdf")


def _figure_file(_: click.Context, __: click.Parameter, value: str | None) -> str | None:
    file_ending(value, FIGURES, "--figure")
    return value


figure_options = in_group(
    OUTPUT,
    click.option("--figure", metavar="FILE", callback=_figure_file, help="Draw the leading figure: .png, .svg or .pdf."),
    click.option("--figures", metavar="FOLDER", help="Draw every figure of this command, as .png, into a folder."),
    click.option("--tables", metavar="FOLDER", help="Save every table of this command, as .csv, and the kept names into a folder."),
)
selection_option = in_group(
    OUTPUT,
    click.option(
        "--save-selection",
        metavar="FILE",
        help="Save the kept set as a selection (.json), for apply, explain and recheck; it has no honest score.",
    ),
)
columns_option = in_group(
    "Rows",
    click.option("--all-columns", is_flag=True, help="Include the features that the preceding stages drop."),
    click.option("--no-cache", is_flag=True, help="Screen again, whatever an earlier command found for the same cells."),
)
all_option = in_group(OUTPUT, click.option("--all", "everything", is_flag=True, help="List everything, not only the first rows."))


def looking_options(command: Command) -> Command:
    """What every command has that looks at a table: how it is opened, plan and pins, rows, figures, and how it works."""
    for options in (work_options, figure_options, all_option, rows_options, pin_options, plan_option, table_options):
        command = options(command)
    return command


def terms_as_options(terms: Terms) -> list[str]:
    """Terms as the words of a command: what `parse_table_options` reads."""
    out: list[str] = []
    for field in dataclasses.fields(Terms):
        value, form, option = terms.as_mapping().get(field.name), field.metadata["form"], field.metadata["option"]
        if value is None:
            continue
        if form in ("names", "numbers"):
            out += [option, ",".join(map(str, value))]
        elif form == "words":
            out += [w for v in value for w in (option, str(v))]
        elif form in ("pairs", "number pairs", "word lists"):
            out += [w for k, v in value.items() for w in (option, f"{k}={','.join(map(str, v)) if isinstance(v, list) else v}")]
        else:
            out += [option, str(value)]
    return out


def parse_table_options(options: dict[str, Any]) -> dict[str, Any]:
    """The terms that the options said, as plain values; what was not said is not in it."""
    out: dict[str, Any] = {}
    for field in dataclasses.fields(Terms):
        value, how, option = options[field.name], field.metadata["form"], field.metadata["option"]
        if value in (None, ()):
            continue
        if how == "numbers":
            value = numbers(value, option)
        elif how == "names":
            value = feature_names(value)
        elif how == "pairs":
            value = pairs(value, option)
        elif how == "number pairs":
            value = {k: number(v, f"{option} {k}") for k, v in pairs(value, option).items()}
        elif how == "word lists":
            value = {k: [m.strip() for m in v.split(",")] for k, v in pairs(value, option).items()}
        out[field.name] = list(value) if isinstance(value, tuple) else value
    return _codes_of_columns(out)


def _codes_of_columns(out: dict[str, Any]) -> dict[str, Any]:
    """`--missing glucose=0` is a value of one column, `--missing n/a` a word of every one."""
    of_columns = [w for w in out.get("missing", ()) if "=" in w.strip("=")]
    if of_columns:
        out["missing"] = [w for w in out["missing"] if w not in of_columns]
        codes = dict(out.get("missing_codes", {}))
        for name, values in pairs(of_columns, "--missing").items():
            codes[name] = [*codes.get(name, ()), *(v.strip() for v in values.split(","))]
        out["missing_codes"] = codes
    return out


def parse_pins(options: dict[str, Any]) -> list[Any]:
    """The pins of the options, those of a file first."""
    typed = _typed_pins(options)
    if not options.get("pins_file"):
        return typed
    from chaff.decide.plan_file import read_pins

    named = {p.feature for p in typed}
    return [*(p for p in read_pins(options["pins_file"]) if p.feature not in named), *typed]


def _typed_pins(options: dict[str, Any]) -> list[Any]:
    from chaff.decide.pins import pin_drop, pin_keep

    because = options["because"]
    wanted = [(pin_keep, n) for n in options["pin_keep"]] + [(pin_drop, n) for n in options["pin_drop"]]
    if wanted and len(because) not in (1, len(wanted)):
        pins = f"{len(wanted)} pin has" if len(wanted) == 1 else f"{len(wanted)} pins have"
        raise click.UsageError(
            f'{pins} {len(because) or "no"} reason{"s" * (len(because) > 1)}: add --because "TEXT" (one for all pins, or one per pin)'
        )
    if because and not wanted:
        raise click.UsageError("--because needs --pin-keep NAME or --pin-drop NAME")
    if options["save"] and not ((wanted or options.get("pins_file")) and options["plan_file"]):
        raise click.UsageError("--save writes pins into a plan: it needs --pin-keep or --pin-drop, and --plan FILE")
    reasons = because * len(wanted) if len(because) == 1 else because
    return [pin(name, because=reason) for (pin, name), reason in zip(wanted, reasons, strict=True)]


def pairs(items: Sequence[str], option: str) -> dict[str, str]:
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
    except (tomllib.TOMLDecodeError, RecursionError, ValueError):
        return text


def parse_limits(items: Many, option: str) -> dict[str, Any]:
    """NAME=VALUE limits of a stage; `false` switches one off where that is possible."""
    return {k: toml_value(v) for k, v in pairs(items, option).items()}


def feature_names(text: str) -> list[str]:
    """`A,B,…`, or `@FILE`: the features that a file of ours, or a list of names, holds."""
    from chaff.decide.named_features import features_in

    out: list[str] = []
    for part in (p.strip() for p in text.split(",")):
        out += features_in(part[1:]) if part.startswith("@") else [part] if part else []
    if not out:
        raise click.UsageError("--features names no column")
    return list(dict.fromkeys(out))


def number(text: str, where: str) -> float:
    try:
        return float(text)
    except ValueError as error:
        raise click.UsageError(f"{where}: {text} is not a number") from error


def numbers(text: str, where: str) -> list[float]:
    return [number(part.strip(), where) for part in text.split(",") if part.strip()]


def parse_holdout(options: str | None) -> tuple[float | None, str | None]:
    """(share, file): one of the two, or neither."""
    if options is None:
        return None, None
    try:
        share = float(options)
    except ValueError:
        return None, options
    if not 0 <= share < 1:
        raise click.UsageError(f"--holdout {options}: a share must be 0 or more and below 1")
    return share, None


def parse_rows(options: str | None) -> int | float | str | None:
    """How many rows models see, as a plan says it."""
    if options is None or options in ("auto", "all"):
        return options
    try:
        if options.lstrip().startswith(("0.", ".")):
            return float(options)
        return int(options.replace(",", "").replace("_", ""))
    except ValueError:
        raise click.UsageError(f"--rows {options}: pass a number of rows, a target standard error (0.001), or all") from None


def file_ending(path: str | None, allowed: tuple[str, ...], option: str) -> None:
    """Said before any work is done."""
    if path and Path(path).suffix.lower() not in allowed:
        raise click.UsageError(f"{option} {path}: the file must end in {' or '.join(allowed)}")


def parse_choice(text: str | None, option: str) -> Any:
    """A name, or a mapping of a name and settings."""
    if text is None or not text.lstrip().startswith("{"):
        return text
    import tomlkit
    from tomlkit.exceptions import TOMLKitError

    try:
        return tomlkit.parse(f"choice = {text}").unwrap()["choice"]
    except TOMLKitError as error:
        raise click.UsageError(
            f'{option}: {text} is not a valid setting table, such as {{ name = "forest", trees = 300 }}: {error}'
        ) from error


def parse_strategies(options: tuple[str, ...], planned: Any, size: float | None) -> list[Any]:
    """Every strategy that was named, else the plan's one, None for what suits the model; with the size put in where it has one."""
    from dataclasses import fields, replace

    from chaff.methods.search.strategy import as_strategy

    made: list[Any] = [as_strategy(parse_choice(text, "--strategy")) for text in options] or [planned]
    if size is None:
        return made
    wanted = int(size) if size >= 1 and size == int(size) else size
    out = []
    for strategy in made:
        if strategy is None:
            raise click.UsageError("--size needs --strategy (forward, for example)")
        if "size" not in {f.name for f in fields(strategy)}:
            raise click.UsageError(f"--size: {strategy.name} has no size setting")
        out.append(replace(strategy, size=wanted))
    return out
