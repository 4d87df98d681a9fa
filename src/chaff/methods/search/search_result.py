"""SearchResult: what one search of sets did, what is honest of it, and what can be asked of it without searching again."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.arrays import Floats
from chaff.errors import UsageError
from chaff.evaluate.scorer import SubsetScorer
from chaff.files import save_frame
from chaff.methods.search.alternatives import WITHIN, Alternatives, alternatives
from chaff.methods.search.choice_rules import NAMES, Chosen, Criteria, Points, Rule, criteria, place_of
from chaff.methods.search.honest_losses import HonestSizes
from chaff.methods.search.strategy import Strategy
from chaff.results.findings import Better, Findings
from chaff.results.plain import plain, records
from chaff.results.score import Score, corrected_error
from chaff.results.trail import SizedTrail
from chaff.results.verdict import Pin, Verdict, drop, keep

if TYPE_CHECKING:
    import pandas as pd

Set = frozenset[str]


@dataclass(frozen=True, repr=False)
class SearchResult(SizedTrail):
    """One search: its moves, scored on folds that it has seen, and the honest score of each size.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=300).with_features(["protein_pct", "ash_pct", "straw_pct", "lab_temp_c"])
    >>> trail = chaff.search(lots, "ridge", "forward")
    >>> trail.choose({"size": 2}).features
    ('protein_pct', 'ash_pct')
    >>> trail.sizes.columns.tolist()[:5]
    ['seen', 'seen_se', 'honest', 'honest_se', 'optimism']
    """

    strategy: Strategy = field(kw_only=True)
    scorer: SubsetScorer = field(kw_only=True, repr=False)
    pins: Mapping[str, Pin] = field(kw_only=True, default_factory=dict)
    honest: HonestSizes | None = field(kw_only=True, repr=False, default=None)
    """None where it was left out, or where no fold leaves enough rows to search on."""
    evaluations: int = field(kw_only=True, default=0)
    """Sets that were scored, those inside folds not counted."""
    saved: int = field(kw_only=True, default=0)
    """Sets that were known already."""
    seconds: float = field(kw_only=True, default=0.0)

    @property
    def pinned(self) -> Set:
        """Features that are in every set."""
        return frozenset(f for f, p in self.pins.items() if p.verdict == "keep" and f in self.offered)

    @property
    def label(self) -> str:
        return f"{self.strategy.name} · {self.scorer.model.label}"

    @property
    def chosen_size(self) -> int:
        return len(self.choose().features)

    @property
    def choice_words(self) -> str:
        return str(self.choose())

    @property
    def sign(self) -> float:
        return 1.0 if self.higher_is_better else -1.0

    @cached_property
    def frame(self) -> pd.DataFrame:
        """One row a move: action, feature, size, direction, score, score_se; cost and score_per_cost (gain over knowing nothing by
        what the set costs) where the table knows costs; what the strategy has of its own."""
        frame = super().frame.copy()
        if self.scorer.prices:
            cost = np.array([self.scorer.prices.of_set(m.features) for m in self.moves])
            gain = self.sign * (self.means - self.nothing.mean)
            frame.insert(frame.columns.get_loc("score_se") + 1, "cost", cost)
            frame.insert(
                frame.columns.get_loc("cost") + 1, "score_per_cost", np.where(cost > 0, gain / np.where(cost > 0, cost, 1.0), np.nan)
            )
        return frame

    @cached_property
    def nothing(self) -> Score:
        """What knowing nothing scores."""
        return self._score(frozenset())

    def _score(self, features: Set) -> Score:
        return self.scorer.known.get(features) or self.scorer.free()(features)

    @cached_property
    def by_size(self) -> dict[int, int]:
        """Size → the best move of that size that may cost what it costs."""
        return self.best_by_size(self.scorer.affordable)

    @cached_property
    def criteria(self) -> list[Criteria]:
        """Adjusted R², AIC and BIC of the best set of each size, on all rows that the search saw."""
        return criteria(self.scorer, [self.moves[k].features for k in self.by_size.values()])

    @cached_property
    def sizes(self) -> pd.DataFrame:
        """One row a size, of its best set: seen and seen_se (the folds that the search looked at), honest and honest_se (of searches
        that did not), optimism (seen less honest, for the better), cost, adjusted_r2, aic, bic, comes and goes against the size
        before, features."""
        import pandas as pd

        rows, before = [], frozenset[str]()
        for row, (size, k) in enumerate(self.by_size.items()):
            move = self.moves[k]
            own = {"size": size, "seen": float(self.means[k]), "seen_se": corrected_error(move.values, self.test_share)}
            if self.honest is not None:
                honest = float(self.honest.means[row])
                own |= {"honest": honest, "honest_se": float(self.honest.errors[row]), "optimism": self.sign * (own["seen"] - honest)}
            if self.scorer.prices:
                own["cost"] = self.scorer.prices.of_set(move.features)
            own |= {n: getattr(self.criteria[row], n) for n in NAMES if not np.isnan(getattr(self.criteria[row], n))}
            came, went = sorted(move.features - before), sorted(before - move.features)
            rows.append(own | {"comes": tuple(came), "goes": tuple(went), "features": self.features_at(k)})
            before = move.features
        return pd.DataFrame(rows).set_index("size")

    def plot(self, **settings: Any) -> Any:
        """The scores by size, as `chaff search` draws them; settings go to `chaff.plots.search_sizes`."""
        import chaff

        return chaff.plots.search_sizes(self, **{"chosen": self.choose(), **settings})

    def choose(self, rule: Any = "smallest", by: str | None = None) -> Chosen:
        """A set of this trail by a rule; nothing is searched or scored again.

        Parameters
        ----------
        rule : str or dict
            "smallest": within one standard error of the paired difference, at least 2 % and at most 10 % of the best's gain over knowing
            nothing, as `chaff.select` chooses; "one standard error": only the former; "best"; "knee";
            "adjusted_r2", "aic", "bic"; ``{"share": 0.98}`` of the best's gain over knowing nothing; ``{"size": 5}``;
            ``{"cost": 20}``: the best of all that it came through within a total, as seen (search with ``total_cost=20`` for an honest
            score of that).
        by : "honest" or "seen", optional
            Which score the rule reads; the honest one where there is one. What a rule has read is no evidence for what it took.

        Raises
        ------
        UsageError
        """
        given = Rule.parse(rule)
        if by not in (None, "honest", "seen") or (by == "honest" and self.honest is None):
            raise UsageError(f"by is 'honest' (where the search ran inside the folds) or 'seen', not {by!r}")
        if given.name == "cost":
            return self._within(given)
        moves = list(self.by_size.values())
        honest = self.honest if by != "seen" else None
        values = self.sign * (np.array([self.moves[k].values for k in moves]) if honest is None else honest.values)
        lower = {n: np.array([getattr(c, n) * (-1 if n == "adjusted_r2" else 1) for c in self.criteria]) for n in NAMES if given.name == n}
        points = Points(np.array(list(self.by_size)), values, self.sign * self.nothing.mean, lower, self.test_share)
        row = place_of(given, points)
        honest_of = (float("nan"), float("nan")) if self.honest is None else (self.honest.means[row], self.honest.errors[row])
        return self._chosen(given, moves[row], *honest_of)

    def _within(self, rule: Rule) -> Chosen:
        """The best of everything that it came through for so much money; no honest score stands for it, since the searches inside the
        folds did not look at that."""
        prices = self.scorer.prices
        costs = np.array([prices.of_set(m.features) for m in self.moves])
        fit = [k for k, m in enumerate(self.moves) if prices.allow(m.features, rule.number) and self.scorer.affordable(m.features)]
        if not fit:
            raise UsageError(f"no visited set costs {rule.number:g} or less; the cheapest costs {costs.min():g}")
        order = sorted(fit, key=lambda k: (-self.sign * self.means[k], len(self.moves[k].features)))
        return self._chosen(rule, order[0], float("nan"), float("nan"))

    def _chosen(self, rule: Rule, k: int, honest: float, honest_se: float) -> Chosen:
        move = self.moves[k]
        error, cost = corrected_error(move.values, self.test_share), self.scorer.prices.of_set(move.features)
        return Chosen(str(rule), self.features_at(k), k, float(self.means[k]), error, float(honest), float(honest_se), cost)

    def findings(self, rule: Any = "smallest") -> Findings:
        """Why each column stayed or went: one row a feature with chosen, worth (what the seen score gains by its coming, or loses by
        its going; closed forms only), selection_frequency (of the folds whose own search took it at that size), and the verdict.

        rule : as in `choose`.
        """
        return _findings(self, self.choose(rule))

    def alternatives(self, within: float = WITHIN, now: Iterable[str] = ()) -> Alternatives:
        """Which features matter in all good sets.

        Parameters
        ----------
        within : float
            Share of the best's gain over knowing nothing that a good set may lack.
        now : list of str, optional
            The set that you have now: the good set that is nearest to it is named.

        Returns
        -------
        Alternatives
            For linear models with up to 25 features of all sets there are, else of those that the search met. A good set is one that
            can spare no feature: noise that does no harm is in none.
        """
        return alternatives(self.scorer.free(), self.pinned, self.met(), within, now)

    def met(self) -> Mapping[Set, Score]:
        """Every set that was scored by itself, and those that the moves came through."""
        moved = {m.features: Score(m.features, self.metric, m.values, self.test_share) for m in self.moves}
        return {**self.scorer.known, **moved}

    @cached_property
    def generations(self) -> pd.DataFrame:
        """Of a genetic search, one row a generation: best, mean, size of the best, diversity, on_front, evaluations so far."""
        import pandas as pd

        rows, tried = [], 0
        for m in self.moves:
            tried += m.action == "try"
            if m.action == "generation":
                rows.append(
                    {"generation": m.facts["generation"], "best": float(m.values.mean()), "mean": m.facts["mean"], "size": len(m.features)}
                    | {"diversity": m.facts["diversity"], "on_front": m.facts["on_front"], "tried": tried}
                )
        if not rows:
            raise UsageError(f"{self.strategy.name} has no generations; a genetic search has")
        return pd.DataFrame(rows).set_index("generation")

    def front(self, generation: int | None = None) -> pd.DataFrame:
        """Sets that no other beats in both score and size (one row a size: score), of everything the search came through, or of one
        generation of a genetic search."""
        import pandas as pd

        if generation is not None:
            result = [m.facts["front"] for m in self.moves if m.action == "generation" and m.facts["generation"] == generation]
            if not result:
                raise UsageError(f"there is no generation {generation}")
            points = dict(result[0])
        else:
            points = {size: float(self.means[k]) for size, k in self.by_size.items()}
        return _rising(pd.Series(points, dtype=float).sort_index(), self.sign).rename_axis("size").to_frame("score")

    @cached_property
    def cost_front(self) -> pd.DataFrame:
        """Sets that no other beats in both score and cost, one row a cost: score, score_se, size, features."""
        import pandas as pd

        if not self.scorer.prices:
            raise UsageError("the table knows no costs: open it with costs={…} (--cost NAME=NUMBER)")
        best: dict[float, int] = {}
        for k, m in enumerate(self.moves):
            cost = self.scorer.prices.of_set(m.features)
            if cost not in best or self.sign * self.means[k] > self.sign * self.means[best[cost]]:
                best[cost] = k
        scores = _rising(pd.Series({c: float(self.means[k]) for c, k in best.items()}).sort_index(), self.sign)
        rows = [
            {"cost": c, "score": s, "score_se": corrected_error(self.moves[best[c]].values, self.test_share)}
            | {"size": len(self.moves[best[c]].features), "features": self.features_at(best[c])}
            for c, s in scores.items()
        ]
        return pd.DataFrame(rows).set_index("cost")

    @cached_property
    def elimination(self) -> pd.DataFrame:
        """Of a search that only takes away, the order in which every feature went, those that stayed at the end last: round, and
        its importance then where a model was asked."""
        import pandas as pd

        rows, last = [], self.moves[-1]
        for number, m in enumerate(m for m in self.moves if m.action == "remove"):
            text = m.facts.get("importances", {})
            gone = (
                sorted(m.feature.split(", "), key=lambda f: (text.get(f, 0.0), f)) if not text else sorted(text, key=lambda f: (text[f], f))
            )
            rows += [{"feature": f, "round": number + 1, "importance": text.get(f, float("nan"))} for f in gone]
        if not rows:
            raise UsageError(f"{self.strategy.name} removed no feature; recursive and backward do")
        left = last.facts.get("left", {})
        stayed = sorted(last.features, key=lambda f: (left.get(f, 0.0), f))
        rows += [{"feature": f, "round": None, "importance": left.get(f, float("nan"))} for f in stayed]
        frame = pd.DataFrame(rows).set_index("feature")
        frame["round"] = frame["round"].astype("Int64")
        return frame

    def save(self, path: str | Path, rule: Any = "smallest") -> None:
        """Write to a file: .json holds everything that was found, and the set that `rule` chooses; .csv and .parquet the moves.

        Raises
        ------
        UsageError, DataError
        """
        save_frame(path, self.frame, lambda: plain(self.as_plain() | self._as_chosen(rule)))

    def _as_chosen(self, rule: Any) -> dict[str, Any]:
        chosen = self.choose(rule)
        return {"chosen": {"rule": chosen.rule, "features": list(chosen.features)}}

    def as_plain(self) -> dict[str, Any]:
        from chaff.choices import plan_value

        sets = [list(self.features_at(k)) for k in range(len(self.moves))]
        return {
            **super().as_plain(),
            "model": plan_value(self.scorer.model, "label"),
            "strategy": plan_value(self.strategy, "name"),
            "folds": self.scorer.folds.how,
            "moves": [{**row, "features": subset} for row, subset in zip(records(self.frame), sets, strict=True)],
            "sizes": records(self.sizes),
            "evaluations": self.evaluations,
            "saved": self.saved,
            "seconds": round(self.seconds, 3),
            "stopped": self.stopped,
            "notes": list(self.notes),
        }


def _rising(scores: pd.Series, sign: float) -> pd.Series:
    """Those that are better than everything before them."""
    best: Floats = np.maximum.accumulate(np.concatenate([[-np.inf], sign * scores.to_numpy()]))[:-1]
    return scores[sign * scores.to_numpy() > best + 1e-12]


COLUMNS = ("verdict", "stays", "figure", "limit", "reason", "by")


def _findings(trail: SearchResult, chosen: Chosen) -> Findings:
    """One row a feature that was on offer or is pinned out."""
    import pandas as pd

    held, size = set(chosen.features), len(chosen.features)
    worth = _worth(trail, frozenset(held))
    shares = {f: trail.honest.selection_frequency(size, f) if trail.honest is not None else float("nan") for f in trail.offered}
    verdicts = [_verdict(trail, f, f in held, worth.get(f), shares[f], chosen) for f in trail.offered]
    gone = [p for f, p in trail.pins.items() if p.verdict == "drop"]
    verdicts += [drop(p.feature, "pin", "", "", f"pinned: {p.because}") for p in gone]
    names = [v.feature for v in verdicts]
    frame = pd.DataFrame(index=pd.Index(names, name="feature"))
    frame["chosen"] = [f in held for f in names]
    frame["worth"] = [worth.get(f, float("nan")) for f in names]
    frame["selection_frequency"] = [shares.get(f, float("nan")) for f in names]
    for column in COLUMNS:
        frame[column] = [getattr(v, column) for v in verdicts]
    better: dict[str, Better] = {"worth": "higher", "selection_frequency": "higher"}
    notes = (*trail.notes, str(chosen))
    return Findings(
        "search", frame, "worth" if worth else "selection_frequency", better, {"rule": chosen.rule}, notes, {"trail": trail.frame}
    )


def _worth(trail: SearchResult, held: frozenset[str]) -> dict[str, float]:
    """What the score gains with each feature that is out, or loses without each that is in; nothing where no closed form tells."""
    scorer = trail.scorer.free()
    if not scorer.closed:
        return {}
    walk = scorer.walk(held)
    here, changes = walk.score.mean, walk.changes(scorer.features)
    gain = {f: trail.sign * (changes[f].mean - here) for f in scorer.features}
    return {f: -v if f in held else v for f, v in gain.items()}


def _verdict(trail: SearchResult, f: str, held: bool, worth: float | None, share: float, chosen: Chosen) -> Verdict:
    often = f"selected in {share:.0%} of the folds" if share == share else ""
    figure = often if worth is None else f"{trail.scorer.metric.label} {worth:+.2g} {'lost without' if held else 'gained with'} it"
    tail = f"; {often}" if often and worth is not None else ""
    pin = trail.pins.get(f)
    if pin is not None and held:
        return keep(f, "pin", figure, "", f"pinned: {pin.because}")
    if held:
        return keep(f, "search", figure, "", f"selected: {chosen.rule}{tail}")
    return drop(f, "search", figure, "", f"not selected: {chosen.rule}{tail}")
