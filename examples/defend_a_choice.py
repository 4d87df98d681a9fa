"""
Defend a choice
===============

Defend a choice: the final model, does it hold everywhere, why each column, one page, and does it still serve next
quarter.
"""

import tempfile
from pathlib import Path

import chaff

folder = Path(tempfile.mkdtemp())
lots = chaff.demo.table(rows=600)
run = chaff.select(lots, "quick", state=False)

print(run.evaluate())  # full and kept side by side on the holdout, every metric with its interval
print(run.evaluate().worst(3))
chaff.plots.evaluated(run.evaluate())
print(run.holds_everywhere(shuffles=199).headline)
print(run.selection.explain("protein_nir_pct"))
print(run.report(folder / "report.html"))  # one page that tells it all

run.selection.save(folder / "selection.json")
selection = chaff.read_selection(folder / "selection.json")
print(selection.drift(chaff.demo.lots(rows=600, seed=1)).headline)
found = chaff.recheck(selection, chaff.demo.lots(rows=600, seed=1), old=chaff.demo.lots(rows=600))
print(found.verdict, found.exit_code, found.scores)

broken = chaff.demo.lots(rows=600, seed=2).drop(columns=selection.features[0])  # an instrument is gone
print(chaff.recheck(selection, broken).headline)

other = chaff.select(lots, chaff.named_plan("linear"), pins=[chaff.pin_drop("ash_pct", because="the oven is sold")], state=False)
print(chaff.changes(selection, other.selection))
