"""From stages to a selection: plan, run, ledger, selection, apply."""
