"""Words that are numbers, dates or an order: read alike wherever they come from."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pytest

import chaff
from chaff.table.dates import date_format_of, days_of, days_of_stored, formats_that_fit, is_iso
from chaff.table.kinds import all_whole, listed_values, numbers_of, ordered_values


def test_numbers_in_words():
    assert numbers_of(["12", " 12.5", "-1e3", "0x1F", "", "x", "1_000"])[:4].tolist() == [12.0, 12.5, -1000.0, 31.0]
    assert np.isnan(numbers_of(["", "x", "0xZZ", "9" * 500])).all()
    assert numbers_of(["12,5", "-0,25", "1.234,5", "7"], ",").tolist() == [12.5, -0.25, 1234.5, 7.0]


def test_whole_numbers_are_known_by_how_they_are_written():
    assert all_whole(["1", "-20", " 3 ", "+4"]) and not all_whole(["1.0"]) and not all_whole(["1e3"]) and not all_whole(["9" * 19])


@pytest.mark.parametrize(
    ("word", "form", "day"),
    [
        ("24.12.2024", "%d.%m.%Y", "2024-12-24"),
        ("2024/12/24", "%Y/%m/%d", "2024-12-24"),
        ("12/24/2024", "%m/%d/%Y", "2024-12-24"),
        ("24 Dec 2024", "%d %b %Y", "2024-12-24"),
        ("December 24, 2024", "%B %d, %Y", "2024-12-24"),
        ("24.12.24", "%d.%m.%y", "2024-12-24"),
    ],
)
def test_one_format_is_found_where_only_one_fits(word: str, form: str, day: str):
    assert date_format_of([word]) == form
    assert days_of("when", [word])[0] == (np.datetime64(day) - np.datetime64("1970-01-01")).astype(int)


def test_clocks_and_zones():
    assert days_of("when", ["24.12.2024 18:00"])[0] % 1 == 0.75
    east, plain = days_of("when", ["2024-12-24T18:00:00+06:00"])[0], days_of("when", ["2024-12-24 12:00:00"])[0]
    assert east == plain and is_iso(["2024-12-24T18:00:00.123456789Z"])


def test_formats_that_disagree_are_not_guessed_and_one_late_cell_decides():
    both = ["04/01/2024", "05/02/2024"]
    assert len(formats_that_fit(both)) == 2 and date_format_of(both) == ""
    assert date_format_of([*both, "13/01/2024"]) == "%d/%m/%Y" and date_format_of(["04/04/2024", "05/05/2024"]) != ""
    with pytest.raises(chaff.DataError, match="no one format fits"):
        days_of("when", [*both, "soon"])
    assert date_format_of(["Alba", "Borka"]) == "" and date_format_of(["12:30", "13:45"]) == ""


def test_stored_dates_and_times():
    dates = pa.chunked_array([pa.array([0, 365, None], pa.date32())])
    assert days_of_stored("d", dates).tolist()[:2] == [0.0, 365.0] and np.isnan(days_of_stored("d", dates)[2])
    stamps = pa.chunked_array([pa.array([86_400, 43_200], pa.timestamp("s", "Asia/Tokyo"))])
    assert days_of_stored("s", stamps).tolist() == [1.0, 0.5]
    clock = pa.chunked_array([pa.array([3600, 5400], pa.time32("s"))])
    assert days_of_stored("c", clock).tolist() == [1.0, 1.5]  # hours


@pytest.mark.parametrize(
    "words",
    [
        ["< 5", "5-10", "10-20", "20+"],
        ["under 18", "18 to 30", "31 to 65", "over 65"],
        ["[0, 10)", "[10, 20)", "[20, 30)"],
        ["0-9 kg", "10-19 kg", ">= 20 kg"],
        ["very low", "low", "medium", "high"],
        ["poor", "Fair", "good", "excellent"],
        ["XS", "S", "M", "L", "XXL"],
        ["never", "rarely", "often", "always"],
    ],
)
def test_words_in_an_order_rise(words: list[str]):
    values = ordered_values(words)
    assert values is not None and [values[w] for w in words] == sorted(set(values.values()))
    for some in (words[:3], words[-3:]):  # the number of a word is its own, whatever else is in the file
        assert ordered_values(some, declared=True) == {w: values[w] for w in some}


@pytest.mark.parametrize("words", [["Alba", "Borka", "Cerio"], ["1", "2", "3"], ["low", "Borka", "high"], ["low", "high"], []])
def test_words_without_an_order_have_none(words: list[str]):
    assert ordered_values(words) is None


def test_an_order_that_was_written_down():
    assert listed_values(["raw", "done"], ["raw", "half", "done"]) == {"raw": 0.0, "done": 2.0}
    assert listed_values(["raw", "burnt"], ["raw", "half", "done"]) is None
