"""Given the others: shuffled freely, and shuffled only in what the other columns do not say of a feature."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from chaff.errors import UsageError
from chaff.evaluate.setting import Setting
from chaff.methods.importance.permutation import ShuffleFold, over_rows
from chaff.methods.importance.way import prepared
from chaff.models.protocols import Model
from chaff.results.findings import Findings
from chaff.stats.p_adjustment import holm
from chaff.table.table import Table


@dataclass(frozen=True)
class GivenOthers:
    """Permutation importance on test-fold rows, with a test of what a feature adds to the other features; for tree models.

    Parameters
    ----------
    shuffles : int
        Times each feature is shuffled in each fold.
    alpha : float
        A feature is beyond chance when its Holm-adjusted one-sided p is below this.

    Notes
    -----
    Importance is R² lost (numbers) or log loss gained (classes) over the folds' held-out rows when a feature is shuffled freely:
    a column that merely goes with one that matters has some too. `given_others` is the rise when only what the other features
    do not say of it is shuffled (a line for numbers, rows alike for categories); its p-value asks whether that is above zero,
    each row counted once whatever the repeats, over sums of groups, or with a long-run variance in time. A column and its
    near copy need neither, so both may be within chance. Source: Breiman, 2001; on held-out rows: Strobl et al., 2007; given
    the others: Watson and Wright, 2021.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=200).with_features(["protein_pct", "ash_pct", "lab_temp_c"])
    >>> chaff.importance(lots, chaff.Forest(trees=20), by=chaff.GivenOthers(shuffles=3)).ranked().index[0]
    'protein_pct'
    """

    shuffles: int = 5
    alpha: float = 0.05

    name: ClassVar[str] = "given others"
    says: ClassVar[str] = (
        "rise in test-fold loss when a feature is permuted; conditional: when only the part that the other "
        "features do not predict is permuted. Near-duplicates both score low on the second"
    )

    def __post_init__(self) -> None:
        if not 1 <= self.shuffles <= 64 or not 0 < self.alpha < 1:
            raise UsageError("given others: shuffles must be 1 to 64 and alpha between 0 and 1")

    def measure(self, table: Table, model: Model, setting: Setting) -> Findings:
        import pandas as pd

        folds = setting.folds
        units = [((s.repeat, s.test), p) for s, p in zip(folds.splits, prepared(table, model, setting).splits, strict=True)]
        parts = setting.work.each(ShuffleFold(table, folds, model, self.shuffles, setting.work), units, "importance")
        scale = float(np.mean([part.scale for part in parts]))
        by_fold = np.array([part.importance for part in parts]) / scale
        tested = over_rows(parts, table, folds)
        rows = tested[0].units if tested else 0
        p = np.array([d.p_above(0.0) for d in tested])
        frame = pd.DataFrame(index=pd.Index(table.features, name="feature"))
        frame["importance"] = by_fold.mean(0)
        frame["importance_sd"] = by_fold.std(0, ddof=1)
        top = float(frame["importance"].max()) if len(frame) else 0.0
        frame["scaled"] = frame["importance"].clip(lower=0.0) / top if top > 0 else 0.0
        frame["given_others"] = np.array([d.mean for d in tested]) / scale
        frame["p"], frame["q"] = p, holm(p)
        frame["significant"] = frame["q"] < self.alpha
        unit_name = "R² lost" if table.target.task == "regression" else "log loss gained"
        witnesses = "groups" if table.groups is not None and table.order is None else "rows"
        notes = (
            self.says,
            (
                f"{unit_name} on test folds, {rows:,} {witnesses}, {self.shuffles} permutations; p: one-sided test of "
                "conditional importance > 0"
            ),
        )
        settings = {"by": self.name, "model": model.label, "shuffles": self.shuffles, "alpha": self.alpha}
        more = {"by_fold": pd.DataFrame({f"fold {k}": v for k, v in enumerate(by_fold, 1)}, index=frame.index)}
        better = {"importance": "higher", "given_others": "higher", "p": "lower", "q": "lower"}
        return Findings("importance", frame, "importance", better, settings, notes, more)  # type: ignore[arg-type]
