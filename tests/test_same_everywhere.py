"""Results do not depend on workers, on the order of rows or columns, or on units; wrong places to write are named."""

from __future__ import annotations

import os
import signal
import subprocess
import time

import numpy as np
import pandas as pd
import pytest

import chaff
from tests.cli.test_commands import ROLES
from tests.commands import CHAFF, ENV
from tests.conftest import make_mixed

FEATURES = ["protein_pct", "protein_nir_pct", "ash_pct", "variety", "falling_number_s", "gluten_wet_pct", "organic"]
IGNORED = ["mill", "day", "lot_weight"]


@pytest.fixture(scope="module")
def mill() -> chaff.Table:
    return chaff.demo.table(rows=400).with_features(FEATURES)


CALLS = {
    "screen": lambda t, w: chaff.screen(t, workers=w).frame,
    "relevance": lambda t, w: chaff.relevance(t, "all", workers=w).frame,
    "interactions": lambda t, w: chaff.interactions(t, workers=w).frame,
    "associations": lambda t, w: chaff.associations(t, workers=w).more["matrix"],
    "clusters": lambda t, w: chaff.clusters(t, workers=w).frame,
    "kendall": lambda t, w: chaff.correlations(t, "kendall", workers=w).more["matrix"],
    "inflation": lambda t, w: chaff.prune_inflation(t, workers=w).more["trail"],
    "components": lambda t, w: chaff.components(t, workers=w).more["loadings"],
    "pruning": lambda t, w: chaff.prune_linear(t, splits=6, workers=w).frame,
    "worth": lambda t, w: chaff.column_worth(t, workers=w).frame,
    "forms": lambda t, w: chaff.try_scales(t, "least squares", scales=["log", "rank-normal"], workers=w).frame,
    "sizes": lambda t, w: chaff.try_sizes(t, FEATURES, [2, 5], workers=w),
}


@pytest.mark.parametrize("name", list(CALLS))
def test_one_worker_or_two(mill, name):
    one, two = CALLS[name](mill, 1), CALLS[name](mill, 2)
    pd.testing.assert_frame_equal(one, two, rtol=1e-9, atol=1e-12)


@pytest.mark.parametrize("name", ["associations", "clusters", "kendall", "inflation", "worth", "pruning"])
def test_the_order_of_the_columns_does_not_matter(mill, name):
    back = mill.with_features(FEATURES[::-1])
    one, two = CALLS[name](mill, None), CALLS[name](back, None)
    if name == "inflation":
        assert one["feature"].tolist() == two["feature"].tolist()
        return
    two = two.reindex(index=one.index)
    if name in ("associations", "kendall"):
        two = two[one.columns]
    numbers = [c for c in one.columns if one[c].dtype.kind == "f" and c not in ("cluster", "p_split")]
    np.testing.assert_allclose(one[numbers], two[numbers], rtol=1e-6, atol=1e-9)


def test_the_order_of_the_rows_does_not_matter():
    frame = make_mixed()
    turned = frame.sample(frac=1, random_state=0).reset_index(drop=True)
    a, b = (chaff.open_table(f, "y", ignore=IGNORED) for f in (frame, turned))
    names = ["pearson_r", "spearman_rho", "kendall_tau", "distance_correlation", "mutual_information", "f", "kruskal_h"]
    one, two = (chaff.relevance(t, names).frame for t in (a, b))
    for column in one.select_dtypes("number"):
        np.testing.assert_allclose(one[column], two[column], rtol=1e-8, atol=1e-10)
    for call in (
        lambda t: chaff.associations(t).more["matrix"],
        lambda t: chaff.inflation(t).frame[["vif"]],
        lambda t: chaff.linear_summary(t).frame[["coefficient", "standard_error", "p"]],
        lambda t: chaff.column_worth(t).frame[["r_squared_lost", "shapley_share"]],
    ):
        np.testing.assert_allclose(call(a), call(b), rtol=1e-7, atol=1e-10)


def test_units_change_coefficients_and_nothing_else():
    frame = make_mixed()
    scaled = frame.assign(assay_1=frame["assay_1"] * 1000 - 7, assay_2=-frame["assay_2"] / 50)
    a, b = (chaff.open_table(f, "y", ignore=IGNORED) for f in (frame, scaled))
    one, two = (chaff.linear_summary(t) for t in (a, b))
    for column in ("p", "vif"):
        np.testing.assert_allclose(one.frame[column].iloc[1:], two.frame[column].iloc[1:], rtol=1e-7, atol=1e-12)
    assert one.frame.loc["assay_1", "coefficient"] == pytest.approx(1000 * two.frame.loc["assay_1", "coefficient"])
    assert one.figures["r_squared"] == pytest.approx(two.figures["r_squared"])
    pairs = [chaff.correlations(t).more["matrix"].abs() for t in (a, b)]
    np.testing.assert_allclose(*pairs, atol=1e-12)


@pytest.mark.long
def test_a_plan_can_hold_the_whole_relevance_stage(tmp_path):
    plan = tmp_path / "plan.toml"
    plan.write_text(
        '[[stage]]\nuse = "screen"\nrepeats = false\n\n[[stage]]\nuse = "relevance"\nstatistics = ["kendall_tau", "mutual_information"]\n'
        'by = "mutual_information"\nadjust = "holm"\nbins = 8\ncut = { top = 6 }\n\n[[stage]]\nuse = "search"\n'
    )
    read = chaff.read_plan(plan)
    run = chaff.select(chaff.demo.table(rows=300), read)
    found = run.result("relevance")
    assert "kendall_tau_q" in found.frame and found.settings["adjust"] == "holm" and len(run.stages[1].kept) == 6
    assert chaff.read_plan(_written(tmp_path, read)) == read
    plan.write_text('[[stage]]\nuse = "relevance"\nadjust = "none"\n')
    with pytest.raises(chaff.PlanError, match="adjust must be"):
        chaff.read_plan(plan)


def _written(folder, plan):
    path = folder / "again.toml"
    path.write_text(plan.to_toml())
    return path


def test_places_that_cannot_be_written_are_named(tmp_path):
    found = chaff.relevance(chaff.demo.table(rows=100), "leading")
    for ending in ("json", "csv", "parquet"):
        with pytest.raises(chaff.DataError, match=f"found.{ending} not written: no such file or directory"):
            found.save(tmp_path / "nowhere" / f"found.{ending}")
    hand = chaff.by_hand(chaff.demo.table(rows=100), ["protein_pct"])
    with pytest.raises(chaff.DataError, match="not written"):
        hand.save(tmp_path / "nowhere" / "moves.json")
    assert list(tmp_path.iterdir()) == []


@pytest.mark.skipif(not os.path.exists("/dev/full"), reason="needs /dev/full to stand for a full disk")
@pytest.mark.long
def test_a_full_disk_leaves_what_was_there(tmp_path):
    (tmp_path / "found.csv").write_text("old")
    code = (
        "import chaff, pandas as pd\n"
        "found = chaff.relevance(chaff.demo.table(rows=100), 'leading')\n"
        "def full(self, *a, **k): raise OSError(28, 'No space left on device')\n"
        "pd.DataFrame.to_csv = full\n"
        f"try:\n    found.save({str(tmp_path / 'found.csv')!r})\nexcept chaff.DataError as error:\n    print(error)\n"
    )
    done = subprocess.run([CHAFF.parent / "python", "-c", code], capture_output=True, text=True, env=ENV, timeout=120)
    assert "no space left on device. Nothing was changed." in done.stdout, done.stderr
    assert (tmp_path / "found.csv").read_text() == "old" and len(list(tmp_path.iterdir())) == 1


@pytest.mark.long
@pytest.mark.parametrize("command", ["relevance", "linear"])
def test_ctrl_c_ends_at_once_and_leaves_nothing(tmp_path, command):
    chaff.demo.lots(rows=3000, noise=200).to_csv(tmp_path / "lots.csv", index=False)
    more = ["--statistics", "all", "--shuffles", "500"] if command == "relevance" else ["--prune", "p", "--splits", "4000"]
    arguments = [CHAFF, command, "lots.csv", *ROLES, *more, "--out", "out.csv"]
    process = subprocess.Popen(
        arguments,
        cwd=tmp_path,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        env=ENV,
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),  # a suite in the background would pass on its deafness
    )
    time.sleep(6)
    process.send_signal(signal.SIGINT)
    _, err = process.communicate(timeout=60)
    assert process.returncode == 130 and "interrupted" in err and "Traceback" not in err
    assert [p.name for p in tmp_path.iterdir()] == ["lots.csv"]


def test_no_option_of_a_command_takes_the_name_of_another():
    """A term such as `panels` and a command's own option `--panels` would otherwise swallow one another."""
    import importlib

    from chaff.cli.main import COMMANDS

    for name, (module, _) in COMMANDS.items():
        names = [p.name for p in importlib.import_module(module).command.params]
        assert len(set(names)) == len(names), name
