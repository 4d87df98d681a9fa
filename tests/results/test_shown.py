"""Tables as people see them: numbers whole, names cut in the middle, what does not fit named, everything escaped in HTML."""

import re

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.results.digits import cell, figure, p_value, score
from chaff.results.findings import Findings
from chaff.results.shown import columns_of, frame_text, lay_out, shortened, width_of

NASTY = ["[#1] ratio", "<b>bran</b>", "[bold]x[/bold]", 'sieve & "mid"', "protein_of_the_first_reduction_flour_before_blending_pct"]


@pytest.fixture
def nasty():
    rng = np.random.default_rng(3)
    frame = pd.DataFrame(rng.normal(size=(120, len(NASTY))), columns=NASTY)
    frame["y"] = frame[NASTY[0]] + rng.normal(size=120)
    return chaff.open_table(frame, target="y")


@pytest.mark.parametrize("width", [40, 60, 80, 120, 200])
def test_numbers_are_whole_at_any_width_and_lines_are_no_wider(width):
    rng = np.random.default_rng(1)
    headers = ["feature", *(f"figure number {k}" for k in range(9))]
    rows = [[f"a_rather_long_name_of_feature_{k}", *(figure(v) for v in rng.normal(scale=10.0**k, size=9))] for k in range(6)]
    columns = columns_of(headers, rows, required=("figure number 7",))
    laid = lay_out(columns, width)
    assert all(width_of(line.text) <= width for line in laid.lines)
    shown = [h for h in headers if h not in laid.left_out]
    assert "figure number 7" in shown and set(laid.left_out) <= set(headers)
    words = [w for line in laid.lines for w in line.text.split()]
    for row in rows:
        for header, text in zip(headers[1:], row[1:], strict=True):
            if header in shown:
                assert text in words
    assert words.count("…") == 0 and not any("…" in w for w in words)  # names stay whole while a column can go
    narrow = lay_out(columns_of(headers, rows, required=headers[1:5]), 60)
    assert any("…" in line.text for line in narrow.lines) and set(headers[1:5]) & set(narrow.left_out) == set()


def test_a_name_is_cut_in_its_middle():
    assert shortened("protein_of_the_flour_pct", 12) == "protei…r_pct"
    assert [width_of(shortened("protein_of_the_flour_pct", w)) for w in (1, 2, 5, 24, 30)] == [1, 2, 5, 24, 24]


def test_digits_say_no_more_than_they_know():
    assert [figure(v) for v in (0.0, 48.84, 1234567, 12345.6, 1e-9, float("inf"), float("nan"), True, None)] == [
        "0",
        "48.8",
        "1.23e+06",
        "12,346",
        "1e-09",
        "inf",
        "",
        "yes",
        "",
    ]
    assert p_value(1e-20) == "<1e-16" and cell("f_p", 1e-20) == "<1e-16" and cell("missing_share", 0.031) == "3.1%"
    assert score(-1e-9) == "0" and score(float("nan")) == ""


@pytest.mark.long
@pytest.mark.parametrize("columns", [48, 80, 200])
def test_everything_shows_itself_no_wider_than_the_terminal(nasty, monkeypatch, columns):
    monkeypatch.setenv("COLUMNS", str(columns))
    found = chaff.relevance(nasty, "all", by="mutual_information")
    run = chaff.select(nasty, plan=chaff.Plan((chaff.Screen(), chaff.Search(strategy="forward"))), holdout=0)
    trail = run.stages[-1].result
    for thing in (nasty, found, chaff.screen(nasty), chaff.inflation(nasty), trail, run):
        lines = str(thing).splitlines()
        assert lines and max(map(width_of, lines)) <= columns, thing
    head = next(line for line in str(found).splitlines() if "mutual" in line)
    assert "mutual" in head  # what was asked for is always there


def test_names_that_look_like_markup_are_printed_whole_and_escaped_in_notebooks(nasty):
    run = chaff.select(nasty, plan=chaff.Plan((chaff.Screen(), chaff.Search(strategy="forward"))), holdout=0)
    things = [nasty, chaff.screen(nasty), run.stages[-1].result, run, run.stages[0].verdicts[0], nasty_score(nasty)]
    for thing in things:
        html = thing._repr_html_()
        assert "<b>bran" not in html and "<table>" in html
        assert set(re.findall(r"<(/?\w+)", html)) <= {
            f"{s}{t}" for s in ("", "/") for t in ("div", "p", "b", "table", "thead", "tbody", "tr", "th", "td")
        }
    assert "[#1] ratio" in str(chaff.screen(nasty)) and "&lt;b&gt;bran&lt;/b&gt;" in chaff.screen(nasty)._repr_html_()


def nasty_score(table):
    return chaff.SubsetScorer(table, chaff.Ridge())(["<b>bran</b>"])


def test_a_score_reads_like_a_sentence(nasty):
    scorer = chaff.SubsetScorer(nasty, chaff.Ridge())
    assert re.fullmatch(r"R² 0\.\d+ ± 0\.\d+ over 5 folds with 1 feature: \[#1\] ratio", str(scorer(["[#1] ratio"])))
    assert str(scorer([])).endswith("with 0 features, baseline")


def test_a_frame_longer_than_the_screen_says_how_much_more():
    frame = pd.DataFrame({"value": range(50)}, index=pd.Index([f"f{k}" for k in range(50)], name="feature"))
    text = frame_text("fifty", frame, width=60)
    assert "… and 30 more" in text and len(text.splitlines()) == 23
    assert "… and 30 more" in Findings("fifty", frame, "value", {"value": "lower"})._repr_html_()
