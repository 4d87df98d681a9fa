"""Choices are values with settings; caches know where to stop."""

from dataclasses import FrozenInstanceError

import numpy as np
import pytest

import chaff
from chaff.choices import fits, in_words, plan_value, wrong_fields
from chaff.errors import UsageError
from chaff.memory import BoundedCache
from chaff.methods.search.strategy import STRATEGIES, as_strategy
from chaff.models.named import MODELS, as_model


@pytest.mark.parametrize("registry", [MODELS, STRATEGIES], ids=["models", "strategies"])
def test_every_choice_is_frozen_and_comes_back_from_what_it_tells(registry):
    assert len(registry.choices) >= 3
    for name, cls in registry.choices.items():
        choice = registry.make(name)
        assert type(choice) is cls and registry.make(plan_value(choice, registry.key)) == choice
        assert getattr(chaff, cls.__name__) is cls and cls.__name__ in dir(chaff)
        with pytest.raises((FrozenInstanceError, AttributeError)):
            choice.name = "other"


def test_settings_travel_with_the_choice():
    assert as_model({"name": "ridge", "penalty": 0.25}) == chaff.Ridge(0.25)
    assert plan_value(chaff.Ridge(0.25), "label") == {"name": "ridge", "penalty": 0.25}
    assert plan_value(chaff.Forward(), "name") == "forward"
    assert as_strategy({"name": "backward"}) == chaff.Backward()


@pytest.mark.parametrize(
    ("said", "words"),
    [
        ("forwards", r"unknown strategy 'forwards'.*Did you mean 'forward'"),
        ({"size": 3}, "'name' is missing"),
        ({"name": "forward", "sise": 3}, r"unknown key 'sise'.*Did you mean 'size'"),
        ({"name": "forward", "size": "three"}, "size must be"),
        ({"name": "forward", "size": 0}, "size must be 1 or more"),
        (3, "a strategy is a name"),
        (chaff.Forward, r"Forward is a class: call it, chaff.Forward\(\)"),
    ],
)
def test_what_is_wrong_with_a_choice_is_said_at_the_edge(said, words):
    with pytest.raises(UsageError, match=words):
        chaff.Search(strategy=said)


def test_plain_hints_are_checked_as_people_mean_them():
    assert fits(3, float) and not fits(True, float) and not fits(3.5, int) and not fits("3", int)
    assert fits(None, int | None) and not fits(None, int)
    assert "whole number" in in_words(int)
    assert wrong_fields(chaff.Ridge, {"penalty": 1}) == []


def test_a_cache_gives_up_what_was_longest_unused():
    made = []
    cache = BoundedCache(3 * 80, lambda a: a.nbytes)

    def make(name):
        made.append(name)
        return np.zeros(10)

    for name in "abcab":
        cache.get(name, make)
    assert made == ["a", "b", "c"]
    cache.get("d", make)  # `c` was unused for longest
    cache.get("a", make), cache.get("b", make)
    assert made == ["a", "b", "c", "d"]
    cache.get("c", make)
    assert made == ["a", "b", "c", "d", "c"]


def test_one_value_larger_than_the_cache_is_still_given_and_kept_alone():
    cache = BoundedCache(10, lambda a: a.nbytes)
    big = cache.get("big", lambda _: np.zeros(100))
    assert cache.get("big", lambda _: np.ones(1)) is big
    assert cache.get("small", lambda _: np.ones(1)).size == 1
    assert cache.get("big", lambda _: np.ones(1)).size == 1  # was given up


def test_a_cache_without_some_names_makes_those_anew():
    cache = BoundedCache(1e6, lambda a: a.nbytes)
    cache.get("x", lambda _: np.zeros(1)), cache.get("y", lambda _: np.zeros(1))
    other = cache.without(["x"])
    assert other.get("x", lambda _: np.ones(1))[0] == 1 and other.get("y", lambda _: np.ones(1))[0] == 0
    assert cache.get("x", lambda _: np.ones(1))[0] == 0
