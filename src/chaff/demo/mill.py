"""The generator of the demo mill. Every random draw is named, so that more noise columns change no other column.

Names, units and meanings of the demo mill's columns.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.errors import UsageError
from chaff.table.opening import open_table
from chaff.table.table import Table
from chaff.work import Work

if TYPE_CHECKING:
    import pandas as pd


TARGETS = {
    "loaf_volume": ("volume of the sample loaf", "ml"),
    "accepted": ("lot accepted for bread flour", ""),
    "grade": ("bread grade of the lot", ""),
}

PLAIN = {
    "lot_no": ("running number of the lot", ""),
    "delivered_on": ("day of delivery", ""),
    "farm_code": ("farm that grew the lot", ""),
    "mill": ("mill that took the lot in", ""),
    "line_id": ("milling line", ""),
    "organic": ("grown organically", ""),
    "line_voltage_v": ("supply voltage while milling", "V"),
    "crumb_score": ("baker's score of the crumb, 0 to 100", "points"),
    "mycotoxin_ppb": ("deoxynivalenol, measured only when the lot looks suspicious", "ppb"),
}

# Signal columns in the order in which `signal=` counts them: name -> (meaning, unit).
SIGNAL = {
    "protein_pct": ("protein, wet chemistry", "%"),
    "variety": ("wheat variety", ""),
    "falling_number_s": ("falling number", "s"),
    "mixing_energy_wh_kg": ("energy to full dough development", "Wh/kg"),
    "dough_temp_c": ("dough temperature after mixing", "°C"),
    "harvest_rain_mm": ("rain in the two weeks before harvest", "mm"),
    "ash_pct": ("ash in dry matter", "%"),
    "sedimentation_ml": ("sedimentation value", "ml"),
    "water_absorption_pct": ("water the flour takes up", "%"),
    "gluten_wet_pct": ("wet gluten", "%"),
    "test_weight_kg_hl": ("weight of a hectolitre", "kg/hl"),
    "sieve_coarse_pct": ("flour left on the coarse sieve", "%"),
}

# Repeat columns in the order in which `repeats=` counts them: name -> (repeats, meaning, unit).
REPEATS = {
    "protein_nir_pct": ("protein_pct", "protein by near-infrared", "%"),
    "test_weight_lb_bu": ("test_weight_kg_hl", "weight of a bushel", "lb/bu"),
    "sieve_medium_pct": ("sieve_coarse_pct", "flour left on the medium sieve", "%"),
    "sieve_fine_pct": ("sieve_coarse_pct, sieve_medium_pct", "flour through every sieve", "%"),
    "gluten_dry_pct": ("gluten_wet_pct", "dry gluten", "%"),
    "gluten_washed_g": ("gluten_wet_pct", "gluten washed from ten grams", "g"),
    "gluten_machine_pct": ("gluten_wet_pct", "wet gluten by machine", "%"),
}

# Noise columns: name -> (meaning, unit, middle, spread).
NOISE = {
    "truck_wait_min": ("wait at the gate", "min", 34.0, 12.0),
    "sampler_depth_cm": ("depth of the sampling spear", "cm", 110.0, 15.0),
    "lab_temp_c": ("temperature in the laboratory", "°C", 21.0, 1.2),
    "lab_humidity_pct": ("humidity in the laboratory", "%", 48.0, 6.0),
    "silo_level_pct": ("filling of the silo", "%", 55.0, 18.0),
    "roll_gap_mm": ("gap of the first roll", "mm", 0.62, 0.05),
    "roll_speed_rpm": ("speed of the first roll", "1/min", 520.0, 22.0),
    "aspiration_pa": ("pressure of the aspiration", "Pa", 310.0, 25.0),
    "magnet_catch_g": ("iron caught by the magnet", "g", 2.4, 0.8),
    "screen_tilt_deg": ("tilt of the cleaning screen", "°", 6.0, 0.7),
    "truck_mass_t": ("mass of the truck", "t", 24.0, 3.0),
    "distance_km": ("distance from the farm", "km", 62.0, 25.0),
    "oven_age_d": ("days since the oven's service", "d", 90.0, 35.0),
    "yeast_batch_age_h": ("age of the yeast batch", "h", 20.0, 7.0),
    "salt_lot_moisture_pct": ("moisture of the salt", "%", 0.3, 0.06),
    "water_hardness_dh": ("hardness of the water", "°dH", 13.0, 2.0),
    "air_pressure_hpa": ("air pressure, less 900", "hPa", 113.0, 9.0),
    "bran_colour_l": ("lightness of the bran", "L*", 58.0, 3.0),
    "seed_length_mm": ("mean length of the kernels", "mm", 6.3, 0.3),
    "seed_width_mm": ("mean width of the kernels", "mm", 3.2, 0.2),
    "straw_pct": ("straw in the lot", "%", 0.8, 0.25),
    "dust_mg_m3": ("dust at the intake", "mg/m³", 3.1, 0.9),
    "conveyor_load_pct": ("load of the conveyor", "%", 63.0, 9.0),
    "operator_years": ("years the operator has worked here", "a", 11.0, 5.0),
    "shift": ("shift that took the lot in", "", 0.0, 0.0),
    "truck_colour": ("colour of the truck", "", 0.0, 0.0),
    "sample_bag_no_mod": ("last two digits of the bag", "", 50.0, 29.0),
    "scale_drift_g": ("drift of the scale", "g", 0.0, 1.5),
    "belt_temp_c": ("temperature of the belt", "°C", 27.0, 3.0),
    "intake_rate_t_h": ("rate of intake", "t/h", 75.0, 11.0),
}
# What measuring costs the mill, in euros a lot; what has no price is written down anyway. A panel is one measurement for several columns.
COSTS = {
    "protein_pct": 14.0, "protein_nir_pct": 2.0, "ash_pct": 9.0, "falling_number_s": 6.0, "sedimentation_ml": 8.0, "dough": 25.0,
    "gluten": 12.0, "sieves": 3.0, "hectolitre": 1.0, "mycotoxin_ppb": 30.0, "bran_colour_l": 2.0, "crumb_score": 40.0,
}  # fmt: skip
PANELS = {
    "dough": ("mixing_energy_wh_kg", "dough_temp_c", "water_absorption_pct"),
    "gluten": ("gluten_wet_pct", "gluten_dry_pct", "gluten_washed_g", "gluten_machine_pct"),
    "sieves": ("sieve_coarse_pct", "sieve_medium_pct", "sieve_fine_pct"),
    "hectolitre": ("test_weight_kg_hl", "test_weight_lb_bu"),
}
NOISE_LEVELS = {"shift": ("early", "late", "night"), "truck_colour": ("blue", "green", "red", "white", "yellow")}
VARIETIES = ("Alba", "Borka", "Cerio", "Dunja", "Elvan", "Falka", "Goral", "Hesta")


ROWS, SIGNALS, REPEATED, NOISES, LABEL_NOISE = 1600, len(SIGNAL), len(REPEATS), 27, 14.0
GAPS = {"falling_number_s": 0.05, "ash_pct": 0.03, "lab_humidity_pct": 0.08, "seed_width_mm": 0.12, "sedimentation_ml": 0.02}
DIGITS = 3


def lots(
    rows: int = ROWS,
    *,
    signal: int = SIGNALS,
    repeats: int = REPEATED,
    noise: int = NOISES,
    label_noise: float = LABEL_NOISE,
    seed: int = 0,
) -> pd.DataFrame:
    """The demo table as a pandas frame: one row a lot.

    Parameters
    ----------
    rows : int
        Lots, 20 or more.
    signal, repeats, noise : int
        How many columns carry signal, repeat others, or are noise. Beyond the named ones more are made up
        (assay_01, assay_01_again, sensor_01).
    label_noise : float
        Standard deviation, in ml, of what no column explains of `loaf_volume`.
    seed : int

    Examples
    --------
    >>> import chaff
    >>> frame = chaff.demo.lots(rows=100, noise=3)
    >>> frame["grade"].nunique()
    3
    """
    import pandas as pd

    if rows < 20 or min(signal, repeats, noise) < 0 or signal < 1 or label_noise < 0:
        raise UsageError("the demo mill needs 20 rows or more, one signal column or more, and no negative counts or noise")
    work = Work(seed=seed)
    columns: dict[str, Any] = {}
    effect = _signal(columns, rows, signal, work)
    _repeats(columns, repeats, work)
    effect = effect + _suspicion(columns, rows, work)
    _noise(columns, rows, noise, work)
    _plain(columns, rows, work)
    mills = work.stream("mill effect").normal(0, 2.0, 20)
    effect = effect + mills[columns["mill"]]
    columns["mill"] = np.array([f"mill {k + 1:02d}" for k in range(20)])[columns["mill"]]
    volume = 420.0 + effect + work.stream("label noise").normal(0, 1, rows) * label_noise
    _targets(columns, volume, work)
    _gaps(columns, rows, work)
    order = [*PLAIN, *SIGNAL, *REPEATS]
    names = [n for n in order if n in columns] + [n for n in columns if n not in order and n not in TARGETS] + list(TARGETS)
    return pd.DataFrame({n: columns[n] for n in names})


def table(rows: int = ROWS, *, target: str = "loaf_volume", seed: int = 0, priced: bool = False, **counts: Any) -> Table:
    """The demo lots opened as a table: the mill is the group, the other targets are ignored, units are in the dictionary.

    priced : whether the table knows what its columns cost to measure, in euros a lot.

    >>> import chaff
    >>> chaff.demo.table(rows=60).target.unit
    'ml'
    """
    if target not in TARGETS:
        raise UsageError(f"the demo mill's targets are {', '.join(TARGETS)}, not '{target}'")
    frame = lots(rows, seed=seed, **counts)
    panels = {k: [f for f in v if f in frame] for k, v in PANELS.items()} if priced else {}
    prices = {k: v for k, v in COSTS.items() if k in frame or panels.get(k)} if priced else {}
    return open_table(
        frame, target=target, ignore=[t for t in TARGETS if t != target], groups="mill", dictionary=dictionary(), costs=prices,
        panels={k: v for k, v in panels.items() if v},
    ).named("Wheat lots")  # fmt: skip


def dictionary() -> dict[str, tuple[str, str]]:
    """Column → (meaning, unit)."""
    out = {**TARGETS, **PLAIN, **SIGNAL}
    out |= {n: (m, u) for n, (_, m, u) in REPEATS.items()}
    return out | {n: (m, u) for n, (m, u, _, _) in NOISE.items()}


def truth(signal: int = SIGNALS, repeats: int = REPEATED, noise: int = NOISES) -> pd.DataFrame:
    """What each column really is, indexed by column.

    role : signal, repeat, noise, leak, id, date, code, constant, near-constant, no spread, absence tells, group, target.
    repeats : for a repeat, the columns that say the same.  shape : how a signal acts.
    """
    import pandas as pd

    shapes = {
        "variety": "levels",
        "falling_number_s": "plateau",
        "harvest_rain_mm": "threshold",
        "mixing_energy_wh_kg": "interaction",
        "dough_temp_c": "interaction",
    }
    roles = {
        "lot_no": "id",
        "delivered_on": "date",
        "farm_code": "code",
        "mill": "group",
        "line_id": "constant",
        "organic": "near-constant",
        "line_voltage_v": "no spread",
        "crumb_score": "leak",
        "mycotoxin_ppb": "absence tells",
    }
    rows = [(n, r, "", "") for n, r in roles.items()]
    rows += [(n, "signal", "", shapes.get(n, "linear")) for n in _signal_names(signal)]
    rows += [(n, "repeat", of, "") for n, of in _repeat_names(repeats, signal).items()]
    rows += [(n, "noise", "", "") for n in _noise_names(noise)]
    rows += [(n, "target", "", "") for n in TARGETS]
    return pd.DataFrame(rows, columns=["column", "role", "repeats", "shape"]).set_index("column")


def _signal_names(count: int) -> list[str]:
    named = list(SIGNAL)[:count]
    return named + [f"assay_{k:02d}" for k in range(1, count - len(named) + 1)]


def _repeat_names(count: int, signal: int) -> dict[str, str]:
    there = set(_signal_names(signal))
    out: dict[str, str] = {}
    for name, (of, _, _) in REPEATS.items():
        if len(out) < count and all(o in there or o in out for o in of.split(", ")):
            out[name] = of
    numbers = [n for n in _signal_names(signal) if n != "variety"]
    k = 0
    while len(out) < count:
        of = numbers[k % len(numbers)]
        out[f"{of}_again{'' if k < len(numbers) else k // len(numbers) + 1}"] = of
        k += 1
    return out


def _noise_names(count: int) -> list[str]:
    named = list(NOISE)[:count]
    return named + [f"sensor_{k:02d}" for k in range(1, count - len(named) + 1)]


def _signal(columns: dict[str, Any], rows: int, count: int, work: Work) -> Any:
    """Fill the signal columns; return what they add to the volume, in ml."""

    def z(name: str) -> Any:
        return work.stream("signal", name).normal(size=rows)

    protein, rain, energy, temp = z("protein"), z("rain"), z("energy"), z("temp")
    gluten = 0.55 * protein + np.sqrt(1 - 0.55**2) * z("gluten")
    falling = 290 - 25 * rain + 45 * z("falling")
    variety = work.stream("signal", "variety").choice(len(VARIETIES), rows, p=(0.24, 0.2, 0.16, 0.12, 0.1, 0.08, 0.06, 0.04))
    rain_mm = 38 + 17 * rain + 4 * z("rain gauge")
    programme = work.stream("signal", "programme").choice((-1.0, 1.0), rows)  # two mixing programmes, mild and strong
    ash, sediment, water, weight = z("ash"), z("sediment"), z("water"), z("weight")
    coarse = 31 + 5 * z("sieve")
    parts = {
        "protein_pct": (12.4 + 1.1 * protein, 11.0 * protein),
        "variety": (np.array(VARIETIES)[variety], np.array((9, -8, 4, -12, 12, 0, -5, 15))[variety] * 0.9),
        "falling_number_s": (falling, 17 * np.clip((falling - 290) / 45, -3.0, 0.0)),
        "mixing_energy_wh_kg": (9.5 + 1.2 * programme + 0.25 * energy, 0.0),
        "dough_temp_c": (26 + 1.1 * temp, 24.0 * programme * temp),
        "harvest_rain_mm": (np.maximum(rain_mm, 0), np.where(rain_mm > 55, -24.0, 0.0)),
        "ash_pct": (1.62 + 0.14 * ash, -6.0 * ash),
        "sedimentation_ml": (41 + 7 * sediment, 7.0 * sediment),
        "water_absorption_pct": (58 + 2.4 * water, 5.0 * water),
        "gluten_wet_pct": (27 + 3.0 * gluten, 6.0 * gluten),
        "test_weight_kg_hl": (78 + 2.2 * weight, 5.0 * weight),
        "sieve_coarse_pct": (np.clip(coarse, 12, 50), -0.9 * (coarse - 31)),
    }
    effect = np.zeros(rows)
    for name in _signal_names(count):
        if name in parts:
            values, adds = parts[name]
        else:
            one = z(name)
            values, adds = 50 + 10 * one, 3.0 * one
        columns[name] = values if name == "variety" else np.round(values, DIGITS)
        effect = effect + adds
    return effect


def _repeats(columns: dict[str, Any], count: int, work: Work) -> None:
    rows = len(next(iter(columns.values())))

    def z(name: str) -> Any:
        return work.stream("repeat", name).normal(size=rows)

    signal = len(columns)
    for name, of in _repeat_names(count, signal).items():
        first = columns[of.split(", ")[0]]
        if name == "protein_nir_pct":
            values = first + 0.16 * z(name)
        elif name == "test_weight_lb_bu":
            values = first * 0.7769
        elif name == "sieve_medium_pct":
            values = np.clip(0.55 * (100 - first) + 6 * z(name), 10, 48)
        elif name == "sieve_fine_pct":
            values = 100 - first - columns["sieve_medium_pct"]
        elif name == "gluten_dry_pct":
            values = 0.34 * first + 0.16 * z(name)
        elif name == "gluten_washed_g":
            values = 0.1 * first + 0.05 * z(name)
        elif name == "gluten_machine_pct":
            values = first + 0.55 * z(name) - 0.6
        else:
            values = first + 0.1 * first.std() * z(name)
        columns[name] = np.round(values, DIGITS)


def _suspicion(columns: dict[str, Any], rows: int, work: Work) -> Any:
    """Mycotoxin is measured in about one lot of four: those that look suspicious, and bake worse."""
    rng = work.stream("suspicion")
    suspicious = rng.random(rows) < 0.26
    ppb = np.round(np.exp(rng.normal(5.6, 0.7, rows)), 1)
    columns["mycotoxin_ppb"] = np.where(suspicious, ppb, np.nan)
    return np.where(suspicious, -30.0, 0.0)


def _noise(columns: dict[str, Any], rows: int, count: int, work: Work) -> None:
    for name in _noise_names(count):
        rng = work.stream("noise", name)
        if name in NOISE_LEVELS:
            columns[name] = np.array(NOISE_LEVELS[name])[rng.integers(0, len(NOISE_LEVELS[name]), rows)]
            continue
        _, _, middle, spread = NOISE.get(name, ("", "", 50.0, 10.0))
        columns[name] = np.round(middle + spread * rng.normal(size=rows), DIGITS)


def _plain(columns: dict[str, Any], rows: int, work: Work) -> None:
    import pandas as pd

    rng = work.stream("plain")
    days = np.sort(rng.integers(0, 700, rows))
    columns["lot_no"] = 100_001 + np.arange(rows)
    columns["delivered_on"] = (pd.Timestamp("2024-07-01") + pd.to_timedelta(days, unit="D")).strftime("%Y-%m-%d").to_numpy()
    farms = max(12, round(1.1 * rows))
    columns["farm_code"] = np.array([f"F{k:05d}" for k in range(farms)])[rng.integers(0, farms, rows)]
    columns["mill"] = rng.integers(0, 20, rows)
    columns["line_id"] = np.repeat("B2", rows)
    columns["organic"] = np.where(rng.random(rows) < 0.02, "yes", "no")
    columns["line_voltage_v"] = np.round(400 + 0.6 * rng.normal(size=rows), 1)


def _targets(columns: dict[str, Any], volume: Any, work: Work) -> None:
    rows = volume.size
    rng = work.stream("targets")
    columns["crumb_score"] = np.round(np.clip(50 + 0.72 * (volume - 400) + 3.2 * rng.normal(size=rows), 0, 100), 1)
    seen = volume + 8 * rng.normal(size=rows)
    columns["loaf_volume"] = np.round(volume, 1)
    columns["accepted"] = np.where(seen > 400, "yes", "no")
    columns["grade"] = np.array(["C", "B", "A"])[np.digitize(seen, (388, 420))]


def _gaps(columns: dict[str, Any], rows: int, work: Work) -> None:
    for name, share in GAPS.items():
        if name in columns:
            columns[name] = np.where(work.stream("gaps", name).random(rows) < share, np.nan, columns[name])
