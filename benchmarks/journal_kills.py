"""A search that is killed again and again at random moments ends with the answer of one that was not.

    python benchmarks/journal_kills.py [kills]       (200; about fifteen minutes)

A real process each time, with SIGKILL after a random while; the same command until it ends by itself; then another journal. The answer
is every move with every fold's score, to the last bit.
"""

from __future__ import annotations

import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

SEARCH = """
import chaff, sys, time
import numpy as np
rng = np.random.default_rng(3)
X = rng.normal(size=(90, 9))
t = chaff.open_arrays(X, X[:, :3].sum(1) + rng.normal(size=90))

class Slow:
    def fit(self, X, y):
        time.sleep(0.002)
        self.c = np.linalg.lstsq(np.column_stack([np.ones(len(X)), X]), y, rcond=None)[0]
    def predict(self, X):
        return self.c[0] + X @ self.c[1:]

strategy = {"floating": chaff.Floating(), "genetic": chaff.Genetic(population=14, generations=8)}[sys.argv[2]]
trail = chaff.search(t, chaff.models.adapt(Slow, name="slow"), strategy, folds=3, journal=sys.argv[1])
print([(m.action, sorted(m.features), [v.hex() for v in m.values]) for m in trail.moves], trail.sizes["honest"].tolist())
"""


def start(file: Path, strategy: str) -> subprocess.Popen[str]:
    return subprocess.Popen([sys.executable, "-c", SEARCH, str(file), strategy], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)


def main() -> None:
    wanted = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    draws = random.Random(0)
    kills = rounds = 0
    with tempfile.TemporaryDirectory() as folder:
        whole = {s: start(Path(folder) / f"whole {s}", s).communicate() for s in ("floating", "genetic")}
        began = time.perf_counter()
        while kills < wanted:
            strategy = ("floating", "genetic")[rounds % 2]
            file = Path(folder) / f"killed {rounds}"
            rounds += 1
            while True:
                process = start(file, strategy)
                try:
                    answer, error = process.communicate(timeout=draws.uniform(0.3, 3.0))
                except subprocess.TimeoutExpired:
                    os.kill(process.pid, signal.SIGKILL)
                    process.communicate()
                    kills += 1
                    continue
                assert process.returncode == 0, error
                assert answer == whole[strategy][0], f"round {rounds} ({strategy}) ended with another answer"
                break
            print(
                f"  {kills} kills, {rounds} searches, each ended as the uninterrupted one ({time.perf_counter() - began:.0f} s)", flush=True
            )


if __name__ == "__main__":
    main()
