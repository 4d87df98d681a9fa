"""Changes: what differs between two runs, from their selections alone, and which settings or data may be why."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from chaff.decide.explaining import ColumnHistory, explanation_of
from chaff.decide.selection import Selection
from chaff.metrics import METRICS
from chaff.results.digits import figure, with_error
from chaff.results.plain import records
from chaff.results.shown import frame_html, frame_text
from chaff.visible import Shown

if TYPE_CHECKING:
    import pandas as pd

NONE = "—"


@dataclass(frozen=True, repr=False)
class Changes(Shown):
    """What differs between two selections.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=200)
    >>> a, b = (chaff.select(lots, chaff.Plan((chaff.Screen(), chaff.Search(model="ridge", size=k)))).selection for k in (2, 3))
    >>> chaff.changes(a, b).settings.index.tolist()
    ['stage search: size']
    """

    settings: pd.DataFrame
    """One row a setting that differs: first, second."""
    columns: pd.DataFrame
    """One row a column whose fate, deciding stage or reason differs: first, second (fate at stage), why_first, why_second."""
    scores: pd.DataFrame
    """One row a score: first, second."""
    comes: tuple[str, ...]
    """Kept by the second only."""
    goes: tuple[str, ...]
    """Kept by the first only."""
    same_data: bool
    notes: tuple[str, ...] = ()

    @property
    def same(self) -> bool:
        """Whether nothing differs but what was measured."""
        return not len(self.settings) and not len(self.columns) and self.same_data

    @property
    def headline(self) -> str:
        if self.same:
            return "nothing differs: settings, data and verdicts are the same"
        parts = [f"{len(self.settings)} settings differ" if len(self.settings) != 1 else "1 setting differs"]
        parts += ["different data" if not self.same_data else "same data"]
        parts += [f"{len(self.comes)} added, {len(self.goes)} removed" if self.comes or self.goes else "selected features identical"]
        return "; ".join(parts)

    def __str__(self) -> str:
        parts = [self.headline]
        for title, frame in (("Settings", self.settings), ("Columns", self.columns), ("Scores", self.scores)):
            if len(frame):
                parts.append(frame_text(title, frame))
        return "\n".join([*parts, *self.notes])

    def _repr_html_(self) -> str:
        parts = (("Settings", self.settings), ("Columns", self.columns), ("Scores", self.scores))
        shown = [(t, f) for t, f in parts if len(f)] or [("Settings", self.settings)]
        last = len(shown) - 1
        return "".join(
            frame_html(f"{self.headline}. {title}" if k == 0 else title, frame, notes=self.notes if k == last else ())
            for k, (title, frame) in enumerate(shown)
        )

    def as_plain(self) -> dict[str, Any]:
        return {
            "same": self.same, "same_data": self.same_data, "comes": list(self.comes), "goes": list(self.goes),
            "settings": records(self.settings), "columns": records(self.columns), "scores": records(self.scores), "notes": list(self.notes),
        }  # fmt: skip


def changes(first: Selection, second: Selection) -> Changes:
    """What differs between two runs: settings, data, verdicts with both reasons, scores.

    Parameters
    ----------
    first, second : Selection
        `run.selection`, or from `chaff.read_selection`.

    Returns
    -------
    Changes
        ``settings``, ``columns``, ``scores``, ``comes``, ``goes``; ``same`` where nothing differs.
    """
    import pandas as pd

    settings = _differing(*_alike(_settings(first), _settings(second)))
    text = [{t.feature: t for t in explanation_of(s).columns} for s in (first, second)]
    names = list(dict.fromkeys([*text[0], *text[1]]))
    rows = {f: _column(text[0].get(f), text[1].get(f)) for f in names}
    changed = {f: r for f, r in rows.items() if r is not None}
    columns = pd.DataFrame.from_dict(changed, orient="index", columns=["first", "second", "why_first", "why_second"]).rename_axis("column")
    kept = [set(s.features) for s in (first, second)]
    comes = tuple(f for f in second.features if f not in kept[0])
    goes = tuple(f for f in first.features if f not in kept[1])
    order = {f: k for k, f in enumerate([*goes, *comes])}
    columns = columns.loc[sorted(columns.index, key=lambda f: order.get(str(f), len(order)))]
    same_data = first.data.fingerprint == second.data.fingerprint
    return Changes(
        settings, columns, _scores(first, second), comes, goes, same_data, tuple(_notes(first, second, same_data, len(settings)))
    )


def _settings(selection: Selection) -> dict[str, str]:
    """Everything that was said, flat: `stage overlap: pair_limit` → 0.95."""
    plan = selection.plan
    out = {f"table: {k}": _as_text(v) for k, v in plan.get("table", {}).items()}
    out |= {f"score: {k}": _as_text(v) for k, v in plan.get("score", {}).items()}
    stages = plan.get("stage", [])
    out["stages"] = ", ".join(str(s.get("name", s.get("use"))) for s in stages)
    for s in stages:
        out |= {f"stage {s.get('name', s.get('use'))}: {k}": _as_text(v) for k, v in s.items() if k not in ("use", "name")}
    out |= {f"pin: {p['feature']}": f"{p['verdict']} ({p['because']})" for p in plan.get("pin", [])}
    out["seed"] = str(selection.seed)
    return out | {f"made with: {k}": v for k, v in selection.made_with.items()}


def _alike(a: dict[str, str], b: dict[str, str]) -> tuple[dict[str, str], dict[str, str]]:
    """Without the settings of stages that only one of them has: that the stage is there says it."""
    both = {k.split(": ")[0] for k in a} & {k.split(": ")[0] for k in b}
    kept = [{k: v for k, v in d.items() if not k.startswith("stage ") or k.split(": ")[0] in both} for d in (a, b)]
    return kept[0], kept[1]


def _as_text(value: Any) -> str:
    if isinstance(value, Mapping):
        return ", ".join(f"{k} {_as_text(v)}" for k, v in value.items())
    if isinstance(value, list | tuple):
        return ", ".join(map(_as_text, value))
    return figure(value, 6) if isinstance(value, float) else str(value)


def _differing(a: dict[str, str], b: dict[str, str]) -> pd.DataFrame:
    import pandas as pd

    names = [n for n in dict.fromkeys([*a, *b]) if a.get(n) != b.get(n)]
    rows = {n: [a.get(n, NONE), b.get(n, NONE)] for n in names}
    return pd.DataFrame.from_dict(rows, orient="index", columns=["first", "second"]).rename_axis("setting")


def _column(a: ColumnHistory | None, b: ColumnHistory | None) -> list[str] | None:
    """The fates of a column where they differ."""
    given = [NONE if t is None else f"{t.fate} at {t.stage}" for t in (a, b)]
    if given[0] == given[1]:
        return None
    return [*given, *("not offered" if t is None else _why(t) for t in (a, b))]


def _why(text: ColumnHistory) -> str:
    s = text.deciding
    if s is None:
        return ""
    held = s.figure + (f" (limit {s.limit})" if s.limit else "")
    return "; ".join(w for w in (held, s.reason) if w)


SETS = {"full": "screened set", "kept": "selected set", "none": "baseline"}
SCORES_ON = {"honest folds": "honest {}", "folds": "CV {} (not honest)", "holdout": "holdout {}"}


def _scores(first: Selection, second: Selection) -> pd.DataFrame:
    import pandas as pd

    rows = {}
    for which in ("full", "kept"):
        result = [_of(s, which) for s in (first, second)]
        for key in dict.fromkeys([*result[0], *result[1]]):
            values = [f.get(key, NONE) for f in result]
            if values[0] != values[1]:
                rows[f"{SETS[which]}, {key}"] = values
    sizes = [str(len(s.kept)) for s in (first, second)]
    answers = [str((s.scores.get("honest") or {}).get("keep_up", {}).get("answer", NONE)) for s in (first, second)]
    rows |= {name: pair for name, pair in (("features selected", sizes), ("keep-up test", answers)) if pair[0] != pair[1]}
    return pd.DataFrame.from_dict(rows, orient="index", columns=["first", "second"]).rename_axis("score")


def _of(selection: Selection, which: str) -> dict[str, str]:
    out = {}
    for s in selection.scores.get(which, {}).get("scores", []):
        label = METRICS[s["metric"]].label if s["metric"] in METRICS else s["metric"]
        name = SCORES_ON.get(s["on"], "{}").format(label) + (f", {s['model']}" if s.get("model") else "")
        out[name] = with_error(float(s["mean"]), float(s.get("se", float("nan"))))
    return out


def _notes(first: Selection, second: Selection, same_data: bool, settings: int) -> list[str]:
    out = []
    if first.target.name != second.target.name:
        out.append(f"the targets differ: {first.target.name} and {second.target.name}; nothing else can be compared")
    if not same_data:
        out.append(f"the data differ: {first.data.source} ({first.data.rows:,} rows) and {second.data.source} ({second.data.rows:,} rows)")
        if settings:
            out.append("data and settings differ, so nothing says which of them is why: change one thing at a time")
    elif settings > 1:
        out.append("several settings differ, so nothing says which of them is why: change one thing at a time")
    if same_data and first.holdout.rows != second.holdout.rows:
        out.append("other rows were held out: scores on the holdout are of other rows")
    return out
