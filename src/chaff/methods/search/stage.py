"""Search: walk through sets of features and choose the smallest that keeps up."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, ClassVar, Literal

from chaff.errors import DataError, UsageError
from chaff.evaluate.closed import CLOSED_FORM_BYTES, ClosedEngine
from chaff.evaluate.scorer import SubsetScorer
from chaff.evaluate.setting import Setting
from chaff.methods.search.sizes import nested_sizes, sizes_to_ask
from chaff.methods.search.strategy import Strategy, as_move, as_strategy, trail_of
from chaff.metrics import METRICS
from chaff.models.forest import Forest
from chaff.models.named import as_model
from chaff.models.protocols import ClosedForm, Model
from chaff.results.trail import SizeRule, Trail
from chaff.results.verdict import Verdict, drop, keep, look
from chaff.table.table import Table

DECIDERS = ("auto", "path", "forest")


@dataclass(frozen=True)
class SearchTrail(Trail):
    """A trail with what each feature is worth to the chosen set."""

    chosen: tuple[str, ...] = ()
    worth: Mapping[str, float] = field(default_factory=dict)
    """Score without the feature (members) or with it (others), less the chosen set's own; better is positive for
    others, negative for members that are needed."""
    metric_label: str = ""
    rule: SizeRule = SizeRule()
    decided: Trail | None = None
    """Scores by size that the rule was applied to."""


@dataclass(frozen=True)
class Search:
    """Search by cross-validated score.

    Parameters
    ----------
    strategy : strategy, str or dict
        How to walk: ``chaff.Forward(size=10)``, "forward", "backward", "both" or ``{"name": "forward", "size": 10}``.
    model : model, str or dict
        ``chaff.Ridge(0.1)``, "ridge", "least squares", "forest" or ``{"name": "ridge", "penalty": 0.1}``.
    margin : float or None
        See `rule`: with None the smallest set within one standard error of the best (of the paired difference); otherwise
        the smallest at most so much worse than the best, in the metric's units.
    decide_by : "auto", "path" or "forest"
        What the size is decided by: the search's own scores, or a forest's on some sizes of its path. "auto": the forest's
        log loss for classes, since R² of class indicators is only a stand-in; the path's own scores for numbers.
    nested : bool or None
        Whether the size is chosen by searches run anew inside each training fold (see `chaff.methods.search.sizes`); None:
        where the search is in closed form, so that it costs next to nothing.
    spare_beyond_chance : bool
        Features that an earlier stage spares (the importance stage: what is clearly beyond chance) stay although the search
        leaves them out (`look`): a linear search cannot see an interaction, a plateau or a threshold.
    name : str
        What it goes by in a plan.

    Notes
    -----
    Linear models are searched by R² (with classes: of the class indicators) where the run's metric has no closed form. Scores
    of a search choose; they promise nothing.
    """

    strategy: Strategy | str | Mapping[str, Any] = "both"
    model: Model | str | Mapping[str, Any] = "ridge"
    margin: float | None = None
    decide_by: Literal["auto", "path", "forest"] = "auto"
    nested: bool | None = None
    spare_beyond_chance: bool = True
    name: str = ""

    use: ClassVar[str] = "search"
    loosen: ClassVar[str] = "use a smaller margin, or pin a feature (--pin-keep)"

    def __post_init__(self) -> None:
        object.__setattr__(self, "strategy", as_strategy(self.strategy))
        object.__setattr__(self, "model", as_model(self.model))
        if self.decide_by not in DECIDERS:
            raise UsageError(f"decide_by must be one of {', '.join(DECIDERS)}, not '{self.decide_by}'")
        if self.margin is not None and self.margin < 0:
            raise UsageError("search: margin must be 0 or more")

    def rule(self, setting: Setting) -> SizeRule:
        return setting.rule if self.margin is None else SizeRule(self.margin)

    def judge(self, table: Table, setting: Setting) -> SearchTrail:
        model, strategy = as_model(self.model), as_strategy(self.strategy)
        scorer = setting.scorer(table, model, _metric_of(setting, model))
        _check_memory(scorer)
        scorer.prepare()
        pinned = frozenset(f for f in table.features if setting.kept_by_pin(f))
        trail = trail_of(strategy, scorer, pinned, setting.work, f"search, {strategy.name}, {model.label}")
        chosen, decided = self._choose(trail, scorer, pinned, table, setting)
        here = scorer.walk(chosen)
        metric = scorer.metric
        gain = (here.changes(table.features).means - here.score.mean) * (1 if metric.higher_is_better else -1)
        worth = dict(zip(table.features, gain.tolist(), strict=True))
        return SearchTrail(
            trail.method,
            trail.moves,
            trail.offered,
            trail.metric,
            trail.higher_is_better,
            trail.test_share,
            trail.notes,
            chosen=chosen,
            worth=worth,
            metric_label=metric.label,
            rule=self.rule(setting),
            decided=decided,
        )

    def _choose(
        self, trail: Trail, scorer: SubsetScorer, pinned: frozenset[str], table: Table, setting: Setting
    ) -> tuple[tuple[str, ...], Trail]:
        """The features of the chosen size, and the trail of scores that chose it."""
        rule = self.rule(setting)
        judge = setting.scorer(table, Forest()) if self._asks_forest(table, scorer) else scorer
        nested = self.nested if self.nested is not None else scorer.closed
        spared = frozenset(self._spared(setting)) & frozenset(table.features) if judge is not scorer else frozenset()

        def anew(inner: SubsetScorer) -> Trail:
            return trail_of(as_strategy(self.strategy), inner, pinned, setting.work)

        found = nested_sizes(trail, scorer, judge, anew, spared) if nested else None
        by_size = trail.best_by_size()
        if found is None and judge is scorer:
            return trail.best(rule), trail
        sizes, decided = found or _sizes_on_path(trail, judge, spared)
        return trail.features_at(by_size[sizes[decided.chosen_move(rule)]]), decided

    def _asks_forest(self, table: Table, scorer: SubsetScorer) -> bool:
        classes = table.target.task == "classification" and "probabilities" not in scorer.model.gives
        return self.decide_by == "forest" or (self.decide_by == "auto" and classes)

    def verdicts(self, result: SearchTrail, setting: Setting) -> tuple[Verdict, ...]:
        chosen = set(result.chosen)
        rule = self.rule(setting)
        spared = self._spared(setting)
        out = []
        for f in result.offered:
            gain = result.worth[f]
            if f in chosen:
                out.append(keep(f, self.use, f"{result.metric_label} {-gain:+.3g} by it", "", "in the chosen set"))
                continue
            if f in spared:
                reason = f"beyond chance for the forest, though the {as_model(self.model).label} search leaves it out"
                out.append(look(f, self.use, f"importance {spared[f]:.3g}", "", reason, stays=True))
            else:
                figure = f"{result.metric_label} {gain:+.3g} with it"
                out.append(drop(f, self.use, figure, "", f"not in the smallest set {rule}"))
        return tuple(out)

    def _spared(self, setting: Setting) -> Mapping[str, float]:
        return setting.spared if self.spare_beyond_chance else {}


def _sizes_on_path(trail: Trail, judge: SubsetScorer, spared: frozenset[str]) -> tuple[list[int], Trail]:
    """(sizes of the path, trail of what the judge scores their sets)."""
    by_size = trail.best_by_size()
    sizes = sizes_to_ask(list(by_size), every=False)
    scores = judge.many([trail.moves[by_size[s]].features | spared for s in sizes])
    moves = tuple(as_move("size", "", score, "path") for score in scores)
    metric = judge.metric
    note = f"{judge.folds.how}, {metric.label} of {judge.model.label}"
    return sizes, Trail("sizes", moves, trail.offered, metric.name, metric.higher_is_better, trail.test_share, (note,))


def _check_memory(scorer: SubsetScorer) -> None:
    """Thousands of columns need tables of their square: refused with what would help, before anything is built."""
    engine = scorer.engine
    if isinstance(engine, ClosedEngine) and not engine.fits_whole:
        raise DataError(
            f"search: {len(scorer.features):,} features need {engine.bytes_needed / 2**30:.1f} GiB in closed form, over "
            f'{CLOSED_FORM_BYTES / 2**30:.0f}; cut before it, for example with [[stage]] use = "relevance", cut = {{ top = 1000 }}'
        )


def _metric_of(setting: Setting, model: Model) -> str | None:
    """The run's metric where the model can be searched by it; linear models go by R² (of the class indicators for classes)
    where the metric has no closed form, since thousands of refits would choose hardly better and take an hour."""
    if setting.metric is None:
        return None
    metric = METRICS[setting.metric]
    fits = metric.needs in model.gives and (metric.of_errors is not None or not isinstance(model, ClosedForm))
    return setting.metric if fits else "r2"
