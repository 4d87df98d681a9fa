"""Scripts rot when nobody runs them: the simulation, on a few seeds, and what it promises of them."""

import os
import re
import signal
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent


@pytest.mark.long
def test_the_simulation_runs_and_few_seeds_already_keep_little_noise():
    script = ROOT / "benchmarks" / "fifty_seeds.py"
    done = subprocess.run([sys.executable, script, "2", "--first", "100"], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    assert len(re.findall(r"^seed", done.stdout, re.M)) == 2
    mean = float(re.search(r"noise columns kept: mean ([\d.]+)", done.stdout).group(1))
    assert mean < 2  # below one over many seeds; two are few
    assert re.search(r"forest: [12] of 2", done.stdout)


SMALLEST = {
    "apply_speed": ["2000"],
    "chance_rates": ["noise", "2"],
    "cluster_speed": ["--rows", "3000", "--runs", "1", "--no-plan", "--folder", "FOLDER"],
    "compare_speed": ["200", "30"],
    "decision": ["--reps", "1"],
    "defending_rates": ["1"],
    "fifty_seeds": ["1"],
    "set_stability": ["2", "--rows", "120"],
    "filter_memory": ["500", "20"],
    "filters": ["20"],
    "journal_kills": ["1"],
    "page_speed": ["60"],
    "pair_noise": ["2"],
    "pair_screen": ["1"],
    "rates": ["--reps", "2", "--only", "importance"],
    "rows_for_error": ["--rows", "2000", "--seeds", "1"],
    "search_honesty": ["1"],
    "search_speed": ["--quick"],
    "select_speed": ["1,600 x 54, number"],
    "which_way": ["1"],
    "wide_table": ["--rows", "300", "--columns", "300", "--folder", "FOLDER"],
}
PARTS_ONLY = ("timing", "mill_families")  # what other scripts import
BEGINNING = 8.0  # seconds of those whose smallest size takes longer


@pytest.mark.long
@pytest.mark.parametrize("script", sorted(p.stem for p in (ROOT / "benchmarks").glob("*.py") if p.stem not in PARTS_ONLY))
def test_every_benchmark_runs_at_its_smallest_size(script, tmp_path):
    """To its end, or as far as it comes in a while; never into an error."""
    command = [
        sys.executable,
        str(ROOT / "benchmarks" / f"{script}.py"),
        *(a.replace("FOLDER", str(tmp_path)) for a in SMALLEST.get(script, [])),
    ]
    running = subprocess.Popen(command, cwd=ROOT, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, start_new_session=True)
    try:
        out, err = running.communicate(timeout=BEGINNING)
        assert running.returncode == 0 and out, err[-2000:]
    except subprocess.TimeoutExpired:
        os.killpg(running.pid, signal.SIGKILL)
        out, err = running.communicate()
        assert "Traceback" not in err, err[-2000:]


def test_the_tables_of_the_docs_are_what_the_registries_say():
    code = (
        "import sys; sys.path.insert(0, 'docs'); import make_tables as m; text = m.PAGE.read_text(); "
        "lines = lambda text: sorted(text.splitlines()); "  # two merged branches may leave lines out of order
        "sys.exit(lines(m.with_rows(text)) != lines(text) or lines(m.choices_page()) != lines((m.HERE / 'choices.md').read_text()))"
    )
    assert subprocess.run([sys.executable, "-c", code], cwd=ROOT).returncode == 0, "run make docs"
