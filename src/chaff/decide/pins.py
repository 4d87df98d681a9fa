"""Pins: a user's own decisions, always with a reason."""

from __future__ import annotations

from collections.abc import Iterable

from chaff.errors import ArgumentError, UnknownColumn, UsageError, nearest
from chaff.results.verdict import Pin
from chaff.table.table import Table


def pin_keep(feature: str, because: str) -> Pin:
    """Keep this feature whatever the stages say; a blocked one (a suspected leak or id) comes in.

    >>> pin_keep("ash_pct", because="the miller has to report it anyway").verdict
    'keep'
    """
    return _pin(Pin(feature, "keep", because))


def pin_drop(feature: str, because: str) -> Pin:
    """Leave this feature out from the start.

    >>> pin_drop("dough_temp_c", because="the probe is being replaced").verdict
    'drop'
    """
    return _pin(Pin(feature, "drop", because))


def _pin(pin: Pin) -> Pin:
    if not pin.because.strip():
        raise UsageError(f"pin of '{pin.feature}' needs a reason: because=… (--because)")
    return pin


def checked_pins(pins: Iterable[Pin], table: Table) -> dict[str, Pin]:
    """Pins by feature; unknown names and contradictions are refused."""
    out: dict[str, Pin] = {}
    for pin in pins:
        if not isinstance(pin, Pin):
            raise ArgumentError(f"pins must be made by chaff.pin_keep or chaff.pin_drop, not {pin!r}")
        left_out = pin.feature not in table.features and bool(table.terms.features) and pin.feature in table.source.known
        if left_out and pin.verdict == "drop":
            continue  # it is not offered anyway
        if left_out:
            raise UsageError(f"'{pin.feature}' is pinned in, but it is not among the features that were named: name it too")
        if pin.feature not in table.features:
            known = table.features
            raise UnknownColumn(f"pin: '{pin.feature}' is not a feature of {table.label}.{nearest(pin.feature, known)}")
        if pin.feature in out and out[pin.feature].verdict != pin.verdict:
            raise UsageError(f"'{pin.feature}' is pinned both to keep and to drop")
        out[pin.feature] = pin
    return out
