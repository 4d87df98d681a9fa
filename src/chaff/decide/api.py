"""The public calls that are made from stages: the class of the stage has the fields, defaults and docstring.

`chaff.twin_test(table, …)` is `TwinTest` on a table: its parameters are the table, the fields
of the stage, and the few that every call has.
A call is made when it is first asked for, so that one of them does not load the stages of all.
"""

from __future__ import annotations

import dataclasses
import importlib
import inspect
import typing
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import cache
from typing import TYPE_CHECKING, Any

from chaff.decide.one_stage import check_settings, findings_of, judge, measured_by
from chaff.declared import entries, sections
from chaff.results.findings import Findings
from chaff.results.verdict import Pin
from chaff.table.table import Table
from chaff.work import Workers

if TYPE_CHECKING:
    from chaff.models.protocols import Model

SECTIONS = ("Parameters", "Returns", "Raises", "Notes", "Examples")
IN_EVERY_CALL = """
pins : iterable of Pin
    From `chaff.pin_keep` and `chaff.pin_drop`: features pinned out are not used, features pinned in are always kept.
features : list of str, optional
    The candidate features; all of the table when left out.
folds : int
    Folds of the cross-validation.
seed : int
    Fixes every random draw.
workers : int, optional
    Threads; every core when left out.
"""


@dataclass(frozen=True)
class Request:
    """One call: the stage's settings, the table, and what every call has."""

    stage: type
    settings: Mapping[str, Any]
    table: Table
    pins: Iterable[Pin] = ()
    features: Sequence[str] | None = None
    folds: int = 0
    seed: int = 0
    workers: Workers = None

    def made(self, **changed: Any) -> Any:
        """The stage."""
        settings = {**self.settings, **changed}
        check_settings(self.stage, settings)
        return self.stage(**settings)

    def common(self) -> dict[str, Any]:
        return {k: getattr(self, k) for k in ("pins", "features", "folds", "seed", "workers")}


def run_stage(request: Request) -> Findings:
    """The findings of the stage, with its verdicts."""
    return findings_of(judge(request.made(), request.table, **request.common()))


def run_relevance(request: Request) -> Findings:
    """Without verdicts where neither a cut nor a pin asks for them."""
    judged = judge(request.made(), request.table, **request.common())
    return measured_by(judged) if request.settings.get("cut") is None and not judged.setting.pins else findings_of(judged)


def run_importance(request: Request, against: Model | str | Mapping[str, Any] | None = None) -> Findings:
    """
    against : model, str or dict, optional
        A second model: ``more["against"]`` shows both models side by side, and which of the two kept sets holds a feature.
    """
    from chaff.methods.importance.stage import side_by_side

    one = request.made()
    result = findings_of(judge(one, request.table, **request.common()))
    if against is None:
        return result
    two = request.made(model=against)
    return side_by_side(result, findings_of(judge(two, request.table, **request.common())), one.model.label, two.model.label)


def run_elimination(request: Request) -> Findings:
    """With the VIF of every feature after every step."""
    from chaff.decide.overlap_calls import eliminate_by_vif

    return eliminate_by_vif(request.made(), request.table, request.pins, request.features, request.seed, request.workers)


def run_pruning(request: Request) -> Findings:
    """On the features that a linear form can take."""
    from chaff.methods.overlap.overlap_data import able

    return run_stage(dataclasses.replace(request, table=able(request.table, request.features), features=None, folds=0))


@dataclass(frozen=True)
class StageCall:
    """Where the stage of a call is, which of its fields may be given by position, and what is other than usual about it."""

    module: str
    stage: str
    by_position: tuple[str, ...] = ()
    folds: bool = False
    """Whether folds are a parameter of the call (and not a field of the stage)."""
    run: Callable[..., Findings] = run_stage
    """Parameters after the first are parameters of the call too; its docstring then describes them."""

    @property
    def stage_class(self) -> type:
        return typing.cast(type, getattr(importlib.import_module(f"chaff.methods.{self.module}"), self.stage))


CALLS = {
    "screen": StageCall("screen.stage", "Screen", folds=True),
    "relevance": StageCall("relevance.stage", "Relevance", ("statistics",), run=run_relevance),
    "prune_correlations": StageCall("overlap.pair_cut", "Correlation", ("limit",)),
    "prune_inflation": StageCall("overlap.vif_elimination", "Inflation", ("limit",), run=run_elimination),
    "prune_linear": StageCall("linear.pruning", "Pruning", ("by",), run=run_pruning),
    "importance": StageCall("importance.stage", "Importance", ("model", "by"), folds=True, run=run_importance),
    "chance_baseline": StageCall("chance.shuffled_target", "ChanceBaseline", ("by", "model")),
    "twin_test": StageCall("chance.twin_test", "TwinTest", ("model", "by")),
    "stability": StageCall("chance.stability", "Stability", ("stage", "size")),
    "knockoffs": StageCall("chance.knockoffs", "Knockoffs", ("q",)),
}


def __getattr__(name: str) -> Callable[..., Findings]:
    if name not in CALLS:
        raise AttributeError(f"module '{__name__}' has no attribute '{name}'")
    return made_call(name)


@cache
def made_call(name: str) -> Callable[..., Findings]:
    """The function, with the signature, the annotations and the docstring that follow from the stage."""
    spec = CALLS[name]
    stage, parameters = spec.stage_class, parameters_of(spec)
    signature = inspect.Signature(parameters, return_annotation="Findings")
    fields = {f.name for f in dataclasses.fields(stage)}

    def call(*given: Any, **named: Any) -> Findings:
        bound = signature.bind(*given, **named).arguments
        settings = {k: v for k, v in bound.items() if k in fields}
        own = {k: v for k, v in bound.items() if k not in settings and k in own_names}
        rest = {k: v for k, v in bound.items() if k not in settings and k not in own}
        folds = {"folds": 5} if spec.folds else {}
        return spec.run(Request(stage, settings, **{**folds, **rest}), **own)

    own_names = {p.name for p in own_parameters(spec)}
    call.__name__ = call.__qualname__ = name
    call.__module__ = __name__
    call.__doc__ = docstring_of(spec)
    call.__annotations__ = {p.name: p.annotation for p in parameters} | {"return": "Findings"}
    call.__signature__ = signature  # type: ignore[attr-defined]
    return call


def parameters_of(spec: StageCall) -> list[inspect.Parameter]:
    """The table, the fields of the stage, what the call has of its own, and what every call has."""
    first, later = inspect.Parameter.POSITIONAL_OR_KEYWORD, inspect.Parameter.KEYWORD_ONLY
    fields = {f.name: f for f in dataclasses.fields(spec.stage_class) if f.name != "name"}
    names = [*spec.by_position, *(f for f in fields if f not in spec.by_position)]
    out = [inspect.Parameter("table", first, annotation="Table")]
    for name in names:
        f = fields[name]
        default = f.default_factory() if f.default_factory is not dataclasses.MISSING else f.default
        out.append(inspect.Parameter(name, first if name in spec.by_position else later, default=default, annotation=f.type))
    out += [p.replace(kind=later) for p in own_parameters(spec)]
    common = {f.name: f for f in dataclasses.fields(Request)[3:]}
    for f in common.values():
        if f.name not in fields and (f.name != "folds" or spec.folds):
            default = 5 if f.name == "folds" else f.default
            out.append(inspect.Parameter(f.name, later, default=default, annotation=f.type))
    return out


def own_parameters(spec: StageCall) -> list[inspect.Parameter]:
    return list(inspect.signature(spec.run).parameters.values())[1:]


def docstring_of(spec: StageCall) -> str:
    """The docstring of the stage, with the table, the call's own parameters and those of every call among its parameters."""
    parts = sections(inspect.cleandoc(spec.stage_class.__doc__ or ""))
    own = inspect.cleandoc(spec.run.__doc__ or "") if own_parameters(spec) else ""
    there = {p.name for p in parameters_of(spec)}
    common = [e for e in entries(IN_EVERY_CALL.strip()) if e.split(" ", 1)[0] in there]
    known = entries(parts.get("Parameters", ""))
    parts["Parameters"] = "\n".join(["table : Table", *known, *([own] if own else []), *(e for e in common if e not in known)])
    return "\n\n".join([parts[""], *(f"{name}\n{'-' * len(name)}\n{parts[name]}" for name in SECTIONS if name in parts)]) + "\n"
