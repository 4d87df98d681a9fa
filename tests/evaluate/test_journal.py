"""The journal: what it keeps, that it is read again, what it refuses, and a search that was killed."""

import os
import signal
import sqlite3
import subprocess
import sys
import time

import numpy as np
import pytest

import chaff
from chaff.evaluate.fingerprint import DataKey, ScoreKey, digest, model_words
from chaff.evaluate.journal import Journal, read_journal
from tests.methods.search.test_strategies import table

TREE = chaff.Tree(depth=3)


def moved(trail):
    return [(m.action, m.feature, m.features, m.values.tolist()) for m in trail.moves]


@pytest.mark.long
def test_a_second_search_scores_nothing_again(tmp_path):
    t, file = table(p=6), tmp_path / "scores.journal"
    first = chaff.search(t, TREE, "floating", journal=file)
    again = chaff.search(t, TREE, "floating", journal=file)
    assert moved(first) == moved(again) and again.evaluations == 0 and again.saved >= first.evaluations
    np.testing.assert_array_equal(first.honest.values, again.honest.values)
    other = chaff.search(t, TREE, "exhaustive", journal=file, honest=False)
    assert other.scorer.tally.from_journal >= first.evaluations - 1
    about, entries = read_journal(file)
    whole = next(e for e in entries if not e.how.endswith("inside"))
    assert about["rows"] == "80" and whole.sets == 2**6 - 1 and whole.best == pytest.approx(other.means.max())
    assert set(whole.features) == set(other.choose("best").features)


def test_other_models_metrics_folds_and_seeds_have_pages_of_their_own(tmp_path):
    t, file = table(p=4), tmp_path / "a"
    for model, more in ((TREE, {}), (chaff.Tree(depth=2), {}), (TREE, {"metric": "rmse"}), (TREE, {"folds": 3}), (TREE, {"seed": 1})):
        found = chaff.search(t, model, "forward", journal=file, honest=False, **more)
        assert found.scorer.tally.from_journal == 0
    assert len(read_journal(file)[1]) == 5


def test_in_closed_form_the_sets_that_it_stood_on_are_kept(tmp_path):
    t, file = table(p=7), tmp_path / "a"
    one = chaff.search(t, "ridge", "forward", journal=file, honest=False)
    two = chaff.search(t, "ridge", "forward", journal=file, honest=False)
    assert [m.features for m in one.moves] == [m.features for m in two.moves]
    assert {e.sets for e in read_journal(file)[1]} == {7}


def test_fewer_features_and_another_order_of_columns_are_the_same_data(tmp_path):
    t, file = table(p=6), tmp_path / "a"
    chaff.search(t, TREE, "exhaustive", journal=file, honest=False)
    some = chaff.search(t.with_features(["c4", "c1", "c0"]), TREE, "exhaustive", journal=file, honest=False)
    assert some.evaluations == 0 and some.saved == 7
    fewer = table(p=6).with_features(["c0", "c1"])
    new = tmp_path / "b"
    chaff.search(fewer, TREE, "exhaustive", journal=new, honest=False)
    grown = chaff.search(t, TREE, "exhaustive", journal=new, honest=False)
    assert grown.scorer.tally.from_journal == 3


def test_a_journal_of_other_data_is_refused_with_what_differs(tmp_path):
    rng = np.random.default_rng(0)
    X, y = rng.normal(size=(60, 3)), rng.normal(size=60)
    file = tmp_path / "a"

    def search(X, y, **more):
        return chaff.search(chaff.open_arrays(X, y, **more), TREE, "forward", journal=file, honest=False)

    search(X, y)
    changed = X.copy()
    changed[5, 1] += 1e-9
    for args, words in (
        ((X[:50], y[:50]), "60 rows there, 50 here"),
        ((changed, y), "other cells in "),
        ((X, y + 1), "the target or the weights hold other values"),
    ):
        with pytest.raises(chaff.DataError, match=words):
            search(*args)
    search(X, y)  # what was refused has spoilt nothing


def test_what_is_no_journal_is_refused_and_left_alone(tmp_path):
    t = table(p=4)
    words = tmp_path / "words.txt"
    words.write_text("not a database, and long enough to be looked at" * 100)
    (tmp_path / "folder").mkdir()
    other = tmp_path / "other.db"
    with sqlite3.connect(other) as db:
        db.execute("CREATE TABLE mine (x)")
    link = tmp_path / "link"
    link.symlink_to(other)
    good = tmp_path / "good"
    chaff.search(t, TREE, "exhaustive", journal=good, honest=False)
    whole = good.read_bytes()
    cut = tmp_path / "cut"
    cut.write_bytes(whole[: len(whole) // 2])
    newer = tmp_path / "newer"
    newer.write_bytes(whole)
    with sqlite3.connect(newer) as db:
        db.execute("PRAGMA user_version = 9")
    for file, said in (
        (words, "is no journal of Chaff's"),
        (tmp_path / "folder", "not a regular file"),
        (other, "some other database"),
        (link, "not a regular file"),
        (cut, "damaged|no journal"),
        (newer, "has version 9 of the journal, this Chaff reads 1"),
        (tmp_path / "no" / "where", "cannot be used|no such"),
    ):
        before = file.read_bytes() if file.is_file() else b""
        with pytest.raises(chaff.DataError, match=said):
            chaff.search(t, TREE, "forward", journal=file, honest=False)
        assert not file.is_file() or file.read_bytes() == before, file
    with pytest.raises(chaff.DataError, match="no such journal"):
        read_journal(tmp_path / "nothing")
    with pytest.raises(chaff.DataError, match="no journal of Chaff's"):
        read_journal(words)


def test_a_journal_that_cannot_grow_does_not_end_the_search(tmp_path, monkeypatch):
    """As on a full disk: the search goes on, says so, and what was written stands."""
    t, file = table(p=5), tmp_path / "a"
    chaff.search(t, TREE, "forward", journal=file, honest=False)
    real = Journal._begin

    def tight(self):
        real(self)
        pages = self._db.execute("PRAGMA page_count").fetchone()[0]
        self._db.execute(f"PRAGMA max_page_count = {pages}")

    monkeypatch.setattr(Journal, "_begin", tight)
    big = chaff.search(t, chaff.Tree(depth=2), chaff.RandomSets(400), journal=file, honest=False)
    plain = chaff.search(t, chaff.Tree(depth=2), chaff.RandomSets(400), honest=False)
    assert moved(big) == moved(plain)
    assert any("journal writing stopped" in n for n in big.notes)
    assert [e.sets for e in read_journal(file)[1] if "depth=3" in e.model] == [15]  # 5 + 4 + 3 + 2 + 1, as before


def test_limits_count_what_a_journal_knows_as_if_it_were_scored(tmp_path):
    t, file = table(p=6), tmp_path / "a"
    first = chaff.search(t, TREE, "exhaustive", journal=file, evaluations=20, honest=False)
    again = chaff.search(t, TREE, "exhaustive", journal=file, evaluations=20, honest=False)
    assert moved(first) == moved(again) and again.evaluations == 0 and again.stopped == first.stopped


def test_keys_know_equal_things_and_tell_others_apart():
    t = table(p=3)
    assert DataKey.of(t) == DataKey.of(table(p=3)) and DataKey.of(t) != DataKey.of(table(1, p=3))
    a, b = np.array([1.0, np.nan, 0.0]), np.array([1.0, -np.nan, -0.0])
    assert digest(a) == digest(b) and digest(a) != digest(a[::-1]) and digest("ab", "c") != digest("a", "bc")
    assert digest(np.zeros((2, 3))) != digest(np.zeros((3, 2)))
    assert model_words(chaff.Ridge(0.1)) != model_words(chaff.Ridge(0.2))

    class Mine:
        def fit(self, X, y): ...
        def predict(self, X): ...

    assert " at 0x" not in model_words(chaff.models.adapt(Mine, name="mine"))


SEARCH = """
import sys, time, chaff
sys.path.insert(0, {root!r})
from tests.methods.search.test_strategies import table

class Slow:
    def fit(self, X, y):
        time.sleep(0.004)
        self.mean = y.mean() + 0.1 * (X[:, 0] * y).mean()
    def predict(self, X):
        return self.mean + 0.0 * X[:, 0]

trail = chaff.search(table(p=7), chaff.models.adapt(Slow, name="slow"), chaff.Genetic(population=12, generations=4), folds=3,
                     journal={file!r}, workers=1)
print([(sorted(m.features), m.values.tolist()) for m in trail.moves], trail.sizes["honest"].tolist(), trail.choose("best").features)
"""


@pytest.mark.long
@pytest.mark.parametrize("how", [signal.SIGKILL, signal.SIGINT, signal.SIGTERM])
def test_a_killed_search_goes_on_and_ends_with_the_same_answer(tmp_path, how):
    def start(file):
        code = SEARCH.format(root=os.getcwd(), file=str(file))
        return subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)

    whole, error = start(tmp_path / "whole").communicate()
    assert whole, error
    file, kills = tmp_path / "killed", 0
    for patience in (1.2, 1.6, 2.0):
        process = start(file)
        until = time.time() + patience
        while process.poll() is None and time.time() < until:
            time.sleep(0.02)
        if process.poll() is None:
            process.send_signal(how)
            kills += 1
        process.communicate()
    assert start(file).communicate()[0] == whole and kills
    assert sum(e.sets for e in read_journal(file)[1]) > 0


def crafted(file, *statements):
    with sqlite3.connect(file) as db:
        for statement in statements:
            db.execute(*statement) if isinstance(statement, tuple) else db.execute(statement)


DAMAGE = {
    "a view": (["ALTER TABLE scores RENAME TO kept", "CREATE VIEW scores AS SELECT * FROM kept"], "table kept|table 'kept'"),
    "a trigger": (["CREATE TRIGGER t AFTER INSERT ON scores BEGIN DELETE FROM scores; END"], "trigger"),
    "must be a search on the same table": (["CREATE TABLE more (x)"], "more"),
    "other columns": (["DROP TABLE data", "CREATE TABLE data (what TEXT, is_ TEXT)"], "table 'data'"),
    "a cut score": ([("UPDATE scores SET scores = ?", (b"1234567",))], "cut off"),
    "fewer splits": ([("UPDATE scores SET scores = ?", (np.zeros(2).tobytes(),))], "scores of 1 splits where there are 5"),
    "no splits": ([("UPDATE scores SET scores = ?", (b"",))], "scores of 0 splits"),
    "text": (["UPDATE scores SET scores = 'much'"], "cut off"),
    "an unknown column": ([("INSERT INTO scores VALUES (1, ?, ?)", (b"\x09\0\0\0", np.zeros(10).tobytes()))], "unknown columns"),
    "a column twice": ([("INSERT INTO scores VALUES (1, ?, ?)", (b"\1\0\0\0" * 2, np.zeros(10).tobytes()))], "unknown columns"),
    "not a number": ([("UPDATE scores SET scores = ?", (np.full(10, np.nan).tobytes(),))], "cannot be"),
    "endless": ([("UPDATE scores SET scores = ?", (np.full(10, np.inf).tobytes(),))], "cannot be"),
    "too good": ([("UPDATE scores SET scores = ?", (np.full(10, 1.5).tobytes(),))], "cannot be"),
    "rows in words": (["UPDATE data SET is_ = 'many' WHERE what = 'rows'"], "what data it belongs to"),
    "a column of bytes": (["UPDATE columns SET hash = x'00'"], "no name or number"),
}


@pytest.mark.parametrize("kind", DAMAGE)
def test_what_is_damaged_or_crafted_is_refused_before_it_is_used(kind, tmp_path):
    t, file = table(p=3), tmp_path / "a"
    chaff.search(t, TREE, "exhaustive", journal=file, honest=False)
    statements, words = DAMAGE[kind]
    crafted(file, *statements)
    with pytest.raises(chaff.DataError, match=words):
        chaff.search(t, TREE, "exhaustive", journal=file, honest=False)
    if kind not in ("rows in words", "fewer splits"):  # neither is looked at there
        with pytest.raises(chaff.DataError, match="is damaged"):
            read_journal(file)


def test_scores_that_do_not_exist_are_not_kept(tmp_path):
    file = tmp_path / "a"
    t = table(p=3)
    with Journal(file, DataKey.of(t)) as journal:
        page = journal.of(key(t), 5)
        page.add([frozenset({"c0"}), frozenset({"c1"})], np.array([np.full(10, np.nan), np.full(10, 0.5)]))
        journal.flush()
        assert list(journal.of(key(t), 5).known) == [frozenset({"c1"})]


def key(t):
    scorer = chaff.SubsetScorer(t, TREE)
    return ScoreKey.of(TREE, scorer.engine.metrics, scorer.folds, 0)
