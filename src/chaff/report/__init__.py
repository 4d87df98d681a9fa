"""One self-contained page that tells what was asked, what the answer is, and why: no network, works from disk, prints."""

from __future__ import annotations

from chaff.report.writing import write_report

__all__ = ["write_report"]
