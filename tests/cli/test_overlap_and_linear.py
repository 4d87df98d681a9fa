"""`chaff overlap` and `chaff linear` in a process of their own."""

import json

import pandas as pd
import pytest

import chaff
from tests.cli.test_commands import ROLES
from tests.commands import call, run

LEFT_OUT = ("--ignore", "crumb_score", "--ignore", "lot_no", "--ignore", "farm_code", "--ignore", "mycotoxin_ppb")


@pytest.fixture(scope="module")
def lots(tmp_path_factory):
    path = tmp_path_factory.mktemp("lots") / "lots.csv"
    chaff.demo.lots(rows=500).to_csv(path, index=False)
    return path


@pytest.mark.long
def test_overlap_names_pairs_groups_vif_equations_and_components(lots, tmp_path):
    out = run("overlap", lots, *ROLES, "--figures", tmp_path / "f", "--out", tmp_path / "c.json", "--try", "0.5,0.9", "--clusters")
    for words in (
        "pairs over 0.95, in 3 groups",
        "group of 4: gluten_wet_pct",
        "at other thresholds 0.5:",
        "5 features proposed for removal (one per pair with |r| > 0.95)",
        "near-duplicate of test_weight_kg_hl",
        "clusters by average linkage",
        "over 10",
        "explained by",
        "Stepwise VIF elimination:",
        "largest remaining VIF",
        "sieve_fine_pct = 100 - sieve_coarse_pct - sieve_medium_pct",
        "exact",
        "near-singular",
        "explain 90% of the variance",
        "components combine features",
    ):
        assert words in out, words
    assert {p.name for p in (tmp_path / "f").iterdir()} == {
        "correlations.png",
        "vif.png",
        "vif_trail.png",
        "scree.png",
        "component_loadings.png",
    }
    assert chaff.read_findings(tmp_path / "c.json").method == "correlations"
    pinned = run(
        "overlap", lots, *ROLES, "--vif-limit", "20", "--pin-keep", "protein_nir_pct", "--pin-drop", "gluten_dry_pct", "--because", "test"
    )
    assert "gluten_dry_pct" not in pinned and "protein_nir_pct" in pinned
    assert "Cramér's V" in run("overlap", lots, *ROLES, "--every-kind", "--pair-limit", "0.01", "--all")
    assert "at most 1, not 3" in run("overlap", lots, *ROLES, "--pair-limit", "3", code=2)


@pytest.mark.long
def test_linear_says_it_all(lots, tmp_path):
    out = run(
        "linear",
        lots,
        *ROLES,
        *LEFT_OUT,
        "--prune",
        "p",
        "--splits",
        "10",
        "--worth",
        "--sizes",
        "--forms",
        "--checks",
        "--figures",
        tmp_path / "f",
        "--out",
        tmp_path / "coefficients.csv",
    )
    for words in (
        "(intercept)",
        "standardised",
        "+1 ",
        "adjusted R²",
        "complete rows of 402",
        "features kept by p",
        "p (split-sample)",
        "naive p-values ignore the selection",
        "Feature importance in the linear model",
        "Shapley R²",
        "Sizes",
        "rank-normal",
        "Residual checks",
        "validation split",
    ):
        assert words in out, words
    assert (pd.read_csv(tmp_path / "coefficients.csv")["column"] == "(intercept)").any()
    assert {p.name for p in (tmp_path / "f").iterdir()} == {"residuals.png", "residuals_by_feature.png", "predicted_true.png"}


@pytest.mark.long
def test_after_pruning_everything_describes_the_model_that_is_left(lots, tmp_path):
    some = "protein_pct,protein_nir_pct,ash_pct,test_weight_kg_hl,test_weight_lb_bu"
    required = ("linear", lots, *ROLES, "--features", some, "--prune", "vif", "--splits", "0", "--worth", "--checks")
    told = json.loads(run(*required, "--out", tmp_path / "c.csv", "--figures", tmp_path / "f", "--format", "json"))
    left = [r["feature"] for r in told["pruned"]["records"] if r["stays"]]
    assert len(left) == 3
    named = [r["column"] for r in told["summary"]["coefficients"]]
    assert named == ["(intercept)", *left] == pd.read_csv(tmp_path / "c.csv")["column"].tolist()
    assert [r["feature"] for r in told["worth"]["records"]] == left
    text = run(*required)
    assert "before pruning: 5 features" in text and text.index("5 features kept by vif") < text.index("3 features · R²")
    largest = run(*required[:-2], "--vif-order", "largest")
    assert "features kept by vif" in largest


@pytest.mark.long
def test_linear_for_two_classes_and_few_features(lots):
    roles = ("--target", "accepted", "--ignore", "loaf_volume", "--ignore", "grade")
    out = run("linear", lots, *roles, "--features", "protein_pct,ash_pct")
    assert "odds ratio" in out and "deviance" in out and "log odds of accepted" in out
    assert "needs a number" in run("linear", lots, *roles, "--features", "protein_pct", "--worth", code=2)
    assert "Did you mean 'protein_pct'" in run("linear", lots, *ROLES, "--features", "protien_pct", code=3)
    assert "uncentred R²" in run("linear", lots, *ROLES, "--features", "protein_pct", "--no-intercept", "--errors", "robust")


def test_by_hand_is_one_line_a_move(lots, tmp_path):
    moves = (
        f"drop protein_nir_pct\nadd nope\nundo\nshow\ndance\ntrail\ndrop protein_nir_pct\nsave {tmp_path / 'm.json'}\nquit\ndrop ash_pct\n"
    )
    done = call("linear", lots, *ROLES, "--features", "protein_pct,protein_nir_pct,ash_pct", "--by-hand", stdin=moves)
    assert done.returncode == 0, done.stderr
    for words in (
        "start · 3 features",
        "next: drop protein",
        "drop protein_nir_pct · 2 features · adjusted R²",
        "→",
        "'nope' is not a candidate feature",
        "undo protein_nir_pct · 3 features",
        "In the model",
        "drop NAME, add NAME",
        "Moves",
    ):
        assert words in done.stdout, words
    assert "drop ash_pct ·" not in done.stdout  # quit ends it
    again = chaff.by_hand(chaff.open_table(lots, "loaf_volume"), ["protein_pct", "protein_nir_pct", "ash_pct"]).replay(tmp_path / "m.json")
    assert set(again.features) == {"protein_pct", "ash_pct"}


@pytest.mark.long
def test_moves_by_hand_can_be_made_again_in_the_terminal(lots, tmp_path):
    features = ("--features", "protein_pct,protein_nir_pct,ash_pct,lab_temp_c")

    def moves(text):
        done = call("linear", lots, *ROLES, *features, "--by-hand", stdin=text)
        assert done.returncode == 0, done.stderr
        return done.stdout

    moves(f"drop protein_nir_pct\ndrop lab_temp_c\nundo\nsave {tmp_path / 'm.json'}\n")
    again = moves(f"replay {tmp_path / 'm.json'}\nadd protein_nir_pct\nreplay {tmp_path / 'none.json'}\n")
    assert "undo lab_temp_c · 3 features" in again and "add protein_nir_pct · 4 features" in again
    assert "no such moves by hand" in again
    assert moves("").count("start · 4 features") == 1  # an empty input is an end, not a loop


@pytest.mark.long
def test_classes_and_small_files_are_told_in_words(lots, tmp_path):
    grade = ("--target", "grade", "--ignore", "loaf_volume", "--ignore", "accepted")
    assert "3 classes" in run("linear", lots, *grade, code=2)
    assert "needs a number" in run("linear", lots, *grade, "--by-hand", code=2)
    assert "pairs over" in run("overlap", lots, *grade)
    chaff.demo.lots(rows=20).head(2).to_csv(tmp_path / "two.csv", index=False)
    out = run("overlap", tmp_path / "two.csv", "--target", "loaf_volume", "--ignore", "accepted", "--ignore", "grade")
    assert "Components" in out or "Equations:" in out
    pd.DataFrame({"word": ["a", "b", "c", "a"], "y": [1.0, 2, 3, 4]}).to_csv(tmp_path / "words.csv", index=False)
    assert "no column of numbers" in run("overlap", tmp_path / "words.csv", "--target", "y", code=3)
