"""The real commands, each in a process of its own, as a user would meet them."""

import json
import signal
import subprocess
import time

import numpy as np
import pandas as pd
import pytest

import chaff
from tests.commands import CHAFF, ENV, run


@pytest.fixture(scope="module")
def demo(tmp_path_factory):
    folder = tmp_path_factory.mktemp("demo")
    return folder, run("demo", "--rows", "300", cwd=folder)


@pytest.fixture
def lots(tmp_path):
    path = tmp_path / "lots.csv"
    chaff.demo.lots(rows=260).to_csv(path, index=False)
    return path


ROLES = ("--target", "loaf_volume", "--ignore", "accepted", "--ignore", "grade", "--groups", "mill")
QUICK = ("--set", 'importance.model={name="forest",trees=10}', "--repeats", "1", "--model", "ridge")


def test_demo_shows_the_whole_job(demo):
    _, out = demo
    for words in (
        "target loaf_volume (ml)",
        "screen ",
        "relevance",
        "overlap",
        "importance",
        "search",
        "lot_no",
        "blocked",
        "Review these features",
        "keeps up with the full set",
        "honest R²",
        "full, after the screen",
        "kept − full",
        "nothing",
        "±",
        "CV R² at the chosen size",
        "the holdout has been read",
        "next: chaff plan",
        "chaff apply",
    ):
        assert words in out


def test_demo_leaves_its_folder(demo):
    folder, _ = demo
    left = {p.name for p in (folder / "chaff-demo").iterdir()}
    assert left == {"lots.csv", "selection.json", "ledger.csv", "reduced.csv", "plan.toml", "score_by_size.png"}
    selection = json.loads((folder / "chaff-demo" / "selection.json").read_text())
    reduced = pd.read_csv(folder / "chaff-demo" / "reduced.csv")
    assert list(reduced.columns) == ["loaf_volume", "mill", *(k["name"] for k in selection["kept"])] and len(reduced) == 300
    assert (folder / "chaff-demo" / "score_by_size.png").read_bytes()[:4] == b"\x89PNG"


@pytest.mark.long
def test_what_demo_says_to_try_next_works(demo):
    folder, out = demo
    said = [line.replace("next:", "").split("     (")[0].strip() for line in out.splitlines() if " chaff " in line]
    assert [line.split()[1] for line in said] == ["plan", "overlap", "apply", "select"]
    for line in said[:3]:
        run(*line.split()[1:], cwd=folder)
    lines = said[2:]
    assert len(pd.read_parquet(folder / "chaff-demo" / "again.parquet")) == 300
    out = run(*lines[1].split()[1:], *QUICK[:-1], "logistic", cwd=folder)
    assert "positive class 'yes'" in " ".join(out.split()) and "log loss" in out and "ROC AUC" in out


@pytest.mark.long
def test_select_on_csv_and_apply_to_new_rows(lots, tmp_path):
    out = run("select", lots, *ROLES, *QUICK, "--out", tmp_path / "out")
    assert "full, after the screen" in out
    chaff.demo.lots(rows=40, seed=5).to_parquet(tmp_path / "new.parquet")
    said = run("apply", tmp_path / "out" / "selection.json", tmp_path / "new.parquet", "-o", tmp_path / "new.csv")
    assert "kept features of" in said and len(pd.read_csv(tmp_path / "new.csv")) == 40


@pytest.mark.long
def test_select_with_plan_pins_holdout_file_and_parquet(tmp_path):
    chaff.demo.lots(rows=240).to_parquet(tmp_path / "train.parquet")
    chaff.demo.lots(rows=80, seed=3).to_parquet(tmp_path / "held.parquet")
    (tmp_path / "plan.toml").write_text("""
[table]
target = "loaf_volume"
ignore = ["accepted", "grade"]
ids = ["lot_no"]
[[stage]]
use = "screen"
[[stage]]
use = "search"
model = "ridge"
strategy = "forward"
""")
    out = run(
        "select",
        "train.parquet",
        "--plan",
        "plan.toml",
        "--holdout",
        "held.parquet",
        "--out",
        "o",
        "--pin-keep",
        "ash_pct",
        "--because",
        "reported anyway",
        "--pin-drop",
        "straw_pct",
        "--because",
        "sieve is broken",
        cwd=tmp_path,
    )
    assert "(80 rows)" in out and "honest R² (ridge)" in out
    selection = chaff.read_selection(tmp_path / "o" / "selection.json")
    assert "ash_pct" in selection.features and "straw_pct" not in selection.features and selection.holdout.how == "separate rows"
    assert (tmp_path / "o" / "reduced.parquet").exists()
    assert selection.plan["table"]["ids"] == ["lot_no"] and len(selection.plan["stage"]) == 2


@pytest.mark.long
def test_options_reach_their_stages(lots, tmp_path):
    run(
        "select",
        lots,
        *ROLES,
        *QUICK,
        "--out",
        tmp_path / "o",
        "--pair-limit",
        "0.5",
        "--vif-limit",
        "3",
        "--margin",
        "0.01",
        "--folds",
        "4",
        "--metric",
        "rmse",
        "--holdout",
        "0",
        "--kind",
        "shift=category",
        "--cost",
        "ash_pct=3",
        "--missing",
        "n/a",
    )
    plan = chaff.read_selection(tmp_path / "o" / "selection.json").plan
    stages = {s["use"]: s for s in plan["stage"]}
    assert stages["overlap"]["pair_limit"] == 0.5 and stages["overlap"]["vif_limit"] == 3 and stages["search"]["margin"] == 0.01
    assert (
        plan["score"]["folds"] == 4
        and plan["score"]["metric"] == "rmse"
        and stages["importance"]["model"] == {"name": "forest", "trees": 10}
    )
    assert plan["table"]["kinds"] == {"shift": "category"} and plan["table"]["costs"] == {"ash_pct": 3}


@pytest.mark.long
def test_a_size_by_hand_and_no_promise(lots, tmp_path):
    words = run("select", lots, *ROLES, *QUICK, "--size", "3", "--quick", "--no-state", "--out", tmp_path / "o")
    assert "kept 3 of" in words and "the honest score was skipped" in words and "CV R² (ridge)" in " ".join(words.split())
    assert len(chaff.read_selection(tmp_path / "o" / "selection.json").kept) == 3
    assert "size 300 is more than the" in run("select", lots, *ROLES, "--size", "300", "--out", tmp_path / "p", code=2)


def test_plan_prints_what_select_reads(lots, tmp_path):
    (tmp_path / "p.toml").write_text(run("plan"))
    assert chaff.read_plan(tmp_path / "p.toml").stages == chaff.built_in_plan().stages
    run("plan", "-o", tmp_path / "q.toml")
    assert (tmp_path / "q.toml").read_text() == (tmp_path / "p.toml").read_text()


@pytest.mark.parametrize(
    "args, code, words",
    [
        (["lots.csv"], 2, "missing --target NAME"),
        (["lots.csv", "--target", "loaf_volum"], 3, "Did you mean 'loaf_volume'"),
        (["lots.csv", "--target", "loaf_volume", "--ignore", "protien_pct"], 3, "Did you mean 'protein_pct'"),
        (["gone.csv", "--target", "y"], 3, "no such file"),
        (["lots.csv", "--target", "loaf_volume", "--holdout", "1.5"], 2, "share must be 0 or more"),
        (["lots.csv", "--target", "loaf_volume", "--holdout", "gone.csv"], 3, "no such file: gone.csv"),
        (["lots.csv", "--target", "loaf_volume", "--pin-keep", "ash_pct"], 2, "reason: add --because"),
        (["lots.csv", "--target", "loaf_volume", "--because", "x"], 2, "--because needs --pin-keep NAME or --pin-drop NAME"),
        (["lots.csv", "--target", "loaf_volume", "--set", "search=3"], 2, "STAGE.KEY=VALUE"),
        (["lots.csv", "--target", "loaf_volume", "--set", "search.modell=ridge"], 2, "Did you mean 'model'"),
        (["lots.csv", "--target", "loaf_volume", "--plan", "gone.toml"], 2, "no such plan"),
        (["lots.csv", "--target", "loaf_volume", "--out", "lots.csv/x"], 3, "cannot be written"),
        (["lots.csv", "--target", "loaf_volume", "--folds", "1"], 2, "folds"),
        (["lots.csv", "--target", "loaf_volume", "--metric", "auc"], 2, "does not fit a regression target"),
        (["lots.csv", "--target", "loaf_volume", "--pair-limit", "7"], 2, "limit must be"),
        (["lots.csv", "--taget", "loaf_volume"], 2, "--target"),
    ],
)
def test_mistakes_get_one_line_and_a_code(lots, args, code, words):
    err = run("select", *args, cwd=lots.parent, code=code)
    assert words in err and err.startswith("chaff: ")
    assert not list(lots.parent.glob("chaff-out/*"))


@pytest.mark.parametrize(
    "text, words",
    [
        ("", "is empty"),
        ("a,y\n", "no rows"),
        ("a,a,y\n1,2,3\n", "more than one column named 'a'"),
        ("a,y\n1,5\n2,5\n3,5\n", "is 5 in every row"),
        ("a,y\n1,yes\n2,no\n3,no\n4,no\n", "single row"),
        ("a,y\n1,2\n2,3\n3,4\n4,5\n5,7\n", "rows are too few for 5 folds"),
        ("a,y\n" + "".join(f"{'inf' if k == 3 else k},{k * k}\n" for k in range(40)), "infinite value; pass infinite='missing'"),
        ("a,y\n" + "".join(f"{'?' if k == 3 else k / 7},{k * k}\n" for k in range(40)), "mixes numbers and text"),
        ("a,y\n" + "".join(f"7,{k * k}\n" for k in range(40)), "stage 'screen' dropped all"),
        (
            "a,y\n" + "".join(f"{2 * k},{k}\n" for k in range(40)),
            "Blocked: a; a feature that is no leak and no id is used with --pin-keep a --because WHY",
        ),
    ],
)
def test_bad_files_get_a_sentence(tmp_path, text, words):
    (tmp_path / "bad.csv").write_text(text)
    assert words in run("select", "bad.csv", "--target", "y", cwd=tmp_path, code=3)


def test_other_commands_and_bare_calls(tmp_path):
    assert "Did you mean 'select'" in run("selct", code=2)
    assert "Usage" in run("--help") and "demo" in run("--help")
    assert chaff.__version__ in run("--version")
    for command in ("demo", "select", "apply", "plan"):
        assert "Usage" in run(command, "--help")
    assert "no such selection" in run("apply", "gone.json", "x.csv", "-o", "y.csv", cwd=tmp_path, code=3)
    assert subprocess.run([CHAFF], capture_output=True, text=True).returncode == 2


def test_apply_refuses_what_does_not_fit(demo, tmp_path):
    folder, _ = demo
    selection = folder / "chaff-demo" / "selection.json"
    frame = chaff.demo.lots(rows=30)
    kept = next(k.name for k in chaff.read_selection(selection).kept if k.kind == "number")
    frame.drop(columns=kept).to_csv(tmp_path / "less.csv", index=False)
    err = run("apply", selection, tmp_path / "less.csv", "-o", tmp_path / "o.csv", code=3)
    assert f"lacks kept column '{kept}'" in err
    frame.assign(**{kept: "high"}).to_csv(tmp_path / "words.csv", index=False)
    err = run("apply", selection, tmp_path / "words.csv", "-o", tmp_path / "o.csv", code=3)
    assert kept in err and not (tmp_path / "o.csv").exists()


@pytest.mark.long
def test_interrupted_runs_keep_what_was_finished_and_nothing_half_written(tmp_path):
    rng = np.random.default_rng(0)
    frame = pd.DataFrame(rng.normal(size=(20_000, 60)), columns=[f"assay_{k}" for k in range(60)])
    frame["y"] = frame.sum(axis=1) + rng.normal(size=20_000)
    frame.to_parquet(tmp_path / "big.parquet")
    process = subprocess.Popen(
        [CHAFF, "select", "big.parquet", "--target", "y", "--set", 'importance.model={name="forest",trees=5000}'],
        cwd=tmp_path,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        env={**ENV, "PYTHONUNBUFFERED": "1"},
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),  # a suite in the background would pass on its deafness
    )
    for line in process.stdout:
        if line.strip().startswith("overlap"):
            break
    time.sleep(0.5)
    process.send_signal(signal.SIGINT)
    out, err = process.communicate(timeout=60)
    assert process.returncode == 130 and "Traceback" not in err and "interrupted" in err + out
    assert {p.name for p in (tmp_path / "chaff-out").iterdir()} == {"ledger.csv"}
    ledger = pd.read_csv(tmp_path / "chaff-out" / "ledger.csv")
    assert set(ledger["stage"]) == {"screen", "relevance", "overlap"}


@pytest.mark.parametrize(
    "error, words",
    [
        (SystemError("<function diff> returned NULL without setting an exception"), "not enough memory"),
        (RuntimeError("can't start new thread"), "not enough memory"),
    ],
)
def test_a_starved_python_is_told_from_a_mistake_of_ours(error, words, capsys):
    from chaff.cli import main

    assert main._failed(error, ["screen"], False) == 3 and words in capsys.readouterr().err
