"""The page of a run: how long it takes to build, how large it is, and how fast a real browser sorts it.

python benchmarks/page_speed.py [COLUMNS]
"""

from __future__ import annotations

import shutil
import sys
import tempfile
import time
from pathlib import Path

import chaff


def main(columns: int) -> None:
    table = chaff.demo.table(rows=600, noise=columns - 26)
    plan = chaff.Plan(
        (chaff.Screen(), chaff.Relevance("leading"), chaff.Overlap(), chaff.Search(lenses="linear")), chaff.Scoring(repeats=1)
    )
    run = chaff.select(table, plan, state=False)
    chaff.write_report(run, tempfile.mkdtemp() + "/warm.html")
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "report.html"
        began = time.perf_counter()
        run.report(path)
        built = time.perf_counter() - began
        print(f"{len(table.features)} columns: built in {built:.1f} s, {path.stat().st_size / 1e6:.2f} MB")
        where = shutil.which("chromium")
        if where is None:
            print("no Chromium here: sorting was not measured")
            return
        from playwright.sync_api import sync_playwright

        with sync_playwright() as play:
            browser = play.chromium.launch(executable_path=where, args=["--no-sandbox"])
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            page.goto(f"file://{path}")
            took = page.evaluate(
                """() => { const out = []; for (const b of document.querySelectorAll('#t-columns button.sort')) {
                    const began = performance.now(); b.click(); document.body.offsetHeight; out.push(performance.now() - began); }
                    return out; }"""
            )
            browser.close()
        print(f"sorting all {len(took)} headings, layout included: slowest {max(took):.0f} ms, mean {sum(took) / len(took):.0f} ms")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 500)
