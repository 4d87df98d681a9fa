"""Figures of the house as SVG, the same file for the same figure."""

from __future__ import annotations

import io
from collections.abc import Callable
from typing import Any

from chaff.errors import ChaffError
from chaff.report.page import Picture

FONTS = ("DejaVu Sans", "Verdana", "sans-serif")


def picture(draw: Callable[[], Any], alt: str, caption: str = "") -> Picture | None:
    """What a function draws (an axes or a figure); None where there is nothing to draw."""
    import matplotlib

    try:
        drawn = draw()
    except ChaffError:
        return None
    out = io.BytesIO()
    with matplotlib.rc_context({"svg.fonttype": "none", "svg.hashsalt": "chaff", "font.family": FONTS}):
        getattr(drawn, "figure", drawn).savefig(out, format="svg", metadata={"Date": None, "Creator": None})
    return Picture(out.getvalue(), alt, caption)
