import tomllib

import pytest

import chaff
from chaff.decide.plan import plan_from, with_settings


def write(tmp_path, text):
    path = tmp_path / "plan.toml"
    path.write_text(text)
    return path


def test_the_built_in_plan_survives_the_way_through_toml(tmp_path):
    plan = chaff.built_in_plan()
    again = chaff.read_plan(write(tmp_path, plan.to_toml()))
    assert again.stages == plan.stages and again.score == plan.score


def test_a_plan_in_full(tmp_path):
    plan = chaff.read_plan(
        write(
            tmp_path,
            """
[table]
target = "loaf_volume"
ids = ["lot_no"]
groups = "mill"

[score]
model = "forest"
metric = "r2"
repeats = 3

[[stage]]
use = "screen"
missing_share = 0.8
too_good = false

[[stage]]
use = "relevance"
by = "mutual_information"
cut = { top = 40 }

[[stage]]
use = "inflation"
limit = 8

[[stage]]
use = "search"
strategy = "forward"

[[pin]]
feature = "ash_pct"
verdict = "keep"
because = "the miller has to report it anyway"
""",
        )
    )
    screen, relevance, inflation, search = plan.stages
    assert screen.missing_share == 0.8 and screen.too_good is None and relevance.cut == {"top": 40}
    assert inflation.limit == 8.0 and search.strategy == chaff.Forward() and plan.score.repeats == 3
    assert plan.table.as_mapping() == {"target": "loaf_volume", "ids": ["lot_no"], "groups": "mill"}
    assert plan.pins == (chaff.pin_keep("ash_pct", "the miller has to report it anyway"),)


def test_all_mistakes_are_named_at_once_with_the_nearest_name(tmp_path):
    path = write(
        tmp_path,
        """
[score]
folds = 1
metrik = "r2"

[[stage]]
use = "sreen"

[[stage]]
use = "relevance"
bye = "q"

[[stage]]
use = "overlap"
pair_limit = "high"

[[stage]]
use = "search"
strategy = "up"
""",
    )
    with pytest.raises(chaff.PlanError) as caught:
        chaff.read_plan(path)
    text = str(caught.value)
    for words in (
        "plan.toml",
        "score: unknown key 'metrik'",
        "'sreen' is not a stage",
        "Did you mean 'screen'",
        "stage 2 (relevance): unknown key 'bye'",
        "stage 3 (overlap): pair_limit",
        "stage 4 (search): unknown strategy 'up'",
    ):
        assert words in text
    assert caught.value.exit_code == 2


@pytest.mark.parametrize(
    "text, words",
    [
        ("", "no \\[\\[stage\\]\\]"),
        ("[[stage]\nuse=", "is not TOML"),
        ("[[stage]]\nuse = 'screen'\nmissing_share = 9", "between 0 and 1"),
        ("[[stage]]\nuse = 'screen'\n[[pin]]\nfeature = 'a'\nverdict = 'maybe'\nbecause = 'x'", "pin 1: verdict must be 'keep' or 'drop'"),
        ("[score]\nmodel = 'oracle'\n[[stage]]\nuse = 'screen'", "unknown model 'oracle'"),
        ("[score]\nmetric = 'luck'\n[[stage]]\nuse = 'screen'", "unknown metric 'luck'"),
    ],
)
def test_single_mistakes(tmp_path, text, words):
    with pytest.raises(chaff.PlanError, match=words):
        chaff.read_plan(write(tmp_path, text))


def test_missing_plan_and_empty_plan(tmp_path):
    with pytest.raises(chaff.PlanError, match="no such plan"):
        chaff.read_plan(tmp_path / "gone.toml")
    with pytest.raises(chaff.PlanError, match="at least one stage"):
        chaff.Plan(())


def test_settings_change_single_fields():
    plan = with_settings(chaff.built_in_plan(), {"overlap": {"pair_limit": 0.9}, "screen": {"missing_share": False}})
    assert plan.stages[2].pair_limit == 0.9 and plan.stages[2].vif_limit == 10 and plan.stages[0].missing_share is None
    with pytest.raises(chaff.PlanError, match="Did you mean 'search'"):
        with_settings(chaff.built_in_plan(), {"serch": {"size": 3}})
    with pytest.raises(chaff.PlanError, match="unknown key 'sizes'"):
        with_settings(chaff.built_in_plan(), {"search": {"sizes": 3}})
    assert plan_from(plan.as_mapping()).stages[1:] == plan.stages[1:]


@pytest.mark.parametrize(
    ("stage", "words"),
    [
        ('use = "relevance"\nbin_kind = "foo"', "bin_kind"),
        ('use = "relevance"\nstatistics = ["nope"]', "unknown statistic 'nope'"),
        ('use = "relevance"\nby = "nonsense"', "nonsense"),
        ('use = "relevance"\nadjust = "none at all"', "adjust"),
        ('use = "search"\nmodel = { name = "ridge", penalti = 1 }', "penalti"),
        ('use = "search"\nstrategy = { name = "forward", size = 0 }', "size must be 1 or more"),
        ('use = "importance"\nmodel = "florest"', "florest"),
    ],
)
def test_what_is_wrong_with_a_stage_is_found_when_the_plan_is_read(tmp_path, stage, words):
    with pytest.raises(chaff.PlanError, match=words):
        chaff.read_plan(write(tmp_path, f'[[stage]]\nuse = "screen"\n\n[[stage]]\n{stage}\n'))


@pytest.mark.parametrize(
    ("stage", "words"),
    [
        (lambda: chaff.Relevance(["auc"]), "auc"),  # a known statistic that fits no pair of this table
        (lambda: chaff.Relevance(by="auc"), "auc"),
        (lambda: chaff.Relevance(["gini_gain"]), "gini"),
        (lambda: chaff.Relevance(["pearson_r"], by="spearman_rho", cut={"top": 3}), "spearman_rho is not among the statistics"),
    ],
)
def test_what_does_not_fit_the_table_is_found_before_any_stage_runs(mixed, stage, words):
    table = chaff.open_table(mixed, target="y", ignore=["mill", "day", "lot_weight"])
    begun = []
    with pytest.raises(chaff.PlanError, match=words):
        chaff.select(table, plan=chaff.Plan((chaff.Screen(), stage())), watch=lambda name, done, of: begun.append(name))
    assert begun == []


@pytest.mark.long
def test_two_stages_of_one_use_go_by_their_names(mixed):
    table = chaff.open_table(mixed, target="y", ignore=["mill", "day", "lot_weight"])
    stages = (
        chaff.Screen(),
        chaff.Relevance(name="first look", cut={"top": 6}),
        chaff.Relevance(name="second look", by="mutual_information", cut={"top": 4}),
        chaff.Search(strategy="forward"),
    )
    plan = chaff.Plan(stages)
    assert plan_from(tomllib.loads(plan.to_toml())).stages == stages
    run = chaff.select(table, plan=plan, holdout=0)
    assert {"first look", "second look"} <= set(run.ledger.frame["stage"])
    with pytest.raises(chaff.ChaffError, match="second look"):
        chaff.select(table, plan=chaff.Plan((*stages, chaff.Relevance(name="second look"))), holdout=0)
    changed = with_settings(plan, {"second look": {"cut": {"top": 3}}})
    assert changed.stages[2].cut == {"top": 3} and changed.stages[1].cut == {"top": 6}


def test_a_plan_of_an_earlier_version_is_read_under_todays_names(tmp_path):
    text = '[[stage]]\nuse = "relevance"\nlevel = 0.9\n\n[[stage]]\nuse = "shadow"\nlevel = 0.1\nrounds = 60\n'
    text += '[[stage]]\nuse = "chance"\nkeep = { beyond_chance = 2.5 }\n'
    (tmp_path / "old.toml").write_text(text)
    plan = chaff.read_plan(tmp_path / "old.toml")
    assert plan.stages == (
        chaff.Relevance(confidence=0.9),
        chaff.TwinTest(alpha=0.1, rounds=60),
        chaff.ChanceBaseline(keep={"standard_deviations": 2.5}),
    )
    assert plan.notes == (
        "relevance: 'level' is now called 'confidence'",
        "stage 'shadow' is now called 'twins'",
        "twins: 'level' is now called 'alpha'",
        "chance: the rule 'beyond_chance' is now called 'standard_deviations'",
    )
    assert 'use = "twins"' in plan.to_toml() and "shadow" not in plan.to_toml()
