"""What a newcomer touches first: names, docstrings, the README, the examples, light imports."""

import doctest
import importlib
import inspect
import os
import pkgutil
import re
import subprocess
import sys
from pathlib import Path

import pytest

import chaff

ROOT = Path(__file__).parent.parent
MODULES = [m.name for m in pkgutil.walk_packages(chaff.__path__, "chaff.")]


def python(code, **env):
    return subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True, env={**os.environ, **env}).stdout


def test_every_public_name_is_there_and_documented():
    for name in chaff.__all__:
        thing = getattr(chaff, name)
        if inspect.isclass(thing) or inspect.isfunction(thing):
            assert inspect.getdoc(thing) and not inspect.getdoc(thing).startswith(f"{name}("), name
    with pytest.raises(AttributeError, match="no attribute 'selct'"):
        _ = chaff.selct
    assert "select" in dir(chaff)


WHOLE_RUNS = {  # modules whose examples run `select` or `compare`
    f"chaff.{name}"
    for name in (
        "plots.evaluation_figures", "plots.size_curve", "decide.selection", "decide.run", "decide.compare_calls", "decide.changes",
        "decide.rechecking.result", "methods.evaluation.everywhere", "methods.evaluation.evaluation", "methods.evaluation.protection",
        "report.writing",
    )
}  # fmt: skip


@pytest.mark.parametrize("module", [pytest.param(m, marks=[pytest.mark.long] if m in WHOLE_RUNS else []) for m in MODULES])
def test_examples_in_docstrings_run(module):
    assert doctest.testmod(importlib.import_module(module)).failed == 0


def test_usual_names_and_data_that_is_not_opened_lead_to_what_to_write():
    with pytest.raises(AttributeError, match=r"'vif': see chaff\.inflation"):
        _ = chaff.vif
    lots = chaff.demo.lots(rows=60)
    for call in (chaff.screen, chaff.relevance, chaff.search, chaff.select, chaff.compare):
        with pytest.raises(chaff.UsageError, match=r"a DataFrame, not a Table: open it first, chaff\.\w+\(chaff\.open_table\(data"):
            call(lots)
    with pytest.raises(chaff.UsageError, match="open it first"):
        chaff.relevance(lots, target="loaf_volume")
    assert dir(chaff.models) == ["adapt", "check", "fit", "out_of_bag"]


def test_every_result_has_a_short_text_and_a_view_for_a_notebook():
    table = chaff.demo.table(rows=120).with_features(["protein_pct", "ash_pct", "variety"])
    run = chaff.select(table, chaff.Plan((chaff.Screen(), chaff.Search(model="ridge"))))
    found = chaff.relevance(table, ["pearson_r"], cut={"top": 1})
    results = [table, run, run.selection, run.ledger, run.plan, run.final_scores, run.stages[0], run.honest, run.result("search"), found]
    results += [chaff.linear_summary(table), chaff.overlaps(table), chaff.by_hand(table), chaff.search(table, "ridge", "forward")]
    for result in results:
        assert repr(result) == str(result) and len(repr(result)) < 6000, type(result)
        assert result._repr_html_().startswith("<"), type(result)
    assert found.kept == ("protein_pct", "variety") and len(found) == 3 and found["ash_pct"]["verdict"] == "drop" and "ash_pct" in found
    with pytest.raises(chaff.UnknownColumn, match="Did you mean 'ash_pct'"):
        found["ash_pc"]
    assert "apply" in dir(run.selection) and "model_dump" not in dir(run.selection)


def test_there_are_examples_to_run():
    finder = doctest.DocTestFinder()
    count = sum(len(t.examples) for m in MODULES for t in finder.find(importlib.import_module(m)))
    assert count > 25


def test_importing_is_light_and_help_is_lighter():
    heavy = "[m for m in ('scipy', 'matplotlib', 'pyarrow', 'pandas', 'pydantic') if m in sys.modules]"
    assert python(f"import sys, chaff; print({heavy})").strip() == "[]"
    code = f"import sys; from chaff.cli.main import main; main(['--help']); print({heavy})"
    assert python(code).strip().endswith("[]")


@pytest.mark.long
def test_scipy_stats_is_never_loaded_on_the_way():
    code = "import sys, chaff; chaff.select(chaff.demo.table(rows=120), chaff.Plan((chaff.Screen(), chaff.Relevance()))); "
    assert python(code + "print('scipy.stats' in sys.modules, 'matplotlib' in sys.modules)").split() == ["False", "False"]


@pytest.mark.long
@pytest.mark.parametrize("example", sorted(p.name for p in (ROOT / "examples").glob("*.py")))
def test_examples_run(example, tmp_path):
    done = subprocess.run([sys.executable, ROOT / "examples" / example], capture_output=True, text=True, cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert "kept" in done.stdout


def test_the_stub_is_what_make_docs_writes():
    made = "lines(m.stub()) != lines(open('src/chaff/__init__.pyi').read())"
    code = f"import sys; sys.path.insert(0, 'docs'); import make_tables as m; lines = lambda t: sorted(t.splitlines()); sys.exit({made})"
    assert subprocess.run([sys.executable, "-c", code], cwd=ROOT).returncode == 0 and (ROOT / "src" / "chaff" / "py.typed").exists()


def readme_blocks(language, page="README.md"):
    return re.findall(rf"```{language}\n(.*?)```", (ROOT / page).read_text(encoding="utf-8"), re.S)


@pytest.mark.long
@pytest.mark.parametrize("page", ["README.md", "docs/python.md"])
def test_the_python_of_the_pages_runs(page, tmp_path):
    blocks = readme_blocks("python", page)
    assert blocks
    (tmp_path / "r.py").write_text("\n".join(blocks), encoding="utf-8")
    chaff.demo.lots(rows=300).to_csv(tmp_path / "lots.csv", index=False)
    chaff.demo.lots(rows=50, seed=2).to_csv(tmp_path / "new_lots.csv", index=False)
    done = subprocess.run([sys.executable, "r.py"], cwd=tmp_path, capture_output=True, text=True)
    assert done.returncode == 0, done.stderr


def test_readme_plans_are_valid_and_its_pictures_exist(tmp_path):
    for text in readme_blocks("toml") + readme_blocks("toml", "docs/tour.md"):
        (tmp_path / "p.toml").write_text(text, encoding="utf-8")
        assert chaff.read_plan(tmp_path / "p.toml").stages
    for target in re.findall(r"\]\((?!https?:|#)([^)]+)\)", (ROOT / "README.md").read_text(encoding="utf-8")):
        assert (ROOT / target).exists(), target


def test_the_readme_is_short_and_its_options_exist():
    text = (ROOT / "README.md").read_text(encoding="utf-8")
    assert len(text.splitlines()) <= 140
    from chaff.cli.main import chaff as command

    known = {o for p in command.get_command(None, "select").params for o in p.opts}
    named = set(re.findall(r"--[a-z][a-z-]+", text))
    assert named - known <= {"--out", "--report", "--help"}


def test_errors_are_also_the_built_in_a_caller_would_catch():
    assert issubclass(chaff.DataError, ValueError) and issubclass(chaff.UnknownColumn, (KeyError, chaff.DataError))
    assert issubclass(chaff.PlanError, ValueError) and issubclass(chaff.ModelError, RuntimeError)
    assert [e.exit_code for e in (chaff.UsageError, chaff.PlanError, chaff.DataError, chaff.ModelError)] == [2, 2, 3, 4]


def test_the_statistics_page_lists_what_there_is():
    from chaff.methods.relevance.catalogue import ALL

    page = (ROOT / "docs" / "statistics.md").read_text(encoding="utf-8")
    listed = set(re.findall(r"^\| `(\w+)` \|", page, re.M))
    assert listed == {s.name for s in ALL}
    for statistic in ALL:
        assert statistic.source in page


def test_every_picture_is_linked_and_every_link_leads_somewhere():
    pictures = {p.name for p in (ROOT / "docs" / "screenshots").iterdir()}
    pages = [ROOT / "README.md", *(ROOT / "docs").glob("*.md"), ROOT / "benchmarks" / "README.md"]
    linked = set()
    for page in pages:
        for target in re.findall(r"\]\(([^)#]+)\)", page.read_text(encoding="utf-8")):
            if "://" in target:
                continue
            assert (page.parent / target).exists(), f"{page.name}: {target}"
            linked.add(target.split("/")[-1])
    assert pictures <= linked and len(pictures) < 20
