"""The linear calls on tables: summary, moves by hand, pruning, worth, sizes, forms and checks, against plain refits."""

from __future__ import annotations

from itertools import permutations

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff.methods.linear.linear_form import linear_form
from chaff.methods.linear.swept_model import Swept
from tests.conftest import make_mixed

FEATURES = ["assay_0", "assay_1", "assay_2", "assay_3", "gap_a", "variety", "organic"]


def opened(rows: int = 240, **options) -> chaff.Table:
    ignore = [c for c in ("mill", "day", "lot_weight") if c not in options.values()]
    return chaff.open_table(make_mixed(rows), "y", ignore=ignore, **options)


def plain(table, features):
    """(design with an intercept, target, names) on complete rows, by hand."""
    form = linear_form(table, features)
    return np.column_stack([np.ones(form.y.size), form.X]), form.y, form


def test_the_summary_equals_a_plain_fit_and_reads_aloud():
    table = opened()
    said = chaff.linear_summary(table, FEATURES)
    D, y, form = plain(table, FEATURES)
    b = np.linalg.lstsq(D, y, rcond=None)[0]
    np.testing.assert_allclose(said.frame["coefficient"], b, rtol=1e-8)
    assert said.frame.loc["assay_0", "standardised"] == pytest.approx(b[1] * form.X[:, 0].std() / y.std())
    assert "variety = Alba" not in form.columns and "variety = (missing)" in form.columns  # the commonest level is the base
    assert "variety Borka instead of Alba" in said.frame.loc["variety = Borka", "in_words"]
    assert "organic yes instead of no → " in said.frame.loc["organic", "in_words"]
    assert said.figures["rows"] == (~np.isnan(table.column("gap_a").values)).sum() and "complete rows of 240" in str(said)
    with pytest.raises(chaff.UsageError, match="not in|takes no part|holds"):
        chaff.linear_summary(chaff.demo.table(rows=60), ["delivered_on"])


def test_summary_options_and_targets():
    table = opened(groups="mill")
    plain_errors = chaff.linear_summary(table, FEATURES).frame["standard_error"]
    for errors in ("robust", "groups"):
        said = chaff.linear_summary(table, FEATURES, errors=errors)
        assert (said.frame["standard_error"] != plain_errors).iloc[1:].all() and any("standard errors" in n for n in said.notes)
    through = chaff.linear_summary(table, ["assay_0"], intercept=False)
    assert "uncentred_r_squared" in through.figures and any("about zero" in n for n in through.notes)
    with pytest.raises(chaff.UsageError, match="needs a table opened with groups"):
        chaff.linear_summary(opened(), errors="groups")
    with pytest.raises(chaff.UsageError, match="errors must be one of"):
        chaff.linear_summary(table, errors="odd")
    two = chaff.linear_summary(chaff.demo.table(rows=300, target="accepted"), ["protein_pct"])
    assert (
        two.frame.loc["protein_pct", "odds_ratio"] == pytest.approx(np.exp(two.frame.loc["protein_pct", "coefficient"]))
        and "odds of 'yes' ×" in two.frame.loc["protein_pct", "in_words"]
    )
    parted = chaff.linear_summary(
        chaff.derive_target(chaff.demo.lots(rows=200), "loaf_volume", above=400, ignore=["grade"]).with_features(["crumb_score", "ash_pct"])
    )
    assert not any("separated" in n for n in parted.notes) or parted.frame["p"].isna().all()
    clear = pd.DataFrame({"x": np.arange(60.0), "z": np.arange(60) % 7, "y": np.repeat(["no", "yes"], 30)})
    said = chaff.linear_summary(chaff.open_table(clear, "y"))
    assert any("separated" in n for n in said.notes) and said.frame["p"].isna().all()
    with pytest.raises(chaff.UsageError, match="3 classes"):
        chaff.linear_summary(chaff.demo.table(rows=100, target="grade"))


def test_a_large_condition_number_names_its_culprits():
    said = chaff.linear_summary(chaff.demo.table(rows=400), ["test_weight_kg_hl", "test_weight_lb_bu", "ash_pct"])
    assert any("condition number" in n and "test_weight_kg_hl and test_weight_lb_bu" in n for n in said.notes)
    sieves = ["sieve_coarse_pct", "sieve_medium_pct", "sieve_fine_pct"]
    said = chaff.linear_summary(chaff.demo.table(rows=400), sieves)
    assert np.isnan(said.frame.loc["sieve_fine_pct", "coefficient"]) and any("chaff.dependencies" in n for n in said.notes)


def test_updates_equal_fresh_fits_after_hundreds_of_moves():
    rng = np.random.default_rng(0)
    X = rng.normal(size=(400, 30)) @ rng.normal(size=(30, 30)) + 5
    table = chaff.open_arrays(X, X @ rng.normal(size=30) + rng.normal(size=400))
    swept = Swept(linear_form(table))
    for f in table.features:
        swept.toggle(f)
    for _ in range(400):
        swept.toggle(table.features[rng.integers(0, 30)])
    s = swept.state()
    D, y, _ = plain(table, list(s.features))
    b, rss = np.linalg.lstsq(D, y, rcond=None)[:2]
    assert 1 - s.r_squared == pytest.approx(rss[0] / ((y - y.mean()) ** 2).sum(), rel=1e-7)
    np.testing.assert_allclose([s.coefficient[f] for f in s.features], b[1:], rtol=1e-6)
    vif = np.diagonal(np.linalg.inv(np.corrcoef(D[:, 1:].T)))
    np.testing.assert_allclose([s.vif[f] for f in s.features], vif, rtol=1e-6)


def test_entering_all_at_once_equals_one_by_one():
    form = linear_form(opened(), FEATURES)
    one, two = Swept(form), Swept(form)
    one.enter_all(FEATURES[:5])
    for f in FEATURES[:5]:
        two.toggle(f)
    np.testing.assert_allclose(one.A, two.A, rtol=1e-9, atol=1e-12)
    assert one.held == two.held
    one.enter_all(FEATURES)  # not empty any more: the others come one by one
    assert one.features == form.features


def test_by_hand_shows_every_figure_and_takes_back():
    table = opened()
    hand = chaff.by_hand(table, FEATURES)
    before = hand.state
    hand.drop("variety")
    D, y, _ = plain(table, [f for f in FEATURES if f != "variety"])
    form = linear_form(table, FEATURES)  # the same complete rows
    keep = ~np.isin(form.owner, [form.features.index("variety")])
    D = np.column_stack([np.ones(form.y.size), form.X[:, keep]])
    rss = np.linalg.lstsq(D, form.y, rcond=None)[1][0]
    n = form.y.size
    assert hand.state.aic == pytest.approx(n * (np.log(2 * np.pi) + np.log(rss / n) + 1) + 2 * (D.shape[1] + 1))
    scorer = chaff.SubsetScorer(form.table, chaff.LeastSquares(), folds=chaff.Setting.of(form.table).folds)
    assert hand.trail["cv_r_squared"].iloc[-1] == pytest.approx(scorer([f for f in FEATURES if f != "variety"]).mean)
    assert "→" in hand.last() and "drop variety" in hand.last()
    hand.undo()
    assert hand.state.aic == pytest.approx(before.aic) and set(hand.features) == set(FEATURES) and hand.trail["undone"].sum() == 1
    frame = hand.frame
    assert frame.loc["assay_1", "aic_without"] == pytest.approx(chaff.by_hand(table, FEATURES).drop("assay_1").state.aic)
    assert np.isnan(frame.loc["variety", "coefficient"]) and 0 <= frame.loc["variety", "p"] <= 1


def test_by_hand_suggests_saves_and_replays(tmp_path):
    table = chaff.demo.table(rows=400)
    names = ["protein_pct", "protein_nir_pct", "ash_pct", "lab_temp_c", "falling_number_s"]
    hand = chaff.by_hand(table, names)
    assert hand.suggestion.startswith("drop protein") and "VIF" in hand.suggestion
    hand.drop("protein_nir_pct").drop("lab_temp_c").undo().drop("lab_temp_c")
    assert hand.suggestion.startswith("nothing") or "p " in hand.suggestion
    hand.save(tmp_path / "moves.json")
    again = chaff.by_hand(table, names).replay(tmp_path / "moves.json")
    assert again.features == hand.features and again.state.aic == pytest.approx(hand.state.aic)
    for _ in range(20):  # following the suggestions comes to an end, and contradicts itself nowhere
        if again.suggestion.startswith("nothing"):
            break
        action, name = again.suggestion.split(":")[0].split()
        getattr(again, action)(name)
    assert again.suggestion.startswith("nothing")
    grown = chaff.by_hand(table, names, start=[])
    assert grown.features == () and grown.suggestion.startswith("add ")
    for call, words in (
        (lambda: hand.drop("lab_temp_c"), "not in the model"),
        (lambda: hand.add("ash_pct"), "in the model already"),
        (lambda: hand.drop("protien_pct"), "Did you mean"),
        (lambda: chaff.by_hand(table, names).undo(), "no move"),
    ):
        with pytest.raises(chaff.UsageError, match=words):
            call()
    (tmp_path / "odd.json").write_text("{}")
    with pytest.raises(chaff.DataError, match="holds no moves"):
        hand.replay(tmp_path / "odd.json")
    sieves = chaff.by_hand(table, ["sieve_coarse_pct", "sieve_medium_pct", "sieve_fine_pct"])
    assert len(sieves.features) == 2 and any("combinations" in n for n in sieves.notes)
    with pytest.raises(chaff.UsageError, match="combination of columns in the model"):
        sieves.add("sieve_fine_pct")


@pytest.mark.parametrize("by", ["p", "aic", "bic"])
def test_backward_pruning_equals_the_loop_with_refits(by):
    rng = np.random.default_rng(1)
    X = rng.normal(size=(120, 8))
    table = chaff.open_arrays(X, X[:, :3] @ [1.0, 0.6, 0.3] + rng.normal(size=120))
    left = list(range(8))

    def refit(cols):
        from chaff.stats.linear_model import least_squares, t_interval

        fit = least_squares(X[:, cols], table.y)
        return fit, t_interval(fit.coefficients, fit.errors, fit.df, 0.95)[1]

    gone = []
    while left:
        fit, p = refit(left)
        if by == "p":
            k = int(np.argmax(p))
            if p[k] <= 0.05:
                break
        else:
            options = [getattr(refit([c for c in left if c != d])[0], by) for d in left] if len(left) > 1 else [np.inf]
            k = int(np.argmin(options))
            if options[k] >= getattr(fit, by):
                break
        gone.append(f"x{left.pop(k) + 1}")
    found = chaff.prune_linear(table, by, splits=0)
    assert found.more["trail"]["feature"].tolist()[1:] == gone
    assert found.more["trail"]["aic"].iloc[-1] == pytest.approx(refit(left)[0].aic)


def test_stepping_pins_vif_and_both_in_turn():
    table = chaff.demo.table(rows=500)
    names = ["protein_pct", "protein_nir_pct", "gluten_wet_pct", "gluten_dry_pct", "ash_pct", "lab_temp_c"]
    forward = chaff.prune_linear(table, "bic", direction="forward", features=names, splits=0)
    assert forward.more["trail"]["action"].tolist()[1:] == ["add"] * (len(forward.more["trail"]) - 1)
    both = chaff.prune_linear(table, "both", features=names, splits=0)
    whys = [w.split()[0] for w in both.more["trail"]["why"][1:]]
    assert whys == sorted(whys, key=lambda w: w != "VIF") and both.frame["vif"].max() <= 10
    vif = chaff.prune_linear(table, "vif", features=names, splits=0, pins=[chaff.pin_keep("protein_nir_pct", because="cheap")])
    assert vif.frame.loc["protein_nir_pct", "stays"] and not vif.frame.loc["protein_pct", "stays"]
    for bad in ({"by": "q"}, {"direction": "up"}, {"by": "vif", "direction": "forward"}, {"p_limit": 0}, {"splits": -1}):
        with pytest.raises(chaff.UsageError):
            chaff.prune_linear(table, **{"features": names, **bad})


@pytest.mark.long
def test_split_p_holds_on_noise_where_the_plain_p_does_not():
    rng = np.random.default_rng(2)
    plain_hits = split_hits = 0
    for seed in range(12):
        table = chaff.open_arrays(rng.normal(size=(120, 25)), rng.normal(size=120))
        frame = chaff.prune_linear(table, splits=30, seed=seed).frame
        plain_hits += (frame["p"] < 0.05).any()
        split_hits += (frame["p_split"] < 0.05).any()
    assert plain_hits >= 6 and split_hits <= 2


def test_worth_equals_dropping_and_shares_add_up():
    table = opened()
    worth = chaff.column_worth(table, FEATURES)
    form = linear_form(table, FEATURES)

    def r2(features):
        keep = np.isin(form.owner, [form.features.index(f) for f in features])
        D = np.column_stack([np.ones(form.y.size), form.X[:, keep]])
        e = form.y - D @ np.linalg.lstsq(D, form.y, rcond=None)[0]
        return 1 - e @ e / ((form.y - form.y.mean()) ** 2).sum()

    for f in FEATURES:
        assert worth.frame.loc[f, "r_squared_lost"] == pytest.approx(r2(FEATURES) - r2([g for g in FEATURES if g != f]), abs=1e-10)
    assert worth.frame["shapley_share"].sum() == pytest.approx(r2(FEATURES))
    few = FEATURES[:3] + ["variety"]
    by_hand = np.zeros(4)
    for order in permutations(range(4)):
        for k, f in enumerate(order):
            by_hand[f] += (r2([few[g] for g in order[: k + 1]]) - r2([few[g] for g in order[:k]])) / 24 if k else r2([few[f]]) / 24
    form = linear_form(table, few)
    np.testing.assert_allclose(chaff.column_worth(table, few).frame["shapley_share"], [by_hand[k] for k in range(4)], atol=0.02)
    assert worth.frame.loc["variety", "cv_lost_se"] > 0


def test_sizes_side_by_side_follow_a_ranking():
    table = opened()
    tried = chaff.try_sizes(table, FEATURES, sizes=[1, 3, 7, 99])
    assert tried.index.tolist() == [1, 3, 7] and tried["r_squared"].is_monotonic_increasing
    found = chaff.relevance(table, "leading")
    assert chaff.try_sizes(table, found, [2], by="mutual_information").shape == (1, 6)
    with pytest.raises(chaff.UsageError):
        chaff.try_sizes(table, sizes=[0])


def test_residual_checks_and_the_holdout_in_units():
    table = chaff.demo.table()
    assert chaff.residuals(table, ["falling_number_s"]).tests.loc["lack of fit", "p"] < 0.01  # a plateau
    checked = chaff.residuals(table, ["protein_pct", "falling_number_s"])
    assert "approximately normal" in checked.tests.loc["normality", "in_words"]
    frame = checked.frame
    D = np.column_stack([np.ones(len(frame)), checked.form.X])
    H = D @ np.linalg.inv(D.T @ D) @ D.T
    h, e = np.diagonal(H), checked.form.y - H @ checked.form.y
    s2 = e @ e / (len(frame) - 3)
    np.testing.assert_allclose(frame["cooks_distance"], e**2 / (3 * s2) * h / (1 - h) ** 2, rtol=1e-8)
    k = 5
    keep = np.arange(len(frame)) != k
    without = np.linalg.lstsq(D[keep], checked.form.y[keep], rcond=None)
    sigma = np.sqrt(without[1][0] / (keep.sum() - 3))
    assert frame["studentised"].iloc[k] == pytest.approx(e[k] / sigma / np.sqrt(1 - h[k]), rel=1e-8)
    row = checked.holdout.loc["validation split"]
    assert row["rmse"] == pytest.approx(np.sqrt(((checked.true - checked.predicted) ** 2).mean())) and row["rows"] == checked.true.size
    groups = set(table.groups[np.isin(table.rows, checked.form.table.rows)])
    held = set(table.groups) - groups
    assert held  # whole mills are the holdout
    assert chaff.residuals(table, ["protein_pct"], holdout=0).true.size == 0
    with pytest.raises(chaff.UsageError):
        chaff.residuals(table, holdout=1)


@pytest.mark.parametrize("trouble", ["constant", "wide", "two rows", "level per row", "weights of zero", "classes", "all missing"])
def test_odd_tables_give_defined_results_or_clear_errors(trouble):
    rng = np.random.default_rng(4)
    n = 40
    frame = pd.DataFrame({"x": rng.normal(size=n), "z": rng.normal(size=n), "y": rng.normal(size=n)})
    options = {}
    if trouble == "constant":
        frame["x"] = 3.0
    elif trouble == "wide":
        frame = frame.assign(**{f"w{k}": rng.normal(size=n) for k in range(60)})
    elif trouble == "two rows":
        frame = frame.iloc[:4].assign(x=[1.0, 2, np.nan, np.nan])
    elif trouble == "level per row":
        frame["word"] = [f"lot {k}" for k in range(n)]
    elif trouble == "weights of zero":
        frame["w"], options = np.r_[np.zeros(5), np.ones(n - 5)], {"weights": "w"}
    elif trouble == "classes":
        frame["y"] = rng.choice(list("abc"), n)
    elif trouble == "all missing":
        frame["x"] = np.nan
    table = chaff.open_table(frame, "y", **options)
    if trouble in ("two rows", "classes"):
        for call in (chaff.by_hand, chaff.prune_linear, chaff.column_worth, chaff.residuals):
            with pytest.raises((chaff.DataError, chaff.UsageError)):
                call(table)
        return
    said = chaff.linear_summary(table)
    assert "z" in said.frame.index and ("x" in said.frame.index) == (trouble not in ("constant", "all missing"))
    if trouble == "wide":
        assert any("as many coefficients as rows" in n for n in said.notes)
    if trouble == "weights of zero":
        assert said.figures["rows"] == n - 5
    found = chaff.prune_linear(table, splits=0)
    assert found.more["trail"]["action"].iloc[0] == "start"


def test_quasi_complete_separation_names_its_column_and_spares_the_others():
    rng = np.random.default_rng(4)
    x, flag = rng.normal(size=400), rng.random(400) < 0.15
    y = np.where(flag, True, rng.random(400) < 1 / (1 + np.exp(-x)))
    frame = pd.DataFrame({"x": x, "flag": np.where(flag, "yes", "no"), "y": np.where(y, "b", "a")})
    said = chaff.linear_summary(chaff.open_table(frame, "y", positive="b"))
    note = next(n for n in said.notes if "quasi-complete separation" in n)
    assert "flag" in note and np.isnan(said.frame.loc["flag", "p"]) and said.frame.loc["x", "p"] < 0.01


def test_by_hand_suggests_the_twin_with_the_weaker_claim():
    rng = np.random.default_rng(5)
    a = rng.normal(size=300)
    frame = pd.DataFrame({"strong": a, "weak": a + 0.1 * rng.normal(size=300), "z": rng.normal(size=300)})
    table = chaff.open_table(frame.assign(y=a + 0.3 * rng.normal(size=300)), "y")
    hand = chaff.by_hand(table)
    assert hand.frame["vif"].max() > 10 and hand.suggestion.startswith("drop weak: VIF")
    assert chaff.by_hand(table, start=["strong"]).add("z").features == ("strong", "z")


def twins(seed=1):
    """`best` carries the target; `twin`, a noisier copy of the same, has the larger variance inflation by a hair."""
    rng = np.random.default_rng(seed)
    n = 150
    best, other = rng.normal(size=(2, n))
    twin = best + 0.2 * rng.normal(size=n)
    mixed = twin + 0.05 * other
    return chaff.open_arrays(
        np.column_stack([best, mixed, other]), 2 * best + 0.5 * other + rng.normal(size=n), names=["best", "twin", "other"]
    )


@pytest.mark.parametrize("by", ["vif", "both"])
def test_of_columns_that_explain_one_another_the_one_that_costs_least_goes_by_rule_and_by_hand(by):
    for seed in range(6):
        table = twins(seed)
        pruned = chaff.prune_linear(table, by, splits=0)
        assert pruned.more["trail"]["feature"].tolist()[1] == "twin"
        assert chaff.by_hand(table).suggestion.startswith("drop twin: VIF")
    largest = chaff.prune_linear(table, by, order="largest", splits=0)
    vif = chaff.linear_summary(table).frame["vif"]
    assert largest.more["trail"]["feature"].tolist()[1] == vif.idxmax()
    with pytest.raises(chaff.UsageError, match="order must be 'loss' or 'largest'"):
        chaff.prune_linear(table, by, order="smallest")


def test_a_column_under_the_limit_goes_where_that_costs_less_than_the_one_that_it_explains():
    rng = np.random.default_rng(0)
    a, b, c = rng.normal(size=(3, 300))
    total = a + b + c + 0.5 * rng.normal(size=300)
    X = np.column_stack([a, b, c, total])
    table = chaff.open_arrays(X, total + 0.3 * rng.normal(size=300), names=["a", "b", "c", "total"])
    vif = chaff.linear_summary(table).frame["vif"].drop("(intercept)")
    assert vif["total"] > 10 > vif[["a", "b", "c"]].max()
    trail = chaff.prune_linear(table, "vif", splits=0).more["trail"]
    assert trail["feature"].iloc[1] in ("a", "b", "c") and trail["why"].iloc[1] == "explains total" and len(trail) == 2


def test_the_worth_of_a_single_column_is_all_that_there_is():
    table = twins().with_features(["best"])
    row = chaff.column_worth(table).frame.loc["best"]
    assert row["cv_lost"] == pytest.approx(chaff.SubsetScorer(table, chaff.LeastSquares())(["best"]).mean) and row["cv_lost_se"] > 0
