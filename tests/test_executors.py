"""Units in other processes: the same answers, a task that travels once, faults that are said."""

import multiprocessing
import os
import pickle
from concurrent.futures import ProcessPoolExecutor, ThreadPoolExecutor

import numpy as np
import pytest

import chaff
from chaff import executors
from chaff.work import task

packed = []


@pytest.fixture(scope="module")
def pool():
    with ProcessPoolExecutor(2, mp_context=multiprocessing.get_context("spawn")) as made:
        yield made


class Heavy:
    """Something that counts how often it is packed."""

    def __reduce__(self):
        packed.append(1)
        return Heavy, ()


def where(heavy, k):
    return k, os.getpid()


def refuse(k):
    raise chaff.DataError(f"lot {k} is wet")


def die(k):
    os._exit(9)


def test_results_come_in_order_and_the_task_is_packed_once(pool):
    packed.clear()
    told = []
    work = chaff.Work(workers=pool, watch=lambda stage, done, of: told.append((done, of)))
    assert work.executor is pool and work.at_once == 2
    found = work.each(task(where, Heavy()), range(21), "lots")
    assert [k for k, _ in found] == list(range(21)) and os.getpid() not in {p for _, p in found}
    assert len(packed) == 1
    assert told[-1] == (21, 21) and sorted(told) == told
    assert work.each(task(where, Heavy()), []) == []


def test_threads_of_somebody_need_no_packing():
    packed.clear()
    with ThreadPoolExecutor(2) as threads:
        found = chaff.Work(executor=threads).each(task(where, Heavy()), range(5))
    assert [k for k, _ in found] == list(range(5)) and not packed


def test_an_error_says_where_it_was(pool):
    with pytest.raises(chaff.DataError, match=r"lot \d is wet \(on the worker .*, process \d+\)"):
        chaff.Work(executor=pool).each(task(refuse), range(3))


def test_a_process_that_ends_is_said():
    with (
        ProcessPoolExecutor(1, mp_context=multiprocessing.get_context("spawn")) as fragile,
        pytest.raises(chaff.WorkerError, match="a worker process ended"),
    ):
        chaff.Work(executor=fragile).each(task(die), range(2))


def test_what_cannot_travel_is_refused(pool):
    with pytest.raises(chaff.UsageError, match="cannot be sent to other processes"):
        chaff.Work(executor=pool).each(lambda k: k, range(3))


@pytest.mark.long
def test_calls_take_an_executor_for_workers(pool, mixed, tmp_path):
    mixed.to_parquet(tmp_path / "lots.parquet")
    ignore = ["mill", "day", "lot_weight"]
    here = chaff.open_table(mixed, "y", ignore=ignore)
    there = chaff.open_table(tmp_path / "lots.parquet", "y", ignore=ignore, scratch=tmp_path / "s")
    forest = chaff.Forest(trees=8)
    a, b = chaff.importance(here, forest), chaff.importance(there, forest, workers=pool)
    np.testing.assert_array_equal(
        a.frame["mean"] if "mean" in a.frame else a.frame.iloc[:, 0], b.frame["mean"] if "mean" in b.frame else b.frame.iloc[:, 0]
    )
    a, b = chaff.screen(here), chaff.screen(there, workers=pool)
    assert a.frame.equals(b.frame)
    plan = chaff.Plan((chaff.Screen(), chaff.Search()))
    one, two = (chaff.select(t, plan, workers=w, state=False) for t, w in ((here, None), (there, pool)))
    assert one.features == two.features and one.honest.mean == two.honest.mean


def test_how_many_at_once_is_found_out():
    class Silent(ThreadPoolExecutor):
        _max_workers = None

        def __init__(self):
            pass

    assert executors.workers_of(Silent()) == 2
    assert chaff.Work(workers=3).at_once == 3 and chaff.Work(workers=3).threads == 3
    assert pickle.loads(pickle.dumps(chaff.Work(5, 3))) == chaff.Work(5, 1)
