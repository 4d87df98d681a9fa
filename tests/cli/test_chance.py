"""`chaff importance --chance, --twins, --stability, --knockoffs, --decoys` and `chaff select --decoys`, in a process of their own."""

import json

import numpy as np
import pytest

import chaff
from tests.cli.test_commands import ROLES
from tests.commands import call, run

ALONE = [*ROLES, "--all-rows", "--all-columns"]


@pytest.fixture(scope="module")
def lots(tmp_path_factory):
    path = tmp_path_factory.mktemp("lots") / "lots.csv"
    names = ["mill", "protein_pct", "ash_pct", "variety", "falling_number_s", "lab_temp_c", "straw_pct", "loaf_volume", "accepted", "grade"]
    chaff.demo.lots(rows=250)[names].to_csv(path, index=False)
    return path


def flat(text):
    return " ".join(text.split())


@pytest.mark.long
def test_shuffled_targets_limits_figure_and_findings(lots, tmp_path):
    out = run(
        "importance", lots, *ALONE, "--chance", "20", "--keep", "maximum", "--try", "2,4", "--figure", tmp_path / "band.png",
        "--out", tmp_path / "found.json",
    )  # fmt: skip
    for words in (
        "are significant (FWER p 0.05 or less), by split standing against 20 permutations",
        "within groups",
        "Features kept at each threshold",
        "expected under permutation",
    ):
        assert words in flat(out), words
    assert (tmp_path / "band.png").stat().st_size > 10_000
    saved = chaff.read_findings(tmp_path / "found.json")
    assert saved.frame.loc["protein_pct", "verdict"] == "keep" and saved.more["shuffles"].shape[1] == 20


@pytest.mark.long
def test_a_statistic_against_chance_by_standard_deviations_as_json(lots):
    told = json.loads(run("importance", lots, *ALONE, "--chance", "15", "--by", "spearman_rho", "--keep", "2.5", "--format", "json"))
    text = json.dumps(told)
    assert "standard_score" in text and '"by": "spearman_rho"' in text and '"standard_deviations": 2.5' in text


@pytest.mark.long
def test_twins_stability_and_knockoffs(lots, tmp_path):
    twins = flat(run("importance", lots, *ALONE, "--twins", "--rounds", "43", "--trees", "60", "--figure", tmp_path / "rounds.png"))
    assert "beat the best permuted copy" in twins and "share of rounds" in twins and "43 rounds by impurity" in twins
    stable = flat(run("importance", lots, *ALONE, "--stability", "--top", "2", "--figure", tmp_path / "shares.png"))
    assert (
        "selection frequency" in stable
        and "false selections, bound (complementary pairs)" in stable
        and "stability of the whole set" in stable
    )
    numbers = ["--target", "loaf_volume", "--all-rows", "--all-columns"]
    for name in ("accepted", "grade", "mill", "variety"):
        numbers += ["--ignore", name]
    knock = flat(run("importance", lots, *numbers, "--knockoffs", "0.5", "--figure", tmp_path / "knock.png"))
    assert "beat their knockoff copies at q = 0.5" in knock and "the normal law fits" in knock
    assert all((tmp_path / f"{n}.png").stat().st_size > 10_000 for n in ("rounds", "shares", "knock"))


@pytest.mark.long
def test_decoys_among_the_columns_of_any_importance(lots, tmp_path):
    out = flat(run("importance", lots, *ALONE, "--model", "ridge", "--by", "permutation", "--decoys", "4", "--figures", tmp_path / "d"))
    assert "the best noise feature (decoy_0" in out and (tmp_path / "d" / "decoys.png").stat().st_size > 10_000
    cut = flat(run("importance", lots, *ALONE, "--model", "ridge", "--by", "permutation", "--decoys", "4", "--top", "7"))
    assert "of 4 noise features were kept (false-keep rate" in cut


@pytest.mark.long
def test_a_selection_with_decoys_writes_none_of_them(lots, tmp_path):
    out = flat(run("select", lots, *ROLES, "--decoys", "3", "--model", "ridge", "--quick", "--no-state", "--out", tmp_path / "out"))
    assert "noise features (decoys)" in out and "of 3 noise features were kept" in out
    assert "decoy_" not in (tmp_path / "out" / "reduced.csv").read_text().splitlines()[0]
    kept = json.loads((tmp_path / "out" / "selection.json").read_text())["kept"]
    assert kept and not any(k["name"].startswith("decoy_") for k in kept)


@pytest.mark.long
def test_a_plan_says_it_too(lots, tmp_path):
    plan = tmp_path / "plan.toml"
    plan.write_text(
        '[table]\ntarget = "loaf_volume"\ngroups = "mill"\nignore = ["accepted", "grade"]\n[[stage]]\nuse = "chance"\nshuffles = 10\nkeep = { maximum = 0.1 }\n'
    )
    out = flat(run("importance", lots, "--plan", plan, "--all-rows", "--chance", "12"))
    assert "FWER p 0.1 or less" in out and "against 12 permutations" in out


@pytest.mark.long
@pytest.mark.parametrize(
    ("options", "words"),
    [
        (["--chance", "20", "--twins"], "--chance and --twins"),
        (["--keep", "3"], "--keep goes with --chance"),
        (["--rounds", "3"], "--rounds goes with --twins"),
        (["--twins", "--rounds", "40"], "40 rounds can keep no column: it takes 43"),
        (["--chance", "20", "--top", "3"], "--top does not go with --chance; set the threshold with --keep"),
        (["--chance", "20", "--keep", "many"], "write standard deviations such as 3"),
        (["--chance", "20", "--by", "permutatoin"], "Did you mean 'permutation'"),
        (["--chance", "2"], "Invalid value"),
        (["--knockoffs", "1"], "q must be between 0 and 1"),
        (["--knockoffs", "0.1"], "only numbers have Gaussian copies"),
        (["--stability", "--top", "9"], "chooses nothing"),
        (["--stability", "--against", "ridge"], "--against does not go with --stability"),
        (["--decoys", "0"], "Invalid value"),
    ],
)
def test_what_goes_wrong_is_said_without_a_traceback(lots, options, words):
    done = call("importance", lots, *ALONE, *options)
    assert done.returncode in (2, 3) and words in flat(done.stderr) and "Traceback" not in done.stderr


@pytest.mark.long
def test_too_few_rows_and_a_taken_name(lots, tmp_path):
    few = tmp_path / "few.csv"
    frame = chaff.demo.lots(rows=100)[["protein_pct", "ash_pct", "loaf_volume"]]
    frame.head(12).to_csv(few, index=False)
    done = call("importance", few, "--target", "loaf_volume", "--chance", "9")
    assert done.returncode == 3 and "too few to say what chance gives" in flat(done.stderr)
    taken = chaff.open_table(frame, "loaf_volume").with_decoys(1).decoys[0]
    frame.assign(**{taken: np.arange(100.0)}).to_csv(tmp_path / "taken.csv", index=False)
    command = ["importance", str(tmp_path / "taken.csv"), "--target", "loaf_volume", "--ignore", taken, "--decoys", "1", "--all-rows"]
    done = call(*command)
    assert done.returncode == 3 and "already: rename it" in flat(done.stderr)
