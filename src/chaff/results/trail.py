"""Trail: what a search did, one row a move, and which point of it to choose."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.arrays import Floats
from chaff.errors import UsageError
from chaff.results.plain import records
from chaff.results.score import corrected_error
from chaff.results.shown import frame_html, frame_text
from chaff.stats.tolerances import TIE
from chaff.visible import Shown

if TYPE_CHECKING:
    import pandas as pd


SHOWN = ("search", "search_se", "cv", "cv_se", "optimism", "cost", "added", "removed", "chosen")
ROUNDING = 1e-12  # of a score, below which a difference is none


@dataclass(frozen=True)
class Move:
    """One step: a feature came or went, and what the set then scored in every fold."""

    action: str
    """"start", "add", "remove"; "exchange", "try", "draw", "generation" where a strategy makes such moves."""
    feature: str
    features: frozenset[str]
    values: Floats
    direction: str = ""
    """Which search made it: "forward" or "backward"."""
    facts: Mapping[str, Any] = field(default_factory=dict)
    """What the strategy has of its own to say of this move, such as the generation or the temperature."""


@dataclass(frozen=True, repr=False)
class Trail(Shown):
    """The moves of a search, the features that were on offer and the metric they were scored by."""

    method: str
    moves: tuple[Move, ...]
    offered: tuple[str, ...]
    metric: str
    higher_is_better: bool
    test_share: float
    notes: tuple[str, ...] = ()
    stopped: str = ""
    """Why it ended before its end; empty where it came to it."""
    preferred: Mapping[int, int] = field(default_factory=dict, repr=False)
    """Size → the move that is taken where several sets of that size score best alike."""

    @cached_property
    def means(self) -> Floats:
        return np.array([m.values.mean() for m in self.moves])

    @cached_property
    def frame(self) -> pd.DataFrame:
        """One row a move, indexed by it: action, feature, size, direction, score, score_se."""
        rows = [
            {"action": m.action, "feature": m.feature, "size": len(m.features), "direction": m.direction, "score": mean}
            | {"score_se": corrected_error(m.values, self.test_share)}
            | {k: v for k, v in m.facts.items() if isinstance(v, int | float | str)}
            for m, mean in zip(self.moves, self.means.tolist(), strict=True)
        ]
        return trail_frame(rows, ("direction", "score", "score_se"))

    def _title(self) -> str:
        return f"{self.method} · {len(self.moves)} moves"

    def __str__(self) -> str:
        return frame_text(self._title(), self.frame, ("action", "feature", "size", "score", "score_se"), self.notes)

    def _repr_html_(self) -> str:
        return frame_html(self._title(), self.frame, ("action", "feature", "size", "score", "score_se"), self.notes)

    def as_plain(self) -> dict[str, Any]:
        return {"method": self.method, "metric": self.metric, "offered": list(self.offered), "moves": records(self.frame)}

    def features_at(self, move: int) -> tuple[str, ...]:
        """The set after that move, in the order of the table."""
        if not 0 <= move < len(self.moves):
            raise UsageError(f"the trail has moves 0 to {len(self.moves) - 1}, not {move}")
        held = self.moves[move].features
        return tuple(f for f in self.offered if f in held)

    def best_move(self) -> int:
        """The move with the best score; among equals the smallest set."""
        sign = 1.0 if self.higher_is_better else -1.0
        sizes = [len(m.features) for m in self.moves]
        return max(range(len(self.moves)), key=lambda k: (sign * self.means[k], -sizes[k]))

    def best_by_size(self, allowed: Callable[[frozenset[str]], bool] = lambda _: True) -> dict[int, int]:
        """Size → the best move of that size, of those whose set is allowed."""
        sign = 1.0 if self.higher_is_better else -1.0
        out: dict[int, int] = {}
        for k, move in enumerate(self.moves):
            size = len(move.features)
            if not allowed(move.features):
                continue
            if size not in out or sign * self.means[k] > sign * self.means[out[size]]:
                out[size] = k
        for size, k in self.preferred.items():
            if size in out and allowed(self.moves[k].features) and sign * self.means[k] >= sign * self.means[out[size]] - TIE:
                out[size] = k
        return dict(sorted(out.items()))


@dataclass(frozen=True, repr=False)
class SizedTrail(Trail):
    """A trail with a score of each size: what `chaff.search` and the search of a run share, read and printed alike."""

    @property
    def label(self) -> str:
        """The strategy and the model, or the lens."""
        raise NotImplementedError

    @property
    def sizes(self) -> pd.DataFrame:
        """One row a size, indexed by it: honest and honest_se where there are any, comes and goes against the size before, features; seen,
        optimism, cost and criteria where the search has them."""
        raise NotImplementedError

    @property
    def chosen_size(self) -> int:
        raise NotImplementedError

    @property
    def choice_words(self) -> str:
        """The chosen set and why, in a line."""
        raise NotImplementedError

    def _as_read(self) -> pd.DataFrame:
        """The sizes under the words of the command line, the chosen one marked; all moves stand in `frame`."""
        import pandas as pd

        sizes = self.sizes
        out = sizes.rename(columns={"seen": "search", "seen_se": "search_se", "honest": "cv", "honest_se": "cv_se"})
        names = {"added": sizes["comes"], "removed": sizes["goes"]}
        chosen = ["chosen" if s == self.chosen_size else "" for s in sizes.index]
        out = out.assign(**{k: v.map(", ".join) for k, v in names.items()}, chosen=chosen)
        if "optimism" in out.columns:
            out["optimism"] = out["optimism"].where(out["optimism"].abs() > ROUNDING, 0.0)
        return pd.DataFrame(out[[c for c in SHOWN if c in out.columns]])

    def _title(self) -> str:
        return f"{self.label} · {len(self.moves)} moves"

    def __str__(self) -> str:
        notes = (self.choice_words, *self.notes, "every move: .frame, every size: .sizes")
        return frame_text(self._title(), self._as_read(), SHOWN, notes)

    def _repr_html_(self) -> str:
        return frame_html(self._title(), self._as_read(), SHOWN, (self.choice_words, *self.notes))


def trail_frame(rows: Sequence[Mapping[str, Any]], further: Sequence[str] = ()) -> pd.DataFrame:
    """The one shape of every trail: one row a move, indexed by `move`, with action, feature and size (how many features are
    in after it), then whatever the method measured. `further` names those columns where there may be no row."""
    import pandas as pd

    columns = ["action", "feature", "size", *further]
    frame = pd.DataFrame(list(rows), columns=columns if not rows else None)
    frame = frame[[*columns[:3], *[c for c in frame.columns if c not in columns[:3]]]]
    return frame.rename_axis("move")
