"""Writing the page of a run or of a comparison."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from chaff.errors import UsageError
from chaff.files import write_text
from chaff.report.page import Page, render


def page_of(result: Any, **more: Any) -> Page:
    """The page of what `chaff.select` or `chaff.compare` gave.

    Raises
    ------
    UsageError
        For anything else.
    """
    if hasattr(result, "final_scores"):
        from chaff.report.of_run import page_of_run

        return page_of_run(result, **more)
    if hasattr(result, "yardsticks"):
        from chaff.report.of_comparison import page_of_comparison

        return page_of_comparison(result)
    raise UsageError(f"a page is made of what chaff.select or chaff.compare gave, not of {type(result).__name__}")


def write_report(result: Any, path: str | Path, **more: Any) -> Path:
    """Write one self-contained page: no network, works from disk, prints.

    Parameters
    ----------
    result : Run or Comparison
    path : str or Path
        Ends in .html.
    evaluation : Evaluation, optional
        Of a run with a holdout: `run.evaluate` with another model; by default that of the deciding model.

    Returns
    -------
    Path

    Raises
    ------
    UsageError, DataError

    Examples
    --------
    >>> import chaff, tempfile
    >>> run = chaff.select(chaff.demo.table(rows=200), plan=chaff.Plan((chaff.Screen(), chaff.Search(model="ridge"))))
    >>> chaff.write_report(run, tempfile.mkdtemp() + "/report.html").name
    'report.html'
    """
    if not isinstance(path, str | Path) or Path(path).suffix.lower() not in (".html", ".htm"):
        raise UsageError(f"report: the page is a file that ends in .html, not {path!r}")
    write_text(path, render(page_of(result, **more)))
    return Path(path)
