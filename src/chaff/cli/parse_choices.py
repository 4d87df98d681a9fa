"""Choices as the command line says them: a name, or a name with settings in braces as in a plan."""

from __future__ import annotations

from typing import Any

import click


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
