"""Where a figure is drawn: on what the caller gives, else on a new one; either is returned."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial, wraps
from inspect import cleandoc, signature
from io import BytesIO
from typing import Any, Literal, ParamSpec

from chaff.plots.palette import new_axes, new_figure

P = ParamSpec("P")
NEW = {"ax": new_axes, "figure": new_figure}
TYPES = {"ax": "matplotlib Axes", "figure": "matplotlib Figure"}


def drawn_on(place: Literal["ax", "figure"], width: float = 10.0) -> Callable[[Callable[P, None]], Callable[P, Any]]:
    """For a function with a keyword `ax` (one panel) or `figure` (several): makes the place where none is given, returns it, and adds
    both to the docstring.

    width : inches of a new figure.
    """

    def of(draw: Callable[P, None]) -> Callable[P, Any]:
        @wraps(draw)
        def drawn(*args: P.args, **kwargs: P.kwargs) -> Any:
            made = kwargs.get(place) is None
            if made:
                kwargs[place] = NEW[place](width)
            draw(*args, **kwargs)
            if made:  # a notebook shows what it owns by itself
                kwargs[place]._repr_png_ = partial(_as_png, kwargs[place])  # type: ignore[attr-defined]
            return kwargs[place]

        drawn.__signature__ = signature(draw).replace(return_annotation=TYPES[place])  # type: ignore[attr-defined]
        drawn.__doc__ = _completed(cleandoc(draw.__doc__ or ""), place)
        return drawn

    return of


def _as_png(drawn: Any) -> bytes:
    """The picture at the end of a notebook's cell."""
    figure, out = getattr(drawn, "figure", drawn), BytesIO()
    figure.savefig(out, format="png", dpi=100)
    return out.getvalue()


def _completed(doc: str, place: str) -> str:
    """The docstring with the place among its parameters, and as what is returned."""
    head, examples, rest = doc.partition("Examples\n--------\n")
    head, returns, what = head.partition("Returns\n-------\n")
    if "Parameters\n----------\n" not in head:
        head = f"{head.rstrip()}\n\nParameters\n----------\n"
    head = f"{head.rstrip()}\n{place} : {TYPES[place]}, optional\n    Where to draw; a new one if left out.\n\n"
    what = what if returns else f"{TYPES[place]}\n\n"
    return f"{head}Returns\n-------\n{what}{examples}{rest}"
