"""The pages of the site: every command and every line of Python runs, every message that is explained is one of ours."""

from __future__ import annotations

import os
import re
import shlex
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import chaff
from tests.commands import call

ROOT = Path(__file__).parent.parent
DOCS = ROOT / "docs"
HOW_TO = sorted(p for p in (DOCS / "howto").glob("*.md") if p.stem != "index")
ENDS = {"scheduler": (0, 10, 20)}


def blocks(page: Path, language: str) -> list[str]:
    return re.findall(rf"^```{language}\n(.*?)^```", page.read_text(encoding="utf-8"), re.S | re.M)


def commands(page: Path) -> list[list[str]]:
    lines = [line for block in blocks(page, "") for line in block.splitlines() if line.startswith("chaff ")]
    return [shlex.split(line)[1:] for line in lines]


@pytest.fixture(scope="module")
def files(tmp_path_factory):
    """What the pages read: lots of the mill, some of them, new ones, a wide table, and one of 0/1 columns."""
    folder = tmp_path_factory.mktemp("pages")
    lots = chaff.demo.lots(rows=240)
    lots.to_csv(folder / "lots.csv", index=False)
    lots.head(70).to_csv(folder / "few.csv", index=False)
    chaff.demo.lots(rows=120, seed=5).to_csv(folder / "new.csv", index=False)
    rng = np.random.default_rng(0)
    wide = pd.DataFrame(rng.normal(size=(120, 300)).round(3), columns=[f"gene_{k}" for k in range(300)])
    wide.assign(y=wide["gene_3"] + rng.normal(size=120)).to_csv(folder / "wide.csv", index=False)
    flags = pd.get_dummies(lots["shift"], prefix="shift", dtype=int)
    pd.concat([flags, lots[["protein_pct", "ash_pct", "loaf_volume"]]], axis=1).to_csv(folder / "dummies.csv", index=False)
    return folder


@pytest.mark.long
@pytest.mark.parametrize("page", HOW_TO, ids=lambda p: p.stem)
def test_how_to_pages_run(page, files, tmp_path):
    for name in files.iterdir():
        os.symlink(name, tmp_path / name.name)
    for args in commands(page):
        done = call(*args, cwd=tmp_path)
        assert done.returncode in ENDS.get(page.stem, (0,)), (args, done.stdout[-800:], done.stderr[-800:])
    before = os.getcwd()
    try:
        os.chdir(tmp_path)
        names: dict[str, object] = {}
        for block in blocks(page, "python"):
            exec(compile(block, str(page), "exec"), names)
    finally:
        os.chdir(before)


def test_every_question_has_something_to_run_and_a_place_in_the_list():
    listed = re.findall(r"^[a-z-]+$", (DOCS / "howto" / "index.md").read_text(encoding="utf-8"), re.M)
    assert sorted(listed) == [p.stem for p in HOW_TO]
    assert all(commands(p) or blocks(p, "python") for p in HOW_TO if p.stem != "refusals")
    assert all(len(args) <= 22 for p in HOW_TO for args in commands(p))


def test_messages_that_are_explained_are_ours():
    ours = " ".join(p.read_text(encoding="utf-8") for p in (ROOT / "src").rglob("*.py"))
    rows = re.findall(r"^\| (`.*?) \|", (DOCS / "howto" / "refusals.md").read_text(encoding="utf-8"), re.M)
    pieces = [piece.strip() for row in rows for message in re.findall(r"`(.*?)`", row) for piece in message.split("…")]
    assert len(rows) >= 9
    assert [p for p in pieces if p and p not in ours] == []


def test_the_first_page_names_what_comes_back():
    page = (DOCS / "start" / "first-selection.md").read_text(encoding="utf-8")
    assert {"chaff screen", "chaff select", "chaff explain", "chaff apply"} <= {
        " ".join(c[:13].split()[:2]) for c in re.findall(r"^chaff \w+.*$", page, re.M)
    }


@pytest.mark.long
@pytest.mark.parametrize("name", ["first_day", "defend"])
def test_notebooks_run_and_hold_no_outputs(name):
    import nbclient
    import nbformat

    book = nbformat.read(ROOT / "examples" / f"{name}.ipynb", as_version=4)
    assert not any(cell.get("outputs") for cell in book.cells)
    nbclient.NotebookClient(book, timeout=300, kernel_name="python3").execute()
    shown = [kind for cell in book.cells for out in cell.get("outputs", ()) for kind in out.get("data", {})]
    assert shown.count("image/png") >= 1 and shown.count("text/html") >= 5
    assert not any(out.get("output_type") == "error" for cell in book.cells for out in cell.get("outputs", ()))


def test_progress_in_a_notebook_is_one_line_that_goes():
    from chaff.notebook import NotebookBar

    shown: list[str] = []

    class Handle:
        def update(self, thing: str) -> None:
            shown.append(thing)

    def display(thing: str, display_id: bool) -> Handle:
        shown.append(f"new {thing}")
        return Handle()

    bar = NotebookBar(display, str)
    bar.watch("<screen>", 0, 0)
    bar.watch("search", 1, 4)
    bar.watch("search", 2, 4)  # too soon to be looked at
    bar.watch("search", 4, 4)
    bar.close()
    assert shown[0] == "new <small>&lt;screen&gt; …</small>" and len(shown) == 4
    assert 'value="4" max="4"' in shown[2] and "search 4 of 4" in shown[2] and shown[3] == ""
    bar.watch("again", 0, 0)
    assert shown[-1].startswith("new ")
