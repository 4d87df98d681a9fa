"""What tells one of a person's models from another: settings and code, in this process and the next."""

import functools
import re
import subprocess
import sys
import threading

import numpy as np
import pytest

import chaff
from chaff.evaluate.fingerprint import model_words
from chaff.models.identity import NotToldApart, identity_of

CODE = """
import functools, re
import numpy as np
SHRINK = {shrink}
def helper(v):
    return v {sign} 1
class Base:
    rate = {rate}
class Mine(Base):
    def __init__(self, alpha=1.0, steps=()):
        self.alpha, self.steps = alpha, steps
    def fit(self, X, y):
        self.m = helper(y.mean()) * SHRINK
    def predict(self, X):
        return np.full(len(X), self.m)
def make(): return Mine({alpha}, steps={{"b", "a", "c"}})
"""
FIRST = {"shrink": 1.0, "sign": "+", "rate": 2, "alpha": 0.5}


def made(**changed):
    space = {"__name__": "mill_models"}
    exec(compile(CODE.format(**{**FIRST, **changed}), "mill.py", "exec"), space)
    return space


def words(model, **more):
    return model_words(chaff.models.adapt(model, **more))


@pytest.mark.parametrize("changed", [{"shrink": 0.9}, {"sign": "-"}, {"rate": 3}, {"alpha": 0.6}])
def test_a_changed_constant_helper_base_or_setting_is_another_model(changed):
    assert words(made()["make"]) == words(made()["make"]) != words(made(**changed)["make"])


def test_settings_of_objects_classes_and_factories():
    Mine = made()["Mine"]
    assert words(Mine(1.0)) != words(Mine(2.0)) and words(Mine(1.0)) == words(Mine(1.0)) != words(Mine)
    assert words(lambda: Mine(1.0)) != words(lambda: Mine(2.0))
    assert words(functools.partial(Mine, alpha=3)) != words(functools.partial(Mine, alpha=4))
    for k in (1, 2):
        assert words(Mine(steps=[np.arange(3.0) * k])) == words(Mine(steps=[np.arange(3.0) * k]))
    assert words(Mine(steps=[np.arange(3.0)])) != words(Mine(steps=[np.arange(3.0) * 2]))
    assert words(Mine(steps=lambda v: v + 1)) != words(Mine(steps=lambda v: v + 2))
    assert words(Mine(), columns="frame") != words(Mine())
    assert words(Mine(), importance=lambda m: [m.alpha]) != words(Mine(), importance=lambda m: [2 * m.alpha])


@pytest.mark.parametrize(
    "pair",
    [
        (re.compile("a"), re.compile("b")),
        (np.random.default_rng(1), np.random.default_rng(2)),
        ({1: "a"}, {1: "b"}),
        ([{1}], [{2}]),
        (np.float64(1), np.float64(2)),
        (np.array(["a", None], object), np.array(["b", None], object)),
        (chaff.Ridge(0.1), chaff.Ridge(0.2)),
        ("x".join, "y".join),
    ],
)
def test_values_of_many_kinds_are_told_apart(pair):
    assert identity_of(pair[0]) != identity_of(pair[1])


def test_circles_end_and_what_cannot_be_looked_into_is_said():
    circle = [1]
    circle.append(circle)
    assert identity_of(circle) == identity_of(circle)
    with pytest.raises(NotToldApart, match="a lock in it"):
        identity_of([threading.Lock()])


@pytest.mark.long
def test_another_process_describes_a_model_alike(tmp_path):
    (tmp_path / "mill_models.py").write_text(CODE.format(**FIRST))
    run = (
        "import chaff, mill_models; from chaff.evaluate.fingerprint import model_words as w; print(w(chaff.models.adapt(mill_models.make)))"
    )
    said = {
        subprocess.run(
            [sys.executable, "-c", run], capture_output=True, text=True, check=True, cwd=tmp_path, env={"PYTHONHASHSEED": seed, "PATH": ""}
        ).stdout
        for seed in ("1", "2")
    }
    assert len(said) == 1


def test_a_model_that_cannot_be_told_apart_asks_for_a_name_and_takes_one(tmp_path):
    class Locked:
        def __init__(self):
            self.lock = threading.Lock()

        def fit(self, X, y):
            self.m = y.mean()

        def predict(self, X):
            return np.full(len(X), self.m)

    table = chaff.open_arrays(np.random.default_rng(0).normal(size=(40, 2)), np.arange(40.0))
    search = functools.partial(chaff.search, table, strategy="forward", honest=False, journal=tmp_path / "a")
    with pytest.raises(chaff.ModelError, match=r"Locked cannot be told from others.*a lock in it.*name='mine 1'"):
        search(model=chaff.models.adapt(Locked))
    assert search(model=chaff.models.adapt(Locked, name="locked 1")).scorer.tally.from_journal == 0
    assert search(model=chaff.models.adapt(Locked, name="locked 1")).evaluations == 0
    assert search(model=chaff.models.adapt(Locked, name="locked 2")).scorer.tally.from_journal == 0
