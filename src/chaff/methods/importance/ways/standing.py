"""Split standing: how often a column wins a split among the times it stood as a candidate."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np

from chaff.arrays import Floats
from chaff.errors import UsageError
from chaff.evaluate.fitted import PreparedSplit
from chaff.evaluate.setting import Setting
from chaff.methods.importance.way import importance_findings, prepared
from chaff.models.forest import Forest, grow
from chaff.models.protocols import Model
from chaff.models.tree_growth import Drawing
from chaff.results.findings import Findings
from chaff.table.table import Table
from chaff.work import Work, task


@dataclass(frozen=True)
class SplitStanding:
    """Share of the splits that a feature wins where it is a candidate, in many shallow trees on few features each.

    Parameters
    ----------
    trees : int
        In each fold.
    columns : int
        Columns that a tree is given; all of them stand at each of its splits.
    depth : int
        Levels of each tree.
    leaf_rows : int
        Fewest rows of a leaf.

    Notes
    -----
    A split counts half as much at each level further down. By chance a column wins one split in `columns` (`importance` is the
    share less that). The trees are the way's own: the model is not asked. Every column stands about equally often, so that a
    strong one cannot hide the others; yet a near copy takes half of the wins when both are drawn.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=300).with_features(["protein_pct", "ash_pct", "lab_temp_c", "line_voltage_v"])
    >>> chaff.importance(lots, by=chaff.SplitStanding(trees=200)).ranked().index[0]
    'protein_pct'
    """

    trees: int = 1000
    columns: int = 3
    depth: int = 3
    leaf_rows: int = 10

    name: ClassVar[str] = "split standing"
    says: ClassVar[str] = (
        "share of the candidate splits that a feature won, minus the rate expected by chance. Weak features are seen "
        "beside strong ones; it does not show how much the prediction would lose, and features with many values win "
        "more"
    )

    def __post_init__(self) -> None:
        if min(self.trees, self.depth, self.leaf_rows) < 1 or self.columns < 2:
            raise UsageError("split standing: trees, depth and leaf_rows must be 1 or more, columns 2 or more")

    def measure(self, table: Table, model: Model, setting: Setting) -> Findings:
        if len(table.features) < 2:
            raise UsageError("split standing needs two features or more")
        engine = prepared(table, Forest(), setting)
        named = [((s.repeat, s.test), p) for s, p in zip(setting.folds.splits, engine.splits, strict=True)]
        counts = setting.work.each(task(_stood_and_won, self, setting.work), named, "importance")
        stood, won = np.array([c[0] for c in counts]), np.array([c[1] for c in counts])
        share = np.divide(won, stood, out=np.full_like(won, np.nan), where=stood > 0)
        chance = 1 / min(self.columns, len(table.features))
        by_fold = np.nan_to_num(share - chance, nan=0.0)
        extra = {"won_share": np.nan_to_num(share).mean(0), "stood": stood.sum(0)}
        settings = {"by": self.name, "trees": self.trees, "columns": self.columns, "depth": self.depth}
        return importance_findings(self, by_fold, table, setting.folds, settings, extra=extra, better={"won_share": "higher"})


def _stood_and_won(way: SplitStanding, work: Work, unit: tuple[tuple[int, int], PreparedSplit]) -> tuple[Floats, Floats]:
    """Weighted counts of splits stood for and won, float64 (features,) each."""
    named, split = unit
    p = len(split.train.features)
    few = min(way.columns, p)
    stood, won = np.zeros(p), np.zeros(p)
    stream = work.stream("split standing", *named)
    n = len(split.train.targets)
    drawing = Drawing.of(n, split.train.weights, None, min(n, 50_000))
    names = np.array(split.train.features)
    for t in range(way.trees):
        which = np.sort(stream.permutation(p)[:few])
        subset = replace(split.train, features=tuple(names[which]), data=split.train.data.select(tuple(names[which])))
        tree = grow(
            subset,
            Work(work.key("split standing", *named, t), 1),
            drawing,
            columns_per_split=few,
            leaf_rows=way.leaf_rows,
            depth=way.depth,
            whole_levels=True,
        )
        level = np.zeros(tree.node.size, np.int64)
        child = tree.node >> 32
        for k in range(tree.node.size):
            if child[k] != k:
                level[child[k]] = level[child[k] + 1] = level[k] + 1
                weight = 0.5 ** level[k]
                stood[which] += weight
                won[which[(tree.node[k] >> 12) & 0xFFFFF]] += weight
    return stood, won
