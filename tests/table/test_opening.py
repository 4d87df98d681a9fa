"""Roles, kinds and targets, and what is said when they make no sense."""

import numpy as np
import pandas as pd
import pytest

import chaff


def frame(**more):
    base = {"protein": [11.0, 12.5, 10.0, 13.0, 9.5, 12.0], "y": [1.0, 2.0, 3.0, 4.0, 5.0, 7.5]}
    return pd.DataFrame({**base, **more})


def opened(**more):
    return chaff.open_table(frame(**more), target="y")


@pytest.mark.parametrize(
    "values, kind",
    [
        ([1.5, 2, 3, 4, 5, 6], "number"),
        ([1, 0, 0, 1, 1, 0], "binary"),
        (["yes", "no", "no", "yes", None, "no"], "binary"),
        ([True, False, True, True, False, False], "binary"),
        (["Alba", "Borka", "Cerio", "Alba", "Borka", "Alba"], "category"),
        (["1", "2", "3", "1", "2", "3"], "category"),
        ([f"{k / 7:.4f}" for k in range(6)], "category"),
        (["2025-01-01", "2025-02-01", "2025-01-09", "2025-01-05", "2025-01-03", "2025-03-01"], "date"),
        (["the quick brown fox jumps over the lazy dog " + w for w in "abcdef"], "text"),
        (["None", "NA", "Alba", "Alba", "NA", "None"], "category"),
    ],
)
def test_kinds_are_inferred(values, kind):
    assert opened(x=values).kind("x") == kind


def test_many_words_that_are_numbers_become_a_number():
    many = pd.DataFrame({"x": [f"{k / 7:.4f}" for k in range(30)], "y": np.arange(30.0)})
    table = chaff.open_table(many, target="y")
    assert table.kind("x") == "number" and table.column("x").values[7] == 1.0


def test_na_is_a_level_unless_declared_missing():
    values = ["None", "NA", "Alba", "Alba", "NA", "None"]
    assert opened(x=values).levels("x") == ("Alba", "NA", "None")


def test_declared_missing_words_in_a_file(tmp_path):
    path = tmp_path / "lots.csv"
    path.write_text("x,y\n1.5,1\nNA,2\n2.5,3\n-,5\n3.5,4\n")
    with pytest.raises(chaff.DataError, match=r"column 'x' mixes numbers and text: 2 of 5 cells.*'-', 'NA'"):
        chaff.open_table(path, target="y").column("x")
    table = chaff.open_table(path, target="y", missing=["NA", "-"])
    assert np.isnan(table.column("x").values).sum() == 2


def test_told_kinds_win():
    table = chaff.open_table(frame(code=[1, 2, 3, 1, 2, 3]), target="y", kinds={"code": "category"})
    assert table.kind("code") == "category" and table.levels("code") == ("1", "2", "3")
    with pytest.raises(chaff.UsageError, match="Did you mean 'category'"):
        chaff.open_table(frame(), target="y", kinds={"protein": "categry"})
    with pytest.raises(chaff.DataError, match="does not hold exactly two"):
        chaff.open_table(frame(), target="y", kinds={"protein": "binary"}).kind("protein")


def test_unknown_names_are_answered_with_the_nearest():
    for options in (
        {"target": "protien"},
        {"target": "y", "ids": "protien"},
        {"target": "y", "groups": "protien"},
        {"target": "y", "costs": {"protien": 2}},
        {"target": "y", "kinds": {"protien": "number"}},
    ):
        with pytest.raises(chaff.UnknownColumn, match="Did you mean 'protein'"):
            chaff.open_table(frame(), **options)
    assert issubclass(chaff.UnknownColumn, KeyError) and issubclass(chaff.DataError, ValueError)


def test_rows_without_a_target_are_left_out_and_counted():
    table = chaff.open_table(frame().assign(y=[1, 2, np.nan, 4, np.nan, 7.5]), target="y")
    assert len(table) == 4 and "2 rows have no y and are left out" in table.notes
    assert table.column("protein").values.tolist() == [11.0, 12.5, 13.0, 12.0]


@pytest.mark.parametrize(
    "y, words",
    [
        ([np.nan] * 6, "missing in every row"),
        ([3.0] * 6, "is 3 in every row"),
        (["a"] * 6, "one class only, 'a'"),
        (["a", "a", "a", "b", "b", "c"], "class 'c' of target 'y' has a single row"),
        (pd.date_range("2025-01-01", periods=6), "holds dates"),
    ],
)
def test_targets_that_cannot_be_predicted(y, words):
    with pytest.raises(chaff.DataError, match=words):
        chaff.open_table(frame().assign(y=y), target="y")


def test_tasks_and_positive_class():
    yes_no = frame().assign(y=["yes", "no", "no", "yes", "no", "yes"])
    table = chaff.open_table(yes_no, target="y")
    assert table.target.task == "classification" and table.target.positive == "yes"
    assert "positive class 'yes'" in str(table)
    other = chaff.open_table(yes_no, target="y", positive="no")
    assert other.target.classes == ("yes", "no") and (other.y == 1 - table.y).all()
    with pytest.raises(chaff.UsageError, match="its classes are 'no', 'yes'"):
        chaff.open_table(yes_no, target="y", positive="maybe")
    with pytest.raises(chaff.DataError, match="cannot be regression"):
        chaff.open_table(yes_no, target="y", task="regression")
    counts = frame().assign(y=[1, 2, 3, 1, 2, 3])
    assert chaff.open_table(counts, target="y").target.task == "regression"
    assert "task='classification'" in chaff.open_table(counts, target="y").notes[0]
    assert chaff.open_table(counts, target="y", task="classification").target.classes == ("1", "2", "3")
    assert chaff.open_table(frame().assign(y=[0, 1, 0, 1, 1, 0]), target="y").target.positive == "1"


def test_infinite_values_are_refused_or_made_missing():
    table = opened(x=[1.0, np.inf, 2.0, -np.inf, 3.0, 4.0])
    with pytest.raises(chaff.DataError, match="column 'x' has 2 infinite values; pass infinite='missing'"):
        table.column("x")
    lenient = chaff.open_table(frame(x=[1.0, np.inf, 2.0, 5.0, 3.0, 4.0]), target="y", infinite="missing")
    assert np.isnan(lenient.column("x").values).tolist() == [False, True, False, False, False, False]


def test_roles_are_no_features_and_are_checked():
    data = frame(lot=[1, 2, 3, 4, 5, 6], mill=list("aabbcc"), w=[1, 2, 1, 2, 1, 0.0], when=[1, 2, 3, 4, 5, 6])
    table = chaff.open_table(data, target="y", ids="lot", groups="mill", weights="w", order="when")
    assert table.features == ("protein",)
    assert table.groups.tolist() == [0, 0, 1, 1, 2, 2] and table.weights.tolist() == [1, 2, 1, 2, 1, 0]
    with pytest.raises(chaff.DataError, match="zero or more"):
        chaff.open_table(data.assign(w=[-1, 1, 1, 1, 1, 1]), target="y", weights="w")
    with pytest.raises(chaff.DataError, match="every row needs its group"):
        chaff.open_table(data.assign(mill=["a", None, "b", "b", "c", "c"]), target="y", groups="mill")
    with pytest.raises(chaff.DataError, match="ordered by a date or a number"):
        chaff.open_table(data, target="y", order="mill")
    with pytest.raises(chaff.DataError, match="no column left"):
        chaff.open_table(frame(), target="y", ignore="protein")
    with pytest.raises(chaff.UsageError, match="cannot also be"):
        chaff.open_table(frame(), target="y", ignore="y")


def test_columns_made_from_one_category_are_one_feature():
    data = frame(v_a=[1, 0, 0, 1, 0, 0], v_b=[0, 1, 0, 0, 1, 0])
    table = chaff.open_table(data, target="y", together={"variety": ["v_a", "v_b"]})
    assert table.features == ("protein", "variety")
    assert table.levels("variety") == ("v_a", "v_b", "(none of them)")
    assert table.column("variety").values.tolist() == [0, 1, 2, 0, 1, 2]
    with pytest.raises(chaff.DataError, match="at most one 1 in a row"):
        chaff.open_table(data.assign(v_b=1), target="y", together={"variety": ["v_a", "v_b"]}).column("variety")


def test_dictionary_from_mapping_and_file(tmp_path):
    sheet = tmp_path / "words.csv"
    sheet.write_text("name,meaning,unit\nprotein,protein by weight,%\ny,loaf,ml\n")
    for source in (sheet, {"protein": ("protein by weight", "%"), "y": {"meaning": "loaf", "unit": "ml"}}):
        table = chaff.open_table(frame(), target="y", dictionary=source)
        assert table.describe("protein") == 'number, %, "protein by weight"' and table.target.unit == "ml"
    sheet.write_text("column,words\nprotein,x\n")
    with pytest.raises(chaff.DataError, match="columns name, meaning, unit"):
        chaff.open_table(frame(), target="y", dictionary=sheet)


def test_arrays_get_made_up_names_and_say_so():
    X = np.arange(12.0).reshape(6, 2)
    table = chaff.open_arrays(X, [1, 2, 3, 4, 5, 6.5], groups=[0, 0, 1, 1, 2, 2], weights=np.ones(6))
    assert table.features == ("x1", "x2") and table.notes[0].startswith("names made up: x1 to x2")
    assert table.groups.tolist() == [0, 0, 1, 1, 2, 2]
    named = chaff.open_arrays(X, [1, 2, 3, 4, 5, 6.5], names=["a", "b"])
    assert named.features == ("a", "b") and not named.notes
    with pytest.raises(chaff.UsageError, match="3 names were given"):
        chaff.open_arrays(X, np.arange(6.0), names=["a", "b", "c"])
    with pytest.raises(chaff.UsageError, match="same rows"):
        chaff.open_arrays(X, np.arange(5.0))
    with pytest.raises(chaff.UsageError, match="rows and columns"):
        chaff.open_arrays(np.arange(6.0), np.arange(6.0))
    with pytest.raises(chaff.DataError, match="named 'y' like the target"):
        chaff.open_arrays(X, np.arange(6.0), names=["a", "y"])
    assert chaff.open_arrays(pd.DataFrame(X, columns=["p", "q"]), np.arange(6.0)).features == ("p", "q")


def test_separate_holdout_rows_share_kinds_and_levels():
    more = frame(variety=list("abcabc"))
    table = chaff.open_table(frame(variety=list("aabbab")), target="y", holdout=more)
    assert len(table) == 12 and table.levels("variety") == ("a", "b", "c")
    with pytest.raises(chaff.DataError, match="lacks column 'variety'"):
        chaff.open_table(more, target="y", holdout=frame())
    with pytest.raises(chaff.DataError, match="another kind.*'variety'"):
        chaff.open_table(more, target="y", holdout=frame(variety=pd.date_range("2025-01-01", periods=6)))
