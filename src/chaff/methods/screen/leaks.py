"""Leaks: the one rule by which a feature is too good to be true, whatever its share of the target was measured by.

What a table's columns say of the target together: cross-validated, by a straight line in all of them, and by exact sums.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from chaff.arrays import Floats
from chaff.evaluate.setting import Setting
from chaff.models.forms import sample
from chaff.models.least_squares import fit_linear
from chaff.stats.dependence import relations
from chaff.stats.tolerances import EXACT
from chaff.table.moments import Moments, part_moments
from chaff.table.table import Table

PENALTY = 0.01
WIDEST = 200  # columns, those that say most alone
MOST_LEVELS = 100  # of a category: one of thousands would be a matrix of its own, of levels that hardly come twice
MOST_IN_A_SUM = 3
SUM_COLUMNS = 30
FEWEST_ROWS = 30
SAME_CELLS = 0.5  # of the rows, in which a column and the target differ by one and the same number
MANY_VALUES = 10
DIGITS, STEPS = 6, 3.0  # digits after the point that a rounded target has at most, and steps that it spreads over at least


def joint_r2(table: Table, explained: Mapping[str, float], setting: Setting) -> float:
    """R² of ridge on these features together, over the folds; 0 where it does worse than the mean."""
    able = [f for f in explained if len(table.levels(f)) <= MOST_LEVELS]
    features = sorted(able, key=lambda f: (-explained[f], f))[:WIDEST]
    if not features:
        return 0.0
    subset, folds = table.with_features(features), setting.folds
    part = folds.parts[0]
    taking = part >= 0
    moments = part_moments(subset, features, part, int(part.max()) + 1, setting.work)
    lost, none = 0.0, 0.0
    for split in (s for s in folds.splits if s.repeat == 0):
        fitted = fit_linear(Moments.sum_of([moments[j] for j in split.train]), PENALTY)
        rows = np.flatnonzero(taking & (part == split.test))
        test = subset.take(rows)
        train = table.targets[np.isin(part, split.train)].mean(0)
        w = np.ones(len(test)) if test.weights is None else test.weights
        lost += float((w[:, None] * (test.targets - fitted.predict(sample(test, "design"))) ** 2).sum())
        none += float((w[:, None] * (test.targets - train) ** 2).sum())
    return max(1.0 - lost / none, 0.0) if none > 0 else 0.0


def sums_to_target(table: Table, strength: Mapping[str, float]) -> dict[str, str]:
    """Number columns that add up to the target exactly, two or three of them: feature → the equation."""
    if table.target.task != "regression" or len(table) < FEWEST_ROWS:
        return {}
    names = sorted((f for f in strength if table.kind(f) == "number"), key=lambda f: (-strength[f], f))[:SUM_COLUMNS]
    X = np.array([table.column(f).values for f in names] + [table.y])
    if len(names) < 2:
        return {}
    there = ~np.isnan(X).any(0)
    if there.sum() < FEWEST_ROWS + len(names):
        return {}
    result = _means_to_target(names, X[:, there], table.target.name)
    if result:
        return result
    exact = [r for r in relations(np.ascontiguousarray(X[:, there].T), EXACT) if r.column == len(names)]
    out: dict[str, str] = {}
    for r in exact:
        members = [(names[int(k)], float(c)) for k, c in zip(r.others, r.coefficients, strict=True) if c != 0]
        if 2 <= len(members) <= MOST_IN_A_SUM:
            words = _equation(table.target.name, members, r.intercept)
            out |= {f: words for f, _ in members}
    return out


def _means_to_target(names: Sequence[str], X: Floats, target: str) -> dict[str, str]:
    """Two columns whose mean, sum or difference is the target to its last digit, such as the low and the high price of a day.

    X : float64 (columns + 1, rows), the target last.
    """
    y = X[-1]
    step = next((10.0**-k for k in range(DIGITS + 1) if np.allclose(y * 10**k, np.round(y * 10**k), atol=1e-6, rtol=0)), None)
    if step is None or not y.std() > STEPS * step:
        return {}
    room = step * (0.5 + 1e-6)
    for words, a, b in (("the mean of", 0.5, 0.5), ("the sum of", 1.0, 1.0), ("the difference of", 1.0, -1.0)):
        for j in range(len(names)):
            off = np.abs(y - (a * X[j] + b * X[:-1])).max(1)
            close = [k for k in np.flatnonzero(off <= room).tolist() if k != j]
            if close:
                k = close[0]
                text = f"{target} is {words} {names[j]} and {names[k]}" + (f", to its last digit ({step:g})" if off[k] > EXACT else "")
                return {names[j]: text, names[k]: text}
    return {}


def _equation(target: str, members: Sequence[tuple[str, float]], intercept: float) -> str:
    terms = " + ".join(f if abs(c - 1) < EXACT else f"{c:.4g} × {f}" for f, c in members)
    return f"{target} = {terms}" + (f" + {intercept:.4g}" if intercept else "")


def same_cells(x: Floats, y: Floats) -> float:
    """Share of the rows in which the target is the column plus one number, or times one number; the larger.

    A measurement never repeats the target to the last digit: it was copied, and some cells were mended later.
    """
    both = ~np.isnan(x)
    x, y = x[both], y[both]
    if x.size < FEWEST_ROWS or np.unique(y).size < MANY_VALUES or np.unique(x).size < MANY_VALUES:
        return 0.0
    with np.errstate(all="ignore"):
        ratio = np.where(x != 0, y / np.where(x != 0, x, 1.0), np.nan)
    scale = float(np.abs(y).max())
    return max(_commonest((y - x) / scale if scale > 0 else y - x), _commonest(ratio[~np.isnan(ratio)]))


def _commonest(values: Floats) -> float:
    if not values.size:
        return 0.0
    _, counts = np.unique(np.round(values, 9), return_counts=True)
    return float(counts.max() / values.size)


def parted(x: Floats, classes: Floats) -> float:
    """How well a column puts the classes in order: 2 AUC - 1 averaged over the pairs of classes.  Source: Hand and Till, 2001."""
    from chaff.stats.ranks import rank_test

    both = ~np.isnan(x)
    x, codes = x[both], classes[both].astype(np.int64)
    result = []
    seen = np.unique(codes).tolist()
    for i, a in enumerate(seen):
        for b in seen[i + 1 :]:
            subset = (codes == a) | (codes == b)
            result.append(abs(2 * float(rank_test(x[subset], (codes[subset] == b).astype(np.int64), 2, None, None).auc[1]) - 1))
    return float(np.mean(result)) if result and both.sum() >= FEWEST_ROWS else 0.0


def rank_r2(x: Floats, y: Floats) -> float:
    """Spearman's rho squared: what a column says of a skewed target, whose own scale hides it."""
    from chaff.stats.ranks import ranked, spearman

    both = ~np.isnan(x)
    rho = spearman(ranked(x[both]), ranked(y[both])) if both.sum() >= FEWEST_ROWS else float("nan")
    return rho * rho if rho == rho else 0.0


NEARLY_ALL = 0.95  # share of the target that a feature explains alone
MUCH, MUCH_OF_CLASSES = 0.8, 0.5  # from which standing far above all others is odd; no column predicts class indicators perfectly
FAR_ABOVE = 3.0
LEFT_OVER = 3.0  # times as much of the target must the others leave unexplained: a good sensor among good sensors is no leak


ALONE = "possible leakage: predicts the target almost alone; no other feature to compare with. Was it recorded after the target was known?"


@dataclass(frozen=True)
class Suspicion:
    """Why a feature is suspected."""

    score: float
    limit: str
    reason: str
    blocked: bool
    """Whether it is kept out until the user says otherwise; looked at, and stays, where not."""


@dataclass(frozen=True)
class LeakRule:
    """A feature is suspected when it explains nearly all by itself, or much and far more than the next.

    Suspects are taken from the top, so that two leaks do not hide each other; a suspect is blocked only where all columns that are
    none leave much more unexplained - or, of classes, which no column's R² does justice to, where it parts them almost without a
    mistake and far above all others together. `too_good` None and `far_above` None switch the two halves off.
    """

    classes: bool
    too_good: float | None = NEARLY_ALL
    far_above: float | None = FAR_ABOVE

    def top(self, explained: Mapping[str, float]) -> tuple[str, ...]:
        """Those that have to be asked about: what they explain, the best first. The others are no suspects."""
        ranked = _ranked(explained)
        if self.too_good is not None:
            nearly = tuple(f for f in ranked if explained[f] >= self.too_good)
            if nearly:
                return nearly
        if ranked and self._stands_out(explained[ranked[0]], explained[ranked[1]] if len(ranked) > 1 else 0.0):
            return (ranked[0],)
        return ()

    def suspects(
        self, explained: Mapping[str, float], others: float | None = None, parts_classes: Collection[str] = ()
    ) -> dict[str, Suspicion]:
        """Feature → why, from the share of the target that each explains alone (R²); a feature without a figure is left out.

        others : what all columns that are no suspects explain together; the best of them alone where nothing else is known.
        parts_classes : features that put the classes in order almost without a mistake.
        """
        top = self.top(explained)
        rest = [explained[f] for f in _ranked(explained) if f not in top]
        next_best = rest[0] if rest else 0.0
        together = max(next_best, others if others is not None else next_best, 0.0)
        known = others is not None
        if top and not rest:
            return {f: Suspicion(explained[f], f"{self.too_good:g}" if self.too_good is not None else "", ALONE, False) for f in top}
        return {f: self._suspicion(explained[f], next_best, together, known, f in parts_classes) for f in top}

    def _suspicion(self, score: float, next_best: float, together: float, known: bool, parts: bool) -> Suspicion:
        all_others = f"all other features together {together:.2f}" if known else f"next-best feature {next_best:.2f}"
        if self.too_good is not None and score >= self.too_good:
            blocked = (1.0 - together) >= LEFT_OVER * (1.0 - score)
            worth_testing = (
                "Was it recorded after the target was known?"
                if blocked
                else "Other features predict as well; leakage only if it is recorded after the target."
            )
            reason = f"possible leakage: R² {score:.2f} alone; {all_others}. {worth_testing}"
            return Suspicion(score, f"{self.too_good:g}", reason, blocked)
        reason = f"possible leakage: R² {score:.2f} alone; next-best feature {next_best:.2f}; {all_others}"
        blocked = parts and self.far_above is not None and score >= self.far_above * together
        reason = reason if known else reason.replace(f", {all_others}", "")
        return Suspicion(score, f"{self.far_above:g} × next", reason, blocked)

    def _stands_out(self, first: float, second: float) -> bool:
        floor = MUCH_OF_CLASSES if self.classes else MUCH
        return self.far_above is not None and second > 0 and first >= floor and first >= self.far_above * second


def _ranked(explained: Mapping[str, float]) -> list[str]:
    known = {f: float(v) for f, v in explained.items() if v == v}
    return sorted(known, key=lambda f: (-known[f], f))
