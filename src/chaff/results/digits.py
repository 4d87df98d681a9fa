"""The one number formatter: three significant digits, tiny p-values as a bound, shares in per cent, words as they are."""

from __future__ import annotations

from typing import Any

import numpy as np

TINIEST_P = 1e-16


def figure(value: Any, digits: int = 3) -> str:
    """A number with so many significant digits; empty when there is none."""
    if isinstance(value, str):
        return value
    if value is None or value != value:
        return ""
    if isinstance(value, bool | np.bool_):
        return "yes" if value else "no"
    if np.isinf(value):
        return "inf" if value > 0 else "-inf"
    if float(value).is_integer() and abs(value) < 1e6:
        return f"{int(value):,}"
    if abs(value) >= 10**digits and abs(value) < 1e6:
        return f"{value:,.0f}"
    return f"{value:.{digits}g}"


def p_value(value: float) -> str:
    """A p-value; `<1e-16` where more digits would say nothing."""
    if value != value:
        return ""
    return f"<{TINIEST_P:.0e}" if value < TINIEST_P else f"{value:.2g}"


def share(value: float) -> str:
    """A share in per cent; nothing for none."""
    if value != value or value == 0:
        return ""
    return f"{value:.0%}" if value >= 0.1 else f"{value:.1%}"


def two(value: float) -> str:
    """Two digits after the point, for what is read against 0 and 1."""
    return "" if value != value else f"{value + 0.0:.2f}".replace("-0.00", "0.00")


def cell(column: str, value: Any) -> str:
    """A cell of a findings frame by the name of its column."""
    if isinstance(value, float) and (column in ("p", "q") or column.endswith(("_p", "_q"))):
        return p_value(value)
    if column.endswith("_share") and not isinstance(value, str):
        return share(float(value))
    return figure(value)


def score(value: float) -> str:
    """A score with as many digits after the point as make three; a score of nothing is 0, not -0; empty when there is none."""
    if value != value:
        return ""
    size = abs(value)
    if size < 5e-4:
        return "0"
    return f"{value:.{3 if size < 1 else 2 if size < 10 else 1 if size < 100 else 0}f}"


def places_for(error: float) -> int:
    """Digits after the point that an error lets stand: down to its first digit, one more where that is a 1."""
    if not error > 0 or not np.isfinite(error):
        return 3
    exponent = int(np.floor(np.log10(error)))
    return int(np.clip(-exponent + (error / 10.0**exponent < 2), 0, 6))


def with_error(value: float, error: float, places: int | None = None) -> str:
    """`0.69 ± 0.02`: no more digits than the error allows, or so many; the value alone where there is no error."""
    if value != value:
        return ""
    if error != error:
        return score(value) if places is None or abs(value) < 5e-4 else _plain_zero(value, places)
    if error == 0 and abs(value) < 5e-4:
        return "0"
    places = places_for(error) if places is None else places
    return f"{_plain_zero(value, places)} ± {error:.{places}f}"


def signed(value: float, error: float) -> str:
    """`+0.01`, with the digits that its error allows."""
    return "" if value != value else f"{_plain_zero(value, places_for(error), '+')}"


def _plain_zero(value: float, places: int, sign: str = "") -> str:
    text = f"{value:{sign}.{places}f}"
    return text.replace("-", "+" if sign else "") if not text.strip("+-0.") else text


def named(name: str, value: float, digits: int = 3) -> str:
    """A figure with its name, as verdicts give it: `vif 31.2`; empty when there is none."""
    return "" if value != value else f"{name} {'infinite' if np.isinf(value) else f'{value:.{digits}g}'}"


def count(value: float) -> str:
    """Rows, which weights may have made a fraction: `1,204` or `1,204.3`.

    >>> count(1204), count(1204.26)
    ('1,204', '1,204.3')
    """
    return f"{value:,.0f}" if value == round(value) else f"{value:,.1f}"
