"""Start-up of whole processes: `import chaff` against numpy + pandas, `chaff --help`, and each command on the demo's 1,600 × 54.

Cold: the first run after installing, no module of Chaff imported yet and no screen remembered. Warm: the same again. CPU is user and system
time of the process, all threads.

python benchmarks/start_up.py
"""

from __future__ import annotations

import os
import resource
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from timing import compare, machine, ratio

CHAFF = str(Path(sys.executable).parent / "chaff")
COMMANDS = {
    "screen": ("screen", 1.3),
    "relevance": ("relevance", 1.8),
    "overlap": ("overlap", 2.0),
    "importance": ("importance", 5.0),
    "search floating, 10": ("search --strategy floating --size 10", 2.5),
    "compare: spearman, lasso, forward": ("compare --method spearman --method lasso --method forward", 4.0),
    "select": ("select --force --no-state --out chosen", 9.0),
}
TURNS = 5


def run(*command: str) -> None:
    subprocess.run(command, check=True, capture_output=True)


def timed(command: list[str], folder: str, env: dict[str, str]) -> tuple[float, float]:
    """(CPU, clock) in seconds of one process."""
    before, began = resource.getrusage(resource.RUSAGE_CHILDREN), time.perf_counter()
    subprocess.run(command, check=True, capture_output=True, cwd=folder, env=env)
    clock, after = time.perf_counter() - began, resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime, clock


def command_table(folder: str) -> None:
    import chaff

    chaff.demo.lots(rows=1600).to_csv(f"{folder}/lots.csv", index=False)
    print("| command | warm, CPU (clock) | cold, CPU (clock) | asked, CPU |\n| --- | --- | --- | --- |")
    for name, (words, asked) in COMMANDS.items():
        first, *rest = words.split()
        command = [CHAFF, first, "lots.csv", "--target", "loaf_volume", *rest]
        with tempfile.TemporaryDirectory() as cache:
            for made in Path(chaff.__file__).parent.rglob("__pycache__"):
                shutil.rmtree(made)
            env = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"} | {"XDG_CACHE_HOME": cache}
            cold = timed(command, folder, env)
            warm = sorted(timed(command, folder, env) for _ in range(TURNS))[TURNS // 2]
        print(f"| {name} | {warm[0]:.1f} ({warm[1]:.1f}) s | {cold[0]:.1f} ({cold[1]:.1f}) s | {asked} s |", flush=True)


def main() -> None:
    machine()
    t = compare(
        {
            "python -c 'import numpy, pandas'": lambda: run(sys.executable, "-c", "import numpy, pandas"),
            "python -c 'import chaff'": lambda: run(sys.executable, "-c", "import chaff"),
            "chaff --help": lambda: run(CHAFF, "--help"),
        },
        9,
    )
    ratio("import chaff : import numpy, pandas", t["python -c 'import chaff'"] / t["python -c 'import numpy, pandas'"], "<= 0.1")
    ratio("chaff --help, seconds", t["chaff --help"], "<= 0.25")
    with tempfile.TemporaryDirectory() as folder:
        u = compare({"chaff demo, warm": lambda: run(CHAFF, "demo", "--out", folder)}, 5)
        command_table(folder)
    ratio("chaff demo, seconds", u["chaff demo, warm"], "< 10")


if __name__ == "__main__":
    main()
