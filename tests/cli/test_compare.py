"""`chaff compare` in a process of its own."""

import json

import pandas as pd
import pytest

import chaff
from tests.cli.test_commands import ROLES
from tests.cli.test_search import NAMES, TARGETS, flat
from tests.commands import call, run

ALONE = [*ROLES, "--all-rows", "--all-columns"]


@pytest.fixture(scope="module")
def lots(tmp_path_factory):
    path = tmp_path_factory.mktemp("lots") / "lots.csv"
    chaff.demo.lots(rows=250)[[*NAMES, *TARGETS]].to_csv(path, index=False)
    return path


@pytest.mark.long
def test_methods_side_by_side_with_figures_and_the_scores_of_all(lots, tmp_path):
    methods = ["--method", "leading", "--method", "lasso", "--method", '{ name = "floating", size = 5 }']
    out = flat(
        run("compare", lots, *ALONE, *methods, "--at", "0.4", "--truth", "protein_pct,ash_pct", "--out", tmp_path / "scores.csv",
            "--figures", tmp_path / "f")
    )  # fmt: skip
    for words in (
        "3 methods and 2 combinations (vote, mean rank), scored with ridge",
        "false negatives",
        "true positives",
        "All at 0.4 of the features",
        "random sets",
        "selected by each method",
        "all features",
    ):
        assert words in out, words
    assert {p.name for p in (tmp_path / "f").iterdir()} == {"compared.png", "kept_by.png"}
    frame = pd.read_csv(tmp_path / "scores.csv", index_col=0)
    assert {"leading raw", "floating scaled"} <= set(frame.columns) and len(frame) == 7


@pytest.mark.long
def test_as_json_and_by_a_plan(lots, tmp_path):
    plan = tmp_path / "plan.toml"
    plan.write_text(
        '[table]\ntarget = "accepted"\nignore = ["loaf_volume", "grade"]\ngroups = "mill"\n[score]\nfolds = 3\nmetric = "auc"\n[[stage]]\nuse = "screen"\n'
    )
    told = json.loads(run("compare", lots, "--plan", plan, "--method", "auc", "--method", "forward", "--sizes", "1,2", "--format", "json"))
    comparison = told["comparison"]
    assert comparison["model"] == "logistic" and comparison["metric"] == "auc" and len(comparison["curves"]) == 2 * 5
    assert set(comparison["kept"]) == {"auc", "forward", "vote", "mean rank"} and len(comparison["agreement"]) == 6


@pytest.mark.long
@pytest.mark.parametrize(
    ("options", "words"),
    [
        (["--method", "pearsen_r"], "Did you mean 'pearson_r'"),
        (["--sizes", "1,x"], "x is not a number"),
        (["--sizes", "1.5"], "must be whole numbers"),
        (["--sizes", "40"], "from 1 to the 7 features"),
        (["--method", "lasso", "--method", "leading", "--vote", "5"], "vote must be from 1 to the 2 methods"),
        (["--method", "leading", "--truth", "protien_pct"], "Did you mean 'protein_pct'"),
        (["--method", "leading", "--sizes", "2", "--at", "30"], "size must be a whole number from 1 to 7"),
        (["--method", "forward", "--seconds", "0.001"], "compare would take about"),
        (["--out", "x.txt"], "must end in"),
        (["--method", "{ use = "], "is not a valid setting table"),
    ],
)
def test_what_goes_wrong_is_said_without_a_traceback(lots, options, words, tmp_path):
    done = call("compare", lots, *ALONE, *options, cwd=tmp_path)
    assert done.returncode in (2, 3) and "Traceback" not in done.stderr and words in flat(done.stderr), done.stderr


def test_a_page_that_is_there_is_refused_before_any_work(tmp_path):
    (tmp_path / "r.html").write_text("mine")
    (tmp_path / "t.csv").write_text("a,y\n" + "".join(f"{k},{k % 7}\n" for k in range(60)))
    said = run(
        "compare", "t.csv", "--target", "y", "--task", "regression", "--method", "pearson_r", "--report", "r.html", cwd=tmp_path, code=3
    )
    assert "already exists" in said and "compare" not in said.split("chaff:")[0] and (tmp_path / "r.html").read_text() == "mine"
