"""Search: walk through sets of features, forward and backward, and choose the smallest that keeps up."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import ClassVar, Literal

from chaff.errors import DataError, UsageError, nearest
from chaff.evaluate.scorer import CLOSED_FORM_BYTES, SubsetScorer
from chaff.evaluate.setting import Setting
from chaff.methods.search.paths import Paths, as_move
from chaff.methods.search.sizes import nested_sizes, sizes_to_ask
from chaff.metrics import METRICS
from chaff.models.forest import Forest
from chaff.models.least_squares import LeastSquares, Ridge
from chaff.models.protocols import Exact, Model
from chaff.results.trail import SizeRule, Trail
from chaff.results.verdict import Verdict, drop, keep, look
from chaff.table.table import Table
from chaff.work import Work

DECIDERS = ("auto", "path", "forest")
MANY_FEATURES = 600
STRATEGIES = ("forward", "backward", "both")
MODELS: dict[str, Callable[[], Model]] = {"ridge": Ridge, "least squares": LeastSquares, "forest": Forest}


def named_model(name: str) -> Model:
    """A model by the name it has in a plan."""
    if name not in MODELS:
        raise UsageError(f"unknown model '{name}'; there are {', '.join(MODELS)}.{nearest(name, MODELS)}")
    return MODELS[name]()


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
    """Forward and backward search by cross-validated score.

    Parameters
    ----------
    strategy : "forward", "backward" or "both"
        Forward adds the best feature until all are in (or `size` is reached), backward removes the least missed until one
        is left. "both" does the two and takes the better set of each size; past 600 features it goes forward only, to 300
        (or `size`), and says so.
    model : str
        "ridge", "least squares" or "forest".
    size : int or None
        Largest set that forward goes to.
    patience : int or None
        Stop after so many moves in a row that beat nothing seen so far; None goes to the end, which costs next to nothing
        for linear models.
    margin : float or None
        See `rule`: with None the smallest set within one standard error of the best (of the paired difference); otherwise
        the smallest at most so much worse than the best, in the metric's units.
    decide_by : "auto", "path" or "forest"
        What the size is decided by: the search's own scores, or a forest's on some sizes of its path. "auto": the forest's
        log loss for classes, since R² of class indicators is only a stand-in; the path's own scores for numbers.
    nested : bool or None
        Whether the size is chosen by searches run anew inside each training fold (see `chaff.methods.search.sizes`); None: where
        the search is in closed form, so that it costs next to nothing.
    spare_beyond_chance : bool
        Features that the importance stage found clearly beyond chance stay although the search leaves them out (`look`):
        a linear search cannot see an interaction, a plateau or a threshold.

    Notes
    -----
    Linear models are searched by R² (with classes: of the class indicators) where the run's metric has no closed form. Scores
    of a search choose; they promise nothing.
    """

    strategy: Literal["forward", "backward", "both"] = "both"
    model: str = "ridge"
    size: int | None = None
    patience: int | None = None
    margin: float | None = None
    decide_by: Literal["auto", "path", "forest"] = "auto"
    nested: bool | None = None
    spare_beyond_chance: bool = True

    use: ClassVar[str] = "search"
    loosen: ClassVar[str] = "use a smaller margin, or pin a feature (--pin-keep)"

    def __post_init__(self) -> None:
        if self.strategy not in STRATEGIES:
            raise UsageError(f"strategy must be one of {', '.join(STRATEGIES)}, not '{self.strategy}'")
        if self.decide_by not in DECIDERS:
            raise UsageError(f"decide_by must be one of {', '.join(DECIDERS)}, not '{self.decide_by}'")
        named_model(self.model)
        if (self.size is not None and self.size < 1) or (self.patience is not None and self.patience < 1):
            raise UsageError("search: size and patience must be 1 or more")
        if self.margin is not None and self.margin < 0:
            raise UsageError("search: margin must be 0 or more")

    def rule(self, setting: Setting) -> SizeRule:
        return setting.rule if self.margin is None else SizeRule(self.margin)

    def judge(self, table: Table, setting: Setting, work: Work) -> SearchTrail:
        model = named_model(self.model)
        scorer = setting.scorer(table, model, _metric_of(setting, model))
        _check_memory(scorer)
        scorer.prepare()
        pinned = frozenset(f for f in table.features if setting.kept_by_pin(f))
        paths, notes = self._paths(len(table.features), pinned)
        trail = paths.trail(scorer, f"search, {paths.strategy}, {model.label}")
        trail = replace(trail, notes=(*trail.notes, *notes))
        chosen, decided = self._choose(trail, scorer, paths, table, setting)
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

    def _paths(self, features: int, pinned: frozenset[str]) -> tuple[Paths, tuple[str, ...]]:
        """The paths to walk, and what was shortened: a whole backward path costs the cube of the features."""
        if self.strategy != "both" or features <= MANY_FEATURES:
            return Paths(self.strategy, pinned, self.size, self.patience), ()
        size = self.size or MANY_FEATURES // 2
        note = f'{features:,} features: forward only, to {size}; strategy = "backward" walks the other way'
        return Paths("forward", pinned, size, self.patience), (note,)

    def _choose(self, trail: Trail, scorer: SubsetScorer, paths: Paths, table: Table, setting: Setting) -> tuple[tuple[str, ...], Trail]:
        """The features of the chosen size, and the trail of scores that chose it."""
        rule = self.rule(setting)
        judge = setting.scorer(table, Forest(), setting.metric) if self._asks_forest(table, scorer) else scorer
        nested = self.nested if self.nested is not None else scorer.closed
        spared = frozenset(self._beyond_chance(setting)) & frozenset(table.features) if judge is not scorer else frozenset()
        found = nested_sizes(trail, scorer, judge, paths, spared) if nested else None
        by_size = trail.best_by_size()
        if found is None and judge is scorer:
            return trail.best(rule), trail
        if found is None:
            sizes = sizes_to_ask(list(by_size), every=False)
            scores = judge.many([trail.moves[by_size[s]].features | spared for s in sizes])
            moves = tuple(as_move("size", "", score, "path") for score in scores)
            metric = judge.metric
            note = f"{setting.folds.how}, {metric.label} of {judge.model.label}"
            found = sizes, Trail("sizes", moves, trail.offered, metric.name, metric.higher_is_better, trail.test_share, (note,))
        sizes, decided = found
        return trail.features_at(by_size[sizes[decided.chosen_move(rule)]]), decided

    def _asks_forest(self, table: Table, scorer: SubsetScorer) -> bool:
        classes = table.target.task == "classification" and "probabilities" not in scorer.model.gives
        return self.decide_by == "forest" or (self.decide_by == "auto" and classes)

    def verdicts(self, result: SearchTrail, setting: Setting) -> tuple[Verdict, ...]:
        chosen = set(result.chosen)
        rule = self.rule(setting)
        spared = self._beyond_chance(setting)
        out = []
        for f in result.offered:
            gain = result.worth[f]
            if f in chosen:
                out.append(keep(f, self.use, f"{result.metric_label} {-gain:+.3g} by it", "", "in the chosen set"))
                continue
            if f in spared:
                reason = f"beyond chance for the forest, though the {self.model} search leaves it out"
                out.append(look(f, self.use, f"importance {spared[f]:.3g}", "", reason, stays=True))
            else:
                figure = f"{result.metric_label} {gain:+.3g} with it"
                out.append(drop(f, self.use, figure, "", f"not in the smallest set {rule}"))
        return tuple(out)

    def _beyond_chance(self, setting: Setting) -> dict[str, float]:
        earlier = setting.earlier.get("importance")
        if earlier is None or not self.spare_beyond_chance:
            return {}
        frame = earlier.frame
        return {str(f): float(v) for f, v in frame.loc[frame["beyond_chance"], "importance"].items()}


def _check_memory(scorer: SubsetScorer) -> None:
    """Thousands of columns need tables of their square: refused with what would help, before anything is built."""
    if scorer.closed and scorer.bytes_needed > CLOSED_FORM_BYTES:
        raise DataError(
            f"search: {len(scorer.features):,} features need {scorer.bytes_needed / 2**30:.1f} GiB in closed form, over "
            f'{CLOSED_FORM_BYTES / 2**30:.0f}; cut before it, for example with [[stage]] use = "relevance", cut = {{ top = 1000 }}'
        )


def _metric_of(setting: Setting, model: Model) -> str | None:
    """The run's metric where the model can be searched by it; linear models go by R² (of the class indicators for classes)
    where the metric has no closed form, since thousands of refits would choose hardly better and take an hour."""
    if setting.metric is None:
        return None
    metric = METRICS[setting.metric]
    return setting.metric if metric.needs in model.gives and (metric.of_errors or not isinstance(model, Exact)) else None
