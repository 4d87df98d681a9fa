"""Plans: the stages and their settings that turn a table into a selection, in TOML or as objects."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ConfigDict, Field, TypeAdapter, ValidationError

from chaff.errors import ChaffError, PlanError, nearest
from chaff.evaluate.setting import Pin, Stage
from chaff.methods.importance.stage import Importance
from chaff.methods.overlap.elimination import Inflation
from chaff.methods.overlap.pair_cut import Correlation
from chaff.methods.overlap.stage import Overlap
from chaff.methods.relevance.stage import Relevance
from chaff.methods.screen.stage import Screen
from chaff.methods.search.stage import MODELS, Search
from chaff.metrics import METRICS

STAGES: dict[str, type] = {s.use: s for s in (Screen, Relevance, Correlation, Inflation, Overlap, Importance, Search)}


class TableSection(BaseModel):
    """`[table]`: the arguments of `chaff.open_table`."""

    model_config = ConfigDict(extra="forbid")

    target: str | None = None
    task: str = "auto"
    positive: str | None = None
    ids: str | list[str] = Field(default_factory=list)
    ignore: str | list[str] = Field(default_factory=list)
    groups: str | None = None
    order: str | None = None
    weights: str | None = None
    kinds: dict[str, str] = Field(default_factory=dict)
    together: dict[str, list[str]] = Field(default_factory=dict)
    costs: dict[str, float] = Field(default_factory=dict)
    dictionary: str | None = None
    missing: str | list[str] = Field(default_factory=list)
    infinite: str = "error"
    missing_flags: str | list[str] = Field(default_factory=list)
    fill: dict[str, float | str] = Field(default_factory=dict)
    delimiter: str | None = None
    decimal: str | None = None
    encoding: str | None = None

    def options(self) -> dict[str, Any]:
        """Only what was said, for `open_table`."""
        return self.model_dump(exclude_unset=True)


class ScoreSection(BaseModel):
    """`[score]`: how sets are compared."""

    model_config = ConfigDict(extra="forbid")

    model: str = "forest"
    """Scores the full and the kept set, beside ridge."""
    metric: str | None = None
    folds: int = Field(default=5, ge=2)
    repeats: int = Field(default=1, ge=1)
    holdout: float = Field(default=0.2, ge=0, lt=1)


class PinSection(BaseModel):
    model_config = ConfigDict(extra="forbid")

    feature: str
    verdict: str = Field(pattern="^(keep|drop)$")
    because: str = Field(min_length=1)


class PlanFile(BaseModel):
    model_config = ConfigDict(extra="forbid")

    table: TableSection = Field(default_factory=TableSection)
    score: ScoreSection = Field(default_factory=lambda: ScoreSection())
    stage: list[dict[str, Any]]
    pin: list[PinSection] = Field(default_factory=list)


@dataclass(frozen=True)
class Plan:
    """Stages in order, how sets are scored, and pins. `read_plan` makes one from TOML, `built_in_plan` is the default."""

    stages: tuple[Stage, ...]
    score: ScoreSection = field(default_factory=lambda: ScoreSection())
    table: TableSection = field(default_factory=TableSection)
    pins: tuple[Pin, ...] = ()

    def __post_init__(self) -> None:
        if not self.stages:
            raise PlanError("a plan needs at least one stage; the stages are " + ", ".join(STAGES))

    def as_mapping(self) -> dict[str, Any]:
        """The plan as plain data, as it stands in a selection; None and defaults of the table are left out."""
        out: dict[str, Any] = {}
        table = self.table.model_dump(exclude_defaults=True)
        if table:
            out["table"] = table
        out["score"] = {k: v for k, v in self.score.model_dump().items() if v is not None}
        out["stage"] = [
            {"use": s.use} | {k: v for k, v in dataclasses.asdict(s).items() if v is not None}  # type: ignore[call-overload]
            for s in self.stages
        ]
        if self.pins:
            out["pin"] = [dataclasses.asdict(p) for p in self.pins]
        return out

    def to_toml(self) -> str:
        """The plan as a TOML file's text. A switched-off limit (None) is written as false."""
        import tomlkit

        out = self.as_mapping()
        out["stage"] = [
            {"use": s.use}
            | {
                k: (False if v is None and _can_be_off(s, k) else v)
                for k, v in dataclasses.asdict(s).items()
                if v is not None or _can_be_off(s, k)
            }  # type: ignore[call-overload]
            for s in self.stages
        ]
        return tomlkit.dumps(out)


def built_in_plan() -> Plan:
    """screen → relevance (measures only) → overlap → importance (measures only) → search.

    >>> [s.use for s in built_in_plan().stages]
    ['screen', 'relevance', 'overlap', 'importance', 'search']
    """
    return Plan((Screen(), Relevance("leading"), Overlap(), Importance(), Search()))


def read_plan(path: str | Path) -> Plan:
    """A plan from a TOML file; every mistake in it is named in one go.

    Raises
    ------
    PlanError
    """
    import tomlkit
    from tomlkit.exceptions import TOMLKitError

    file = Path(path)
    if not file.exists():
        raise PlanError(f"no such plan: {file}")
    try:
        data = tomlkit.parse(file.read_text(encoding="utf-8")).unwrap()
    except (TOMLKitError, UnicodeDecodeError) as error:
        raise PlanError(f"{file.name} is not TOML: {error}") from error
    except OSError as error:
        raise PlanError(f"{file.name} cannot be read: {error.strerror}") from error
    return plan_from(data, file.name)


def plan_from(data: Mapping[str, Any], label: str = "plan") -> Plan:
    """A plan from plain data (parsed TOML)."""
    problems: list[str] = []
    if not data.get("stage"):
        problems.append("no [[stage]]: a plan needs at least one; the stages are " + ", ".join(STAGES))
    try:
        parsed = PlanFile.model_validate({"stage": [], **data})
    except ValidationError as error:
        problems += [_in_words(e) for e in error.errors()]
        parsed = PlanFile(stage=[s for s in data.get("stage", []) if isinstance(s, dict)])
    if parsed.score.model not in MODELS:
        problems.append(f"score.model: unknown model '{parsed.score.model}'; there are {', '.join(MODELS)}")
    if parsed.score.metric is not None and parsed.score.metric not in METRICS:
        problems.append(f"score.metric: unknown metric '{parsed.score.metric}'; there are {', '.join(METRICS)}")
    stages = [_stage(k, entry, problems) for k, entry in enumerate(parsed.stage, 1)]
    if problems:
        listed = problems[0] if len(problems) == 1 else "\n" + "\n".join(f"  - {p}" for p in problems)
        raise PlanError(f"{label}: {listed}")
    pins = tuple(Pin(p.feature, p.verdict, p.because) for p in parsed.pin)  # type: ignore[arg-type]
    return Plan(tuple(s for s in stages if s is not None), parsed.score, parsed.table, pins)


def _stage(number: int, entry: dict[str, Any], problems: list[str]) -> Stage | None:
    use = entry.get("use")
    where = f"stage {number}"
    if use not in STAGES:
        problems.append(f"{where}: use = {use!r} is not a stage; there are {', '.join(STAGES)}.{nearest(str(use), STAGES)}")
        return None
    cls = STAGES[use]
    known = [f.name for f in dataclasses.fields(cls)]
    before = len(problems)
    for key in entry:
        if key != "use" and key not in known:
            problems.append(f"{where} ({use}): unknown key '{key}'; it has {', '.join(known)}.{nearest(key, known)}")
    if len(problems) > before:
        return None
    fields = {k: v for k, v in entry.items() if k != "use"}
    return make_stage(cls, fields, f"{where} ({use})", problems)


def make_stage(cls: type, fields: dict[str, Any], where: str, problems: list[str]) -> Stage | None:
    """A stage from plain values; `false` switches an optional limit off."""
    for f in dataclasses.fields(cls):
        if fields.get(f.name) is False and "None" in str(f.type) and "bool" not in str(f.type):
            fields[f.name] = None
    try:
        checked: Stage = TypeAdapter(cls).validate_python(fields)
    except ValidationError as error:
        problems += [f"{where}: {_in_words(e)}" for e in error.errors()]
        return None
    except ChaffError as error:
        problems.append(f"{where}: {error}")
        return None
    return checked


def with_settings(plan: Plan, settings: Mapping[str, Mapping[str, Any]]) -> Plan:
    """The plan with some fields of its stages changed: stage name → field → value."""
    problems: list[str] = []
    stages: list[Stage] = []
    names = [s.use for s in plan.stages]
    for use in settings:
        if use not in names:
            problems.append(f"the plan has no stage '{use}'; it has {', '.join(names)}.{nearest(use, names)}")
    for k, stage in enumerate(plan.stages, 1):
        new = dict(settings.get(stage.use, {}))
        entry = {"use": stage.use, **dataclasses.asdict(stage), **new}  # type: ignore[call-overload]
        made = _stage(k, entry, problems)
        stages.append(made or stage)
    if problems:
        raise PlanError("; ".join(problems))
    return dataclasses.replace(plan, stages=tuple(stages))


def _can_be_off(stage: Any, name: str) -> bool:
    default = {f.name: f.default for f in dataclasses.fields(stage)}[name]
    return default is not None and not isinstance(default, bool)


def _in_words(error: Any) -> str:
    where = ".".join(str(p) for p in error["loc"])
    if error["type"] == "extra_forbidden":
        sections: dict[Any, type[BaseModel]] = {"table": TableSection, "score": ScoreSection, "pin": PinSection}
        head = error["loc"][0]
        known = list(sections[head].model_fields if head in sections and len(error["loc"]) > 1 else PlanFile.model_fields)
        return f"{where}: unknown key; it may be {', '.join(known)}.{nearest(str(error['loc'][-1]), known)}"
    return f"{where}: {error['msg'][0].lower()}{error['msg'][1:]}"
