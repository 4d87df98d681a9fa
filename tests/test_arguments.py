"""Settings of models, strategies, ways and stages, and pins: what is wrong is said where they are made, in the words that plans use."""

import dataclasses

import pytest

import chaff

NAN = float("nan")
WRONG = {
    "words for a number": (lambda: chaff.Ridge(penalty="x"), "Ridge: penalty must be a number, not 'x'"),
    "a truth for a count": (lambda: chaff.Forest(trees=True), "Forest: trees must be a whole number, not True"),
    "a fraction of a tree": (lambda: chaff.Forest(trees=1.5), "trees must be a whole number, not 1.5"),
    "not a number": (lambda: chaff.Backward(step=NAN), "Backward: step must be a whole number or a number, not nan"),
    "of a stage": (lambda: chaff.Inflation(limit=NAN), "Inflation: limit must be a number, not nan"),
    "without end": (lambda: chaff.RandomSets(sets=2**63), r"sets must be a whole number up to 1,000,000,000, not 9223372036854775808"),
    "steps without end": (lambda: chaff.Annealing(steps=10**30), "up to 1,000,000,000"),
    "of a way": (lambda: chaff.Permutation(shuffles="many"), "Permutation: shuffles must be a whole number"),
    "a slip": (lambda: chaff.Ridge(penality=1), "unexpected keyword argument 'penality'; it has penalty"),
    "too many": (lambda: chaff.Forest(1, 2, 3, 4, 5, 6, 7, 8), "too many positional arguments; it has trees"),
}


@pytest.mark.parametrize("kind", WRONG)
def test_what_is_wrong_with_a_setting_is_said_at_once(kind):
    make, words = WRONG[kind]
    with pytest.raises(chaff.ArgumentError, match=words):
        make()


@pytest.mark.parametrize(
    "pins", [{"protein_pct"}, ["protein_pct"], [("protein_pct", "keep")], "protein_pct", iter(["protein_pct"]), {"a": 1}]
)
@pytest.mark.parametrize("call", [chaff.select, chaff.relevance, chaff.screen], ids=lambda c: c.__name__)
def test_pins_that_are_none_are_refused_by_every_call(call, pins):
    if not isinstance(pins, str | list | set | dict | tuple):
        pins = iter(["protein_pct"])
    with pytest.raises(chaff.ArgumentError, match="pins must be (a list of which each is Pin|made by chaff.pin_keep)"):
        call(chaff.demo.table(rows=60), pins=pins)


def test_plans_say_the_same_of_the_same_settings(tmp_path):
    path = tmp_path / "plan.toml"
    for text, words in (
        ("step = nan", "step must be a whole number or a number, not nan"),
        ("step = 9223372036854775807", "up to 1,000,000,000"),
    ):
        path.write_text(f'[[stage]]\nuse = "search"\nstrategy = {{ name = "backward", {text} }}\n')
        with pytest.raises(chaff.PlanError, match=words):
            chaff.read_plan(path)


def test_every_model_and_strategy_with_its_defaults_is_accepted():
    from chaff.methods.search.strategy import STRATEGIES
    from chaff.models.named import MODELS

    for registry in (MODELS, STRATEGIES):
        for cls in registry.choices.values():
            thing = getattr(chaff, cls.__name__)()
            assert cls(**{f.name: getattr(thing, f.name) for f in dataclasses.fields(cls) if f.init}) == thing
