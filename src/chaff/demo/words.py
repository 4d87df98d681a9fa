"""Names, units and meanings of the demo mill's columns."""

from __future__ import annotations

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
