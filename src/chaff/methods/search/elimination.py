"""Who goes in an elimination: the least important first, two fifths at a time of very many, a fifth of fewer, one by one where
few are left."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

DROP_SHARE = 0.2
MANY, MANY_SHARE = 120, 0.4  # over so many features the weakest are noise by a wide margin, and each size costs most
SINGLY = 8  # from so many features on one goes at a time


def without_weakest(current: Sequence[str], pinned: Collection[str], importance: Mapping[str, float]) -> list[str]:
    """The features that are left when the weakest have gone, of equals the first by name; all of them where all are pinned."""
    size = len(current)
    share = MANY_SHARE if size > MANY else DROP_SHARE
    go = max(1, min(round(share * size), size - SINGLY)) if size > SINGLY else 1
    going = sorted((f for f in current if f not in pinned), key=lambda f: (importance[f], f))
    gone = set(going[:go])
    return [f for f in current if f not in gone]
