"""Which test leads for a feature, and the one scale that its effect size stands on.

By kind: Pearson r, one-way F, chi-square. Where few rows would carry a moment statistic - long tails or skew on both sides - its
distribution under chance is far from t and F, and the rank test leads instead.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.arrays import Floats
from chaff.kernels.class_sums import shape_where
from chaff.methods.relevance.relevance_data import RelevanceData
from chaff.methods.relevance.statistic import BC, BN, CC, CN, NC, NN, Pair
from chaff.stats.tail_probabilities import of_counts, on_the_scale_of_r
from chaff.visible import listed
from chaff.work import task

if TYPE_CHECKING:
    import pandas as pd

LEADS: dict[Pair, str] = {NN: "pearson_r", BN: "pearson_r", CN: "f", NC: "f", BC: "chi_square", CC: "chi_square"}
BY_RANKS: dict[Pair, str] = {NN: "spearman_rho", BN: "spearman_rho", CN: "kruskal_h", NC: "kruskal_h"}
FOURTH, THIRD = 0.5, 0.25  # excess kurtosis and skewness of r under shuffles, past which t does not describe it
COLUMNS = ("p", "effect_size", "effect_size_low", "effect_size_high")


def leads_of(view: RelevanceData) -> dict[str, str]:
    """The leading statistic of each feature; "" for what takes no part."""
    task_of = view.table.target.task
    by_kind = {f: LEADS.get((kind, task_of), "") for f, kind in view.kinds.items()}
    if view.units is not None:  # score tests hold their spread against themselves: tails make them shy, not bold
        return by_kind
    able = [f for f, kind in view.kinds.items() if (kind, task_of) in BY_RANKS]
    carried = view.work.each(task(_carried_by_few, view), able)
    ranked = {f: BY_RANKS[view.kinds[f], task_of] for f, few in zip(able, carried, strict=True) if few}
    return by_kind | ranked


def _carried_by_few(view: RelevanceData, name: str) -> bool:
    """Whether shuffles would give r, or the F of some level, far longer tails than t has.  Source: Pitman, 1937."""
    values = view.table.column(name).values
    n, *shape = _shape(values, values)
    if n < 4:
        return False
    if view.regression:
        own = list(_shape_of_target(view)) if n == values.size else _shape(view.y, values)[1:]
    else:
        own = shape
    if view.regression and view.kinds[name] == "number":
        sides = [(shape[0], shape[1])]
    else:
        codes = view.levels_of(name)[0] if view.regression else view.classes
        codes = codes if n == values.size else codes[~np.isnan(values)]
        sides = [_shape_of_flag(c / n) for c in np.bincount(codes[codes >= 0]).tolist() if 0 < c < n]
    return any(abs(s[1] * own[1]) / n > FOURTH or abs(s[0] * own[0]) / np.sqrt(n) > THIRD for s in sides)


def _shape_of_target(view: RelevanceData) -> tuple[float, ...]:
    """Made once."""
    if "shape of the target" not in view.memo:
        view.memo["shape of the target"] = tuple(_shape(view.y, view.y)[1:])
    made: tuple[float, ...] = view.memo["shape of the target"]
    return made


def _shape(values: Floats, there: Floats) -> list[float]:
    """[rows, skewness, excess kurtosis] over the rows where `there` is a number."""
    out = np.empty(3)
    shape_where(np.ascontiguousarray(values), np.ascontiguousarray(there), out)
    result: list[float] = out.tolist()
    return result


def _shape_of_flag(share: float) -> tuple[float, float]:
    both = share * (1.0 - share)
    return (1.0 - 2.0 * share) / float(np.sqrt(both)), (1.0 - 6.0 * both) / both


def put_leads(frame: pd.DataFrame, leads: dict[str, str]) -> None:
    """statistic, p and effect_size with bounds of the test that leads for each feature."""
    frame["statistic"] = [leads.get(str(f), "") for f in frame.index]
    for name in COLUMNS:
        frame[name] = np.nan
    for lead in set(leads.values()) - {""}:
        at = frame["statistic"] == lead
        part = frame.loc[at]
        frame.loc[at, "p"] = part[f"{lead}_p"]
        result = EFFECTS[lead](part)
        result["effect_size_low"] = np.minimum(result["effect_size_low"], result["effect_size"])
        result["effect_size_high"] = np.maximum(result["effect_size_high"], result["effect_size"])
        for name, values in result.items():
            frame.loc[at, name] = values


def _of_r(stem: str) -> Callable[[pd.DataFrame], dict[str, Any]]:
    def effect(part: pd.DataFrame) -> dict[str, Any]:
        r, low, high = (part[f"{stem}{end}"].to_numpy(float) for end in ("", "_low", "_high"))
        across = (low < 0) & (high > 0)
        nearest, furthest = np.minimum(np.abs(low), np.abs(high)), np.maximum(np.abs(low), np.abs(high))
        return {"effect_size": np.abs(r), "effect_size_low": np.where(across, 0.0, nearest), "effect_size_high": furthest}

    return effect


def _of_f(part: pd.DataFrame) -> dict[str, Any]:
    share, df, within = (part[c].to_numpy(float) for c in ("eta_squared", "f_df", "f_df_within"))
    low, high = (np.sqrt(part[f"omega_squared_{end}"].to_numpy(float)) for end in ("low", "high"))
    return {"effect_size": on_the_scale_of_r(share, df, df + within + 1), "effect_size_low": low, "effect_size_high": high}


def _of_h(part: pd.DataFrame) -> dict[str, Any]:
    h, df, rows = (part[c].to_numpy(float) for c in ("kruskal_h", "kruskal_h_df", "rows"))
    nan = np.full(h.size, np.nan)
    return {"effect_size": on_the_scale_of_r(h / (rows - 1), df, rows), "effect_size_low": nan, "effect_size_high": nan}


def _of_counts(part: pd.DataFrame) -> dict[str, Any]:
    x, df, rows, smaller = (part[c].to_numpy(float) for c in ("chi_square", "chi_square_df", "rows", "cramers_v_sides"))
    low, high = (part[f"cramers_v_{end}"].to_numpy(float) for end in ("low", "high"))
    return {"effect_size": of_counts(x, df, rows, smaller), "effect_size_low": low, "effect_size_high": high}


EFFECTS: dict[str, Callable[[pd.DataFrame], dict[str, Any]]] = {
    "pearson_r": _of_r("pearson_r"),
    "spearman_rho": _of_r("spearman_rho"),
    "f": _of_f,
    "kruskal_h": _of_h,
    "chi_square": _of_counts,
}


def led_words(leads: dict[str, str]) -> tuple[str, ...]:
    """Where ranks lead, said."""
    subset = [f for f, lead in leads.items() if lead in BY_RANKS.values()]
    if not subset:
        return ()
    names = listed(subset, 4)
    return (f"rank test used for {names}: a few extreme rows dominate r or F, so their p-values are unreliable",)
