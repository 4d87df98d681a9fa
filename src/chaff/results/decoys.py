"""Decoys that a method kept: its measured rate of false keeps on this very table."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import Any

from chaff.stats.shares import exact_interval


@dataclass(frozen=True)
class DecoyRate:
    """How many of the planted noise features were kept."""

    planted: tuple[str, ...]
    kept: tuple[str, ...]

    @classmethod
    def of(cls, planted: Sequence[str], kept: Collection[str]) -> DecoyRate:
        return cls(tuple(planted), tuple(f for f in planted if f in kept))

    @property
    def rate(self) -> float:
        return len(self.kept) / len(self.planted)

    @property
    def interval(self) -> tuple[float, float]:
        """Exact, 95 %."""
        return exact_interval(len(self.kept), len(self.planted))

    def __str__(self) -> str:
        low, high = self.interval
        named = f": {', '.join(self.kept[:4])}{' and more' if len(self.kept) > 4 else ''}" if self.kept else ""
        words = "noise feature was" if len(self.planted) == 1 else "noise features were"
        return (
            f"{len(self.kept)} of {len(self.planted)} {words} kept (false-keep rate {self.rate:.2f}, 95 %: {low:.2f} to {high:.2f}){named}"
        )

    def as_plain(self) -> dict[str, Any]:
        low, high = self.interval
        return {"planted": len(self.planted), "kept": list(self.kept), "rate": self.rate, "low": low, "high": high}


def best_decoy(ranked: Sequence[str], planted: Collection[str]) -> str:
    """Where the best decoy stands among all columns, for measurements that drop nothing."""
    place = next((k for k, f in enumerate(ranked, 1) if f in planted), 0)
    return (
        f"the best noise feature ({ranked[place - 1]}) comes {place}. of {len(ranked)}: features below it are no better than noise"
        if place
        else ""
    )
