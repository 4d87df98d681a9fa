"""
First run
=========

The whole job on a file: open it, select, look, save, apply to new lots.
"""

import tempfile
from pathlib import Path

import chaff

folder = Path(tempfile.mkdtemp())
chaff.demo.lots().to_csv(folder / "lots.csv", index=False)
chaff.demo.lots(rows=200, seed=7).to_csv(folder / "new_lots.csv", index=False)

table = chaff.open_table(folder / "lots.csv", target="loaf_volume", ignore=["accepted", "grade"], groups="mill")
run = chaff.select(table)
print(run)
chaff.plots.score_by_size(run.result("search"))
run.selection.save(folder / "selection.json")
run.ledger.save(folder / "ledger.csv")
reduced = chaff.read_selection(folder / "selection.json").apply(folder / "new_lots.csv")
print(f"{reduced.shape[0]} new lots, columns {', '.join(reduced.columns[:6])} …")

# %%
# Why did a column go? Every stage's word on it:
for verdict in run.ledger.of("protein_nir_pct"):
    print(f"{verdict.by:12s} {verdict.verdict:5s} {verdict.figure:20s} {verdict.reason}")
