"""Knockoffs: distances against closed forms and an optimiser, copies against their law, thresholds by hand, false picks, refusals."""

import numpy as np
import pandas as pd
import pytest
from scipy.optimize import minimize

import chaff
from chaff.methods.chance.knockoffs import correlations, far_columns, fit_in_words, independent, standardised, strange_pairs
from chaff.stats.knockoffs import FORMS, beyond, copies, distances, e_values, joint, threshold

BLOCK = np.kron(np.eye(4), np.full((3, 3), 0.6)) + 0.4 * np.eye(12)


def alike(p, r):
    return np.full((p, p), r) + (1 - r) * np.eye(p)


@pytest.mark.parametrize("form", FORMS)
@pytest.mark.parametrize("C", [alike(5, 0.5), BLOCK, alike(3, 0.0), alike(8, -0.1)], ids=["alike", "blocks", "apart", "against"])
def test_the_joint_law_of_columns_and_copies_is_one(form, C):
    s = distances(C, form)
    assert (s > 0).all() and (s <= 1).all()
    assert np.linalg.eigvalsh(joint(C, s))[0] > -1e-9


def test_distances_against_closed_forms():
    assert distances(alike(5, 0.3), "equicorrelated") == pytest.approx(np.ones(5), abs=1e-4)  # 2 (1 - r) is over 1
    assert distances(alike(5, 0.8), "equicorrelated") == pytest.approx(np.full(5, 0.4), abs=1e-4)
    assert distances(alike(5, 0.8), "semidefinite") == pytest.approx(np.full(5, 0.4), abs=1e-3)
    for form in FORMS:
        assert distances(np.eye(4), form) == pytest.approx(np.ones(4), abs=2e-3)


def test_minimum_reconstructability_is_the_optimum():
    C = np.corrcoef(np.random.default_rng(0).normal(size=(60, 4)) @ np.random.default_rng(1).normal(size=(4, 4)), rowvar=False)

    def loss(s):
        D = 2 * C - np.diag(s)
        if s.min() <= 0 or s.max() > 1 or np.linalg.eigvalsh(D)[0] <= 1e-9:
            return 1e12
        return np.trace(np.linalg.inv(D)) + (1 / s).sum()

    ours = distances(C, "minimum reconstructability")
    best = min(
        (
            minimize(loss, start, method="Nelder-Mead", options={"maxiter": 8000, "xatol": 1e-9, "fatol": 1e-10})
            for start in (ours, ours * 0.7)
        ),
        key=lambda r: r.fun,
    )
    assert loss(ours) == pytest.approx(best.fun, rel=1e-4)


def test_the_semidefinite_sum_is_as_large_as_it_can_be():
    C = np.array([[1, 0.9, 0.2], [0.9, 1, 0.1], [0.2, 0.1, 1.0]])
    ours = distances(C, "semidefinite").sum()
    rng = np.random.default_rng(2)
    some = rng.random((40_000, 3))
    inside = [s.sum() for s in some if np.linalg.det(2 * C - np.diag(s)) > 0 and np.linalg.eigvalsh(2 * C - np.diag(s))[0] >= 0]
    assert ours >= max(inside) - 0.02 and ours > distances(C, "equicorrelated").sum() + 0.5


@pytest.mark.parametrize("form", FORMS)
def test_copies_have_the_law_they_should_and_know_nothing_of_a_target(form):
    rng = np.random.default_rng(3)
    C = BLOCK
    Z = rng.normal(size=(60_000, 12)) @ np.linalg.cholesky(C).T
    s = distances(C, form)
    found = np.cov(np.hstack([Z, copies(Z, C, s, rng)]), rowvar=False)
    assert np.abs(found - joint(C, s)).max() < 0.03


def test_threshold_and_e_values_by_hand():
    W = np.array([5.0, 4, 3, 2, 1, -1.5, 0])
    assert threshold(W, 0.25) == 2.0 and threshold(W, 0.34) == 2.0 and threshold(W, 0.1) == np.inf
    assert threshold(W, 0.5) == 1.0  # (1 + 1) / 5
    assert e_values(W, 0.25).tolist() == [7, 7, 7, 7, 0, 0, 0] and e_values(W, 0.1).sum() == 0
    assert beyond(np.array([7.0, 7, 7, 7, 0, 0, 0]), 0.25).tolist() == [True] * 4 + [False] * 3
    assert not beyond(np.zeros(5), 0.5).any()


def test_e_values_of_noise_sum_to_no_more_than_the_columns():
    rng = np.random.default_rng(4)
    sums = [e_values(rng.normal(size=30), 0.3).sum() for _ in range(4000)]
    assert np.mean(sums) <= 30 + 2 * np.std(sums) / np.sqrt(4000)


def designed(seed, C, n=300, effect=0.35, signals=12):
    rng = np.random.default_rng(seed)
    p = len(C)
    X = rng.normal(size=(n, p)) @ np.linalg.cholesky(C).T
    on = rng.permutation(p)[:signals]
    b = np.zeros(p)
    b[on] = rng.choice([-1, 1], signals) * effect
    names = [f"c{j:02}" for j in range(p)]
    return chaff.open_arrays(X, X @ b + rng.normal(size=n), names=names), {names[j] for j in on}


@pytest.mark.long
@pytest.mark.parametrize("C", [alike(30, 0.4), np.kron(np.eye(6), alike(5, 0.5))], ids=["alike", "blocks"])
def test_false_picks_stay_below_q_and_signals_are_found(C):
    wrong, right = [], []
    for seed in range(20):
        table, truth = designed(seed, C)
        found = chaff.knockoffs(table, 0.2, runs=1, seed=seed)
        picked = set(found.frame.index[found.frame["verdict"] == "keep"])
        wrong.append(len(picked - truth) / max(1, len(picked)))
        right.append(len(picked & truth) / len(truth))
    assert np.mean(wrong) <= 0.2 + 2 * np.std(wrong) / np.sqrt(20) and np.mean(right) > 0.8


@pytest.mark.long
def test_several_runs_agree_more_with_each_other_than_single_ones():
    table, truth = designed(1, alike(30, 0.4), effect=0.3)
    several = [set(f.index[f["verdict"] == "keep"]) for f in (chaff.knockoffs(table, 0.3, runs=8, seed=s).frame for s in range(3))]
    single = [set(f.index[f["verdict"] == "keep"]) for f in (chaff.knockoffs(table, 0.3, runs=1, seed=s).frame for s in range(6))]
    apart = lambda sets: np.mean([len(a ^ b) for a in sets for b in sets])  # noqa: E731
    assert apart(several) <= apart(single) and len(several[0] & truth) >= 8


@pytest.mark.long
def test_noise_gives_an_empty_answer_and_says_what_q_makes_possible():
    empty = 0
    for seed in range(6):
        rng = np.random.default_rng(seed)
        found = chaff.knockoffs(chaff.open_arrays(rng.normal(size=(120, 10)), rng.normal(size=120)), 0.1, runs=1, seed=seed)
        empty += not (found.frame["verdict"] == "keep").any()
    assert empty == 6 and any("q = 0.1 the method selects at least 10 features or none" in n for n in found.notes)


@pytest.mark.parametrize("classes", [2, 3])
def test_classes_and_the_forest(classes):
    rng = np.random.default_rng(5)
    X = rng.normal(size=(300, 15))
    z = X[:, :8].sum(1) + 0.5 * rng.normal(size=300)
    y = np.array(["a", "b", "c"])[np.digitize(z, [0] if classes == 2 else [-1.5, 1.5])]
    table = chaff.open_arrays(X, y, names=[f"c{j:02}" for j in range(15)])
    for statistic in ("lasso difference", "forest difference"):
        found = chaff.knockoffs(table, 0.3, statistic=statistic, runs=1)
        assert set(found.ranked("difference").index[:7]) <= {f"c{j:02}" for j in range(8)}


@pytest.mark.long
def test_order_of_columns_and_workers_change_nothing():
    table, _ = designed(2, alike(12, 0.3), n=150, signals=6)
    one = chaff.knockoffs(table, 0.3, runs=3, workers=1).frame
    pd.testing.assert_frame_equal(one, chaff.knockoffs(table, 0.3, runs=3, workers=2).frame)
    back = chaff.knockoffs(table.with_features(table.features[::-1]), 0.3, runs=3).frame
    pd.testing.assert_frame_equal(one, back.loc[one.index])


def test_exact_and_all_but_exact_combinations_are_left_out_first():
    rng = np.random.default_rng(6)
    X = rng.normal(size=(200, 6))
    X[:, 3] = X[:, 0] - X[:, 1]
    X[:, 5] = X[:, 4] + 1e-3 * rng.normal(size=200)
    table = chaff.open_arrays(X, X[:, 0] + rng.normal(size=200), names=list("abcdef"))
    Z, gaps = standardised(table, list("abcdef"), False)
    used, went = independent(Z)
    assert not gaps and went.tolist() in ([3, 4], [3, 5]) and correlations(Z[:, used])[1] == 0
    found = chaff.knockoffs(table, 0.5, runs=1)
    assert (
        found.frame.loc["d", "verdict"] == "review"
        and found.frame.loc["d", "stays"]
        and any(n.startswith("d, ") and "combinations" in n for n in found.notes)
    )


def test_how_well_the_normal_law_fits_in_words():
    rng = np.random.default_rng(7)
    Z = rng.normal(size=(2000, 5))
    C = np.eye(5)
    assert fit_in_words(Z, C, list("abcde")) == "the normal law fits these columns well"
    bad = Z.copy()
    bad[:, 0] = (np.exp(Z[:, 0]) - np.exp(0.5)) / 2.2
    bad[:, 1] = np.sign(Z[:, 1])
    assert far_columns(bad) == [0, 1] and "badly: a, b are skewed" in fit_in_words(bad, C, list("abcde"))
    bent = Z.copy()
    bent[:, 1] = Z[:, 1] * np.sign(Z[:, 0]) * np.abs(Z[:, 0])
    bent[:, 1] /= bent[:, 1].std()
    assert strange_pairs(bent, C) == pytest.approx(0.1)
    heavy = chaff.open_arrays(np.exp(2 * Z[:200]), Z[:200, 0], names=list("abcde"))
    scores, _ = standardised(heavy, list("abcde"), True)
    assert not far_columns(scores)


@pytest.mark.parametrize(
    ("settings", "words"),
    [
        ({"q": 0.0}, "at 0 nothing is ever picked"),
        ({"q": 1.0}, "between 0 and 1"),
        ({"runs": 0}, "runs must be 1 or more"),
        ({"statistic": "lasso"}, "statistic"),
        ({"form": "semi"}, "form"),
    ],
)
def test_wrong_settings_are_said(settings, words):
    with pytest.raises(chaff.UsageError, match=words):
        chaff.knockoffs(designed(0, alike(6, 0.2), n=60, signals=2)[0], **settings)


def test_what_knockoffs_cannot_do_is_refused_with_a_reason():
    rng = np.random.default_rng(8)
    frame = pd.DataFrame(rng.normal(size=(60, 4)), columns=list("abcd")).assign(y=rng.normal(size=60))
    words = chaff.open_table(frame.assign(kind=rng.choice(["hard", "soft", "durum"], 60)), "y")
    with pytest.raises(chaff.UsageError, match="kind: only numbers have Gaussian copies"):
        chaff.knockoffs(words)
    assert chaff.knockoffs(words, features=list("abcd"), runs=1).frame.shape[0] == 4
    with pytest.raises(chaff.UsageError, match="rows have groups"):
        chaff.knockoffs(chaff.open_table(frame.assign(mill=rng.integers(0, 5, 60)), "y", groups="mill"))
    with pytest.raises(chaff.UsageError, match="an order"):
        chaff.knockoffs(chaff.open_table(frame.assign(day=range(60)), "y", order="day"))
    with pytest.raises(chaff.DataError, match="Possible here: at most 15 columns"):
        chaff.knockoffs(chaff.open_arrays(rng.normal(size=(30, 40)), rng.normal(size=30)))
    few = chaff.knockoffs(chaff.open_arrays(rng.normal(size=(40, 25)), rng.normal(size=40)), runs=1)
    assert any("shrunk by" in n for n in few.notes)
    with pytest.raises(chaff.DataError, match="too few"):
        chaff.knockoffs(chaff.open_arrays(rng.normal(size=(12, 3)), rng.normal(size=12)))
    gaps = frame.mask(rng.random(frame.shape) < 0.1).assign(y=frame["y"])
    assert any("filled by the median" in n for n in chaff.knockoffs(chaff.open_table(gaps, "y"), runs=1).notes)


@pytest.mark.long
def test_in_a_plan(tmp_path):
    table, truth = designed(3, alike(20, 0.2), signals=10)
    file = tmp_path / "plan.toml"
    file.write_text('[[stage]]\nuse = "knockoffs"\nq = 0.3\nruns = 1\n[[stage]]\nuse = "search"\nmodel = "ridge"\n')
    run = chaff.select(table, plan=chaff.read_plan(file), honest="quick")
    assert len(set(run.features) & truth) >= 8 and run.ledger.of(next(f for f in table.features if f not in truth))[0].by == "knockoffs"
