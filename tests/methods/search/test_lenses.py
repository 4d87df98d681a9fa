"""What single lenses do: eliminations, a person's own model, units that a tree draws together, and nested errors."""

from dataclasses import dataclass
from typing import ClassVar

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.evaluate.setting import Setting
from chaff.methods.search.forest_lens import ForestLens, units_in
from chaff.methods.search.lens import sizes_to_score
from chaff.methods.search.model_lens import with_permuted, without_weakest
from chaff.methods.search.nested_error import LEAST, nested_error
from chaff.methods.search.search_data import SearchData
from chaff.models.forms import sample
from tests.methods.search.test_decision import line_table


@dataclass(frozen=True)
class Nearest:
    """One nearest neighbour in a pandas frame: a person's own model."""

    label: ClassVar[str] = "nearest"
    learns: ClassVar[str] = "frame"
    reads: ClassVar[str] = "frame"
    gives: ClassVar[frozenset] = frozenset({"values"})

    def fit(self, train, work):
        return Fit(train.data.to_numpy(float), train.targets)


@dataclass(frozen=True)
class Fit:
    X: np.ndarray
    targets: np.ndarray

    def predict(self, rows):
        far = ((rows.data.to_numpy(float)[:, None] - self.X[None]) ** 2).sum(2)
        return self.targets[np.argsort(far, axis=1)[:, :7]].mean(1)


def search_data(table, *models, **fields):
    return SearchData.of(table, Setting.of(table, **fields), models or [chaff.Ridge()])


def test_a_fifth_goes_and_then_one_at_a_time_and_pins_never():
    names = [f"c{j:02d}" for j in range(20)]
    importance = {n: float(j) for j, n in enumerate(names)}
    alike = dict.fromkeys("ab", 0.5).copy
    assert without_weakest(names, (), importance, dict) == names[4:]
    assert without_weakest(names[:9], (), importance, dict) == names[1:9]
    many = {f"c{j:03d}": float(j) for j in range(200)}
    assert without_weakest(list(many), (), many, dict) == list(many)[80:]  # of very many two fifths
    assert without_weakest(names[:8], {"c00"}, importance, dict) == ["c00", *names[2:8]]
    assert without_weakest(["b", "a"], (), {"a": 0.0, "b": 0.0}, lambda _: alike()) == ["b"]  # of equals the first by name goes
    assert without_weakest(["a"], {"a"}, {"a": 0.0}, dict) == ["a"]
    assert sizes_to_score(5) == [0, 1, 2, 3, 4, 5] and sizes_to_score(40)[-1] == 40 and len(sizes_to_score(40)) < 24


def test_a_persons_own_model_is_searched_by_elimination():
    table = line_table(150, 7)
    trail = chaff.Search(Nearest()).judge(table, Setting.of(table))
    assert trail.decided.label == "nearest" and trail.decided.sizes == tuple(range(8))
    assert {"x1", "x2", "x3"} <= set(trail.decided.sets[4])
    assert trail.decided.values[3:6].mean(1).max() > trail.decided.values[7].mean()  # neighbours suffer from noise columns


@pytest.mark.parametrize("form", ["bins", "design", "frame"])
def test_dealing_one_feature_out_moves_its_cells_and_no_others(form):
    table = chaff.demo.table(rows=90).with_features(["protein_pct", "variety", "ash_pct"])
    rows, order = sample(table, form), np.random.default_rng(0).permutation(90)
    for place, name in enumerate(table.features):
        dealt = with_permuted(rows, name, order).data
        if form == "bins":
            assert (dealt.codes[place] == rows.data.codes[place][order]).all()
            assert (np.delete(dealt.codes, place, 0) == np.delete(rows.data.codes, place, 0)).all()
        elif form == "design":
            own = slice(*dealt.layout.starts[place : place + 2])
            np.testing.assert_array_equal(dealt.X[:, own], rows.data.X[order][:, own])
            np.testing.assert_array_equal(np.delete(dealt.X, np.r_[own], 1), np.delete(rows.data.X, np.r_[own], 1))
        else:
            pd.testing.assert_series_equal(dealt[name].reset_index(drop=True), rows.data[name].iloc[order].reset_index(drop=True))
            pd.testing.assert_frame_equal(dealt.drop(columns=name), rows.data.drop(columns=name))


def test_a_forest_path_ends_in_what_works_only_together():
    rng = np.random.default_rng(3)
    X = rng.normal(size=(400, 12))
    table = chaff.open_arrays(X, X[:, 4] * X[:, 9] + 0.4 * rng.normal(size=400))
    path = ForestLens().paths(search_data(table, chaff.Forest()), None)[0]
    assert path.sets[path.at(2)] == {"x5", "x10"} and path.sets[0] == frozenset() and len(path.sets[-1]) == 12
    assert path.at(11) == len(path.sets) - 2 and path.at(99) == len(path.sets) - 1
    pinned = ForestLens().paths(search_data(table, chaff.Forest(), pins={"x1": chaff.pin_keep("x1", "asked for")}), None)[0]
    assert all("x1" in s for s in pinned.sets if s)


def test_trees_draw_groups_stretches_of_time_and_copies_as_one():
    frame = pd.DataFrame({"a": np.arange(60.0), "g": np.arange(60) // 6, "t": np.arange(60)[::-1], "y": np.arange(60.0) % 7})
    groups = chaff.open_table(frame[["a", "g", "y"]], target="y", groups="g")
    assert (units_in(groups, None) == groups.groups).all()
    time = units_in(chaff.open_table(frame[["a", "t", "y"]], target="y", order="t"), None)
    assert np.unique(time, return_counts=True)[1].tolist() == [3] * 20 and time[0] == 19
    plain = chaff.open_table(frame[["a", "y"]], target="y")
    assert units_in(plain, None) is None and (units_in(plain, np.arange(60)) == np.arange(60)).all()


def test_nested_errors_lie_between_their_bounds_and_say_what_rows_still_teach():
    small = nested_error(search_data(line_table(60, 20)), chaff.Ridge(0.001), frozenset(f"x{j}" for j in range(1, 21)))
    assert LEAST <= small.inflation <= np.sqrt(5) and small.learning > 0.05  # twenty columns on 48 rows
    large = nested_error(search_data(line_table(800, 3)), chaff.Ridge(0.001), frozenset({"x1", "x2", "x3"}))
    assert 0 <= large.learning < 0.02
    assert nested_error(search_data(line_table(60, 3)), chaff.Ridge(), frozenset()).inflation == 1.0


@pytest.mark.long
@pytest.mark.parametrize(
    ("model", "strategy", "target"),
    [
        ("ridge", "floating", "loaf_volume"),
        ("ridge", "genetic", "loaf_volume"),
        ("tree", "forward", "loaf_volume"),
        ("forest", "recursive", "accepted"),
        ("logistic", "forward", "accepted"),
    ],
)
def test_a_selection_and_a_search_have_the_same_honest_curve(model, strategy, target):
    names = ["protein_pct", "protein_nir_pct", "ash_pct", "straw_pct", "falling_number_s", "lab_temp_c"]
    lots = chaff.demo.table(rows=240, target=target).with_features(names)
    run = chaff.select(lots, chaff.Plan((chaff.Search(model=model, strategy=strategy),)), holdout=0, honest="quick")
    decided = run.result("search").decided
    searched = chaff.search(lots, model, strategy, metric=run.result("search").metric, folds=run.result("search").data.folds)
    by_size = dict(zip(decided.sizes, decided.values, strict=True))
    for size, values in zip(searched.honest.sizes, searched.honest.values, strict=True):
        np.testing.assert_allclose(by_size[size], values, rtol=1e-9, err_msg=f"{model} {strategy} {size}")
