"""What is asked for on the command line is what is done, shown and handed on."""

import json

import pytest

import chaff
from tests.commands import run

ROLES = ("--target", "loaf_volume", "--ignore", "accepted", "--ignore", "grade", "--all-rows")
FEW = ("--features", "protein_*,ash_pct,variety,straw_pct,falling_number_s")


@pytest.fixture(scope="module")
def lots(tmp_path_factory):
    path = tmp_path_factory.mktemp("obeyed") / "lots.csv"
    chaff.demo.lots(rows=220).to_csv(path, index=False)
    return path


def test_statistics_that_were_named_lead_the_table_and_the_cut(lots, tmp_path):
    out = run("relevance", lots, *ROLES, *FEW, "--statistics", "pearson,spearman", "--above", "0.2", "--out", tmp_path / "r.json")
    head = next(line for line in out.splitlines() if "pearson r" in line)
    assert head.index("pearson r") < head.index("rho") and "effect size" not in out
    assert "not judged" in out and "pearson_r does not fit variety" in " ".join(out.split())
    saved = chaff.read_findings(tmp_path / "r.json")
    assert saved.lead == "pearson_r" and saved.frame.loc["variety", "stays"]
    assert f"--features @{tmp_path / 'r.json'}" in out  # the next step begins with what stayed


def test_so_many_are_shown_as_were_asked_for(lots):
    out = run("relevance", lots, *ROLES, "--statistics", "tests", "--top", "20", "--all-columns")
    assert "protein_pct" in out and " 20  " in out and "--all lists them" in out


@pytest.mark.parametrize(("size", "kept"), [("3", 3), ("0.5", 3)])
def test_a_size_is_given(lots, tmp_path, size, kept):
    out = run("search", lots, *ROLES, *FEW, "--strategy", "forward", "--size", size, "--quick", "--out", tmp_path / "s.json")
    assert f"{kept} features:" in out
    assert len(json.loads((tmp_path / "s.json").read_text())["chosen"]["features"]) == kept
    again = run("relevance", lots, *ROLES, "--features", f"@{tmp_path / 's.json'}")
    assert f"· {kept} features (" in again


def test_a_search_that_takes_away_reads_in_its_order(lots):
    out = run("search", lots, *ROLES, *FEW, "--strategy", "backward", "--size", "2", "--quick")
    sizes = [int(line.split()[0]) for line in out.splitlines() if line[:6].strip().isdigit() and "±" in line]
    assert sizes == [6, 5, 4, 3, 2] and "added" not in out and "removed" in out


def test_a_size_that_was_not_visited_is_said(lots):
    out = run("search", lots, *ROLES, *FEW, "--strategy", "forward", "--size", "5", "--evaluations", "8", "--quick")
    assert "was stopped before it came to 5 features: a set of" in " ".join(out.split())
    ended = run("search", lots, *ROLES, *FEW, "--strategy", "{ name = 'forward', patience = 1 }", "--size", "6", "--quick", code=2)
    assert "visited no set of 6 features, but of 1" in ended


def test_the_next_command_holds_the_roles_and_runs(lots):
    out = run("screen", lots, "--target", "loaf_volume", "--ignore", "accepted", "--ignore", "grade", "--kind", "lot_no=text")
    following = next(line for line in out.splitlines() if line.startswith(" next: "))
    assert following.split()[1:4] == ["chaff", "relevance", str(lots)] and "--kind lot_no=text" in following


@pytest.mark.parametrize(
    ("given", "words", "code"),
    [("nix", "is not in", 3), ("nix_*", "is like 'nix_*'", 3), ("loaf_volume", "cannot be a feature", 2), (",", "names no column", 2)],
)
def test_names_of_features_that_are_wrong(lots, given, words, code):
    assert words in run("screen", lots, *ROLES, "--features", given, code=code)


def test_a_file_that_holds_no_features(lots, tmp_path):
    (tmp_path / "x.json").write_text("{}")
    assert "names no features" in run("screen", lots, *ROLES, "--features", f"@{tmp_path / 'x.json'}", code=3)


@pytest.mark.long
def test_methods_have_names_and_their_sets_at_a_size(lots):
    out = run(
        "compare", lots, *ROLES, *FEW, "--method", "pearson", "--method", "{ use = 'importance', model = 'ridge', by = 'permutation' }",
        "--method", "{ use = 'importance', model = 'tree', by = 'permutation', name = 'by tree' }", "--sizes", "1,2", "--at", "2",
    )  # fmt: skip
    assert "importance: ridge, permutation" in out and "by tree" in out
    assert any(line.strip().startswith("by tree: ") and line.count(",") == 1 for line in out.splitlines())
