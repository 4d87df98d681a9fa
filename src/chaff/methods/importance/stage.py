"""Importance: how much worse a forest predicts held-out rows when a feature's values are shuffled among them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass
from typing import Any, ClassVar

import numpy as np

from chaff.choices import told
from chaff.errors import UsageError
from chaff.evaluate.fitted import FittedEngine
from chaff.evaluate.setting import Setting
from chaff.evaluate.stage import name_of
from chaff.methods.importance.permutation import ShuffleFold, over_rows
from chaff.models.named import as_model
from chaff.models.protocols import Model
from chaff.results.cuts import Cut
from chaff.results.findings import Findings
from chaff.results.verdict import Verdict, drop, keep
from chaff.stats.adjust import holm
from chaff.table.table import Table


@dataclass(frozen=True)
class Importance:
    """Permutation importance on held-out rows.

    Parameters
    ----------
    model : model, str or dict
        What is fitted; it must know what shuffling a feature changes, as a forest does: ``chaff.Forest(trees=200)``.
    shuffles : int
        Times each feature is shuffled in each fold.
    level : float
        A feature is beyond chance when its Holm-adjusted one-sided p is below this.
    cut : dict or None
        Which features stay, by importance, such as ``{"top": 20}``; None measures only.

    Notes
    -----
    Importance is R² lost (numbers) or log loss gained (classes) over the folds' held-out rows when a feature is shuffled freely:
    a column that merely goes with one that matters has some too. `given_others` is the rise when only what the other features
    do not say of it is shuffled (a line for numbers, rows alike for categories); its p-value asks whether that is above zero,
    each row counted once whatever the repeats, over sums of groups, or with a long-run variance in time. A column and its
    near copy need neither, so both may be within chance. Source: Breiman, 2001; on held-out rows: Strobl et al., 2007; given
    the others: Watson and Wright, 2021.
    """

    model: Model | str | Mapping[str, Any] = "forest"
    shuffles: int = 5
    level: float = 0.05
    cut: Mapping[str, float] | None = None
    name: str = ""

    use: ClassVar[str] = "importance"
    loosen: ClassVar[str] = "loosen its cut, or pin a feature (--pin-keep)"

    def __post_init__(self) -> None:
        if self.shuffles < 1 or not 0 < self.level < 1:
            raise UsageError("importance: shuffles must be 1 or more and level between 0 and 1")
        object.__setattr__(self, "model", as_model(self.model))
        if self.cut is not None:
            Cut.from_mapping(self.cut)

    def cuts_by_target(self) -> bool:
        """Only where it was given a cut: it measures otherwise."""
        return self.cut is not None

    def judge(self, table: Table, setting: Setting) -> Findings:
        import pandas as pd

        folds, model = setting.folds, as_model(self.model)
        engine = setting.scorer(table, model).engine
        fitted = engine if isinstance(engine, FittedEngine) else FittedEngine(table, model, engine.metrics, folds, setting.work)
        units = [((s.repeat, s.test), p) for s, p in zip(folds.splits, fitted.splits, strict=True)]
        parts = setting.work.each(ShuffleFold(table, folds, model, self.shuffles, setting.work), units, name_of(self))
        by_fold = np.array([part.importance for part in parts])
        tested = over_rows(parts, table, folds)
        scale = float(np.mean([part.scale for part in parts]))
        rows = tested[0].units if tested else 0
        p = np.array([d.p_above(0.0) for d in tested])
        frame = pd.DataFrame(index=pd.Index(table.features, name="feature"))
        frame["importance"] = by_fold.mean(0)
        frame["importance_sd"] = by_fold.std(0, ddof=1)
        frame["given_others"] = np.array([d.mean for d in tested]) / scale
        frame["p"], frame["q"] = p, holm(p)
        frame["beyond_chance"] = frame["q"] < self.level
        unit_name = "R² lost" if table.target.task == "regression" else "log loss gained"
        witnesses = "groups" if table.groups is not None and table.order is None else "rows"
        notes = (f"{unit_name} on held-out rows, {rows:,} {witnesses}, {self.shuffles} shuffles; p of the rise given the others",)
        settings = {**asdict(self), "model": told(self.model, "label")}
        return Findings(
            self.use, frame, "importance", {"importance": "higher", "given_others": "higher", "p": "lower", "q": "lower"}, settings, notes
        )

    def verdicts(self, result: Findings, setting: Setting) -> tuple[Verdict, ...]:
        values = result.frame["importance"]
        cut = Cut.from_mapping(self.cut) if self.cut is not None else None
        stays = cut.stays(values) if cut is not None else None
        out = []
        for f, v in values.items():
            figure = f"importance {v:.3g}"
            if stays is None or stays[f]:
                word = "beyond chance given the others" if result.frame.loc[f, "beyond_chance"] else "within chance given the others"
                out.append(keep(str(f), self.use, figure, "" if cut is None else str(cut), word))
            else:
                out.append(drop(str(f), self.use, figure, str(cut), f"not in {cut} by importance"))
        return tuple(out)
