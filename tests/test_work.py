import multiprocessing
import threading
import time
from concurrent.futures import ProcessPoolExecutor

import numpy as np
import pytest

import chaff
from chaff.work import task


def test_streams_are_named_not_consumed():
    work = chaff.Work(seed=3)
    a = work.stream("tree", 17).random(4)
    work.stream("shuffle", 3).random(1000)
    np.testing.assert_array_equal(work.stream("tree", 17).random(4), a)
    assert not np.array_equal(work.stream("tree", 18).random(4), a)
    assert not np.array_equal(chaff.Work(seed=4).stream("tree", 17).random(4), a)
    assert work.key("a", "b") != work.key("ab")


def test_each_keeps_order_and_only_the_outermost_takes_the_workers():
    work = chaff.Work(workers=2)
    seen = set()

    def inner(k):
        seen.add(threading.get_ident())
        return k

    def outer(k):
        here = threading.get_ident()
        assert work.each(inner, range(3)) == [0, 1, 2]
        return k, here

    done = work.each(outer, range(6))
    assert [k for k, _ in done] == list(range(6))
    assert seen <= {t for _, t in done}  # the inner loop ran in its caller's thread
    assert work.each(inner, []) == []


def test_an_error_in_a_unit_reaches_the_caller():
    def fail(k):
        if k == 3:
            raise ValueError("unit 3")
        return k

    with pytest.raises(ValueError, match="unit 3"):
        chaff.Work(workers=2).each(fail, range(8))
    assert chaff.Work(workers=2).each(lambda k: k, range(4)) == [0, 1, 2, 3]


def test_after_an_error_inner_loops_begin_no_further_unit():
    work, begun = chaff.Work(workers=2), []

    def inner(k):
        begun.append(k)
        time.sleep(0.02)

    def outer(k):
        if k == 0:
            time.sleep(0.05)
            raise ValueError("early")
        return work.each(inner, range(500))

    with pytest.raises(ValueError, match="early"):
        work.each(outer, range(2))
    assert 0 < len(begun) < 100


def test_watchers_are_told():
    heard = []
    work = chaff.Work(workers=2, watch=lambda stage, done, of: heard.append((stage, done, of)))
    work.tell("screen")
    assert work.each(abs, [-1, -2, -3], "sizes") == [1, 2, 3]
    assert heard == [("screen", 0, 0), ("sizes", 1, 3), ("sizes", 2, 3), ("sizes", 3, 3)]


def squares(by, k):
    return by * k * k


def test_any_executor_carries_out_the_outermost_loop():
    with ProcessPoolExecutor(2) as pool:
        work = chaff.Work(executor=pool)
        assert work.each(task(squares, 3), range(5)) == [0, 3, 12, 27, 48]


@pytest.mark.long
def test_a_run_on_processes_gives_what_threads_give(mixed):
    table = chaff.open_table(mixed, target="y", ignore=["mill", "day", "lot_weight"])
    forest = chaff.Forest(trees=6, leaf_rows=5)
    here = chaff.SubsetScorer(table, forest, work=chaff.Work(2))
    sets = [["assay_0"], ["assay_0", "variety"], list(table.features)]
    with ProcessPoolExecutor(2, mp_context=multiprocessing.get_context("spawn")) as pool:
        there = chaff.SubsetScorer(table, forest, work=chaff.Work(2, executor=pool))
        for a, b in zip(here.many(sets), there.many(sets), strict=True):
            np.testing.assert_array_equal(a.values, b.values)


def test_progress_is_told_as_done_of_all():
    told = []
    work = chaff.Work(workers=2, watch=lambda stage, done, of: told.append((stage, done, of)))
    work.each(task(squares, 1), range(40), "squares")
    assert all(stage == "squares" and of == 40 for stage, _, of in told)
    done = [d for _, d, _ in told]
    assert done == sorted(done) and done[-1] == 40


def test_the_variable_that_tells_blas_is_as_it_was_however_contexts_end(monkeypatch):
    """Contexts of two threads that overlap, begun and ended in the same order."""
    import os
    import sys

    from chaff.work import THREADS, one_blas_thread

    monkeypatch.delitem(sys.modules, "scipy.linalg", raising=False)
    for before in (None, "3"):
        monkeypatch.setenv(THREADS, before) if before else monkeypatch.delenv(THREADS, raising=False)
        one, two = one_blas_thread(), one_blas_thread()
        one.__enter__()
        two.__enter__()
        assert os.environ[THREADS] == "1"
        one.__exit__(None, None, None)
        assert os.environ[THREADS] == "1"
        two.__exit__(None, None, None)
        assert os.environ.get(THREADS) == before
