"""Every row of a table larger than its memory: models that learn from sums or bytes see all of them, and what they find is what they find in
memory, to the last bit."""

import numpy as np
import pytest

import chaff
from chaff.decide import row_sample as desks
from chaff.decide.row_sample import row_sample_of
from chaff.evaluate.setting import Setting
from chaff.table.on_disk import arrays as rooms
from chaff.work import Work
from tests.commands import run
from tests.decide.test_desk import mill_like

FOREST = chaff.Forest(trees=12)


@pytest.fixture
def both(tmp_path, monkeypatch):
    """(in memory, on disk), the second with everything that is rows × columns in files."""
    frame = mill_like(900)
    frame.loc[::9, "sieve_3"] = np.nan
    frame["mill"] = np.repeat(np.arange(60), 15)
    frame.to_parquet(tmp_path / "lots.parquet")
    monkeypatch.setattr(rooms, "SHARE", 0.0)
    for name, rows in (("UP_TO", 450), ("ROWS", 400), ("SEEN", 500)):
        monkeypatch.setattr(desks, name, rows)

    def opened(**how):
        return (
            chaff.open_table(tmp_path / "lots.parquet", "loaf_volume", **how),
            chaff.open_table(tmp_path / "lots.parquet", "loaf_volume", scratch=tmp_path / "scratch", **how),
        )

    return opened


@pytest.mark.parametrize("how", [{}, {"groups": "mill"}], ids=["rows", "groups"])
@pytest.mark.parametrize("lenses", ["linear", "forest"])
@pytest.mark.long
def test_a_run_on_every_row(both, how, lenses):
    plan = chaff.Plan((chaff.Screen(), chaff.Relevance("leading"), chaff.Overlap(), chaff.Importance(FOREST), chaff.Search(lenses=lenses)))
    a, b = (chaff.select(t, plan=plan, rows="all", state=False) for t in both(**how))
    assert not a.row_sample.sampled and not b.row_sample.sampled and b.table.source.spill is not None
    assert a.features == b.features and len(b.stages[-1].result.decided.sizes) > 5
    assert (a.honest.mean, a.honest.se) == (b.honest.mean, b.honest.se)
    assert a.final_scores.holdout_gap == b.final_scores.holdout_gap
    for x, y in zip(a.stages, b.stages, strict=True):
        if hasattr(x.result, "frame"):
            assert x.result.frame.equals(y.result.frame)


CALLS = {
    "search": lambda t: chaff.search(t, "ridge").sizes,
    "search with trees": lambda t: chaff.search(t, FOREST, "backward", folds=3).sizes,
    "permutation": lambda t: chaff.importance(t, FOREST, "permutation").frame,
    "impurity": lambda t: chaff.importance(t, FOREST, "impurity").frame,
    "twin test": lambda t: chaff.twin_test(t, rounds=7, keep_share=0.5, model=FOREST).frame,
    "compare": lambda t: chaff.compare(t, ["pearson_r", "forward"], sizes=[2]).frame,
    "losses": lambda t: np.concatenate([r.loss for r in chaff.SubsetScorer(t, chaff.Ridge(), folds=3).losses([t.features[:3]])[0]]),
    "least squares under mae": lambda t: chaff.SubsetScorer(t, chaff.LeastSquares(), "mae", folds=3)(t.features[:4]).values,
}


@pytest.mark.parametrize("call", CALLS)
@pytest.mark.long
def test_single_calls_on_every_row(both, call):
    here, there = (CALLS[call](t) for t in both())
    if isinstance(here, np.ndarray):
        assert np.array_equal(here, there)
    else:
        drop = [c for c in here.columns if "seconds" in str(c)]
        assert here.drop(columns=drop).equals(there.drop(columns=drop))


def test_which_stages_need_no_rows_side_by_side(both):
    table = both()[0]
    setting = Setting.unfolded(table)
    assert chaff.Search().in_passes(table, setting) and chaff.Search(FOREST, strategy="backward").in_passes(table, setting)
    assert not chaff.Search(chaff.Lasso()).in_passes(table, setting)
    assert chaff.Importance(FOREST).in_passes(table, setting) and not chaff.Importance("ridge", "shapley").in_passes(table, setting)
    assert not chaff.Importance("lasso", "permutation").in_passes(table, setting)
    classes = chaff.open_table(
        mill_like(300).assign(loaf_volume=lambda f: (f["loaf_volume"] > 0).map({True: "good", False: "bad"})), "loaf_volume"
    )
    assert not chaff.Search().in_passes(classes, Setting.unfolded(classes))  # logistic fits of every row
    assert chaff.Search(lenses="forest").in_passes(classes, Setting.unfolded(classes))


def test_memory_is_asked_for_by_the_row_and_not_by_the_column(both, monkeypatch):
    table = both()[1]
    every = np.arange(900)
    monkeypatch.setattr(desks, "PROGRAM", 0.0)
    object.__setattr__(table.source.limit, "memory", 8 * desks.IN_PASSES * 900.0)
    assert len(row_sample_of(table, every, every[:0], "all", Work(), in_passes=True).train) == 900
    object.__setattr__(table.source.limit, "memory", 8 * desks.IN_PASSES * 700.0)
    with pytest.raises(chaff.DataError, match=r"too little for all 900 rows: .* would do, or rows=700 \(--rows 700\)"):
        row_sample_of(table, every, every[:0], "all", Work(), in_passes=True)


@pytest.mark.long
def test_on_the_command_line(tmp_path):
    mill_like(1500).to_parquet(tmp_path / "lots.parquet")
    common = ["lots.parquet", "--target", "loaf_volume", "--rows", "all"]
    for command in (
        ["relevance"],
        ["search", "--model", "ridge"],
        ["importance", "--trees", "10"],
        ["select", "--model", "ridge", "--quick"],
    ):
        here = run(command[0], *common, *command[1:], cwd=tmp_path)
        there = run(command[0], *common, *command[1:], "--scratch", "s", cwd=tmp_path)
        assert "rows are" not in there and "training rows, drawn" not in there
        for line in here.splitlines():
            moves = (" s", "lots.parquet", "the holdout has been read")  # clocks, places, a count of reads
            if not any(word in line for word in moves):
                assert line in there.splitlines()
