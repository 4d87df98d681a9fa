"""Search: look through every lens, and keep the smallest set that keeps up."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property, partial
from typing import TYPE_CHECKING, Any, ClassVar, Literal

import numpy as np

from chaff.errors import UsageError
from chaff.evaluate.closed import ClosedEngine, check_closed_form
from chaff.evaluate.limits import Limits
from chaff.evaluate.setting import Setting
from chaff.methods.search.additions import needed_additions, split_losses
from chaff.methods.search.forest_lens import ForestLens
from chaff.methods.search.honest_losses import HonestLosses, choices_inside, honest_losses_of
from chaff.methods.search.lens import Lens, curves_of_lenses
from chaff.methods.search.lenses import built_in_lenses, lens_of
from chaff.methods.search.linear_lens import LinearLens, search_metric
from chaff.methods.search.search_data import SearchData, averaged
from chaff.methods.search.signal import Signals, family_p
from chaff.methods.search.size_choice import ALLOWANCE, Choice, Passenger, SizeCurve, SizeRule, Sizes, choose, passengers_of
from chaff.methods.search.strategy import Strategy, as_strategy, check_sizes, largest
from chaff.metrics import Metric
from chaff.models.forms import sample
from chaff.models.least_squares import Ridge
from chaff.models.logistic import Logistic
from chaff.models.memory_needs import learns_in_passes
from chaff.models.named import as_model
from chaff.models.protocols import ClosedForm, Model, target_refusal
from chaff.results.trail import Move, SizedTrail
from chaff.results.verdict import Verdict, drop, keep, review
from chaff.stats.paired_loss import MeanDifference
from chaff.table.moments import table_moments
from chaff.table.table import Table
from chaff.work import Work

if TYPE_CHECKING:
    import pandas as pd

CUT_BEFORE = 'let relevance cut first (chaff select --plan wide; a [[stage]] use = "relevance", cut = { top = 1000 } before the search)'
RELATED = 0.3  # correlation from which two columns may stand in for each other
ALARM_R2 = 0.99
ALARM_LOSS = 0.02  # of what nothing loses


@dataclass(frozen=True, repr=False)
class SelectionSearch(SizedTrail):
    """What a search decided: its moves are the sizes of the deciding curve, with the honest scores that chose."""

    data: SearchData = field(kw_only=True, repr=False)
    lenses: tuple[Lens, ...] = field(kw_only=True, repr=False)
    curves: tuple[SizeCurve, ...] = field(kw_only=True, repr=False)
    """Every lens in every variant."""
    lens_of_curve: tuple[int, ...] = field(kw_only=True, repr=False)
    choice: Choice = field(kw_only=True)
    rule: SizeRule = field(kw_only=True)
    added: Mapping[str, float] = field(kw_only=True)
    """What the other lens adds, with the p of leaving it out."""
    honest_losses: HonestLosses = field(kw_only=True, repr=False)
    full_curve: int = field(kw_only=True, repr=False)
    """The curve whose full set is best."""
    behind: MeanDifference = field(kw_only=True)
    """What the chosen set loses more than the best of all curves."""
    strongest: tuple[str, float] = field(kw_only=True)
    """The best single column and its family p."""
    worth: Mapping[str, float] = field(kw_only=True)
    """Score without the feature (members) or with it (others) less the set's own, where the closed form tells; negative for
    members that are needed."""
    passengers: Mapping[str, Passenger] = field(kw_only=True, default_factory=dict)
    """Columns that went since nothing is lost without them."""
    suspects: tuple[str, ...] = field(kw_only=True, default=())
    """The smallest set that predicts the target almost perfectly."""

    @property
    def decided(self) -> SizeCurve:
        """The deciding curve."""
        return self.curves[self.choice.curve]

    @property
    def of_another_lens(self) -> bool:
        """Whether another lens than the chosen set's has the best score."""
        return self.lens_of_curve[self.choice.curve] != self.lens_of_curve[self.choice.leader[0]]

    @property
    def chosen(self) -> tuple[str, ...]:
        """The kept set, in the order of the table."""
        held = self.decided.sets[self.choice.place] | set(self.added)
        return tuple(f for f in self.offered if f in held)

    @property
    def label(self) -> str:
        return f"search · {self.decided.label}"

    @cached_property
    def sizes(self) -> pd.DataFrame:
        """One row a size of the deciding curve: honest, honest_se, comes, goes, features."""
        frame = self.decided.frame(self.data).rename(columns={"score": "honest", "score_se": "honest_se"})
        frame["features"] = [tuple(f for f in self.offered if f in held) for held in self.decided.sets]
        return frame

    @property
    def chosen_size(self) -> int:
        return self.decided.sizes[self.choice.place]

    @property
    def choice_words(self) -> str:
        n = len(self.chosen)
        more = f", {', '.join(self.added)} beside that size" if self.added else ""
        return f"{n} feature{'s' * (n != 1)} kept: {', '.join(self.chosen) or 'none'}{more}"

    def plot(self, **settings: Any) -> Any:
        """The score by size through every lens; settings go to `chaff.plots.score_by_size`."""
        import chaff

        return chaff.plots.score_by_size(self, **settings)

    @property
    def metric_of(self) -> Metric:
        return self.data.metric

    def best_curves(self) -> tuple[SizeCurve, ...]:
        """The best curve of each lens, in the order of the lenses."""
        out = []
        for k in range(len(self.lenses)):
            own = [c for c, of in zip(self.curves, self.lens_of_curve, strict=True) if of == k]
            out.append(max(own, key=lambda c: float((self.data.sign * c.values.mean(1)).max())))
        return tuple(out)

    def interchangeable(self) -> tuple[tuple[str, str], ...]:
        """Pairs of related features of which the folds kept the one or the other, hardly ever both; one of them is kept."""
        pairs = [p for p in self.honest_losses.interchangeable() if set(p) & set(self.chosen)]
        if not pairs:
            return ()
        layout = self.data.table.with_features(tuple(dict.fromkeys(f for p in pairs for f in p)))
        moments = table_moments(layout, layout.features, self.data.work)
        r = np.abs(np.nan_to_num(moments.correlations()))
        starts = dict(zip(layout.features, zip(moments.layout.starts, moments.layout.starts[1:], strict=False), strict=True))
        return tuple((a, b) for a, b in pairs if r[slice(*starts[a]), slice(*starts[b])].max(initial=0.0) >= RELATED)


@dataclass(frozen=True)
class Search:
    """Search for the smallest set that keeps up, by honest scores.

    Parameters
    ----------
    model : model, str or dict, optional
        The model that will be used in the end: ``chaff.Ridge(0.1)``, "logistic", "forest" … None: the one that the plan's
        [score] names; else two lenses, a linear one and a forest, and the smallest set within the bound of the best is kept.
    strategy : strategy, str or dict, optional
        How a named model walks: ``chaff.Forward(size=10)`` (a size is a bound: no larger set is kept), "floating", "recursive",
        "genetic", … (see `chaff.search`). None: what suits the model (both ways in closed form for linear ones; for others
        elimination by permutation importance, recomputed at each size).
    keep_share : float or None
        The smallest set that holds this share of what the best gains over knowing nothing. None: the smallest set whose honest
        score lies within one standard error of the paired difference of the best, at least 2 % and at most 10 % of its gain (3 %
        where one error is more than that).
    margin : float or None
        In place of that rule: at most so much worse than the best, in the metric's units.
    size : int, float or None
        So many features: the best set of that size. A share below 1 is one of the features on offer, rounded up.
    lenses : "both", "linear" or "forest"
        Which of the built-in lenses are looked through where no model is named.
    additions : bool
        Whether what only the other lens sees is added, where leaving it out given the chosen set costs.
    total_cost : float or None
        What a set may cost to measure, by the table's costs; a panel's cost is paid once. The size rule then looks only at sets that
        may cost what they cost, and the chosen set need not keep up with a full one that nobody pays for.
    seconds, evaluations : float, int or None
        Each search, on all rows and inside every fold, ends after so long or so many scored sets, with the best so far.
    name : str
        What it goes by in a plan.

    Notes
    -----
    The search is rerun inside each training fold, with every stage before it that looked at the target, and its set of each
    size is scored on the test rows: the curve. The smallest set within the bound is kept, whichever lens and penalty it comes
    from; one that is worse than the full set by the keep-up test is enlarged to the next size on its curve that is not. See
    docs/how-it-decides.md. Source: size rule after
    Breiman et al., 1984; paired errors: Nadeau and Bengio, 2003; honest losses: Tibshirani and Tibshirani, 2009.
    """

    model: Model | str | Mapping[str, Any] | None = None
    strategy: Strategy | str | Mapping[str, Any] | None = None
    keep_share: float | None = None
    margin: float | None = None
    size: int | float | None = None
    lenses: Literal["both", "linear", "forest"] = "both"
    additions: bool = True
    total_cost: float | None = None
    seconds: float | None = None
    evaluations: int | None = None
    name: str = ""

    use: ClassVar[str] = "search"
    hint_if_empty: ClassVar[str] = "use a smaller margin, or pin a feature (--pin-keep)"

    def __post_init__(self) -> None:
        if self.model is not None:
            object.__setattr__(self, "model", as_model(self.model))
        if self.strategy is not None:
            object.__setattr__(self, "strategy", as_strategy(self.strategy))
        if self.keep_share is not None and not 0 < self.keep_share <= 1:
            raise UsageError(f"search: keep_share must be over 0 and at most 1, not {self.keep_share}")
        if self.margin is not None and self.margin < 0:
            raise UsageError("search: margin must be 0 or more")
        share = isinstance(self.size, float) and 0 < self.size < 1
        if self.size is not None and not share and (self.size < 0 or self.size != int(self.size)):
            raise UsageError(f"search: size must be a whole number, 0 or more, or a share below 1, not {self.size}")
        _ = self.limits

    def uses_target(self) -> bool:
        return True

    def check_table(self, table: Table) -> None:
        """A size has to be there to be chosen, and a model has to fit the target."""
        if self.model is not None and (refusal := target_refusal(as_model(self.model), table)):
            raise UsageError(refusal)
        if self.size is not None and self.size > len(table.features):
            raise UsageError(f"size {self.size} is more than the {len(table.features)} features there are")
        if self.strategy is not None:
            check_sizes(self.strategy, len(table.features), ())
        if self.total_cost is not None and not table.costs:
            raise UsageError("total_cost needs to know what features cost: costs = { … } in the plan's [table], --cost NAME=NUMBER")

    @property
    def limits(self) -> Limits:
        return Limits(self.total_cost, self.seconds, self.evaluations)

    @property
    def rule(self) -> SizeRule:
        return SizeRule(self.keep_share, self.margin, None if self.size is None else int(self.size))

    def looked_through(self, table: Table, setting: Setting) -> tuple[Lens, ...]:
        model = self.model if self.model is not None else setting.model
        if model is None and self.strategy is None:
            linear, forest = built_in_lenses(table, setting)
            return {"both": (linear, forest), "linear": (linear,), "forest": (forest,)}[self.lenses]
        strategy = None if self.strategy is None else as_strategy(self.strategy)
        return (lens_of(as_model(model) if model is not None else Ridge(), strategy),)

    def in_passes(self, table: Table, setting: Setting) -> bool:
        return all(learns_in_passes(model) for lens in self.looked_through(table, setting) for model in lens.variants)

    def check_width(self, table: Table, setting: Setting) -> None:
        """Thousands of columns need tables of their square: refused with what would help, before anything is computed.

        Raises
        ------
        DataError
        """
        if any(isinstance(lens, LinearLens) for lens in self.looked_through(table, setting)):
            check_closed_form(table, setting.folds, CUT_BEFORE)

    def judge(self, table: Table, setting: Setting) -> SelectionSearch:
        if isinstance(self.size, float):
            return replace(self, size=largest(self.size, len(table.features))).judge(table, setting)
        lenses = self.looked_through(table, setting)
        data = replace(SearchData.of(table, setting, [m for lens in lenses for m in lens.variants]), limits=self.limits, size=self.size)
        _check_memory(data, lenses)
        seen = curves_of_lenses(lenses, data, "search")
        curves = tuple(c for s in seen for c in s.curves)
        of = tuple(k for k, s in enumerate(seen) for _ in s.curves)
        sizes, signals = Sizes(curves, data, [self._open_to(c, data) for c in curves]), Signals(data)
        floor = len(data.pinned)
        choice = choose(sizes, self.rule, partial(signals.on, None), None, floor)
        honest_losses = honest_losses_of(sizes, choices_inside(sizes, self.rule, signals, floor))
        added = self._added(lenses, sizes, of, choice, signals)
        notes = (
            f"{setting.folds.how}, the search repeated inside each, {data.metric.label}",
            *_strategy_notes(lenses, data),
            *_walk_notes(curves),
        )
        chosen = curves[choice.curve].sets[choice.place] | set(added)
        judge = _judge(lenses[of[choice.curve]], curves[choice.curve].model, data)
        notes += _separation_note(curves[choice.curve].model, chosen, table)
        return SelectionSearch(
            "search",
            _moves(curves[choice.curve]),
            table.features,
            data.metric.name,
            data.metric.higher_is_better,
            setting.folds.test_share,
            notes,
            data=data,
            lenses=lenses,
            curves=curves,
            lens_of_curve=of,
            choice=choice,
            rule=self.rule,
            added=added,
            honest_losses=honest_losses,
            full_curve=sizes.full()[0],
            behind=sizes.more((choice.curve, choice.place), choice.leader, None),
            strongest=family_p(table) if choice.nothing else ("", float("nan")),
            worth=_worth(lenses[of[choice.curve]], curves[choice.curve], chosen, data),
            passengers={} if choice.nothing else passengers_of(chosen, judge, data),
            suspects=_suspects(curves[choice.curve], data),
        )

    def _open_to(self, curve: SizeCurve, data: SearchData) -> list[bool]:
        """Which sizes may be chosen: those that the named strategy came through, and that may cost what they cost."""
        through = set(curve.sizes) if self.strategy is None or curve.trail is None else set(curve.trail.best_by_size())
        return [size in through and data.affordable(held) for size, held in zip(curve.sizes, curve.sets, strict=True)]

    def _added(self, lenses: Sequence[Lens], sizes: Sizes, of: Sequence[int], choice: Choice, signals: Signals) -> dict[str, float]:
        """What the other lens adds: still needed there given the chosen set, and not a burden here."""
        if len(lenses) < 2 or not self.additions or choice.nothing or self.size is not None:
            return {}
        data, own = sizes.data, of[choice.curve]
        rest = [k for k in range(len(of)) if of[k] != own]
        others = replace(sizes, curves=[sizes.curves[k] for k in rest], open_to=[sizes.open_to[k] for k in rest])
        theirs = choose(others, self.rule, partial(signals.on, None), None, len(data.pinned))
        if theirs.nothing:
            return {}
        here, other = sizes.curves[choice.curve], others.curves[theirs.curve]
        chosen = here.sets[choice.place]
        needed = needed_additions(chosen, _judge(lenses[of[rest[theirs.curve]]], other.model, data), other, theirs.place, data)
        fits = data.affordable(chosen | set(needed))
        return needed if needed and fits and _no_burden(here, chosen | set(needed), data) else {}

    def verdicts(self, result: SelectionSearch, setting: Setting) -> tuple[Verdict, ...]:
        chosen, label = set(result.chosen), result.metric_of.label
        out = []
        for f in result.offered:
            share = result.honest_losses.selection_frequency(f)
            often = f"selected in {share:.0%} of the folds" if share == share else ""
            gain = result.worth.get(f)
            figure = often if gain is None else f"{label} {gain:+.2g} {'without' if f in chosen else 'with'} it"
            tail = "" if gain is None or not often else f"; {often}"
            if f in result.suspects and f in chosen:
                together = "alone" if len(result.suspects) == 1 else f"with {', '.join(s for s in result.suspects if s != f)}"
                reason = (
                    f"{together} predicts {result.data.table.target.name} almost perfectly. Was it recorded after the target was known?"
                )
                out.append(review(f, self.use, figure, "", reason + tail, stays=True))
            elif f in result.added:
                reason = f"not in the {result.decided.label} set; the second model needs it beside that set (p {result.added[f]:.2g})"
                out.append(keep(f, self.use, figure if gain is not None else "", "", reason))
            elif f in chosen:
                out.append(keep(f, self.use, figure, "", "in the selected set" + tail))
            elif f in result.passengers:
                out.append(drop(f, self.use, figure, "", result.passengers[f].words(label)))
            elif result.choice.nothing:
                out.append(drop(f, self.use, figure, "", "no set predicts better than the baseline" + tail))
            else:
                out.append(drop(f, self.use, figure, "", "not selected" + tail))
        return tuple(out)


def _judge(lens: Lens, model: Model, data: SearchData) -> Model:
    """The model that judges sets through a lens, as it is grown on these rows."""
    return lens.grown(len(data.table)) if isinstance(lens, ForestLens) else model


def _moves(curve: SizeCurve) -> tuple[Move, ...]:
    """The sizes of a curve as moves: what came with each."""
    out, before = [], frozenset[str]()
    for k, here in enumerate(curve.sets):
        came = sorted(here - before)
        out.append(Move("size", came[0] if len(came) == 1 else "", here, curve.values[k], curve.label))
        before = here
    return tuple(out)


def _no_burden(curve: SizeCurve, whole: frozenset[str], data: SearchData) -> bool:
    """Whether the larger set still keeps up with the full one through the deciding lens: within half of the allowance."""
    own, full = averaged(split_losses([whole], curve.model, data)[0]), averaged(curve.losses[-1])
    none = averaged(data.none.losses[0])
    rows = data.tested
    gain = float(np.nanmean(none[rows] - full[rows]))
    return float(np.nanmean(own[rows] - full[rows])) <= ALLOWANCE / 2 * max(gain, 0.0)


def _suspects(curve: SizeCurve, data: SearchData) -> tuple[str, ...]:
    """The smallest set that predicts almost perfectly on rows it has not seen."""
    for k, size in enumerate(curve.sizes):
        if size and almost_perfect(float(curve.values[k].mean()), float(curve.values[0].mean()), data.metric):
            return tuple(sorted(curve.sets[k]))
    return ()


def almost_perfect(score: float, nothing: float, metric: Metric) -> bool:
    """R² or area 0.99 and over; a loss of at most 2 % of what nothing loses (10 % for its root)."""
    if metric.name in ("r2", "auc", "accuracy"):
        return score >= ALARM_R2 and nothing < ALARM_R2
    limit = np.sqrt(1 - ALARM_R2) if metric.name == "rmse" else ALARM_LOSS
    return nothing > 0 and score <= limit * nothing


def _worth(lens: Lens, curve: SizeCurve, chosen: frozenset[str], data: SearchData) -> dict[str, float]:
    """What one change of the chosen set would gain, where a closed form tells it for nothing."""
    if not isinstance(lens, LinearLens) or not isinstance(curve.model, ClosedForm):
        return {}
    engine = ClosedEngine(data.table, curve.model, (search_metric(data),), data.folds, data.work)
    walk = engine.walk(chosen)
    if walk is None:
        return {}
    gain = (walk.changes(data.table.features).means - walk.score.mean) * (1 if engine.metrics[0].higher_is_better else -1)
    return dict(zip(data.table.features, gain.tolist(), strict=True))


def _strategy_notes(lenses: Sequence[Lens], data: SearchData) -> tuple[str, ...]:
    from chaff.methods.search.linear_lens import FORWARD_TO, MANY_FEATURES

    n = len(data.table.features)
    if n > MANY_FEATURES and any(isinstance(lens, LinearLens) and lens.strategy is None for lens in lenses):
        return (f"{n:,} features: the linear model is searched forward only, to {FORWARD_TO}",)
    return ()


def _separation_note(model: Model, chosen: frozenset[str], table: Table) -> tuple[str, ...]:
    """Whether the classes can be told apart without a mistake on these rows, which leaves the penalty alone to hold the fit."""
    if not isinstance(model, Logistic) or not chosen:
        return ()
    fitted = model.fit(sample(table.with_features(tuple(f for f in table.features if f in chosen)), "design"), Work())
    return ("the classes of these rows are linearly separable: only the penalty keeps the coefficients finite",) * fitted.separated


def _walk_notes(curves: Sequence[SizeCurve]) -> tuple[str, ...]:
    """What strategies that the user named said of how they walk."""
    return tuple(dict.fromkeys(note for c in curves if c.trail is not None for note in c.trail.notes[1:]))


def _check_memory(data: SearchData, lenses: Sequence[Lens]) -> None:
    """Thousands of columns need tables of their square: refused with what would help, before anything is built."""
    if not any(isinstance(lens, LinearLens) for lens in lenses):
        return
    most = max((data.offered, *data.offered_inside), key=len)
    table = data.table if data.shares_sums else data.table.with_features(tuple(most))
    check_closed_form(table, data.folds, CUT_BEFORE)
