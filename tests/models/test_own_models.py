"""A person's own model: description given, how its classes are lined up, and what is said when it misbehaves."""

import json

import numpy as np
import pandas as pd
import pytest

import chaff


class Line:
    def fit(self, X, y):
        self.c = np.linalg.lstsq(np.c_[np.ones(len(X)), X], y, rcond=1e-9)[0]

    def predict(self, X):
        return np.c_[np.ones(len(X)), X] @ self.c


class Shares:
    """The shares of the classes, and nothing else."""

    def fit(self, X, y):
        self.classes_, count = np.unique(y, return_counts=True)
        self.p = count / count.sum()

    def predict(self, X):
        return np.repeat(self.classes_[self.p.argmax()], len(X))

    def predict_proba(self, X):
        return np.repeat(self.p[None], len(X), 0)


def lots(n=120, **more):
    rng = np.random.default_rng(0)
    frame = pd.DataFrame({"a": rng.normal(size=n), "b": rng.normal(size=n), "k": rng.choice(["x", "z"], n)})
    frame.loc[3, "b"] = np.nan
    return chaff.open_table(frame.assign(y=2 * frame["a"] + (frame["k"] == "z") + 0.1 * rng.normal(size=n), **more), target="y")


def test_a_plain_line_scores_as_least_squares_does():
    t = lots().with_features(["a", "k"])
    own = chaff.SubsetScorer(t, chaff.models.adapt(Line))(["a", "k"]).values
    assert own == pytest.approx(chaff.SubsetScorer(t, chaff.LeastSquares())(["a", "k"]).values, abs=1e-8)


def test_classes_are_lined_up_when_one_is_absent_from_a_fold():
    rng = np.random.default_rng(0)
    y = np.array(["b"] * 30 + ["c"] * 26 + ["a"] * 4)  # every "a" is of one mill, so that one fold's training rows have none
    t = chaff.open_arrays(rng.normal(size=(60, 2)), y, groups=np.repeat(np.arange(15), 4))
    score = chaff.SubsetScorer(t, chaff.models.adapt(Shares))(t.features)
    assert np.isfinite(score.values).all() and score.metric == "log_loss" and 0.7 < np.sort(score.values)[-2] < 1.2


def test_a_fresh_copy_each_time_and_the_frame_as_it_is():
    seen = []

    class Looks:
        fitted = False

        def fit(self, X, y):
            assert not self.fitted
            self.fitted = True
            seen.append(X)
            self.m = y.mean()

        def predict(self, X):
            return np.full(len(X), self.m)

    thing = Looks()
    chaff.SubsetScorer(lots(), chaff.models.adapt(thing, columns="frame"))(["a", "b", "k"])
    assert len(seen) == 5 and not thing.fitted
    assert (
        list(seen[0].columns) == ["a", "b", "k"]
        and seen[0]["k"].dtype == "category"
        and seen[1]["b"].isna().sum() + seen[0]["b"].isna().sum() >= 1
    )


BAD = {
    "3 values for 24 rows": {"predict": lambda self, X: np.zeros(3)},
    "missing or infinite": {"predict": lambda self, X: np.full(len(X), np.nan)},
    "ZeroDivisionError": {"predict": lambda self, X: 1 / 0},
    "predict changed the rows": {"predict": lambda self, X: X.__setitem__((0, 0), 7) or X[:, 0]},
    "fit changed the rows": {"fit": lambda self, X, y: y.__setitem__(0, 1e9)},
    "predict gave words, not numbers": {"predict": lambda self, X: ["one"] * len(X)},
    "something else than numbers": {"predict": lambda self, X: [object()] * len(X)},
}


@pytest.mark.parametrize("said", BAD)
def test_what_it_does_wrong_is_told_with_fold_and_columns(said):
    cls = type("Bad", (), {"fit": lambda self, X, y: None, "predict": lambda self, X: X[:, 0], **BAD[said]})
    with pytest.raises(chaff.ModelError, match=rf"Bad failed on fold 1 with 2 features \(a, b\): .*{said}"):
        chaff.SubsetScorer(lots(), chaff.models.adapt(cls), work=chaff.Work(0, 1))(["a", "b"])


def test_labels_that_are_no_classes_and_metrics_it_cannot_serve():
    rng = np.random.default_rng(0)
    t = chaff.open_arrays(rng.normal(size=(40, 2)), np.repeat(["p", "q"], 20))
    odd = type("Odd", (), {"fit": lambda self, X, y: None, "predict": lambda self, X: np.repeat("r", len(X))})
    with pytest.raises(chaff.ModelError, match="'r', which is none of the classes p, q"):
        chaff.SubsetScorer(t, chaff.models.adapt(odd), "accuracy")(t.features)
    with pytest.raises(chaff.UsageError, match="needs probabilities"):
        chaff.SubsetScorer(t, chaff.models.adapt(odd), "log_loss")
    with pytest.raises(chaff.UsageError, match="has no fit and no predict"):
        chaff.models.adapt(object())


@pytest.mark.long
def test_it_is_a_model_everywhere_and_a_plan_names_it_without_holding_code(tmp_path):
    t = lots()
    mine = chaff.models.adapt(Line, name="mine", importance=lambda m: np.abs(m.c[1:]))
    for by in ("permutation", "drop column", "impurity"):
        assert chaff.importance(t, mine, by).ranked().index[0] == "a"
    assert "a" in chaff.search(t, mine, chaff.Forward(size=2)).choose("best").features
    plan = tmp_path / "plan.toml"
    plan.write_text('[score]\nmodel = "mine"\n[[stage]]\nuse = "search"\nmodel = "mine"\nstrategy = { name = "forward", size = 2 }\n')
    run = chaff.select(t, plan, models={"mine": mine}, holdout=0, honest="quick", state=False)
    assert "a" in run.features
    run.selection.save(tmp_path / "selection.json")
    held = json.loads((tmp_path / "selection.json").read_text())
    assert held["plan"]["stage"][0]["model"] == "mine" and held["plan"]["score"]["model"] == "mine"
    with pytest.raises(chaff.UsageError, match=r"your own model 'mine', .*models=\{'mine': …\}"):
        chaff.recheck(run.selection, t)
    for how in ({"models": {"mine": mine}}, {"model": mine}):
        again = chaff.recheck(run.selection, t, **how)
        assert again.model == "mine" and again.verdict == "stay"
    with pytest.raises(chaff.PlanError, match="unknown model 'mine'"):
        chaff.read_plan(plan)
    with pytest.raises(chaff.UsageError, match="give yours another name"):
        chaff.read_plan(plan, models={"ridge": mine})


def test_weights_reach_a_model_that_takes_them():
    given = []

    class Weighs(Line):
        def fit(self, X, y, sample_weight=None):
            given.append(sample_weight)
            super().fit(X, y)

    rng = np.random.default_rng(0)
    frame = pd.DataFrame({"a": rng.normal(size=60), "w": rng.random(60) + 0.1, "y": rng.normal(size=60)})
    chaff.SubsetScorer(chaff.open_table(frame, target="y", weights="w"), chaff.models.adapt(Weighs))(["a"])
    assert len(given) == 5 and all(g is not None and len(g) == 48 for g in given)


def classes(n=90):
    rng = np.random.default_rng(1)
    return chaff.open_arrays(rng.normal(size=(n, 2)), rng.choice(["a", "b", "c"], n), names=["c0", "c1"])


@pytest.mark.parametrize(
    ("shares", "words"),
    [
        (lambda p: p * 1.001, "row 1 of the test rows, which add up to 1.001, not to 1"),
        (lambda p: p + [0.5, 0, -0.5], "must be from 0 to 1"),
        (lambda p: p + 1j, "complex numbers, not numbers"),
        (lambda p: p.astype("datetime64[D]") if p.dtype == int else np.full(p.shape, np.datetime64("2026-01-01")), "dates, not numbers"),
        (lambda p: p.astype(str), "words, not numbers"),
    ],
)
def test_shares_that_are_none_are_refused_with_model_and_fold(shares, words):
    class Off(Shares):
        def predict_proba(self, X):
            return shares(super().predict_proba(X))

    with pytest.raises(chaff.ModelError, match=rf"(?s)model Off failed on fold 1 .*predict_proba gave .*{words}"):
        chaff.SubsetScorer(classes(), chaff.models.adapt(Off))(["c0"])


def test_shares_within_rounding_pass_and_a_class_named_twice_does_not():
    class Nearly(Shares):
        def predict_proba(self, X):
            return super().predict_proba(X) * (1 + 5e-7)

    class Twice(Shares):
        def fit(self, X, y):
            super().fit(X, y)
            self.classes_ = np.array(["a", "b", "b"])

    assert np.isfinite(chaff.SubsetScorer(classes(), chaff.models.adapt(Nearly))(["c0"]).values).all()
    with pytest.raises(chaff.ModelError, match="model Twice failed on fold 1 .*name 'b' twice"):
        chaff.SubsetScorer(classes(), chaff.models.adapt(Twice))(["c0"])


@pytest.mark.parametrize(
    ("dtype", "words"), [(complex, "complex numbers"), ("datetime64[s]", "dates"), ("timedelta64[s]", "spans of time")]
)
def test_predictions_that_are_no_numbers_are_refused(dtype, words):
    class Odd(Line):
        def predict(self, X):
            return np.zeros(len(X)).astype(dtype)

    with pytest.raises(chaff.ModelError, match=f"model Odd failed on fold 1 .*predict gave {words}, not numbers"):
        chaff.SubsetScorer(lots(), chaff.models.adapt(Odd))(["a"])
