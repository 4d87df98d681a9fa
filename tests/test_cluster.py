"""A real scheduler with two worker processes: the same answers as one machine, and faults that are said."""

import json
import multiprocessing
import os
import signal
import socket
import subprocess
import sys
import threading
import time
from concurrent.futures import ProcessPoolExecutor

import numpy as np
import pandas as pd
import pytest

import chaff
from chaff import cluster as clusters
from chaff.work import task
from tests.cli import test_from_files as commands
from tests.commands import CHAFF, ENV, run
from tests.conftest import make_mixed
from tests.table.test_folders import cut

pytestmark = pytest.mark.filterwarnings("ignore")


@pytest.fixture(scope="module")
def scheduler():
    from distributed import LocalCluster

    with LocalCluster(n_workers=2, threads_per_worker=1, processes=True, dashboard_address=None) as made:
        yield made


@pytest.fixture(scope="module")
def cluster(scheduler):
    made = chaff.Cluster(scheduler.scheduler_address)
    yield made
    made.shutdown()


@pytest.fixture(scope="module")
def tables(tmp_path_factory):
    """(in memory, from seven files)"""
    place, frame = tmp_path_factory.mktemp("mill"), make_mixed(240)
    folder = cut(frame, place / "many", 7)
    terms = {"ignore": ["day", "lot_weight"], "ids": ["mill"]}
    return chaff.open_table(frame, "y", **terms), chaff.open_table(folder, "y", scratch=place / "s", **terms)


CALLS = {
    "screen": lambda t, w: chaff.screen(t, workers=w).frame,
    "relevance": lambda t, w: chaff.relevance(t, workers=w).frame,
    "correlations": lambda t, w: chaff.correlations(t, workers=w).frame,
    "associations": lambda t, w: chaff.associations(t, workers=w).frame,
    "importance": lambda t, w: chaff.importance(t, chaff.Forest(trees=10), workers=w).frame,
    "lasso": lambda t, w: chaff.importance(t, "lasso", by="coefficient", workers=w).frame,
    "chance": lambda t, w: chaff.chance_baseline(t, shuffles=8, workers=w).frame,
    "twins": lambda t, w: chaff.twin_test(t, chaff.Forest(trees=10), rounds=7, keep_share=0.5, workers=w).frame,
    "stability": lambda t, w: chaff.stability(t, workers=w).frame,
    "search": lambda t, w: chaff.search(t, chaff.Tree(), chaff.Forward(size=3), folds=3, workers=w).frame,
    "compare": lambda t, w: chaff.compare(t, ["leading", "forward"], "ridge", sizes=[1, 3], workers=w).frame.drop(columns="seconds"),
    "linear": lambda t, w: chaff.prune_linear(t, workers=w).frame,
}


@pytest.fixture(scope="module")
def processes():
    with ProcessPoolExecutor(2, mp_context=multiprocessing.get_context("spawn")) as pool:
        yield pool


@pytest.mark.long
@pytest.mark.parametrize("name", CALLS)
def test_every_call_answers_from_two_processes_as_in_one(processes, tables, name):
    here, there = tables
    pd.testing.assert_frame_equal(CALLS[name](there, processes), CALLS[name](here, None), rtol=1e-12, atol=1e-12)


@pytest.mark.parametrize("name", CALLS)
@pytest.mark.long
def test_every_call_answers_as_on_one_machine(cluster, tables, name):
    here, there = tables
    pd.testing.assert_frame_equal(CALLS[name](there, cluster), CALLS[name](here, None), rtol=1e-12, atol=1e-12)


@pytest.mark.long
def test_results_come_straight_from_workers_that_can_be_reached(cluster):
    assert cluster.client.direct_to_workers and all(clusters._reached(w) for w in cluster._threads())
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))  # nobody listens
        for address in (f"tcp://127.0.0.1:{taken.getsockname()[1]}", "inproc://10.0.0.1/1/1", "tcp://nobody"):
            assert not clusters._reached(address)


@pytest.mark.long
@pytest.mark.parametrize("honest", ["cheap", "full"])
def test_a_whole_run_answers_as_on_one_machine(cluster, tables, honest):
    runs = [chaff.select(t, workers=w, honest=honest, state=False) for t, w in ((tables[0], None), (tables[1], cluster))]
    said = [json.loads(r.selection.to_json() if hasattr(r.selection, "to_json") else r.selection.model_dump_json()) for r in runs]
    for one in said:
        one["data"].pop("source"), one.pop("checksum"), one.pop("made_with", None)
    assert said[0] == said[1]


@pytest.fixture(scope="module")
def lots(tmp_path_factory):
    return commands.lots_in(tmp_path_factory.mktemp("lots"), (7,))


def ends_once(marker, k):
    if k == 3 and not os.path.exists(marker):
        open(marker, "w").close()
        os._exit(9)
    return k * k


def waits(seconds, k):
    time.sleep(seconds)
    return k


@pytest.mark.long
def test_a_worker_that_dies_is_replaced_and_the_answer_is_the_same(cluster, tmp_path):
    work = chaff.Work(executor=cluster)
    assert work.each(task(ends_once, str(tmp_path / "died")), range(8)) == [k * k for k in range(8)]
    assert (tmp_path / "died").exists()


@pytest.mark.long
def test_a_worker_killed_in_the_middle_of_a_search(scheduler, cluster, tables):
    alone = chaff.search(tables[0], chaff.Forest(trees=20), chaff.Forward(size=3), folds=3)
    first = next(iter(cluster.client.run(os.getpid).values()))
    began = threading.Timer(0.8, os.kill, (first, signal.SIGKILL))
    began.start()
    found = chaff.search(tables[1], chaff.Forest(trees=20), chaff.Forward(size=3), folds=3, workers=cluster)
    began.join()
    pd.testing.assert_frame_equal(found.frame, alone.frame)


def test_an_error_in_a_file_names_it_and_the_worker(cluster, tmp_path):
    folder = cut(make_mixed(60), tmp_path / "many", 3)
    table = chaff.open_table(folder, "y", scratch=tmp_path / "s")
    (folder / "part-002.parquet").unlink()
    with pytest.raises(chaff.DataError, match=r"part-002.parquet is gone .*\(on the worker"):
        chaff.screen(table, workers=cluster)


def test_files_that_a_worker_does_not_see_are_named(cluster, tmp_path, monkeypatch):
    (tmp_path / "here.parquet").write_bytes(b"12345")
    cluster.check_sees([str(tmp_path / "here.parquet")])
    here = dict(clusters._sizes([str(tmp_path / "here.parquet"), str(tmp_path / "far.parquet")]))
    monkeypatch.setattr(clusters, "_sizes", _Here({**here, str(tmp_path / "far.parquet"): 7}))
    with pytest.raises(chaff.DataError, match=r"worker tcp://.* does not see .*far.parquet"):
        cluster.check_sees([str(tmp_path / "far.parquet")])


class _Here:
    """What is seen here; on a worker, what is seen there."""

    def __init__(self, sizes):
        self.sizes = sizes

    def __call__(self, paths):
        return self.sizes

    def __reduce__(self):
        return _seen_there, ()


def _seen_there():
    from chaff.cluster import _sizes

    return _sizes


def test_another_version_on_a_worker_is_refused(scheduler, monkeypatch):
    monkeypatch.setattr(clusters, "_version", _Older())
    with pytest.raises(chaff.UsageError, match=r"worker tcp://.* has Chaff .*, here is 0.0.1 on Python"):
        chaff.Cluster(scheduler.scheduler_address)


class _Older:
    def __call__(self):
        return "0.0.1", "3.11"

    def __reduce__(self):
        return _version_there, ()


def _version_there():
    from chaff.cluster import _version

    return _version


def test_without_dask_it_says_what_to_install(monkeypatch):
    monkeypatch.setitem(sys.modules, "distributed", None)
    with pytest.raises(chaff.UsageError, match=r"pip install 'chaff-select\[cluster\]'"):
        chaff.Cluster("tcp://127.0.0.1:8786")


def test_an_interrupt_that_falls_where_errors_are_ignored_is_not_lost(monkeypatch):
    import distributed

    def swallows(*given, **named):
        try:
            os.kill(os.getpid(), signal.SIGINT)
            time.sleep(1)
        except KeyboardInterrupt:
            raise OSError("nobody there") from None

    monkeypatch.setattr(distributed, "Client", swallows)
    before = signal.default_int_handler  # whoever started this may have wished it ignored
    monkeypatch.setattr(signal, "started_with", signal.signal(signal.SIGINT, before), raising=False)
    with pytest.raises(KeyboardInterrupt):
        try:
            chaff.Cluster("tcp://127.0.0.1:1")
        except chaff.WorkerError:
            pytest.fail("the interrupt was lost")
    assert signal.getsignal(signal.SIGINT) is before


@pytest.mark.long
def test_an_address_that_nobody_answers_at_is_said_in_time(tmp_path):
    began = time.monotonic()
    with pytest.raises(chaff.WorkerError, match="no response from tcp://127.0.0.1:9 in 1 s"):
        chaff.Cluster("tcp://127.0.0.1:9", patience=1)
    assert time.monotonic() - began < 8
    with pytest.raises(chaff.WorkerError, match="no response from not an address"):
        chaff.Cluster("not an address", patience=1)
    make_mixed(60).to_csv(tmp_path / "lots.csv", index=False)
    assert "no response from tcp://127.0.0.1:9" in run(
        "screen", "lots.csv", "--target", "y", "--cluster", "tcp://127.0.0.1:9", cwd=tmp_path, code=5
    )


@pytest.mark.long
def test_a_scheduler_that_goes_away_ends_with_its_name_and_the_journal_stays(tables, tmp_path):
    from distributed import LocalCluster

    made = LocalCluster(n_workers=1, threads_per_worker=1, processes=True, dashboard_address=None)
    mine = chaff.Cluster(made.scheduler_address)
    ending = threading.Timer(3.0, made.close, kwargs={"timeout": 1})
    ending.start()
    with pytest.raises(chaff.WorkerError, match=r"the scheduler at tcp://.* is gone"):
        chaff.Work(executor=mine).each(task(waits, 1.0), range(30))
    ending.join()
    mine.shutdown()
    with pytest.raises(chaff.WorkerError):
        chaff.search(tables[1], chaff.Tree(), chaff.Forward(size=2), folds=3, workers=mine, journal=tmp_path / "search.journal")
    assert (
        chaff.search(tables[1], chaff.Tree(), chaff.Forward(size=2), folds=3, journal=tmp_path / "search.journal").choose("best").features
    )


class TestCommandLine:
    @pytest.mark.long
    def test_select_does_what_it_does_on_one_machine(self, scheduler, tmp_path):
        cut(make_mixed(200), tmp_path / "many", 5)
        make_mixed(200).to_csv(tmp_path / "lots.csv", index=False)
        terms = ["--target", "y", "--ignore", "day", "--ignore", "lot_weight", "--groups", "mill", "--no-state"]
        far = run("select", "many", *terms, "--out", "far", "--cluster", scheduler.scheduler_address, cwd=tmp_path)
        near = run("select", "lots.csv", *terms, "--out", "near", cwd=tmp_path)
        a, b = (json.loads((tmp_path / o / "selection.json").read_text()) for o in ("far", "near"))
        assert a["kept"] == b["kept"] and a["scores"] == b["scores"] and a["data"]["fingerprint"] == b["data"]["fingerprint"]
        assert [line for line in far.splitlines() if " kept " in line] == [line for line in near.splitlines() if " kept " in line]
        assert "cannot be combined" in run(
            "screen", "lots.csv", "--target", "y", "--cluster", scheduler.scheduler_address, "--workers", "2", cwd=tmp_path, code=2
        )

    @pytest.mark.long
    @pytest.mark.parametrize("name", [n for n in commands.COMMANDS if n != "select"])
    def test_every_command_says_what_it_says_on_one_machine(self, scheduler, lots, name):
        kept = ("apply",)  # writes a file here
        more = ("--cluster", scheduler.scheduler_address)
        scratch = () if name == "apply" else ("--scratch", str(lots / "scratch"))
        here = commands.answer(lots / f"near {name}", name, "../one_7.parquet")
        there = commands.answer(lots / f"far {name}", name, "../many_7", (*scratch, *more))
        assert commands.differing(there[0], here[0]) == []
        assert there[1] == here[1] if name in kept else set(there[1]) == set(here[1])

    @pytest.mark.long
    def test_interrupting_cancels_what_is_queued(self, scheduler, cluster, tmp_path):
        chaff.demo.lots(rows=1600).to_csv(tmp_path / "lots.csv", index=False)
        call = [CHAFF, "select", "lots.csv", "--target", "loaf_volume", "--cluster", scheduler.scheduler_address, "--out", "o"]
        process = subprocess.Popen([*map(str, call)], cwd=tmp_path, env=ENV, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
        assert process.stderr is not None
        said = ""
        while "importance" not in said:  # in the middle of the work, however long libraries took to load
            line = process.stderr.readline()
            assert line, said
            said += line
        process.send_signal(signal.SIGINT)
        _, err = process.communicate(timeout=60)
        assert process.returncode == 130 and "Traceback" not in err, err
        for _ in range(60):
            if not any(cluster.client.processing().values()):
                break
            time.sleep(0.5)
        assert not any(cluster.client.processing().values())
        np.testing.assert_array_equal(chaff.Work(executor=cluster).each(task(waits, 0), range(3)), [0, 1, 2])
