"""Two models' kept sets: what they share, what is only here, and what each model loses with the other's set."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.errors import UsageError
from chaff.evaluate.scorer import SubsetScorer
from chaff.methods.comparing.learned_sets import LearnedSets
from chaff.methods.comparing.learning import Learning, learn
from chaff.methods.comparing.method import Set, StageMethod
from chaff.methods.search.stage import Search
from chaff.models.protocols import Model
from chaff.results.digits import score
from chaff.results.plain import records
from chaff.results.score import corrected_error
from chaff.results.shown import frame_html, frame_text
from chaff.visible import Shown

if TYPE_CHECKING:
    import pandas as pd


@dataclass(frozen=True, repr=False)
class TwoModels(Shown):
    """Two models, each with its own kept set and with the other's."""

    labels: tuple[str, str]
    kept: tuple[tuple[str, ...], tuple[str, ...]]
    """Each model's set, searched on all rows."""
    frame: pd.DataFrame
    """One row a model: own (score with the set it would keep, chosen inside every training fold), other (with what the other would keep),
    all, nothing; loss (own less other, in the direction that is worse above 0) with loss_se."""
    metric: str
    notes: tuple[str, ...] = ()

    @property
    def shared(self) -> tuple[str, ...]:
        """Kept by both."""
        return tuple(f for f in self.kept[0] if f in self.kept[1])

    @property
    def only(self) -> tuple[tuple[str, ...], tuple[str, ...]]:
        """Kept by the first only, by the second only."""
        return tuple(f for f in self.kept[0] if f not in self.kept[1]), tuple(f for f in self.kept[1] if f not in self.kept[0])

    @property
    def headline(self) -> str:
        (a, b), only = self.labels, self.only
        return f"{len(self.shared)} features are kept by both, {len(only[0])} by {a} only, {len(only[1])} by {b} only"

    @property
    def words(self) -> tuple[str, ...]:
        out = []
        for name, (_, r) in zip(self.labels, self.frame.iterrows(), strict=True):
            sure = "surely" if r["loss"] > 2 * r["loss_se"] > 0 else "perhaps" if r["loss"] > 0 else "not"
            how = {"surely": f"loses {score(r['loss'])}", "perhaps": f"loses {score(r['loss'])} (not significant)", "not": "loses nothing"}
            out.append(f"{name} {how[sure]} with the other's set")
        return tuple(out)

    def __str__(self) -> str:
        return frame_text(self.headline, self.frame, notes=(*self.words, *self.notes))

    def _repr_html_(self) -> str:
        return frame_html(self.headline, self.frame, notes=(*self.words, *self.notes))

    def as_plain(self) -> dict[str, Any]:
        only = self.only
        return {
            "models": list(self.labels), "shared": list(self.shared), "only_first": list(only[0]), "only_second": list(only[1]),
            "metric": self.metric, "scores": records(self.frame), "notes": list(self.notes),
        }  # fmt: skip


def two_models(data: Learning, models: tuple[Model, Model]) -> TwoModels:
    """Each model's search inside every training fold, both sets scored by both models on the rows left out."""
    import pandas as pd

    labels = (models[0].label, models[1].label if models[1].label != models[0].label else f"{models[1].label} 2")
    methods = [StageMethod(label, Search(model=m)) for label, m in zip(labels, models, strict=True)]
    learned = learn(data, methods, [], None, LearnedSets(""))
    if any(label not in learned.whole for label in labels):
        raise UsageError("; ".join(learned.notes))
    usable = [k for k in range(data.folds.count) if all(learned.inside[m][k] is not None for m in labels)]
    rows = {}
    for own_values, (label, model) in enumerate(zip(labels, models, strict=True)):
        scorer = SubsetScorer(data.table, model, data.metric, data.folds, data.work)
        values = []
        for k in usable:
            own: list[Set] = [s if (s := learned.inside[m][k].own) is not None else frozenset() for m in (label, labels[1 - own_values])]  # type: ignore[union-attr]
            values.append(scorer.on_split(k, [*own, frozenset(scorer.features), frozenset()]))
        v = np.array(values)
        sign = 1.0 if scorer.metric.higher_is_better else -1.0
        loss = sign * (v[:, 0] - v[:, 1])
        means = dict(zip(("own", "other", "all", "nothing"), v.mean(0).tolist(), strict=True))
        rows[label] = means | {"loss": float(loss.mean()), "loss_se": corrected_error(loss, data.folds.test_share)}
        metric = scorer.metric.name
    order = data.table.features
    kept = tuple(tuple(f for f in order if f in (learned.whole[m].own or ())) for m in labels)
    frame = pd.DataFrame(rows).T.rename_axis("model")
    how = f"{data.folds.how}; every set chosen inside the training fold"
    return TwoModels(labels, kept, frame, metric, (how, *learned.notes))  # type: ignore[arg-type]
