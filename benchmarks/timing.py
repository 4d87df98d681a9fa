"""Interleaved runs and medians: on a shared machine only ratios from one and the same run count."""

from __future__ import annotations

import gc
import os
import platform
import time
from collections.abc import Callable

import numpy as np


def once(fn: Callable[[], object]) -> float:
    gc.collect()
    start = time.perf_counter()
    fn()
    return time.perf_counter() - start


def compare(fns: dict[str, Callable[[], object]], runs: int = 7) -> dict[str, float]:
    """Median seconds of each, run in turn so that noise hits all alike."""
    for fn in fns.values():
        fn()
    times: dict[str, list[float]] = {name: [] for name in fns}
    for _ in range(runs):
        for name, fn in fns.items():
            times[name].append(once(fn))
    medians = {name: float(np.median(t)) for name, t in times.items()}
    for name, t in times.items():
        print(f"  {name:58s} {medians[name] * 1e3:10.2f} ms   ({min(t) * 1e3:.2f} to {max(t) * 1e3:.2f})", flush=True)
    return medians


def ratio(words: str, value: float, goal: str) -> None:
    print(f"  -> {words}: {value:,.2f}   (goal {goal})", flush=True)


def machine() -> None:
    import scipy

    python = f"Python {platform.python_version()}, NumPy {np.__version__}, SciPy {scipy.__version__}"
    print(f"{platform.machine()}, {os.cpu_count()} cores, {python}")
