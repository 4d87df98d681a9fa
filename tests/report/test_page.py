"""The page of a run, driven in a real browser: sort, search, set verdicts, copy, print, names from hell, without script."""

import tomllib

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.decide.plan import plan_from
from chaff.report.page import Grid, Page, Section, Words, number_cell, render, text_cell
from chaff.report.writing import page_of

HELL = [
    "<script>alert(1)</script>",
    "=cmd()",
    '"><img src=x onerror=alert(1)>',
    "a'b\"c",
    "{{ 7*7 }}",
    "naïve ☃",
    "</style>",
    "x" * 400,
    " lead",
]


@pytest.fixture(scope="module")
def page_file(mill_run, tmp_path_factory):
    return mill_run.report(tmp_path_factory.mktemp("page") / "report.html")


@pytest.fixture
def open_page(browser):
    """Opens a file; every request beyond it and every error in it fails the test."""
    made = []

    def opened(file, **options):
        context = browser.new_context(viewport={"width": 1280, "height": 800}, **options)
        context.set_default_timeout(10_000)
        shown = context.new_page()
        wrong = []
        shown.on("request", lambda r: wrong.append(r.url) if not r.url.startswith(("file:", "data:")) else None)
        shown.on("pageerror", lambda e: wrong.append(str(e)))
        shown.on("dialog", lambda d: (wrong.append("a dialog"), d.dismiss()))
        shown.goto(f"file://{file}")
        made.append((context, wrong))
        return shown

    yield opened
    for context, wrong in made:
        context.close()
        assert not wrong, wrong


def first_column(page, table="t-columns"):
    return page.eval_on_selector_all(
        f"#{table} tbody tr",
        "rows => rows.filter(r => !r.hidden).map(r => r.cells[0].querySelector('summary')?.textContent ?? r.cells[0].textContent)",
    )


def test_the_answer_comes_first_and_every_column_is_there(open_page, page_file, mill_run):
    page = open_page(page_file)
    first = page.inner_text("main section >> nth=0")
    assert f"Kept {len(mill_run.features)} of" in first and all(f in first for f in mill_run.features)
    assert set(first_column(page)) == set(mill_run.table.features)
    for name in (
        "review",
        "sizes",
        "final",
        "columns",
        "asked",
        *(f"stage-{s}" for s in ("screen", "relevance", "overlap", "importance", "search")),
    ):
        assert page.locator(f"section#{name}").count() == 1
    assert page.locator("figure img").count() >= 4
    assert page.evaluate("Array.from(document.images).every(i => i.complete && i.naturalWidth > 100 && i.alt.length > 20)")


@pytest.mark.long
def test_a_click_on_a_heading_sorts_and_the_keyboard_too(open_page, page_file, mill_run):
    page = open_page(page_file)
    heading = page.locator("#t-columns thead button", has_text="effect size")
    heading.click()
    frame = mill_run.result("relevance").frame["effect_size"]
    shown = [f for f in first_column(page) if frame.get(f, np.nan) == frame.get(f, np.nan)]
    assert shown == sorted(shown, key=lambda f: -frame[f]) and first_column(page)[: len(shown)] == shown  # missing ones last
    assert page.locator("#t-columns th[aria-sort=descending]").inner_text().startswith("effect size")
    heading.focus()
    page.keyboard.press("Enter")
    again = [f for f in first_column(page) if f in shown]
    assert again == sorted(shown, key=lambda f: frame[f]) and first_column(page)[: len(shown)] == again
    page.locator("#t-columns thead button", has_text="column").first.click()
    names = [f.lower() for f in first_column(page)]
    assert names in (sorted(names), sorted(names, reverse=True))


@pytest.mark.long
def test_searching_shows_what_fits_and_counts_it(open_page, page_file):
    page = open_page(page_file)
    page.fill("[data-searches=t-columns]", "gluten drop")
    left = first_column(page)
    assert left and all("gluten" in page.locator("#t-columns tr", has=page.locator(f"summary:text-is('{f}')")).inner_text() for f in left)
    assert page.inner_text("#t-columns .found").startswith(f"{len(left)} of")
    page.fill("[data-searches=t-columns]", "")
    assert len(first_column(page)) > 50


def test_a_click_opens_the_history(open_page, page_file):
    page = open_page(page_file)
    row = page.locator("#t-columns summary", has_text="crumb_score")
    row.click()
    assert "Was it recorded" in page.locator("#t-columns details[open] .history").inner_text()


def test_verdicts_become_pins_that_a_plan_takes(open_page, page_file, mill_run):
    page = open_page(page_file)
    assert "no column is set" in page.inner_text("#pin-lines")
    page.select_option("[data-pins=crumb_score]", "keep")
    page.select_option("[data-pins=protein_pct]", "drop")
    page.select_option("[data-pins=lab_temp_c]", "review")
    lines = page.inner_text("#pin-lines")
    assert '# review "lab_temp_c"' in lines
    pins = tomllib.loads(lines)["pin"]
    assert {(p["feature"], p["verdict"]) for p in pins} == {("crumb_score", "keep"), ("protein_pct", "drop")}
    plan = tomllib.loads(page.text_content("#asked pre"))
    for p in pins:
        p["because"] = "the miller says so"
    read = plan_from({**plan, "pin": pins})
    assert [p.verdict for p in read.pins] == [p["verdict"] for p in pins]
    page.select_option("[data-pins=crumb_score]", "")
    assert "crumb_score" not in page.inner_text("#pin-lines")


@pytest.mark.long
def test_copying_copies_or_marks(open_page, page_file):
    page = open_page(page_file, permissions=["clipboard-read", "clipboard-write"])
    page.select_option("[data-pins=ash_pct]", "drop")
    page.click("#copy-pins")
    page.wait_for_function("document.getElementById('copy-pins').textContent !== 'Copy pins'")
    if page.inner_text("#copy-pins") == "Copied":
        assert "ash_pct" in page.evaluate("navigator.clipboard.readText()")
    else:
        assert "ash_pct" in page.evaluate("getSelection().toString()")


@pytest.mark.long
def test_without_script_everything_is_read(open_page, page_file, mill_run):
    page = open_page(page_file, java_script_enabled=False)
    text = page.inner_text("main")
    assert all(f in text for f in mill_run.features) and page.locator("#t-columns details").count() == len(mill_run.table.features)
    assert not page.locator("select >> nth=0").is_visible() and not page.locator("#pins").is_visible()


@pytest.mark.long
def test_names_from_hell_do_no_harm(open_page, tmp_path):
    rng = np.random.default_rng(0)
    frame = pd.DataFrame(rng.normal(size=(160, len(HELL))), columns=HELL)
    frame["y</title><script>alert(2)</script>"] = frame.iloc[:, :3].sum(axis=1) + rng.normal(size=160)
    table = chaff.open_table(frame, frame.columns[-1])
    run = chaff.select(table, chaff.Plan((chaff.Screen(), chaff.Relevance("leading"), chaff.Search(model="ridge"))))
    page = open_page(run.report(tmp_path / "report.html"))
    assert page.locator("main script").count() == 0 and page.locator("main img:not(figure img)").count() == 0
    assert {c.strip() for c in HELL if len(c) < 300} <= {c.strip() for c in first_column(page)}
    page.locator(f"select >> nth={HELL.index('=cmd()')}").select_option("keep")
    assert tomllib.loads(page.inner_text("#pin-lines"))["pin"]


@pytest.mark.parametrize("scheme", ["light", "dark"])
def test_words_stand_out_from_what_is_behind_them(open_page, page_file, scheme):
    """Contrast of at least 4.5, the usual limit for text (WCAG 2.1 AA)."""
    page = open_page(page_file, color_scheme=scheme)
    pairs = page.evaluate(
        """() => ['body', 'p.answer', 'p.quiet', 'td.keep', 'td.drop', 'th.review, td.review', 'td.blocked', 'nav a', 'thead button'].map(s => {
            const e = document.querySelector(s), ink = getComputedStyle(e).color;
            let back = 'rgba(0, 0, 0, 0)';
            for (let at = e; at && back === 'rgba(0, 0, 0, 0)'; at = at.parentElement) back = getComputedStyle(at).backgroundColor;
            return [s, ink, back];
        })"""
    )
    for selector, ink, back in pairs:
        assert contrast(ink, back) >= 4.5, (selector, ink, back)


def contrast(a, b):
    def light(colour):
        parts = np.array([float(x) for x in colour[colour.index("(") + 1 : -1].split(",")[:3]]) / 255
        linear = np.where(parts <= 0.04045, parts / 12.92, ((parts + 0.055) / 1.055) ** 2.4)
        return float(linear @ [0.2126, 0.7152, 0.0722])

    high, low = sorted((light(a), light(b)), reverse=True)
    return (high + 0.05) / (low + 0.05)


def test_it_prints(open_page, page_file):
    page = open_page(page_file)
    page.emulate_media(media="print")
    page.evaluate("dispatchEvent(new Event('beforeprint'))")
    assert not page.locator("nav").is_visible() and not page.locator("select >> nth=0").is_visible()
    assert page.locator("#stage-relevance table").is_visible()
    assert len(page.pdf(format="A4")) > 50_000


@pytest.mark.long
def test_five_hundred_columns(open_page, tmp_path):
    """They are all there, sort right, and the table answers; how fast stands in benchmarks/."""
    rng = np.random.default_rng(1)
    rows = [[text_cell(f"assay_{k}"), number_cell(float(v)), text_cell("keep", "keep")] for k, v in enumerate(rng.normal(size=500))]
    made = Page(
        "Five hundred",
        "",
        [Section("columns", "Every column", [Words(["…"]), Grid("columns", ["column", "worth", "verdict"], rows, pins=True)])],
        "",
        True,
    )
    (tmp_path / "many.html").write_text(render(made))
    page = open_page(tmp_path / "many.html")
    page.locator("#t-columns thead button", has_text="worth").click()
    values = page.eval_on_selector_all("#t-columns tbody tr", "rows => rows.map(r => Number(r.cells[1].dataset.v))")
    assert len(values) == 500 and values == sorted(values, reverse=True)
    assert len(first_column(page)) == 120 and first_column(page)[0] == rows[int(np.argmax([r[1].sort for r in rows]))][0].text
    page.fill("[data-searches=t-columns]", "assay_49")  # among all of them, not among those that are shown
    assert set(first_column(page)) == {"assay_49", *(f"assay_49{k}" for k in range(10))}
    page.fill("[data-searches=t-columns]", "")
    page.locator("#t-columns button.more").click()
    assert len(first_column(page)) == 500 and not page.locator("#t-columns button.more").is_visible()


@pytest.mark.long
def test_the_page_is_small_whole_and_the_same_each_time(page_file, mill_run, tmp_path):
    text = page_file.read_text()
    assert len(text.encode()) < 2_000_000
    assert "http://" not in text.replace("http://www.w3.org", "") and "https://" not in text
    assert mill_run.report(tmp_path / "again.html").read_bytes() == page_file.read_bytes()


@pytest.mark.long
def test_a_comparison_has_a_page_too(open_page, tmp_path):
    lots = chaff.demo.table(rows=250).with_features(["protein_pct", "ash_pct", "falling_number_s", "straw_pct"])
    found = chaff.compare(lots, ["leading", "forward"], sizes=[1, 2, 3])
    page = open_page(found.report(tmp_path / "report.html"))
    assert set(first_column(page, "t-methods")) == set(found.methods)
    assert page.locator("figure img").count() == 2 and "forward" in page.inner_text("#agreement")


@pytest.mark.long
def test_what_no_page_can_be_made_of_or_written_to(mill_run, tmp_path):
    with pytest.raises(chaff.UsageError, match=r"chaff\.select or chaff\.compare"):
        page_of(3)
    with pytest.raises(chaff.UsageError, match=r"ends in \.html"):
        mill_run.report(tmp_path / "report.pdf")
    with pytest.raises(chaff.DataError, match="not written"):
        mill_run.report(tmp_path / "nowhere" / "report.html")


@pytest.mark.long
def test_every_stage_and_kind_of_run_has_a_page(tmp_path):
    """Classes, three classes, nothing kept, no holdout, no search, a pinned column."""
    rng = np.random.default_rng(3)
    noise = pd.DataFrame(rng.normal(size=(150, 4)), columns=list("abcd")).assign(y=rng.choice(["u", "v", "w"], 150))
    cases = [
        (chaff.open_table(noise, "y"), chaff.Plan((chaff.Screen(), chaff.Search(model="logistic"))), {}),
        (chaff.demo.table(rows=150, target="accepted"), chaff.Plan((chaff.Screen(), chaff.Search(model="logistic"))), {"holdout": 0}),
        (chaff.demo.table(rows=150), chaff.Plan((chaff.Screen(), chaff.Relevance("leading"))), {"honest": "quick"}),
    ]
    for k, (table, plan, options) in enumerate(cases):
        run = chaff.select(table, plan, **options)
        text = run.report(tmp_path / f"{k}.html").read_text()
        assert table.target.name in text and (('id="final"' in text) == bool(run.holdout.size))


def test_the_curve_is_walked_with_the_keys(open_page, page_file, mill_run):
    page = open_page(page_file)
    trail = mill_run.stages[-1].result
    curve, block = trail.decided, page.locator("#w-walk")
    slider = block.locator("input")
    assert block.locator(".set").inner_text().split(", ") == [f for f in trail.offered if f in curve.sets[trail.choice.place]]
    assert f"--size {curve.sizes[trail.choice.place]}" == block.locator("pre").inner_text()
    slider.focus()
    page.keyboard.press("ArrowLeft")
    smaller = curve.sets[trail.choice.place - 1]
    assert set(block.locator(".set").inner_text().split(", ")) == smaller
    here = block.locator(".here").inner_text()
    assert here.startswith(f"{len(smaller)} features · CV {trail.metric_of.label}") and slider.get_attribute("aria-valuetext") in here
    came = smaller - curve.sets[trail.choice.place - 2]
    assert all(f in block.locator(".change").inner_text() for f in came)
    page.keyboard.press("Home")
    assert block.locator(".set").inner_text() == "no feature"
    page.keyboard.press("End")
    assert len(block.locator(".set").inner_text().split(", ")) == len(trail.offered)


def test_a_limit_shows_who_stays_and_the_option_that_says_so(open_page, page_file, mill_run):
    page = open_page(page_file)
    found = next(r.result for r in mill_run.stages if r.stage.use == "relevance")
    page.locator("#stage-relevance summary").first.click()
    block = page.locator("#stage-relevance .limits")
    block.locator("input").fill("0.2")
    stay = int((found.frame["effect_size"] >= 0.2).sum())
    assert block.locator(".stays").inner_text() == f"{stay} of {len(found)} stay" and 0 < stay < len(found)
    assert page.locator("#stage-relevance tr.goes").count() == len(found) - stay
    assert block.locator("pre").inner_text() == "--by effect_size --above 0.2"
    block.locator("select").select_option(label="pearson r")  # the distance from nothing counts, either way
    strong, known = found.frame["pearson_r"].abs() >= 0.2, found.frame["pearson_r"].notna()
    assert block.locator(".stays").inner_text().startswith(f"{int(strong.sum() + (~known).sum())} of {len(found)} stay")
    block.locator("select").select_option(label="q")
    assert block.locator(".side").inner_text() == "at most" and "--by q --below 0.2" in block.locator("pre").inner_text()
    block.locator("input").fill("")
    assert page.locator("#stage-relevance tr.goes").count() == 0 and block.locator("pre").is_hidden()
