"""Drift of new rows against a selection: found where it is, not where it is not, in one pass over any file."""

import numpy as np
import pandas as pd
import pytest
from scipy.stats import chi2, chi2_contingency, kstwobign

import chaff
from chaff.decide.distributions import Drift, Tally, shape_of
from chaff.decide.drift import column_effect, distance_p, drifts_of, outside_p
from chaff.decide.selection_parts import KeptPart, ShapePart
from chaff.stats.paired_loss import Units
from chaff.stats.part_differences import unseen_p
from chaff.table.kinds import Column
from tests.commands import run

N = 600


def rows(seed=0, n=N):
    rng = np.random.default_rng(seed)
    frame = pd.DataFrame(
        {"assay": rng.normal(10, 2, n), "organic": rng.choice(["yes", "no"], n), "variety": rng.choice(["Alba", "Borka", "Cerio"], n)}
    )
    frame["flag"], frame["count"] = (rng.random(n) < 0.3).astype(int), rng.poisson(3, n)
    frame["gap"] = np.where(rng.random(n) < 0.1, np.nan, rng.normal(size=n))
    effects = frame["assay"] + 2 * (frame["organic"] == "yes") + 2 * (frame["variety"] == "Borka") + 3 * frame["flag"] + frame["count"]
    frame["y"] = effects + 2 * frame["gap"].fillna(0) + rng.normal(0, 0.5, n)
    return frame


@pytest.fixture(scope="module")
def selection():
    run = chaff.select(chaff.open_table(rows(), "y"), chaff.Plan((chaff.Screen(), chaff.Search(model="ridge"))), state=False)
    assert set(run.features) == {"assay", "organic", "variety", "flag", "count", "gap"}
    return run.selection


def test_rows_like_those_then_have_not_moved(selection):
    assert sum(bool(selection.drift(rows(seed)).moved) for seed in range(1, 61)) <= 1


@pytest.mark.parametrize(
    "change, column, words",
    [
        (lambda f: f.assign(assay=f["assay"] + 1.5), "assay", "distribution differs"),
        (lambda f: f.assign(assay=f["assay"] * 1.8), "assay", "distribution differs"),
        (lambda f: f.assign(gap=np.where(np.arange(N) % 3 == 0, np.nan, f["gap"])), "gap", "missing"),
        (lambda f: f.assign(variety=np.where(np.arange(N) % 9 == 0, "Nova", f["variety"])), "variety", "not there: Nova"),
        (lambda f: f.assign(organic=np.where(np.arange(N) % 2 == 0, "yes", f["organic"])), "organic", "distribution differs"),
        (lambda f: f.assign(flag=np.where(np.arange(N) % 2 == 0, 1, f["flag"])), "flag", "distribution differs"),
    ],
)
def test_what_moved_is_named_and_nothing_else(selection, change, column, words):
    found = selection.drift(change(rows(7)))
    assert found.moved == (column,) and words in found.frame.loc[column, "why"] and column in found.headline


@pytest.mark.parametrize("ending, form", [("csv", "int"), ("csv", "float"), ("parquet", "int"), ("parquet", "float"), ("parquet", "bool")])
def test_a_flag_is_the_same_whatever_it_is_written_as(selection, tmp_path, ending, form):
    frame = rows(3).astype({"flag": form})
    path = tmp_path / f"new.{ending}"
    frame.to_csv(path, index=False) if ending == "csv" else frame.to_parquet(path)
    found = selection.drift(path)
    assert found.frame.loc["flag", "stability"] < 0.05 and not found.frame.loc["flag", "fresh"]
    pd.testing.assert_series_equal(found.frame["stability"], selection.drift(rows(3)).frame["stability"], rtol=1e-9)


def test_many_rows_are_sampled_but_levels_and_ends_are_not(selection, tmp_path):
    many = pd.concat([rows(k, 20_000) for k in range(10)], ignore_index=True)
    many.loc[len(many) - 1, ["variety", "assay"]] = ["Nova", 99.0]
    many.to_parquet(tmp_path / "many.parquet")
    found = selection.drift(tmp_path / "many.parquet")
    assert not found.moved and found.frame.loc["variety", "fresh"] == ("Nova",) and found.frame.loc["assay", "outside_share"] > 0
    assert found.rows == pytest.approx(len(many), rel=0.01)


def test_strict_refuses_and_writes_nothing(selection, tmp_path):
    frame = rows(4).assign(variety=lambda f: np.where(np.arange(N) == 5, "Nova", f["variety"]))
    frame.to_csv(tmp_path / "new.csv", index=False)
    with pytest.raises(chaff.DataError, match=r"variety: 1 level that was not there \(Nova\)"):
        selection.apply(tmp_path / "new.csv", tmp_path / "r.csv", strict=True)
    with pytest.raises(chaff.DataError, match="Nova"):
        selection.apply(frame, strict=True)
    assert [p.name for p in tmp_path.iterdir()] == ["new.csv"]
    assert len(selection.apply(rows(4), strict=True)) == N
    selection.apply(tmp_path / "new.csv", tmp_path / "r.csv")
    assert len(pd.read_csv(tmp_path / "r.csv")) == N


def test_the_command_says_what_moved(selection, tmp_path):
    selection.save(tmp_path / "s.json")
    rows(5).assign(assay=lambda f: f["assay"] + 3).to_csv(tmp_path / "new.csv", index=False)
    assert "1 of 6 features (assay)" in run("apply", "s.json", "new.csv", "-o", "r.csv", cwd=tmp_path)
    assert "differs from the rows" in run("apply", "s.json", "new.csv", "-o", "r2.csv", "--strict", cwd=tmp_path, code=3)
    assert not (tmp_path / "r2.csv").exists()


def test_chance_by_the_distributions_it_should_have():
    tally = Tally(ShapePart(rows=400, steps=[[0.0, 0.0, 1.0]]), rows=300)
    assert distance_p(tally, Drift(0.1, 0.12, (0, 0), (), 300), 1.0) == pytest.approx(kstwobign.sf(0.12 * np.sqrt(400 * 300 / 700)))
    tally = Tally(ShapePart(rows=400, levels={"a": 0.5, "b": 0.3, "c": 0.2}))
    tally.add_words({"a": 130, "b": 100, "c": 70})
    x = chi2_contingency([[200, 120, 80], [130, 100, 70]], correction=False)
    assert distance_p(tally, tally.drift(), 1.0) == pytest.approx(x.pvalue)
    assert distance_p(tally, tally.drift(), 2.0) == pytest.approx(chi2.sf(x.statistic / 2, 2))


def zipf(levels):
    p = 1 / np.arange(1.0, levels + 1)
    return p / p.sum()


def drift_of_words(old, new):
    levels, codes = np.unique(old, return_inverse=True)
    column = Column("k", "category", codes.astype(float), tuple(map(str, levels)))
    part = KeptPart(name="k", kind="category", levels=list(column.levels), distribution=shape_of(column))
    tally = Tally(part.distribution)
    words, count = np.unique(new, return_counts=True)
    tally.add_words(dict(zip(map(str, words), count.tolist(), strict=True)))
    return drifts_of({"k": part}, {"k": tally}, {})


@pytest.mark.long
@pytest.mark.parametrize("shares", [zipf(60), np.full(100, 0.01), np.full(200, 0.005), zipf(5000), np.full(3000, 1 / 3000)], ids=len)
def test_rare_levels_that_come_and_go_have_not_moved_and_a_new_variety_has(shares):
    alarms = found = 0
    for seed in range(40):
        rng = np.random.default_rng(seed)
        old, new = (rng.choice(shares.size, n, p=shares).astype(object) for n in (1000, 500))
        alarms += bool(drift_of_words(old.astype(str), new.astype(str)).moved)
        new[rng.random(new.size) < 0.1] = "Nova"
        found += bool(drift_of_words(old.astype(str), new.astype(str)).moved)
    assert alarms <= 1 and found >= 38


def test_the_chance_of_unseen_levels_is_that_of_dealing_the_rows_anew():
    """Against permutations of the very rows."""
    rng = np.random.default_rng(1)
    rows = np.concatenate([np.repeat(np.arange(5), 20), np.arange(5, 35), np.repeat(np.arange(35, 45), 2)])
    old = np.zeros(rows.size, bool)
    old[rng.permutation(rows.size)[:90]] = True
    counts = [np.bincount(rows[side], minlength=45).astype(float) for side in (old, ~old)]
    seen = counts[1][counts[0] == 0].sum()
    above = 0
    for _ in range(4000):
        dealt = rng.permutation(old)
        a, b = (np.bincount(rows[side], minlength=45) for side in (dealt, ~dealt))
        above += b[a == 0].sum() >= seen
    assert unseen_p(*counts, 1.0) == pytest.approx(above / 4000, abs=0.06)  # levels are dealt each by itself, rows are not


def test_the_stability_of_samples_is_chi_square_by_chance():
    rng = np.random.default_rng(0)
    seen = []
    for _ in range(400):
        tally = Tally(shape_of(Column("x", "number", rng.normal(size=1000))))
        tally.add_numbers(rng.normal(size=800))
        seen.append(tally.drift().stability * 1000 * 800 / 1800)
    assert np.mean(seen) == pytest.approx(9, rel=0.1)  # ten bins


def test_rows_that_hang_together_count_for_less():
    rng = np.random.default_rng(1)
    groups = np.repeat(np.arange(20), 50)
    shared = np.repeat(rng.normal(size=20), 50)
    assert column_effect(shared + 0.1 * rng.normal(size=1000), Units(groups=groups)) > 20
    assert column_effect(rng.normal(size=1000), Units(groups=groups)) < 3 and column_effect(shared, None) == 1.0


def test_nothing_to_tell_of(selection):
    with pytest.raises(chaff.DataError, match="no rows"):
        selection.drift(rows().head(0))
    with pytest.raises(chaff.UsageError, match="named columns"):
        selection.drift(np.zeros((3, 6)))
    with pytest.raises(chaff.DataError, match="lacks kept column 'assay'"):
        selection.drift(rows().drop(columns="assay"))


def test_rows_out_of_range_come_as_often_by_chance_as_said():
    rng = np.random.default_rng(2)
    shape = ShapePart(rows=80, steps=[])
    old, new = rng.normal(size=(4000, 80)), rng.normal(size=(4000, 120))
    out = ((new < old.min(1)[:, None]) | (new > old.max(1)[:, None])).mean(1)
    for share in (0.02, 0.05, 0.08):
        count = int(np.ceil(share * 120))
        assert outside_p(shape, count / 120, 120, 1.0) == pytest.approx((out >= count / 120 - 1e-9).mean(), abs=0.025)
