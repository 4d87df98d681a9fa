"""The features that a file holds: a selection, saved findings, a saved search, or a plain list of names."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from chaff.errors import DataError


def features_in(path: str | Path) -> list[str]:
    """What a file keeps: of findings those that stay, of a search the set of its rule; of a text a name a line, or with commas.

    Raises
    ------
    DataError
    """
    file = Path(path)
    try:
        text = file.read_text(encoding="utf-8")
    except (OSError, UnicodeError) as error:
        raise DataError(f"{path} cannot be read: {error}") from error
    names = _of_json(file, text) if file.suffix.lower() == ".json" else [w.strip() for w in text.replace(",", "\n").splitlines()]
    names = [n for n in names if n]
    if not names:
        raise DataError(f"{path} holds no feature")
    return names


def _of_json(file: Path, text: str) -> list[str]:
    try:
        data: Any = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise DataError(f"{file} is no JSON: {error}") from error
    if isinstance(data, list) and all(isinstance(n, str) for n in data):
        return data
    form = data.get("format") if isinstance(data, dict) else None
    if form == "chaff selection":
        from chaff.decide.selection import read_selection

        return list(read_selection(file).features)
    if form == "chaff findings":
        from chaff.results.findings import read_findings

        frame = read_findings(file).frame
        return [str(f) for f in (frame.index[frame["stays"].astype(bool)] if "stays" in frame else frame.index)]
    chosen = data.get("chosen") if isinstance(data, dict) else None
    if isinstance(chosen, dict) and isinstance(chosen.get("features"), list):
        return [str(f) for f in chosen["features"]]
    raise DataError(f"{file} is no selection, no saved findings and no saved search: it names no features")
