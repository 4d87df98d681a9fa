"""Start-up of whole processes: `import chaff` against numpy + pandas, `chaff --help`, and a warm `chaff demo`.

python benchmarks/start_up.py
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
from pathlib import Path

from timing import compare, machine, ratio

CHAFF = str(Path(sys.executable).parent / "chaff")


def run(*command: str) -> None:
    subprocess.run(command, check=True, capture_output=True)


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
    ratio("import chaff : import numpy, pandas", t["python -c 'import chaff'"] / t["python -c 'import numpy, pandas'"], "<= 1.3")
    ratio("chaff --help, seconds", t["chaff --help"], "<= 0.25")
    with tempfile.TemporaryDirectory() as folder:
        u = compare({"chaff demo, warm": lambda: run(CHAFF, "demo", "--out", folder)}, 5)
    ratio("chaff demo, seconds", u["chaff demo, warm"], "< 10")


if __name__ == "__main__":
    main()
