"""The loop by hand in a terminal: one line a move, until quit or the end of the input."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Any

from chaff.cli.console import QUIET
from chaff.cli.tables import frame_grid, notes

if TYPE_CHECKING:
    from chaff.cli.console import Show
    from chaff.methods.linear.by_hand import ByHand

HELP = "drop NAME, add NAME, undo, show, trail, save FILE, replay FILE, quit"
SHOWN = ["p", "vif", "coefficient", "cv_without", "aic_without", "adjusted_without"]
MOVES = ["action", "feature", "size", "adjusted_r_squared", "cv_r_squared", "aic", "largest_p", "largest_vif"]


def by_hand_loop(hand: ByHand, show: Show) -> None:
    """Read lines and make moves; a move that cannot be made is said, and the next line is read."""
    from chaff.errors import ChaffError

    notes(show, hand.notes)
    show.say(f" {hand.last()}")
    show.say(f"   next: {hand.suggestion}", QUIET)
    while True:
        if show.console.is_terminal:
            show.console.print(" > ", end="")
        line = sys.stdin.readline() if sys.stdin is not None else ""  # None: somebody closed it
        action, _, rest = line.strip().partition(" ")
        if not line or action in ("quit", "exit", "q"):
            return
        try:
            _do(hand, show, action, rest.strip())
        except ChaffError as error:
            show.say(f" {error}")


def _do(hand: ByHand, show: Show, action: str, name: str) -> None:
    moves: dict[str, Any] = {"drop": hand.drop, "add": hand.add, "replay": hand.replay}
    if action in moves and name:
        moves[action](name)
    elif action == "undo":
        hand.undo()
    elif action == "show":
        frame_grid(show, "In the model", hand.frame[SHOWN])
    elif action == "trail":
        frame_grid(show, "Moves", hand.trail[MOVES])
    elif action == "save" and name:
        hand.save(name)
        show.say(f" {name}")
    elif action:
        show.say(f" {HELP}", QUIET)
    if action == "undo" or (action in moves and name):
        show.say(f" {hand.last()}")
        show.say(f"   next: {hand.suggestion}", QUIET)
