"""The stages there are, by the word they have in a plan; made from plain values and told as plain values again."""

from __future__ import annotations

import dataclasses
import importlib
import typing
from collections.abc import Iterator, Mapping
from typing import Any, ClassVar

from chaff.choices import changed_fields, plan_value, wrong_fields
from chaff.errors import ChaffError, nearest
from chaff.evaluate.stage import Stage


class Stages(Mapping[str, type]):
    """The stage classes by `use`; one is imported when it is asked for."""

    places: ClassVar[dict[str, str]] = {
        "screen": "screen.stage.Screen",
        "relevance": "relevance.stage.Relevance",
        "correlation": "overlap.pair_cut.Correlation",
        "inflation": "overlap.vif_elimination.Inflation",
        "overlap": "overlap.stage.Overlap",
        "importance": "importance.stage.Importance",
        "chance": "chance.shuffled_target.ChanceBaseline",
        "twins": "chance.twin_test.TwinTest",
        "stability": "chance.stability.Stability",
        "knockoffs": "chance.knockoffs.Knockoffs",
        "search": "search.stage.Search",
    }

    def __getitem__(self, use: str) -> type:
        module, _, name = self.places[use].rpartition(".")
        found: type = getattr(importlib.import_module(f"chaff.methods.{module}"), name)
        return found

    def __iter__(self) -> Iterator[str]:
        return iter(self.places)

    def __len__(self) -> int:
        return len(self.places)


STAGES = Stages()
RENAMED_STAGES = {"shadow": "twins"}
RENAMED_KEYS = {
    "relevance": {"level": "confidence"},
    "importance": {"level": "alpha"},
    "chance": {"level": "alpha"},
    "twins": {"level": "alpha"},
}
RENAMED_RULES = {"importance": ("cut", "beyond_chance", "significant"), "chance": ("keep", "beyond_chance", "standard_deviations")}
"""Names in plans and selections of earlier versions, and what they are now."""


def with_new_names(entry: Mapping[str, Any], notes: list[str]) -> dict[str, Any]:
    """A `[[stage]]` of an earlier version under today's names; each change is added to `notes`."""
    out = dict(entry)
    if not isinstance(out.get("use"), str):
        return out
    if out["use"] in RENAMED_STAGES:
        notes.append(f"stage '{out['use']}' is now called '{RENAMED_STAGES[out['use']]}'")
        out["use"] = RENAMED_STAGES[out["use"]]
    for old, new in RENAMED_KEYS.get(out["use"], {}).items():
        if old in out and new not in out:
            notes.append(f"{out['use']}: '{old}' is now called '{new}'")
            out = {new if k == old else k: v for k, v in out.items()}
    if out["use"] == "screen" and "sentinels" in out and "least_steps" not in out:  # all settings, as an earlier version wrote them
        little = out.pop("relative_spread", 0.01)
        out |= {"least_steps": False} if little is False else {}
    key, old, new = RENAMED_RULES.get(out["use"], ("", "", ""))
    if isinstance(out.get(key), Mapping) and old in out[key]:
        notes.append(f"{out['use']}: the rule '{old}' is now called '{new}'")
        out[key] = {new if k == old else k: v for k, v in out[key].items()}
    return out


def stage_from(entry: Mapping[str, Any], where: str, problems: list[str]) -> Stage | None:
    """A stage from a plan's `[[stage]]`; what is wrong with it is added to `problems`."""
    use = entry.get("use")
    if not isinstance(use, str) or use not in STAGES:
        problems.append(f"{where}: use = {use!r} is not a stage; choose from {', '.join(STAGES)}.{nearest(str(use), STAGES)}")
        return None
    return make_stage(STAGES[use], {k: v for k, v in entry.items() if k != "use"}, f"{where} ({use})", problems)


def make_stage(cls: type, given: Mapping[str, Any], where: str, problems: list[str]) -> Stage | None:
    """A stage from plain values; `false` switches an optional limit off."""
    settings = {k: None if v is False and k in optional_limits(cls) else v for k, v in given.items()}
    wrong = wrong_fields(cls, settings)
    if wrong:
        problems += [f"{where}: {w}" for w in wrong]
        return None
    try:
        made: Stage = cls(**settings)
    except ChaffError as error:
        problems.append(f"{where}: {error}")
        return None
    return made


def optional_limits(cls: type) -> set[str]:
    """Fields that may be switched off: they may be None and are no yes or no themselves."""
    hints = typing.get_type_hints(cls)
    return {f.name for f in dataclasses.fields(cls) if _takes(hints[f.name], type(None)) and not _takes(hints[f.name], bool)}


def _takes(hint: Any, kind: type) -> bool:
    return hint is kind or kind in typing.get_args(hint)


def stage_as_plain(stage: Stage, off: Any = None) -> dict[str, Any]:
    """The stage as a plan says it; a limit that is switched off stands as `off`, or not at all where that is None."""
    out: dict[str, Any] = {"use": stage.use}
    for f in dataclasses.fields(stage):  # type: ignore[arg-type]
        value = getattr(stage, f.name)
        if f.name == "name" and value in ("", stage.use):
            continue
        if value is None:
            if off is not None and f.default is not None and f.name in optional_limits(type(stage)):
                out[f.name] = off
            continue
        out[f.name] = _plain(value)
    return out


def _plain(value: Any) -> Any:
    """Choices by their names, sequences as lists."""
    if getattr(value, "own", False):
        return plan_value(value, "label")
    if dataclasses.is_dataclass(value) and isinstance(getattr(type(value), "use", None), str):
        return {"use": getattr(value, "use")} | {k: _plain(v) for k, v in changed_fields(value).items()}  # noqa: B009
    for key in ("name", "label"):
        if dataclasses.is_dataclass(value) and isinstance(getattr(type(value), key, None), str):
            given = plan_value(value, key)
            return {k: _plain(v) for k, v in given.items()} if isinstance(given, Mapping) else given
    if isinstance(value, tuple | list):
        return [_plain(v) for v in value]
    return dict(value) if isinstance(value, Mapping) else value
