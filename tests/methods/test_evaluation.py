"""The final model on holdout rows, against loops by hand and against what its intervals promise."""

import numpy as np
import pandas as pd
import pytest
from scipy.stats import mannwhitneyu

import chaff
from chaff.methods.evaluation.influence import interval, moved_by, score_interval
from chaff.metrics import METRICS, Truth
from chaff.stats.paired_loss import Units
from chaff.stats.stability import share_bounds
from tests.conftest import make_mixed

PLAN = chaff.Plan((chaff.Screen(), chaff.Search(model="logistic")))


@pytest.fixture(scope="module")
def number():
    table = chaff.open_table(make_mixed(300), "y", ids="mill", ignore=["lot_weight", "day"])
    return chaff.select(table, chaff.Plan((chaff.Screen(), chaff.Search(model="ridge"))), state=False)


@pytest.fixture(scope="module")
def classes():
    return chaff.select(chaff.open_table(make_mixed(400, classes=2), "y", ignore=["lot_weight", "day", "mill"]), PLAN, state=False)


def test_scores_are_those_of_the_closing_table(number):
    found = number.evaluate()
    for which in ("full", "kept"):
        assert found.frame.loc["r2", which] == pytest.approx(number.final_scores.line(which).holdout.mean, abs=1e-8)
    assert found.frame.loc["r2", "nothing"] == pytest.approx(0)


def test_every_number_by_hand(number):
    found = number.evaluate()
    true, said = found.table.y, found.predicted["kept"][:, 0]
    assert found.frame.loc["rmse", "kept"] == pytest.approx(np.sqrt(((true - said) ** 2).mean()))
    assert found.frame.loc["mae", "kept"] == pytest.approx(np.abs(true - said).mean())
    worst = found.worst(3)
    assert worst["loss"].tolist() == sorted(np.abs(true - said), reverse=True)[:3]
    y = number.table.source.column("y").values
    assert worst["true"].tolist() == [y[r] for r in worst.index] and "mill" in worst.columns


def test_class_tables_by_hand(classes):
    found = classes.evaluate()
    share, true = found.predicted["kept"][:, 0], found.table.y
    for cut in (0.2, 0.5, 0.8):
        table = found.confusion(threshold=cut)
        assert table.iat[1, 1] == ((share >= cut) & (true == 1)).sum() and table.iat[0, 1] == ((share >= cut) & (true == 0)).sum()
        row = found.thresholds(at=(cut,)).iloc[0]
        assert row["recall"] == pytest.approx(table.iat[1, 1] / (true == 1).sum())
    assert found.confusion(shares=True).sum(axis=1).tolist() == pytest.approx([1, 1])
    assert found.frame.loc["auc", "kept"] == pytest.approx(
        mannwhitneyu(share[true == 1], share[true == 0]).statistic / ((true == 1).sum() * (true == 0).sum())
    )
    bins = found.calibration(bins=4)
    assert bins["rows"].sum() == found.rows and (bins["came"] * bins["rows"]).sum() == pytest.approx((true == 1).sum())
    assert ((bins["came_low"] <= bins["came"]) & (bins["came"] <= bins["came_high"])).all()


def test_another_model_reads_the_holdout_once_more(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    run = chaff.select(
        chaff.open_table(make_mixed(200), "y", ignore=["lot_weight", "day"]), chaff.Plan((chaff.Screen(), chaff.Search(model="ridge")))
    )
    assert run.evaluate().reads == 1 and run.evaluate("forest").reads == 2 and run.evaluate("forest").model.label == "forest"


def test_what_cannot_be_asked_is_said(number, classes):
    with pytest.raises(chaff.UsageError, match="is a number"):
        number.evaluate().confusion()
    with pytest.raises(chaff.UsageError, match="has classes"):
        classes.evaluate().residuals()
    with pytest.raises(chaff.UsageError, match="from 0 to 1"):
        classes.evaluate().confusion(threshold=2)
    without = chaff.select(
        chaff.open_table(make_mixed(120), "y", ignore=["lot_weight"]), chaff.Plan((chaff.Screen(),)), holdout=0, honest="quick"
    )
    with pytest.raises(chaff.UsageError, match="there is no holdout"):
        without.evaluate()


def test_three_classes_and_nothing_kept():
    rng = np.random.default_rng(0)
    frame = pd.DataFrame(rng.normal(size=(300, 3)), columns=list("abc")).assign(y=rng.choice(["u", "v", "w"], 300))
    run = chaff.select(chaff.open_table(frame, "y"), PLAN, state=False)
    found = run.evaluate()
    assert found.confusion().shape == (3, 3) and "auc" not in found.frame.index
    assert set(found.calibration()["class"]) == {"u", "v", "w"}
    if not run.features:
        assert any("baseline" in n for n in found.notes)


@pytest.mark.long
@pytest.mark.parametrize("name", ["rmse", "mae", "r2", "log_loss", "accuracy", "auc"])
@pytest.mark.parametrize("grouped", [False, True])
def test_intervals_cover_what_they_promise(name, grouped):
    """The truth by a million rows; 95 % intervals of 200 rows (40 groups of 5, alike within) hold it about so often."""
    metric = METRICS[name]

    def drawn(rng, n):
        shift = np.repeat(rng.normal(size=n // 5), 5) * 0.8 if grouped else np.zeros(n)
        x = rng.normal(size=n)
        if metric.task == "classification":
            p = 1 / (1 + np.exp(-(x + shift)))
            return (rng.random(n) < p).astype(float)[:, None], (1 / (1 + np.exp(-1.3 * x)))[:, None]
        return (x + shift + rng.normal(size=n))[:, None], (0.9 * x)[:, None]

    truth = metric.of_predictions(*_case(*drawn(np.random.default_rng(9), 1_000_000)))
    hits = 0
    for seed in range(300):
        case = _case(*drawn(np.random.default_rng(seed), 200))
        units = Units(groups=np.repeat(np.arange(40), 5)) if grouped else Units()
        _, low, high = interval(moved_by(metric, *case), units)
        hits += low <= truth <= high
    assert 0.90 <= hits / 300 <= 0.985


def _case(y, predicted):
    return Truth(y, np.ones(len(y)), np.array([0.5 if set(np.unique(y)) <= {0, 1} else 0.0])), predicted


def test_influence_of_the_auc_is_what_leaving_a_row_out_changes():
    rng = np.random.default_rng(3)
    y, w = (rng.random(60) < 0.4).astype(float), rng.uniform(0.5, 2, 60)
    p = np.round(rng.random(60) + 0.3 * y, 1)  # with ties
    metric = METRICS["auc"]
    moved = moved_by(metric, Truth(y[:, None], w, np.array([0.4])), p[:, None])
    assert (w * moved.influence).sum() == pytest.approx(0, abs=1e-9)
    eps = 1e-6
    for k in range(0, 60, 7):
        heavier = w.copy()
        heavier[k] += eps
        changed = metric.of_predictions(Truth(y[:, None], heavier, np.array([0.4])), p[:, None])
        assert (changed - moved.score) / eps == pytest.approx(moved.influence[k] / w.sum(), rel=1e-3, abs=1e-6)


def test_bounds_of_a_share_solve_their_equation():
    for hits, count in ((0, 7), (3, 9), (40, 41)):
        low, high = share_bounds(hits, count)
        for bound in (low, high):
            if 1e-9 < bound < 1:
                assert abs(hits / count - bound) == pytest.approx(1.959964 * np.sqrt(bound * (1 - bound) / count), rel=1e-5)
    assert share_bounds(0, 0) == (0.0, 1.0)
    assert all(share_bounds(n, n)[1] == 1 and share_bounds(0, n)[0] == 0 for n in range(1, 60))


@pytest.mark.long
def test_figures_hold_what_was_found(number, classes):
    found = classes.evaluate()
    ax = chaff.plots.confusion_table(found, threshold=0.3)
    texts = [t.get_text() for t in ax.texts]
    assert texts[0].startswith(str(found.confusion(threshold=0.3).iat[0, 0])) and "positive" in "".join(
        t.get_text() for t in ax.get_xticklabels()
    )
    assert len(chaff.plots.calibration_curve(found).lines) >= 3
    worst = number.evaluate().worst(5)
    named = [t.get_text() for t in chaff.plots.predicted_against_true(number.evaluate()).texts]
    assert all(f"row {r}" in named for r in worst.index)
    with pytest.raises(chaff.UsageError, match=r"run\.evaluate"):
        chaff.plots.evaluated(number)


@pytest.mark.parametrize("name", ["rmse", "r2", "mae", "log_loss", "auc", "accuracy"])
def test_a_weight_of_two_scores_as_the_row_twice(name):
    rng = np.random.default_rng(5)
    classes = METRICS[name].task == "classification"
    y = (rng.random(80) < 0.5).astype(float) if classes else rng.normal(size=80)
    p = np.clip(y * 0.4 + rng.uniform(0.1, 0.5, 80), 0.01, 0.99) if classes else y + rng.normal(size=80)
    w = rng.integers(1, 4, 80)
    many = np.repeat(np.arange(80), w)
    weighted = moved_by(METRICS[name], Truth(y[:, None], w.astype(float), np.array([0.5])), p[:, None])
    repeated = moved_by(METRICS[name], Truth(y[many, None], np.ones(many.size), np.array([0.5])), p[many, None])
    assert weighted.score == pytest.approx(repeated.score)
    np.testing.assert_allclose(weighted.influence[many], repeated.influence, atol=1e-6)


def test_one_class_alone_has_no_area_and_says_nothing_of_it():
    truth = Truth(np.ones((20, 1)), np.ones(20), np.array([0.9]))
    moved = moved_by(METRICS["auc"], truth, np.linspace(0, 1, 20)[:, None])
    assert np.isnan(moved.score) and np.isnan(interval(moved, Units())).all()
    assert np.isnan(interval(moved_by(METRICS["rmse"], Truth(np.ones((1, 1)), np.ones(1), np.zeros(1)), np.zeros((1, 1))), Units())[0])


@pytest.fixture(scope="module")
def weighted():
    frame = make_mixed(400, classes=2)
    frame["lot_weight"] = np.random.default_rng(0).integers(1, 6, len(frame))
    table = chaff.open_table(frame, "y", weights="lot_weight", ignore=["day", "mill"])
    return chaff.select(table, PLAN, state=False).evaluate()


def test_with_weights_a_row_counts_as_often_as_its_weight_says(weighted):
    """The same as rows that stand there so many times, but for the scale that adds up to the rows."""
    w = weighted.table.weights.astype(int)
    true, share = np.repeat(weighted.table.y, w).astype(int), np.repeat(weighted.shares()[:, 1], w)
    scale = w.size / w.sum()
    for cut in (0.3, 0.5):
        by_hand = pd.crosstab(true, share >= cut).to_numpy()
        np.testing.assert_allclose(weighted.confusion(threshold=cut).to_numpy(), by_hand * scale)
        np.testing.assert_allclose(weighted.confusion(threshold=cut, shares=True), by_hand / by_hand.sum(1, keepdims=True))
        (tn, fp), (fn, tp) = by_hand
        row = weighted.thresholds(at=(cut,)).iloc[0]
        expected = {
            "predicted_positive": (tp + fp) * scale,
            "recall": tp / (tp + fn),
            "false_positive_rate": fp / (fp + tn),
            "precision": tp / (tp + fp),
        }
        assert row.to_dict() == pytest.approx(expected | {"accuracy": (tp + tn) / true.size})
        assert weighted.by_class(threshold=cut)["recall"].tolist() == pytest.approx([tn / (tn + fp), tp / (tp + fn)])
    assert weighted.frame.loc["accuracy", "kept"] == pytest.approx(weighted.thresholds(at=(0.5,))["accuracy"].iloc[0])
    bins = weighted.calibration(bins=4)
    assert (bins["came_low"] <= bins["came"]).all() and bins["rows"].sum() == weighted.rows
    assert any("rows count by their weight" in n for n in weighted.notes)


def a_truth(y, w=None):
    return Truth(y[:, None].astype(float), np.ones(y.size) if w is None else w, np.array([y.mean()]))


@pytest.mark.parametrize("metric", ["auc", "accuracy", "log_loss"])
@pytest.mark.parametrize("off", [0.0, 0.02, 0.3])
def test_bounds_never_leave_what_a_score_can_be(metric, off):
    rng = np.random.default_rng(1)
    y = (np.arange(40) < 15).astype(float)
    share = np.clip(np.where(rng.random(40) < off, 1 - y, y) * 0.98 + 0.01 * rng.random(40), 0, 1)[:, None]
    m, truth = METRICS[metric], a_truth(y)
    for units in (Units(), Units(groups=np.arange(40) // 4), Units(order=np.arange(40.0))):
        moved = moved_by(m, truth, share)
        _, low, high = score_interval(m, truth, moved, units)
        assert m.least <= low <= moved.score <= high <= m.most
        assert low < high or metric == "log_loss"


def test_a_perfect_score_still_has_a_lower_bound_and_r2_an_upper_one_below_1():
    y = np.arange(30) % 2.0
    for metric, least in (("auc", 0.7), ("accuracy", 0.85)):
        m, truth = METRICS[metric], a_truth(y)
        _, low, high = score_interval(m, truth, moved_by(m, truth, y[:, None]), Units())
        assert least < low < 0.98 and high == 1.0
    rng = np.random.default_rng(2)
    x = rng.normal(size=25)
    m, truth = METRICS["r2"], a_truth(x)
    _, low, high = score_interval(m, truth, moved_by(m, truth, (x + 0.2 * rng.normal(size=25))[:, None]), Units())
    assert 0.8 < low < high < 1.0


def test_shares_in_groups_are_told_by_as_many_rows_as_they_are_worth():
    """Rows of a group that are right or wrong together are worth about one row a group."""
    rng = np.random.default_rng(3)
    groups = np.repeat(np.arange(30), 10)
    right = np.repeat(rng.random(30) < 0.8, 10)
    y = rng.integers(0, 2, 300).astype(float)
    said = np.where(right, y, 1 - y)[:, None]
    m, truth = METRICS["accuracy"], a_truth(y)
    moved = moved_by(m, truth, said)
    wide, narrow = (score_interval(m, truth, moved, u) for u in (Units(groups=groups), Units()))
    low, high = share_bounds(right[::10].sum(), 30)
    assert (wide[1], wide[2]) == pytest.approx((low, high), abs=0.02) and narrow[2] - narrow[1] < 0.5 * (high - low)
