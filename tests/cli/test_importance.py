"""`chaff importance` in a process of its own: models, ways, cuts, another model beside, figures, and what goes wrong."""

import json

import pytest

import chaff
from tests.cli.test_commands import ROLES
from tests.commands import call, run


@pytest.fixture(scope="module")
def lots(tmp_path_factory):
    path = tmp_path_factory.mktemp("lots") / "lots.csv"
    names = ["lot_no", "mill", "protein_pct", "ash_pct", "variety", "falling_number_s", "lab_temp_c", "loaf_volume", "accepted", "grade"]
    chaff.demo.lots(rows=300)[names].to_csv(path, index=False)
    return path


@pytest.mark.long
def test_a_lasso_shows_what_is_in_its_path_and_another_model_beside(lots, tmp_path):
    out = run(
        "importance", lots, *ROLES, "--model", "lasso", "--by", "{ name = 'coefficient', resamples = 5 }", "--against", "ridge",
        "--top", "3", "--try", "1,5", "--figure", tmp_path / "bars.png", "--figures", tmp_path / "path", "--out", tmp_path / "f.json",
    )  # fmt: skip
    for words in (
        "features are in the model",
        "selection frequency",
        "enters",
        "Thresholds side by side",
        "Comparison with ridge",
        "both",
        "per SD of a feature",
    ):
        assert words in " ".join(out.split()), words
    assert (tmp_path / "bars.png").stat().st_size > 10_000 and (tmp_path / "path" / "close_up.png").stat().st_size > 10_000
    saved = chaff.read_findings(tmp_path / "f.json")
    assert saved.frame["stays"].sum() == 3 and set(saved.more) >= {"path", "penalties", "against", "by_fold"}


@pytest.mark.long
@pytest.mark.parametrize(
    ("model", "by", "words"),
    [
        ("ridge", "{ name = 'permutation', together = 0.8 }", "R² lost"),
        ("boosting", "shapley", "direction"),
        ("forest", "impurity", "raw share"),
        ("forest", "{ name = 'split standing', trees = 60 }", "won share"),
        ("ridge", "drop column", "R² lost; with all columns"),
        ("forest", "pooled", "disagree most on"),
    ],
)
def test_every_way_has_its_columns_and_its_figure(lots, tmp_path, model, by, words):
    out = run("importance", lots, *ROLES, "--model", model, "--by", by, "--figures", tmp_path / "close")
    assert words in " ".join(out.split()) and "protein_pct" in out and (tmp_path / "close" / "close_up.png").stat().st_size > 10_000


def test_scripts_get_one_object_with_every_frame(lots):
    told = json.loads(run("importance", lots, *ROLES, "--model", "tree", "--by", "permutation", "--format", "json"))
    assert "by_fold" in json.dumps(told) and "significant" in json.dumps(told) and "protein_pct" in json.dumps(told)


@pytest.mark.long
@pytest.mark.parametrize(
    ("options", "said"),
    [
        (("--model", "lasoo"), "Did you mean 'lasso'?"),
        (("--by", "permutatoin"), "Did you mean 'permutation'?"),
        (("--by", "{ name = 'permutation', togehter = 0.9 }"), "Did you mean 'together'?"),
        (("--by", "{ name = "), "is not a valid setting table"),
        (("--model", "ridge", "--by", "impurity"), "has no splits; models that have"),
        (("--model", "ridge", "--trees", "5"), "--trees needs the forest"),
        (("--top", "3", "--share", "0.5"), "one cut at a time"),
        (("--try", "a,b"), "--try must be numbers"),
        (("--model", "naive Bayes", "--by", "permutation"), "needs classes"),
    ],
)
def test_mistakes_are_told_in_a_sentence(lots, options, said):
    done = call("importance", lots, *ROLES, *options)
    assert done.returncode in (2, 4) and "Traceback" not in done.stderr
    assert said in " ".join(done.stderr.split())
