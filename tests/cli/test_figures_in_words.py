"""Numbers as a terminal shows them."""

from __future__ import annotations

import pytest

from chaff.results.digits import cell, figure, p_value, share, two


@pytest.mark.parametrize(
    ("value", "shown"),
    [
        (0.123456, "0.123"),
        (1600, "1,600"),
        (123456.7, "123,457"),
        (3.0, "3"),
        (-0.00012345, "-0.000123"),
        (1.5e9, "1.5e+09"),
        (float("inf"), "inf"),
        (float("-inf"), "-inf"),
        (float("nan"), ""),
        (None, ""),
        ("word", "word"),
        (True, "yes"),
    ],
)
def test_three_significant_digits(value, shown):
    assert figure(value) == shown


@pytest.mark.parametrize(("value", "shown"), [(0.0, "<1e-16"), (1e-17, "<1e-16"), (0.04321, "0.043"), (1.0, "1"), (float("nan"), "")])
def test_p_values_never_show_zero(value, shown):
    assert p_value(value) == shown


@pytest.mark.parametrize(("value", "shown"), [(0.0, ""), (0.0123, "1.2%"), (0.5, "50%"), (1.0, "100%"), (float("nan"), "")])
def test_shares_are_per_cent(value, shown):
    assert share(value) == shown


def test_cells_follow_the_name_of_their_column():
    assert cell("kendall_tau_p", 0.0) == "<1e-16" and cell("q", 0.2) == "0.2"
    assert cell("missing_share", 0.25) == "25%" and cell("pearson_r", 0.25) == "0.25"
    assert two(-0.001) == "0.00" and two(0.456) == "0.46" and two(float("nan")) == ""
