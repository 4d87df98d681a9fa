"""The parts of a page, and the one gate through which they become HTML."""

import base64
import hashlib
import re
from html.parser import HTMLParser

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.errors import UsageError
from chaff.plots.palette import new_axes
from chaff.report.of_run import picture
from chaff.report.page import LONGEST, Cell, Code, Grid, Page, Picture, Section, Words, frame_grid, number_cell, render, text_cell
from chaff.report.writing import page_of


class Tags(HTMLParser):
    """Every tag that a browser would see, with its attributes."""

    def __init__(self, text):
        super().__init__()
        self.seen, self.depth, self.wrong = [], [], []
        self.feed(text)

    def handle_starttag(self, tag, attrs):
        self.seen.append((tag, dict(attrs)))
        if tag not in ("meta", "img", "input", "br", "link"):
            self.depth.append(tag)

    def handle_endtag(self, tag):
        if not self.depth or self.depth.pop() != tag:
            self.wrong.append(tag)


def page(*blocks, pins=False, title="Title"):
    return render(Page(title, "sub", [Section("s", "S", list(blocks))], "made", pins))


def test_a_number_is_sorted_by_its_value_and_shown_in_words():
    cell = number_cell(0.000123, column="p")
    assert cell.text == "0.00012" and cell.sort == 0.000123 and cell.style == "number"
    assert number_cell(float("nan")).text == "" and number_cell(float("nan")).sort == ""
    assert number_cell(float("inf")).sort == 1e300 and number_cell(0.5, "50%").text == "50%"


def test_words_are_cut_where_they_are_endless_and_half_letters_are_mended():
    cell = text_cell("x" * 1000)
    assert len(cell.text) == LONGEST and cell.text.endswith("…")
    assert text_cell("\udcff").text == "?" and text_cell(None).text == "" and text_cell(float("nan")).text == ""


def test_a_frame_is_a_grid_without_its_empty_columns():
    frame = pd.DataFrame(
        {
            "worth": [1.5, np.nan],
            "nothing": [np.nan, np.nan],
            "kept": [True, False],
            "names": [("a", "b"), ()],
            "verdict": ["keep", "drop"],
        },
        index=["u", "v"],
    )
    grid = frame_grid("g", frame)
    assert list(grid.headers) == ["feature", "worth", "kept", "names", "verdict"]
    assert [c.text for c in grid.rows[0]] == ["u", "1.5", "yes", "a, b", "keep"] and grid.rows[1][4].style == "drop"
    assert dict(grid.heads)["worth"] == "number" and dict(grid.heads)["names"] == ""


@pytest.mark.parametrize(
    "nasty", ["<script>x</script>", '" onclick="x', "</style><b>", "{{ 1 + 1 }}", "{% raw %}", "&amp;", "'>", "<!--", "]]>"]
)
def test_every_place_for_words_escapes_them(nasty):
    grid = Grid("g", [nasty, "n"], [[Cell(nasty, nasty, "", ((nasty, nasty, nasty),), (nasty,)), number_cell(1.0)]], nasty, pins=True)
    text = page(Words([nasty], "quiet"), grid, Code(nasty, nasty), Picture(b"<svg/>", nasty, nasty), pins=True, title=nasty)
    tags = Tags(text)
    assert not tags.wrong and not tags.depth, (tags.wrong, tags.depth)
    assert sum(t == "script" for t, _ in tags.seen) == 1 and not any(k.startswith("on") for _, a in tags.seen for k in a)
    assert next(a for t, a in tags.seen if t == "img")["alt"] == nasty
    assert next(a for t, a in tags.seen if t == "select")["data-pins"] == nasty


def test_only_the_pages_own_script_may_run():
    text = page(Words(["…"]))
    script = re.search(r"<script>(.*)</script>", text, re.S).group(1)
    allowed = base64.b64encode(hashlib.sha256(script.encode()).digest()).decode()
    policy = next(a["content"] for t, a in Tags(text).seen if t == "meta" and a.get("http-equiv") == "Content-Security-Policy")
    assert (
        f"script-src 'sha256-{allowed}'" in policy
        and "default-src 'none'" in policy
        and "unsafe-inline" not in policy.split("script-src")[1]
    )


def test_search_and_more_come_where_a_table_is_long_enough():
    def rows(n):
        return [[text_cell(f"r{k}"), number_cell(float(k))] for k in range(n)]

    short, middle, long = (page(Grid("g", ["a", "b"], rows(n))) for n in (5, 40, 130))
    assert (
        "data-searches" not in short
        and "data-searches" in middle
        and "Show all" not in middle.split("<script>")[0]
        and "Show all 130" in long
    )
    wide = page(Grid("g", [f"c{k}" for k in range(14)], [[text_cell(str(k)) for k in range(14)]]))
    assert 'class="wide"' in wide and "has all 13" in wide and 'class="wide"' not in short


def test_a_figure_is_the_same_file_each_time_with_its_words():
    def draw():
        ax = new_axes()
        ax.plot([0, 1], [0, 1])
        ax.set_title("<b>&")
        return ax

    first, again = picture(draw, "a line"), picture(draw, "a line")
    assert first.svg == again.svg and b"&lt;b&gt;&amp;" in first.svg and b"<script" not in first.svg
    assert first.address.startswith("data:image/svg+xml;base64,")

    def nothing():
        raise UsageError("nothing to draw")

    assert picture(nothing, "none") is None


def test_the_page_of_a_comparison_tells_its_best_and_warns_of_choosing():
    lots = chaff.demo.table(rows=200).with_features(["protein_pct", "ash_pct", "straw_pct"])
    found = chaff.compare(lots, ["leading", "forward"], sizes=[1, 2])
    text = render(page_of(found))
    best = found.frame["best"].astype(float).idxmax()
    assert f"The best score is that of {best}" in text and "Choosing the best row is itself a selection" in text
    for m in found.methods:
        assert f">{m}<" in text
