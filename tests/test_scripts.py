"""Scripts rot when nobody runs them: the simulation, on a few seeds, and what it promises of them."""

import re
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


@pytest.mark.long
def test_benchmark_scripts_are_importable_without_running():
    for name in (
        "forward_search",
        "inflation",
        "start_up",
        "timing",
        "filters",
        "filter_memory",
        "pair_noise",
        "overlap_and_linear",
        "forest",
        "decision",
        "rates",
        "select_speed",
        "apply_speed",
        "compare_speed",
        "page_speed",
    ):
        code = f"import sys; sys.path.insert(0, {str(ROOT / 'benchmarks')!r}); import {name}"
        assert subprocess.run([sys.executable, "-c", code], capture_output=True).returncode == 0


def test_the_table_of_statistics_is_what_the_catalogue_says():
    code = "import sys; sys.path.insert(0, 'docs'); import make_tables as m; text = m.PAGE.read_text(); sys.exit(m.with_rows(text) != text)"
    assert subprocess.run([sys.executable, "-c", code], cwd=ROOT).returncode == 0, "run make docs"
