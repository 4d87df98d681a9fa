"""Plans: the stages and their settings that turn a table into a selection, in TOML or as objects.

Everything about a plan is checked before anything runs: names, keys, types and limits when it is read, and whether it fits the
table (`check_plan`) before the first stage.
"""

from __future__ import annotations

import dataclasses
import html
from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Literal

import numpy as np

from chaff.choices import plan_value, wrong_fields
from chaff.decide.stages import STAGES, stage_as_plain, stage_from, with_new_names
from chaff.errors import ChaffError, PlanError, UsageError, nearest
from chaff.evaluate.closed import fits_in_closed_form
from chaff.evaluate.stage import ChecksTable, Stage, name_of
from chaff.files import reads
from chaff.methods.importance.stage import Importance
from chaff.methods.overlap.stage import Overlap
from chaff.methods.relevance.stage import Relevance
from chaff.methods.screen.stage import Screen
from chaff.methods.search.stage import Search
from chaff.metrics import METRICS, find_metric
from chaff.models.forest import Forest
from chaff.models.named import as_model, own_models
from chaff.models.protocols import Model, target_refusal
from chaff.results.verdict import Pin
from chaff.table.table import Table
from chaff.table.terms import Terms
from chaff.visible import Shown, toml_text

BUILT_IN_FOREST = Forest(trees=60, rows_per_tree=20_000)  # what importance is measured by: enough to rank, in seconds
FOLDS = 5
LEAST_ROWS = 100  # for models to see
FEW_ROWS = 50
WIDE = 5_000  # columns from which relevance cuts first
LET_THROUGH = 1_000
LEARNT = 0.8  # of the rows, where a holdout is set aside
REPEATS = (
    (FEW_ROWS, 5),
    (100, 10),
    (700, 3),
    (float("inf"), 1),
)  # rows under which so many repeats pay: what they gain shrinks with the rows
SECTIONS = ("table", "score", "stage", "pin")


def usual_repeats(rows: int, in_time: bool) -> int:
    """How often the folds of so many rows are drawn again where nothing was said; once in time."""
    return 1 if in_time else next(repeats for most, repeats in REPEATS if rows < most)


@dataclass(frozen=True)
class Scoring:
    """`[score]`: how sets are compared.

    Parameters
    ----------
    model : model, str or dict, optional
        The model that will be used in the end: the search looks through it alone. Left out: through two lenses, a linear one
        and a forest, and the smallest set within the bound of the best is kept.
    metric : str or None
        r2, rmse, mae, log_loss, auc or accuracy; the default one for the target when left out.
    folds, repeats : int, optional
        Left out: 5 folds (10 under 50 rows), and as many repeats as pay: 10 under 100 rows (5 of the 10
        folds), 3 under 700, else 1; 1 in time.
    holdout : float
        Share of the rows set aside before anything is looked at; 0 for none.
    rows : "auto", "all", int or float below 1
        Training rows that models and searches see. auto: all up to 50,000, beyond that 40,000 drawn at random, up to 160,000 where a
        class is rare; a paired difference in R² is then known to some 0.002. A number below 1 is the standard error that is wanted
        of such a difference (classes: in log-loss), and as many rows are drawn as that takes: 0.001 takes 160,000. Sums are taken
        over every row all the same.
    """

    model: Model | str | Mapping[str, Any] | None = None
    metric: str | None = None
    folds: int | None = None
    repeats: int | None = None
    holdout: float = 0.2
    rows: int | float | Literal["auto", "all"] = "auto"

    def __post_init__(self) -> None:
        if self.model is not None:
            object.__setattr__(self, "model", as_model(self.model))
        if self.metric is not None and self.metric not in METRICS:
            raise PlanError(f"metric: unknown metric '{self.metric}'; choose from {', '.join(METRICS)}.{nearest(self.metric, METRICS)}")
        if (self.folds is not None and self.folds < 2) or (self.repeats is not None and self.repeats < 1):
            raise PlanError(f"folds must be 2 or more and repeats 1 or more, not {self.folds} and {self.repeats}")
        if not 0 <= self.holdout < 1:
            raise PlanError(f"holdout must be 0 or more and below 1, not {self.holdout}")
        a_count = isinstance(self.rows, int) and self.rows >= LEAST_ROWS
        an_error = isinstance(self.rows, float) and 0 < self.rows < 1
        if self.rows not in ("auto", "all") and not (a_count or an_error):
            raise PlanError(
                f"rows must be auto, all, a number of {LEAST_ROWS:,} or more, or the standard error that is wanted, below 1, "
                f"not {self.rows!r}"
            )

    def folds_for(self, train: Table) -> int:
        """How many folds: what was said, else by the rows, and no more than there are groups."""
        if self.folds is not None:
            return self.folds
        if train.order is not None:
            return FOLDS
        folds = 2 * FOLDS if 4 * FOLDS <= len(train) < FEW_ROWS else FOLDS
        return folds if train.groups is None else max(2, min(folds, len(np.unique(train.groups))))

    def repeats_for(self, train: Table) -> int:
        """How often the folds are drawn again: what was said, else by the rows; once in time."""
        if self.repeats is not None:
            return self.repeats
        return usual_repeats(len(train), train.order is not None)

    def as_mapping(self) -> dict[str, Any]:
        out = {f.name: getattr(self, f.name) for f in dataclasses.fields(self) if f.name != "rows" or self.rows != "auto"}
        return {k: plan_value(v, "label") if k == "model" else v for k, v in out.items() if v is not None}


@dataclass(frozen=True)
class PinEntry:
    """`[[pin]]`: a user's own decision."""

    feature: str
    verdict: Literal["keep", "drop"]
    because: str

    def __post_init__(self) -> None:
        if not self.because.strip():
            raise PlanError(f"pin of '{self.feature}' needs a reason: because = …")


@dataclass(frozen=True, repr=False)
class Plan(Shown):
    """Stages in order, how sets are scored, and pins. `read_plan` makes one from TOML, `built_in_plan` is the default."""

    stages: tuple[Stage, ...]
    score: Scoring = field(default_factory=Scoring)
    table: Terms = field(default_factory=Terms)
    pins: tuple[Pin, ...] = ()
    notes: tuple[str, ...] = field(default=(), compare=False)
    """What was read under an earlier name."""

    def __post_init__(self) -> None:
        if not self.stages:
            raise PlanError("a plan needs at least one stage; the stages are " + ", ".join(STAGES))
        twins = [n for n, count in Counter(name_of(s) for s in self.stages).items() if count > 1]
        if twins:
            raise PlanError(f"two stages go by '{twins[0]}': give one of them a name of its own (name = …)")

    def as_mapping(self) -> dict[str, Any]:
        """The plan as plain data, as it stands in a selection; None and defaults of the table are left out."""
        return self._as_mapping(None)

    def to_toml(self) -> str:
        """The plan as a TOML file's text. A switched-off limit (None) is written as false."""
        return toml_text(self._as_mapping(False))

    def _as_mapping(self, off: Any) -> dict[str, Any]:
        out: dict[str, Any] = {}
        if self.table.as_mapping():
            out["table"] = self.table.as_mapping()
        out["score"] = self.score.as_mapping()
        out["stage"] = [stage_as_plain(s, off) for s in self.stages]
        if self.pins:
            out["pin"] = [dataclasses.asdict(p) for p in self.pins]
        return out

    def __str__(self) -> str:
        stages = " → ".join(name_of(s) for s in self.stages)
        return f"plan: {stages}" + (f" · target {self.table.target}" if self.table.target else "")

    def _repr_html_(self) -> str:
        return f"<pre>{html.escape(self.to_toml())}</pre>"


def built_in_plan() -> Plan:
    """screen → relevance (measures only) → overlap → importance (measures only) → search.

    >>> [s.use for s in built_in_plan().stages]
    ['screen', 'relevance', 'overlap', 'importance', 'search']
    """
    return Plan((Screen(), Relevance("leading"), Overlap(), Importance(BUILT_IN_FOREST), Search()))


def wide_plan() -> Plan:
    """For very many columns: relevance lets the best 1,000 through, by one test a column (without bounds, which no cut looks at) and again
    inside every fold; then as built in.

    >>> [name_of(s) for s in wide_plan().stages]
    ['triage', 'screen', 'relevance', 'overlap', 'importance', 'search']
    """
    return Plan((Relevance("tests", confidence=None, cut={"top": LET_THROUGH}, name="triage"), *built_in_plan().stages))


def plan_for(table: Table) -> Plan:
    """The built-in plan, or the wide one where whatever takes every column beside every other would take hours or too much memory."""
    splits = FOLDS * usual_repeats(int(LEARNT * len(table)), table.order is not None)
    return built_in_plan() if len(table.features) <= WIDE and fits_in_closed_form(table, splits) else wide_plan()


def read_plan(path: str | Path, models: Mapping[str, Any] | None = None) -> Plan:
    """A plan from a TOML file; every mistake in it is named in one go.

    Parameters
    ----------
    path : str or Path
    models : dict, optional
        Models of your own by the names they have in the plan: ``{"mine": chaff.models.adapt(MyModel)}``. A plan never names
        code, so that reading one runs nothing.

    Raises
    ------
    PlanError
    """
    import tomlkit
    from tomlkit.exceptions import TOMLKitError

    file = Path(path)
    if not file.exists():
        raise PlanError(f"no such plan: {file}")
    if not file.is_file():
        raise PlanError(f"{file} is not a regular file")
    reads(file)
    try:
        data = tomlkit.parse(file.read_text(encoding="utf-8")).unwrap()
    except (TOMLKitError, UnicodeDecodeError) as error:
        raise PlanError(f"{file.name} is not TOML: {error}") from error
    except OSError as error:
        raise PlanError(f"{file.name} cannot be read: {error.strerror}") from error
    with own_models(models):
        return plan_from(data, file.name)


def plan_from(data: Mapping[str, Any], label: str = "plan") -> Plan:
    """A plan from plain data (parsed TOML)."""
    problems = [f"{k}: unknown section; a plan has {', '.join(SECTIONS)}.{nearest(k, SECTIONS)}" for k in data if k not in SECTIONS]
    table = _section(Terms, data.get("table", {}), "table", problems)
    score = _section(Scoring, data.get("score", {}), "score", problems)
    entries = _entries(data, "stage", problems)
    if not entries:
        problems.append("no [[stage]]: a plan needs at least one; the stages are " + ", ".join(STAGES))
    notes: list[str] = []
    stages = [stage_from(with_new_names(entry, notes), f"stage {k}", problems) for k, entry in enumerate(entries, 1)]
    pins = [_section(PinEntry, entry, f"pin {k}", problems) for k, entry in enumerate(_entries(data, "pin", problems), 1)]
    if problems:
        raise PlanError(f"{label}: " + (problems[0] if len(problems) == 1 else "\n" + "\n".join(f"  - {p}" for p in problems)))
    try:
        pinned = tuple(Pin(p.feature, p.verdict, p.because) for p in pins)
        return Plan(tuple(s for s in stages if s is not None), score, table, pinned, tuple(notes))
    except PlanError as error:
        raise PlanError(f"{label}: {error}") from error


def _entries(data: Mapping[str, Any], name: str, problems: list[str]) -> list[Mapping[str, Any]]:
    given = data.get(name, [])
    if not isinstance(given, list) or not all(isinstance(e, Mapping) for e in given):
        problems.append(f"{name}: write it as [[{name}]], once for each")
        return []
    return given


def _section(cls: type, given: Any, where: str, problems: list[str]) -> Any:
    """One section as its dataclass; what is wrong with it is added to `problems`."""
    if not isinstance(given, Mapping):
        problems.append(f"{where}: write it as [{where}] with keys below it")
        return None
    needed = {f.name for f in dataclasses.fields(cls) if f.default is dataclasses.MISSING and f.default_factory is dataclasses.MISSING}
    wrong = [f"{name} is missing" for name in sorted(needed - set(given))] + wrong_fields(cls, given)
    try:
        if not wrong:
            return cls(**given)
    except ChaffError as error:
        wrong = [str(error)]
    problems += [f"{where}: {w}" for w in wrong]
    return None


def with_settings(plan: Plan, settings: Mapping[str, Mapping[str, Any]]) -> Plan:
    """The plan with some fields of its stages changed: stage name → field → value."""
    names = [name_of(s) for s in plan.stages]
    problems = [
        f"the plan has no stage '{name}'; it has {', '.join(names)}.{nearest(name, names)}" for name in settings if name not in names
    ]
    stages: list[Stage] = []
    for k, stage in enumerate(plan.stages, 1):
        new = settings.get(name_of(stage))
        made = stage_from({**stage_as_plain(stage, off=False), **new}, f"stage {k}", problems) if new else stage
        stages.append(made or stage)
    if problems:
        raise PlanError("; ".join(problems))
    return dataclasses.replace(plan, stages=tuple(stages))


def check_plan(plan: Plan, table: Table) -> None:
    """What can be told beforehand of whether the plan fits the table; every mistake in one go.

    Raises
    ------
    PlanError
    """
    problems = []
    try:
        if plan.score.metric is not None:
            find_metric(plan.score.metric, table.target.task, len(table.target.classes))
    except UsageError as error:
        problems.append(f"score: {error}")
    if plan.score.model is not None and (refusal := target_refusal(plan.score.model, table)):
        problems.append(f"score: {refusal}")
    for stage in plan.stages:
        try:
            if isinstance(stage, ChecksTable):
                stage.check_table(table)
        except UsageError as error:
            problems.append(f"stage '{name_of(stage)}': {error}")
    if problems:
        raise PlanError(problems[0] if len(problems) == 1 else "\n" + "\n".join(f"  - {p}" for p in problems))
