"""Does a selection still serve: nothing changed, drift, a dropped instrument, a new level, another relation; and what differs between runs."""

import json
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pandas as pd
import pytest

import chaff
from tests.commands import call, run

PLAN = chaff.Plan((chaff.Screen(), chaff.Relevance("leading"), chaff.Search(model="ridge")))


def lots(seed=0, rows=500, weights=(1.0, 1.0, 1.0), groups=False):
    """Three assays that matter, three that do not, a variety; `weights` is the relation."""
    rng = np.random.default_rng(seed)
    frame = pd.DataFrame(rng.normal(size=(rows, 6)), columns=[f"assay_{k}" for k in range(6)])
    frame["variety"] = rng.choice(["Alba", "Borka", "Cerio"], rows)
    mills = rng.integers(0, 10, rows)
    frame["y"] = frame.iloc[:, :3] @ np.array(weights) + (frame["variety"] == "Borka") + rng.normal(0, 1.0, rows)
    if groups:
        frame["mill"] = mills
        frame["y"] += rng.normal(0, 0.3, 10)[mills]
    return frame


@pytest.fixture(scope="module")
def selection():
    found = chaff.select(chaff.open_table(lots(), "y"), PLAN, state=False).selection
    assert set(found.features) == {"assay_0", "assay_1", "assay_2", "variety"}
    return found


@pytest.mark.long
def test_nothing_changed_says_stay(selection):
    with ThreadPoolExecutor(2) as pool:
        said = list(pool.map(lambda s: chaff.recheck(selection, lots(s), workers=1).verdict, range(1, 41)))
    assert said.count("stay") >= 38


@pytest.mark.long
def test_nothing_changed_in_groups_says_stay():
    found = chaff.select(chaff.open_table(lots(groups=True), "y", groups="mill"), PLAN, state=False).selection
    said = [chaff.recheck(found, lots(s, groups=True), old=lots(groups=True)).verdict for s in range(1, 13)]
    assert said.count("stay") >= 11


@pytest.mark.parametrize(
    "change, verdict, words",
    [
        (lambda f: f.assign(assay_1=f["assay_1"] + 1), "refit", "assay_1: its distribution differs"),
        (lambda f: f.assign(variety=np.where(np.arange(500) % 9 == 0, "Nova", f["variety"])), "refit", "Nova"),
        (lambda f: f.assign(y=f["y"] + 2), "refit", "y: its distribution differs"),
        (lambda f: f.assign(assay_0=np.where(np.arange(500) % 4 == 0, np.nan, f["assay_0"])), "refit", "missing 0.0% then"),
        (lambda f: f.drop(columns="assay_2"), "reselect", "assay_2 is not there"),
        (lambda f: f.assign(assay_2=["low", "high"] * 250), "reselect", "assay_2"),
        (lambda f: f.assign(assay_2=np.nan), "reselect", "assay_2 is missing in every row"),
        (lambda f: f.assign(assay_0=f["assay_5"], assay_5=f["assay_0"]), "reselect", "is worse than all candidates"),
    ],
)
def test_what_changed_is_found(selection, change, verdict, words):
    found = chaff.recheck(selection, change(lots(3)))
    assert found.verdict == verdict and any(words in r for r in found.reasons), found.reasons
    assert found.exit_code == {"stay": 0, "refit": 10, "reselect": 20}[verdict]


def test_old_rows_tell_of_another_relation_with_the_same_columns(selection):
    turned = lots(4, weights=(1.0, -1.0, 1.0))
    without = chaff.recheck(selection, turned)
    assert without.verdict == "refit" and [r.split()[3] for r in without.reasons if "differs from that at selection" in r] == ["assay_1"]
    found = chaff.recheck(selection, turned, old=lots())
    assert found.verdict == "refit" and any("the old coefficients lose more" in r for r in found.reasons) and found.old.apart_low < 0.5
    moved = chaff.recheck(selection, lots(4).assign(assay_1=lambda f: f["assay_1"] + 0.6), old=lots())
    assert moved.old.apart > 0.6 and moved.old.by.index[0] == "assay_1"


def test_the_whole_plan_anew(selection):
    found = chaff.recheck(selection, lots(5, weights=(1.0, 0.0, 1.0)), rerun=True)
    assert found.rerun.goes == ("assay_1",) and not found.rerun.comes and {"then", "now", "stage"} == set(found.rerun.moved.columns)
    json.dumps(found.as_plain())


def test_scores_are_those_of_folds_on_the_new_rows(selection):
    found = chaff.recheck(selection, lots(6))
    table = chaff.open_table(lots(6), "y")
    direct = chaff.keep_up(
        table, selection.features, [f for f in table.features if f in selection.scores["full"]["features"]], selection.model
    )
    assert found.keep_up.answer == direct.answer and found.keep_up.difference.mean == pytest.approx(direct.difference.mean, abs=1e-12)
    assert str(found).splitlines()[0].startswith(found.verdict) and selection.features


@pytest.mark.long
def test_classes_flags_and_own_tables():
    rng = np.random.default_rng(1)
    frame = lots(1).assign(y=lambda f: np.where(f["y"] > 0, "good", "poor"))
    frame["assay_3"] = np.where(rng.random(500) < 0.3, np.nan, frame["assay_3"])
    frame.loc[frame["assay_3"].isna(), "y"] = "good"
    table = chaff.open_table(frame, "y", missing_flags=["assay_3"])
    found = chaff.select(table, chaff.Plan((chaff.Screen(), chaff.Search(model="logistic"))), state=False).selection
    assert "assay_3_missing" in found.features
    assert chaff.recheck(found, frame).verdict == "stay" and chaff.recheck(found, table).verdict == "stay"
    assert "nothing is missing any more" in chaff.recheck(found, frame.fillna({"assay_3": 0.0})).reasons[0]
    with pytest.raises(chaff.DataError, match="unknown to the selection: rotten"):
        chaff.recheck(found, frame.assign(y=lambda f: np.where(np.arange(500) < 20, "rotten", f["y"])))


def test_what_cannot_be_rechecked_is_said(selection):
    with pytest.raises(chaff.DataError, match="lacks the target 'y'"):
        chaff.recheck(selection, lots().drop(columns="y"))
    with pytest.raises(chaff.DataError, match="too few; at least"):
        chaff.recheck(selection, lots().head(20))
    with pytest.raises(chaff.DataError, match="lacks kept column"):
        chaff.recheck(selection, lots(), old=lots().drop(columns="assay_1"))


@pytest.mark.long
def test_a_scheduler_acts_on_the_exit_code(selection, tmp_path):
    selection.save(tmp_path / "s.json")
    lots(7).to_csv(tmp_path / "new.csv", index=False)
    lots(7).drop(columns="assay_0").to_csv(tmp_path / "less.csv", index=False)
    assert "stay: keep the selection" in run("recheck", "s.json", "new.csv", cwd=tmp_path)
    run("recheck", "s.json", "less.csv", "--out", "less.json", cwd=tmp_path, code=20)
    assert "assay_0 is not there" in json.loads((tmp_path / "less.json").read_text())["reasons"]
    found = json.loads(run("recheck", "s.json", "new.csv", "--format", "json", "--out", "r.json", cwd=tmp_path))
    assert found["verdict"] == "stay" and json.loads((tmp_path / "r.json").read_text())["drift"]["moved"] == []
    done = call("recheck", "s.json", "gone.csv", cwd=tmp_path)
    assert done.returncode == 3 and "Traceback" not in done.stderr


# ---- changes between two runs


def two(a=None, b=None, data=lots, **more):
    plans = [chaff.Plan((chaff.Screen(), chaff.Search(model="ridge", **(x or {})))) for x in (a, b)]
    return [chaff.select(chaff.open_table(data(), "y"), p, state=False, **more).selection for p in plans]


@pytest.mark.long
def test_one_thing_changed_is_named_and_what_came_of_it():
    first, second = two({"size": 2}, {"size": 4})
    found = chaff.changes(first, second)
    assert found.settings.index.tolist() == ["stage search: size"] and found.settings.iloc[0].tolist() == ["2", "4"]
    assert found.same_data and not found.goes and set(found.comes) == set(second.features) - set(first.features)
    assert set(found.columns.index) == set(found.comes) and "features selected" in found.scores.index
    back = chaff.changes(second, first)
    assert back.goes == found.comes and back.scores.loc["features selected"].tolist() == ["4", "2"]


@pytest.mark.long
def test_the_same_run_differs_in_nothing():
    first, second = two()
    found = chaff.changes(first, second)
    assert found.same and "nothing differs" in str(found) and not len(found.scores)


@pytest.mark.long
def test_other_data_is_said_and_several_changes_warn():
    (first, second), (third, _) = two({"size": 2}, {"size": 3}), two({"size": 3}, data=lambda: lots(9))
    assert not chaff.changes(second, third).same_data
    assert any("change one thing" in n for n in chaff.changes(first, third).notes)


@pytest.mark.long
def test_changes_on_the_command_line(tmp_path):
    for name, selection in zip("ab", two({"size": 2}, {"size": 4}), strict=True):
        (tmp_path / name).mkdir()
        selection.save(tmp_path / name / "selection.json")
    said = run("changes", "a", "b/selection.json", cwd=tmp_path)
    assert "1 setting differs; same data" in said and "stage search: size" in said
    assert json.loads(run("changes", "a", "b", "--format", "json", cwd=tmp_path))["goes"] == []
    assert "no such selection" in run("changes", "a", "c", cwd=tmp_path, code=3)


def test_a_selection_of_nothing_is_rechecked_too():
    rng = np.random.default_rng(3)
    noise = pd.DataFrame(rng.normal(size=(200, 4)), columns=list("abcd")).assign(y=rng.normal(size=200))
    found = chaff.select(chaff.open_table(noise, "y"), PLAN, state=False).selection
    assert not found.features
    assert chaff.recheck(found, noise.sample(frac=1, random_state=1), old=noise).verdict == "stay"
    assert chaff.recheck(found, noise.assign(y=lambda f: 2 * f["a"] + f["y"])).verdict == "reselect"


@pytest.mark.long
def test_mills_are_told_by_name_and_not_by_number():
    """Rows of new mills are nobody's group among the old ones, whatever number they have."""
    from chaff.decide.rechecking.old_rows import _stacked

    old, new = lots(0, groups=True), lots(1, groups=True)
    old["mill"], new["mill"] = [f"a{m}" for m in old["mill"]], [f"b{m}" for m in new["mill"]]
    found = chaff.select(chaff.open_table(old, "y", groups="mill"), PLAN, state=False).selection
    both, is_new = _stacked(found, chaff.open_table(old, "y", groups="mill"), chaff.open_table(new, "y", groups="mill"), found.features)
    assert not set(both.groups[is_new]) & set(both.groups[~is_new]) and np.unique(both.groups).size == 20
    assert chaff.recheck(found, new, old=old).verdict == "stay"


@pytest.mark.parametrize("role", ["order", "weights"])
def test_order_and_weights_are_taken_along(role):
    def rows(seed):
        return lots(seed).assign(day=np.arange(500), heavy=np.random.default_rng(seed).uniform(0.5, 2, 500))

    terms = {"order": "day", "ignore": ["heavy"]} if role == "order" else {"weights": "heavy", "ignore": ["day"]}
    found = chaff.select(chaff.open_table(rows(0), "y", **terms), PLAN, state=False).selection
    told = chaff.recheck(found, rows(1), old=rows(0))
    assert told.verdict == "stay" and told.rows == 500 and told.keep_up.answer != "worse"
    gone = "day" if role == "order" else "heavy"
    with pytest.raises(chaff.DataError, match=f"lacks the {role} '{gone}'"):
        chaff.recheck(found, rows(1).drop(columns=gone))


def test_a_table_in_hand_is_taken_as_it_is_and_another_target_is_refused(selection):
    table = chaff.open_table(lots(8), "y")
    assert chaff.recheck(selection, table).verdict == chaff.recheck(selection, lots(8)).verdict
    with pytest.raises(chaff.DataError, match="has the target assay_5, the selection is for y"):
        chaff.recheck(selection, chaff.open_table(lots(8), "assay_5"))
    with pytest.raises(chaff.DataError, match="a target of another kind"):
        chaff.recheck(selection, chaff.open_table(lots(8).assign(y=lambda f: np.where(f["y"] > 0, "u", "v")), "y"))


def test_another_model_may_be_asked_and_the_one_then_is_remembered(selection):
    assert selection.model in ("ridge", {"name": "ridge", "penalty": 0.01}) or "ridge" in str(selection.model)
    assert chaff.recheck(selection, lots(9)).model == "ridge" and chaff.recheck(selection, lots(9), model="tree").model == "tree"


@pytest.mark.long
def test_new_rows_on_disk_are_as_in_memory_and_of_many_a_sample_is_learned_from(tmp_path, monkeypatch):
    found = chaff.select(chaff.open_table(lots(0, rows=500), "y"), PLAN, state=False).selection
    new = lots(1, rows=900)
    for k in range(3):
        (tmp_path / "new").mkdir(exist_ok=True)
        new.iloc[300 * k : 300 * k + 300].to_parquet(tmp_path / "new" / f"{k}.parquet")
    here, there = chaff.recheck(found, new), chaff.recheck(found, tmp_path / "new", scratch=tmp_path / "scratch")
    assert here.verdict == there.verdict and here.now == there.now and here.keep_up == there.keep_up
    assert here.drift.frame.equals(there.drift.frame) and any("stays on disk" in n for n in there.notes)
    monkeypatch.setattr("chaff.decide.row_sample.UP_TO", 400)
    monkeypatch.setattr("chaff.decide.row_sample.ROWS", 300)
    some = chaff.recheck(found, tmp_path / "new", old=lots(0, rows=500), scratch=tmp_path / "scratch")
    assert some.rows == 900 and any("300 of 900 rows are" in n for n in some.notes)
    assert some.drift.frame.equals(here.drift.frame), "how columns have moved is told of every row"
    assert chaff.recheck(found, tmp_path / "new", rows="all", scratch=tmp_path / "scratch").now == here.now
