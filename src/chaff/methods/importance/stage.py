"""Importance: how much worse a forest predicts held-out rows when a feature's values are shuffled among them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass, replace
from typing import ClassVar

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.errors import UsageError
from chaff.evaluate.setting import Setting
from chaff.folds import Split
from chaff.metrics import full_probabilities
from chaff.models.forest import FittedForest, Forest
from chaff.models.protocols import sample
from chaff.results.cuts import Cut
from chaff.results.findings import Findings
from chaff.results.verdict import Verdict, drop, keep
from chaff.stats.adjust import holm
from chaff.stats.tails import t_upper
from chaff.table.bins import Binning
from chaff.table.table import Table
from chaff.work import Work


@dataclass(frozen=True)
class Importance:
    """Permutation importance on held-out rows.

    Parameters
    ----------
    trees : int
        Trees of the forest.
    shuffles : int
        Times each feature is shuffled in each fold.
    level : float
        A feature is beyond chance when its Holm-adjusted one-sided p is below this.
    cut : dict or None
        Which features stay, by importance, such as ``{"top": 20}``; None measures only.

    Notes
    -----
    Importance is R² lost (numbers) or log loss gained (classes) over the folds' held-out rows. The p-value asks whether the
    mean change over those rows is above zero; with groups, over group means, since rows of one group are no independent
    witnesses. Source: Breiman, 2001; on held-out rows: Strobl et al., 2007.
    """

    trees: int = 100
    shuffles: int = 5
    level: float = 0.05
    cut: Mapping[str, float] | None = None

    use: ClassVar[str] = "importance"
    loosen: ClassVar[str] = "loosen its cut, or pin a feature (--pin-keep)"

    def __post_init__(self) -> None:
        if self.shuffles < 1 or not 0 < self.level < 1:
            raise UsageError("importance: shuffles must be 1 or more and level between 0 and 1")
        Forest(self.trees)
        if self.cut is not None:
            Cut.from_mapping(self.cut)

    def judge(self, table: Table, setting: Setting, work: Work) -> Findings:
        import pandas as pd

        folds = setting.folds
        parts = work.each(lambda k: self._fold(table, folds.rows(folds.splits[k]), folds.splits[k], work), range(folds.count))
        by_fold = np.array([p[1].mean(1) / p[2] for p in parts])
        unit = np.concatenate([p[1] for p in parts], axis=1)
        rows = np.concatenate([p[0] for p in parts])
        mean, se, df = _over_units(unit, None if table.groups is None else table.groups[rows])
        with np.errstate(all="ignore"):
            p = np.where(se > 0, t_upper(mean / se, np.full(mean.size, df)), 1.0)
        frame = pd.DataFrame(index=pd.Index(table.features, name="feature"))
        frame["importance"] = by_fold.mean(0)
        frame["importance_sd"] = by_fold.std(0, ddof=1)
        frame["p"], frame["q"] = p, holm(p)
        frame["beyond_chance"] = frame["q"] < self.level
        unit_name = "R² lost" if table.target.task == "regression" else "log loss gained"
        notes = (f"{unit_name} on held-out rows, {rows.size:,} rows, {self.shuffles} shuffles",)
        return Findings(self.use, frame, "importance", True, asdict(self), notes)

    def _fold(self, table: Table, rows: tuple[Ints, Ints], split: Split, work: Work) -> tuple[Ints, Floats, float]:
        """(test rows, loss change (features, rows) averaged over shuffles, loss scale)."""
        train, test = table.take(rows[0]), table.take(rows[1])
        binning = Binning.learn(train, table.features)
        seed = replace(work, seed=work.key("importance", split.repeat, split.test))
        fitted: FittedForest = Forest(self.trees).fit(sample(train, "bins", binning), seed)
        held = sample(test, "bins", binning)
        partners = np.array([seed.stream("shuffle", s).permutation(len(test)) for s in range(self.shuffles)])
        predicted, blocks = fitted.shuffled(held, partners, seed)
        weights = np.ones(len(test)) if test.weights is None else test.weights / test.weights.mean()
        classes = table.target.task == "classification"
        base = _loss(test.targets, predicted, classes)
        out = np.empty((len(table.features), len(test)))
        for where, change in blocks:
            after = _loss(test.targets[where], predicted[where] + change, classes)
            out[:, where] = (after - base[where]).mean(0) * weights[where]
        means = np.average(train.targets, axis=0, weights=train.weights)
        scale = 1.0 if classes else float(np.average(_loss(test.targets, means[None, :], False), weights=weights))
        return rows[1], out, scale

    def verdicts(self, result: Findings, setting: Setting) -> tuple[Verdict, ...]:
        values = result.frame["importance"]
        cut = Cut.from_mapping(self.cut) if self.cut is not None else None
        stays = cut.stays(values) if cut is not None else None
        out = []
        for f, v in values.items():
            figure = f"importance {v:.3g}"
            if stays is None or stays[f]:
                word = "beyond chance" if result.frame.loc[f, "beyond_chance"] else "not beyond chance"
                out.append(keep(str(f), self.use, figure, "" if cut is None else str(cut), word))
            else:
                out.append(drop(str(f), self.use, figure, str(cut), f"not in {cut} by importance"))
        return tuple(out)


def _loss(targets: Floats, predicted: Floats, classes: bool) -> Floats:
    """Loss of each row, over the leading axes of `predicted` (…, n, t)."""
    if not classes:
        return np.asarray(((targets - predicted) ** 2).sum(-1))
    flat = predicted.reshape(-1, predicted.shape[-1])
    p = full_probabilities(flat)
    shape = (*predicted.shape[:-1], p.shape[1])
    y = np.concatenate([1 - targets, targets], axis=1) if targets.shape[1] == 1 else targets
    return np.asarray(-(y * np.log(p.reshape(shape))).sum(-1))


def _over_units(change: Floats, groups: Ints | None) -> tuple[Floats, Floats, float]:
    """Mean change per feature, its standard error over rows or groups, and the degrees of freedom."""
    if groups is None:
        n = change.shape[1]
        return change.mean(1), change.std(1, ddof=1) / np.sqrt(n), n - 1.0
    codes, place = np.unique(groups, return_inverse=True)
    g, n = codes.size, change.shape[1]
    sums = np.zeros((change.shape[0], g))
    np.add.at(sums.T, place, change.T)
    size = np.bincount(place)
    mean = change.mean(1)
    # Sum over groups of the summed deviations: the variance of a ratio of sums over clusters (Liang and Zeger, 1986).
    off = sums - mean[:, None] * size
    return mean, np.sqrt((off**2).sum(1) * g / max(g - 1, 1)) / n, max(g - 1.0, 1.0)
