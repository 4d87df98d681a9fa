"""0/1 columns that are one category are told from those that are not."""

import numpy as np
import pandas as pd

import chaff


def notes_of(frame, **terms):
    return " ".join(chaff.screen(chaff.open_table(frame, "y", **terms)).notes)


def test_columns_that_add_up_to_one_are_one_category_and_the_advice_works():
    rng = np.random.default_rng(1)
    kind = rng.choice(list("abcd"), 120)
    frame = pd.DataFrame({f"kind_{k}": (kind == k).astype(int) for k in "abcd"}).assign(x=rng.normal(size=120), y=rng.normal(size=120))
    said = notes_of(frame)
    assert "4 columns of 0 and 1 that add up to one" in said and "--together 'kind=kind_*'" in said
    table = chaff.open_table(frame, "y", together={"kind": ["kind_*"]})
    assert table.features == ("x", "kind") and "add up to one" not in " ".join(chaff.screen(table).notes)
    beside = notes_of(frame.assign(kind_score=rng.normal(size=120)))  # the pattern would take in another column
    assert "--together 'kind=kind_a,kind_b,kind_c,kind_d'" in beside


def test_flags_of_their_own_are_left_alone():
    rng = np.random.default_rng(2)
    flags = pd.DataFrame({f"has_{k}": rng.integers(0, 2, 120) for k in "abcd"}).assign(y=rng.normal(size=120))
    assert "add up to one" not in notes_of(flags)
    two = pd.DataFrame({"is_a": rng.integers(0, 2, 120), "y": rng.normal(size=120)})
    assert "add up to one" not in notes_of(two.assign(is_b=1 - two["is_a"]))
    gaps = pd.DataFrame({f"kind_{k}": (np.arange(120) % 3 == j).astype(float) for j, k in enumerate("abc")}).assign(y=rng.normal(size=120))
    gaps.loc[3, "kind_a"] = np.nan
    assert "add up to one" not in notes_of(gaps)
