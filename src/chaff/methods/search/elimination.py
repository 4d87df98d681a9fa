"""Who goes in an elimination: the least important first, two fifths at a time of very many, a fifth of fewer, one by one where
few are left."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence

DROP_SHARE = 0.2
MANY, MANY_SHARE = 120, 0.4  # over so many features the weakest are noise by a wide margin, and each size costs most
SINGLY = 8  # from so many features on one goes at a time


TieBreak = Callable[[Sequence[str]], Mapping[str, float]]


def without_weakest(
    current: Sequence[str],
    pinned: Collection[str],
    importance: Mapping[str, float],
    tie_break: TieBreak,
    repeats: Collection[str] = (),
    wanted: int | None = None,
) -> list[str]:
    """The features that are left when the weakest have gone; all of them where all are pinned.

    claims : what speaks for some features by themselves, looked up where equals are parted; then by name.
    repeats : go first, all of them in one step: columns that say the same share their importance, and would leave late, together.
    wanted : a size that is not to be stepped over.
    """
    size = len(current)
    share = MANY_SHARE if size > MANY else DROP_SHARE
    go = max(1, min(round(share * size), size - SINGLY)) if size > SINGLY else 1
    most = size - wanted if wanted is not None and wanted < size else size
    go = min(go, most)
    gone = {f for f in current if f in repeats and f not in pinned}
    if len(gone) > most:
        gone = set(weakest(sorted(gone), importance, most, tie_break))
    gone |= set(weakest([f for f in current if f not in pinned and f not in gone], importance, max(0, go - len(gone)), tie_break))
    return [f for f in current if f not in gone]


def weakest(names: Sequence[str], importance: Mapping[str, float], count: int, tie_break: TieBreak) -> list[str]:
    """So many of the least important, the least first; see `without_weakest`."""
    order = sorted(names, key=lambda f: (importance[f], f))
    if 0 < count < len(order) and importance[order[count - 1]] == importance[order[count]]:
        equal = [f for f in order if importance[f] == importance[order[count]]]
        known = tie_break(equal)
        order = [f for f in order if importance[f] < importance[order[count]]] + sorted(equal, key=lambda f: (known[f], f))
    return order[:count]
