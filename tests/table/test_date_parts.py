"""Numbers from dates: against the calendar, in a run, and again in apply."""

import datetime as dt

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.table.derived import date_part
from tests.commands import run


@pytest.fixture
def frame():
    rng = np.random.default_rng(5)
    days = pd.to_datetime("2019-12-20") + pd.to_timedelta(rng.integers(0, 900, 160), unit="D")
    milled = days + pd.to_timedelta(rng.integers(1, 30, 160), unit="D")
    frame = pd.DataFrame({"delivered": days.strftime("%Y-%m-%d"), "milled": milled.strftime("%d.%m.%Y"), "x": rng.normal(size=160)})
    age = (days.max() - days).days
    return frame.assign(y=0.01 * np.asarray(age) + frame["x"] + (milled - days).days * 0.2 + rng.normal(0, 0.3, 160))


def test_parts_are_those_of_the_calendar():
    rng = np.random.default_rng(0)
    stamps = [dt.datetime(1960, 1, 1) + dt.timedelta(minutes=int(m)) for m in rng.integers(0, 60_000_000, 500)]
    days = np.array([(s - dt.datetime(1970, 1, 1)) / dt.timedelta(days=1) for s in stamps])
    for made, truth in (("year", [s.year for s in stamps]), ("month", [s.month for s in stamps]),
                        ("weekday", [s.isoweekday() for s in stamps]), ("hour", [s.hour for s in stamps])):  # fmt: skip
        np.testing.assert_array_equal(date_part(made, days, 0.0), truth, err_msg=made)
    np.testing.assert_allclose(date_part("age", days, 100.0), 100.0 - days)
    assert np.isnan(date_part("month", np.array([np.nan, 3.0]), 0.0)[0])


def test_a_table_has_them_behind_their_date(frame):
    table = chaff.open_table(frame, "y", derive={"delivered": ["age", "month", "weekday"], "milled": ["since:delivered"]})
    assert table.features == (
        "delivered", "delivered_age_days", "delivered_month", "delivered_weekday", "milled", "milled_days_since_delivered", "x"
    )  # fmt: skip
    days = pd.to_datetime(frame["delivered"])
    np.testing.assert_array_equal(table.column("delivered_age_days").values, (days.max() - days).dt.days)
    np.testing.assert_array_equal(table.column("delivered_weekday").values, days.dt.isocalendar().day)
    gap = (pd.to_datetime(frame["milled"], format="%d.%m.%Y") - days).dt.days
    np.testing.assert_array_equal(table.column("milled_days_since_delivered").values, gap)
    assert table.terms.derive["delivered"][0] == f"age:{days.max():%Y-%m-%d}" and table.terms.dates == {"milled": "%d.%m.%Y"}
    assert "days from" in table.meaning("delivered_age_days").text


def test_a_selection_makes_them_again_whatever_rows_come(frame, tmp_path):
    table = chaff.open_table(frame, "y", derive={"delivered": ["age", "month"], "milled": ["since:delivered"]})
    plan = chaff.Plan((chaff.Screen(), chaff.Search(model="ridge", size=3)))
    ran = chaff.select(table, plan, pins=[chaff.pin_keep("delivered_month", "seasons")], holdout=0, honest="quick")
    assert set(ran.features) == {"delivered_age_days", "delivered_month", "milled_days_since_delivered"} or "x" in ran.features
    ran.selection.save(tmp_path / "s.json")
    selection = chaff.read_selection(tmp_path / "s.json")
    part = frame.iloc[:7]  # one date format fits fewer rows too, and the age counts to the same day
    applied = selection.apply(part)
    assert applied.columns.tolist() == ["y", *ran.features]
    for name in ran.features:
        if name != "x":
            np.testing.assert_array_equal(applied[name], table.column(name).values[:7])
    part.to_csv(tmp_path / "new.csv", index=False)
    selection.apply(tmp_path / "new.csv", tmp_path / "out.csv")
    written = pd.read_csv(tmp_path / "out.csv")
    for name in ran.features:
        np.testing.assert_allclose(written[name], applied[name])
    with pytest.raises(chaff.UsageError, match="an array does not hold"):
        selection.apply(frame.drop(columns="y").to_numpy(dtype=object))
    assert chaff.recheck(selection, frame).verdict in ("stay", "refit", "reselect")


@pytest.mark.parametrize(
    ("derive", "error", "words"),
    [
        ({"nix": ["age"]}, chaff.UnknownColumn, "'nix' is not in"),
        ({"x": ["age"]}, chaff.UsageError, "'x' holds no dates"),
        ({"delivered": ["mounth"]}, chaff.UsageError, "Did you mean 'month'"),
        ({"delivered": ["age:soon"]}, chaff.UsageError, "must name a day"),
        ({"delivered": ["since:x"]}, chaff.UsageError, "'x' holds no dates"),
        ({"delivered": ["month", "month"]}, chaff.DataError, "is there already"),
    ],
)
def test_what_cannot_be_derived(frame, derive, error, words):
    with pytest.raises(error, match=words):
        chaff.open_table(frame, "y", derive=derive)


def test_the_screen_gives_the_option_and_it_works(frame, tmp_path):
    frame.to_csv(tmp_path / "lots.csv", index=False)
    out = run("screen", tmp_path / "lots.csv", "--target", "y", "--all-rows")
    assert "--derive delivered=age,month,weekday" in out
    again = run("screen", tmp_path / "lots.csv", "--target", "y", "--all-rows", "--derive", "delivered=age,month,weekday")
    assert "delivered_age_days" in again and "--derive delivered=age,month,weekday" not in again.split("next:")[0]
    assert "--derive delivered=age:" in again.split("next:")[1]  # the next command counts to the same day
