"""Comparison: methods side by side, asked for any size without learning anything again."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from itertools import combinations
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.arrays import Floats
from chaff.errors import UsageError
from chaff.evaluate.scorer import SubsetScorer
from chaff.methods.comparing.learned_sets import LearnedSets
from chaff.methods.comparing.method import FoldSets, Set
from chaff.methods.search.choice_rules import Points, Rule, place_of
from chaff.results.plain import records
from chaff.results.score import corrected_error
from chaff.results.shown import frame_html, frame_text
from chaff.stats.stability import set_stability
from chaff.visible import Shown

if TYPE_CHECKING:
    import pandas as pd

RANDOM = "random sets"
DRAWS = 10  # random sets of each size and fold
NEAR = "smallest"
SHOWN = ("smallest", "score", "score_se", "stability", "best", "best_size")
COMBINED = ("vote", "mean rank")  # made from the other methods


@dataclass(frozen=True, repr=False)
class Comparison(Shown):
    """Methods that were learned inside every training fold and scored by one model on the rows left out.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=300).with_features(["protein_pct", "ash_pct", "falling_number_s", "lab_temp_c", "straw_pct"])
    >>> found = chaff.compare(lots, ["leading", "forward"], sizes=[1, 2, 3])
    >>> found.frame.index.tolist()
    ['leading', 'forward', 'vote', 'mean rank']
    >>> found.at(2).columns.tolist()[:3]
    ['kept', 'score', 'score_se']
    """

    scorer: SubsetScorer = field(repr=False)
    splits: tuple[int, ...]
    """Of the scorer's folds, those that every method was learned in."""
    inside: Mapping[str, tuple[FoldSets | None, ...]] = field(repr=False)
    """Method → what it made of each split's training rows; None where it failed."""
    whole: Mapping[str, FoldSets] = field(repr=False)
    """Method → what it made of all rows."""
    sizes: tuple[int, ...]
    pinned: Set
    truth: Set | None = None
    notes: tuple[str, ...] = ()
    learned: LearnedSets = field(repr=False, default_factory=lambda: LearnedSets(""))
    """What the methods made of every fold, to be cut again from a file."""

    @property
    def methods(self) -> tuple[str, ...]:
        return tuple(self.inside)

    @property
    def sign(self) -> float:
        return 1.0 if self.scorer.metric.higher_is_better else -1.0

    def _scores(self, sets: Sequence[Sequence[Set | None]]) -> Floats:
        """float64 (len(sets), splits): of each split its own set; missing where there is none. Equal sets are scored once."""
        out = np.full((len(sets), len(self.splits)), np.nan)
        for column, split in enumerate(self.splits):
            requested = list(dict.fromkeys(s for row in sets if (s := row[column]) is not None))
            values = dict(zip(requested, self.scorer.on_split(split, requested), strict=True)) if requested else {}
            for k, row in enumerate(sets):
                if (here := row[column]) is not None:
                    out[k, column] = values[here]
        return out

    @cached_property
    def yardsticks(self) -> dict[str, Floats]:
        """ "all features" and "nothing": float64 (splits,)."""
        sets: list[list[Set | None]] = [[frozenset(self.scorer.features)] * len(self.splits), [frozenset()] * len(self.splits)]
        return dict(zip(("all features", "nothing"), self._scores(sets), strict=True))

    def _sets_at(self, method: str, size: int) -> list[Set | None]:
        return [None if j is None else j.at(size) for j in self.inside[method]]

    def _random_at(self, size: int) -> list[list[Set | None]]:
        names, work = sorted(set(self.scorer.features) - self.pinned), self.scorer.work
        count = max(0, size - len(self.pinned))
        drawn = []
        for k in range(DRAWS):
            order = work.stream("random set", size, k).permutation(len(names))[:count]
            drawn.append([self.pinned | {names[j] for j in order}] * len(self.splits))
        return drawn  # type: ignore[return-value]

    @cached_property
    def values(self) -> dict[str, Floats]:
        """Method → float64 (sizes, splits); random sets among them, their draws averaged."""
        rows: list[list[Set | None]] = [self._sets_at(m, s) for m in self.methods for s in self.sizes]
        rows += [subset for s in self.sizes for subset in self._random_at(s)]
        scored = self._scores(rows)
        n = len(self.sizes)
        out = {m: scored[k * n : (k + 1) * n] for k, m in enumerate(self.methods)}
        out[RANDOM] = scored[len(self.methods) * n :].reshape(n, DRAWS, -1).mean(1)
        return out

    @cached_property
    def curves(self) -> pd.DataFrame:
        """One row a method and size: kept (features really kept, mean over folds), score, score_se, stability (1 all folds keep the
        same, 0 as by chance)."""
        import pandas as pd

        rows = []
        for m, values in self.values.items():
            for k, size in enumerate(self.sizes):
                rows.append({"method": m, "size": size} | self._curve_row(m, size, values[k]))
        return pd.DataFrame(rows).set_index(["method", "size"])

    def _curve_row(self, method: str, size: int, values: Floats) -> dict[str, float]:
        sets = self._sets_at(method, size) if method in self.inside else []
        held = [s for s in sets if s is not None]
        bits = np.array([[f in s for f in self.scorer.features] for s in held]) if held else np.zeros((0, 1), bool)
        seen = values[~np.isnan(values)]
        return {
            "kept": float(np.mean([len(s) for s in held])) if held else float(size),
            "score": float(seen.mean()) if seen.size else float("nan"),
            "score_se": corrected_error(seen, self.scorer.test_share),
            "stability": set_stability(bits).value if len(held) > 1 else float("nan"),
        }

    def at(self, size: float) -> pd.DataFrame:
        """All methods at one size: a number of features, or a share of them below 1 (rounded up). Nothing is learned again."""
        import pandas as pd

        count = self.count_of(size)
        sets = [self._sets_at(m, count) for m in self.methods]
        scored = self._scores([*sets, *self._random_at(count)])
        rows = {m: self._curve_row(m, count, scored[k]) for k, m in enumerate(self.methods)}
        rows[RANDOM] = self._curve_row(RANDOM, count, scored[len(self.methods) :].mean(0))
        frame = pd.DataFrame(rows).T.rename_axis("method")
        return frame.sort_values("score", ascending=self.sign < 0, kind="stable")

    def count_of(self, size: float) -> int:
        """How many features a size means: a number, or a share of them below 1, rounded up.

        Raises
        ------
        UsageError
        """
        n = len(self.scorer.features)
        if not 0 < size <= n or (size >= 1 and size != int(size)):
            raise UsageError(f"size must be a whole number from 1 to {n}, or a share below 1, not {size}")
        return int(np.ceil(size * n - 1e-9)) if size < 1 else int(size)

    @cached_property
    def frame(self) -> pd.DataFrame:
        """One row a method: best (its score at the best size), best_size; smallest (the size that `chaff.Search` would choose), score
        and score_se there, kept, stability; own (features kept by its own rule) and own_score; seconds; failed (folds in which it
        failed); true_positives, false_negatives, false_positives against a known truth; decoys (of a table with decoys: how many of
        them are among as many leading features)."""
        import pandas as pd

        nothing = float(self.sign * np.nanmean(self.yardsticks["nothing"]))
        decoys = frozenset(self.scorer.table.decoys)
        rows: dict[str, dict[str, float]] = {}
        for m in self.methods:
            v = self.sign * self.values[m]
            usable = ~np.isnan(v).any(0)
            row: dict[str, float] = {"failed": int((~usable).sum())}
            rows[m] = row
            if decoys and m in self.whole:
                row["decoys"] = len(self.whole[m].at(len(decoys)) & decoys)
            if not usable.any():
                continue
            points = Points(np.array(self.sizes), v[:, usable], nothing, {}, self.scorer.test_share)
            best, near = place_of(Rule("best"), points), place_of(Rule(NEAR), points)
            text = self._curve_row(m, self.sizes[near], self.values[m][near])
            row |= {"best": float(self.sign * v[best, usable].mean()), "best_size": self.sizes[best], "smallest": self.sizes[near], **text}
            row |= self._own(m) | {"seconds": float(sum(j.seconds for j in self.inside[m] if j is not None))}
            if self.truth is not None:
                kept = self.whole[m].at(self.sizes[near]) if m in self.whole else frozenset[str]()
                row |= {
                    "true_positives": len(kept & self.truth),
                    "false_negatives": len(self.truth - kept),
                    "false_positives": len(kept - self.truth),
                }
        columns = ["smallest", "kept", "score", "score_se", "stability", "best", "best_size", "own", "own_score", "seconds", "failed"]
        frame = pd.DataFrame(rows).T.reindex(
            columns=[
                *columns,
                *(["true_positives", "false_negatives", "false_positives"] if self.truth is not None else []),
                *(["decoys"] if decoys else []),
            ]
        )
        return frame.rename_axis("method")

    def _own(self, method: str) -> dict[str, float]:
        sets: list[Set | None] = [None if j is None else j.own for j in self.inside[method]]
        if all(s is None for s in sets):
            return {}
        held = [len(s) for s in sets if s is not None]
        return {"own": float(np.mean(held)), "own_score": float(np.nanmean(self._scores([sets])[0]))}

    def kept(self, size: int | None = None) -> pd.DataFrame:
        """Which method keeps which feature on all rows, at its own smallest size or at one for all; those that most keep come first."""
        import pandas as pd

        held = {}
        for m in self.methods:
            if m in self.whole:
                smallest = self.frame.loc[m, "smallest"]
                held[m] = self.whole[m].at(int(size if size is not None else smallest if smallest == smallest else self.sizes[0]))
        frame = pd.DataFrame({m: [f in s for f in self.scorer.features] for m, s in held.items()}, index=list(self.scorer.features))
        frame.index.name = "feature"
        return frame.loc[frame.sum(axis=1).sort_values(ascending=False, kind="stable").index]

    @cached_property
    def agreement(self) -> pd.DataFrame:
        """One row a pair of methods: rank_correlation of their orders on all rows (Spearman), both, only_first, only_second and alike
        at their own smallest sizes."""
        import pandas as pd

        kept, rows = self.kept(), []
        for a, b in combinations([m for m in self.methods if m in self.whole], 2):
            places = [pd.Series({f: k for k, f in enumerate(self.whole[m].order)}) for m in (a, b)]
            x, y = kept[a].to_numpy(), kept[b].to_numpy()
            whole = int((x | y).sum())
            rows.append(
                {"first": a, "second": b, "rank_correlation": float(places[0].corr(places[1])), "both": int((x & y).sum())}
                | {"only_first": int((x & ~y).sum()), "only_second": int((~x & y).sum()), "alike": (x & y).sum() / whole if whole else 1.0}
            )
        return pd.DataFrame(rows)

    @cached_property
    def scores(self) -> pd.DataFrame:
        """Feature × method, measured on all rows: under each method `raw` (its own figure) and `scaled` (1 the first, 0 the last)."""
        import pandas as pd

        parts = {}
        for m, judged in self.whole.items():
            parts[(m, "raw")] = pd.Series(judged.raw, dtype=float)
            parts[(m, "scaled")] = pd.Series(judged.scaled(), dtype=float)
        frame = pd.DataFrame(parts).reindex(list(self.scorer.features))
        frame.index.name = "feature"
        return frame

    @property
    def headline(self) -> str:
        """In a line."""
        combined = [m for m in COMBINED if m in self.methods]
        further = f" and {len(combined)} combinations ({', '.join(combined)})" if combined else ""
        return f"{len(self.methods) - len(combined)} methods{further}, scored with {self.scorer.model.label}"

    def report(self, path: str | Path) -> Path:
        """Write one self-contained page of the comparison (see `chaff.write_report`)."""
        import chaff

        return chaff.write_report(self, path)

    def _as_read(self) -> pd.DataFrame:
        """The methods, the best first, with all features and nothing below them."""
        import pandas as pd

        frame = self.frame.sort_values("score", ascending=self.sign < 0, kind="stable")
        sizes = {"all features": float(len(self.scorer.features)), "nothing": 0.0}
        rows = {k: {"smallest": sizes[k], "kept": sizes[k], "score": float(np.nanmean(v))} for k, v in self.yardsticks.items()}
        return pd.concat([frame, pd.DataFrame(rows).T.reindex(columns=frame.columns)]).rename_axis("method")

    def __str__(self) -> str:
        return frame_text(self.headline, self._as_read(), SHOWN, self.notes)

    def _repr_html_(self) -> str:
        return frame_html(self.headline, self._as_read(), SHOWN, self.notes)

    def plot(self, **settings: Any) -> Any:
        """The score by size of every method, as `chaff compare` draws it; settings go to `chaff.plots.compared_curves`."""
        import chaff

        return chaff.plots.compared_curves(self, **settings)

    def as_plain(self) -> dict[str, Any]:
        return {
            "model": self.scorer.model.label,
            "metric": self.scorer.metric.name,
            "methods": records(self.frame),
            "curves": records(self.curves),
            "agreement": records(self.agreement),
            "kept": {m: [str(f) for f in k.index[k]] for m, k in self.kept().items()},
            "yardsticks": {k: float(np.nanmean(v)) for k, v in self.yardsticks.items()},
            "notes": list(self.notes),
        }
