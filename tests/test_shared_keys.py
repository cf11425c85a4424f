"""Rows that share a key, where nothing forbids it: merged, undone, looked back at and verified as plain bags of rows."""

from __future__ import annotations

import random
from collections import Counter
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

import rapid_mender as rm

from . import databases, length

NAMES = ("k", "v", "n", "gone")
DDL = [f"CREATE TABLE {name} (k INTEGER, v VARCHAR(20), n INTEGER, gone INTEGER)" for name in ("t", "a")]
Rows = Counter[tuple[Any, ...]]
WAYS: list[dict[str, Any]] = [
    {}, {"missing": "delete"}, {"missing": "delete", "delete": "archive", "archive": "a"},
    {"missing": "delete", "delete": "mark", "mark": {"gone": 1}},
]  # fmt: skip


def bag(url: str, table: str = "t") -> Rows:
    with closing(databases.driver(url)) as connection:
        cursor = connection.cursor()
        cursor.execute(f"SELECT {', '.join(NAMES)} FROM {table}")
        return Counter(map(tuple, cursor.fetchall()))


def bag_of(table: Any) -> Rows:
    return Counter(tuple(row.values()) for row in table.select(NAMES).to_pylist())


def merged(rows: Rows, archive: Rows, batch: list[dict[str, Any]], way: dict[str, Any]) -> tuple[Rows, Rows]:
    """What a batch makes of rows, and of the archive."""
    left, kept = Counter(rows), Counter(archive)
    count = Counter(row[0] for row in rows.elements())
    for record in batch:
        if count[record["k"]] == 0:
            left[record["k"], record["v"], record["n"], None] += 1
        elif count[record["k"]] == 1:  # of several none is meant
            old = next(row for row in rows if row[0] == record["k"])
            left[old] -= 1
            left[record["k"], record["v"], record["n"], old[3]] += 1
    sent = {record["k"] for record in batch}
    for row, copies in rows.items():
        if way.get("missing") and row[0] is not None and row[0] not in sent and ("scope" not in way or row[2] == 1):
            left[row] -= copies
            left[(*row[:3], 1)] += copies if "mark" in way else 0
            kept[row] += copies if "archive" in way else 0
    return +left, +kept


@databases.every
def test_rows_that_share_a_key_are_merged_undone_and_verified(tmp_path: Path, kind: str) -> None:
    for number in range(length.some(4)):
        dice = length.dice("shared", kind, number)
        (tmp_path / str(number)).mkdir()
        values = "NULL", "'x'", "'X'", "1", "2"
        rows = [f"({dice.choice(['NULL', *map(str, range(12))])}, {dice.choice(values[:3])}, {dice.choice((values[0], *values[3:]))}, NULL)" for _ in range(15)]
        rows += dice.choices(rows, k=5)
        with databases.table(kind, tmp_path / str(number), *DDL, f"INSERT INTO t VALUES {', '.join(rows)}") as (url, run):
            live(url, run, dice)


def live(url: str, run: Any, dice: random.Random) -> None:
    before, states, kept = bag(url), [bag(url)], [Counter()]
    batches = [rm.merge(rm.Job(store=url, table="t", key="k"), [{"k": 50, "v": "x", "n": 1}]).batch]
    states.append(states[0] + Counter([(50, "x", 1, None)])), kept.append(Counter())  # type: ignore[func-returns-value]
    for _ in range(dice.randint(1, 3)):
        batch = [{"k": k, "v": dice.choice(["x", "y", None]), "n": dice.choice([1, 2])} for k in dice.sample(range(15), dice.randint(1, 12))]
        way = dict(dice.choice(WAYS))
        way |= {"scope": "n = 1"} if way and dice.random() < 0.4 else {}
        batches.append(rm.merge(rm.Job(store=url, table="t", key="k", commit_every=dice.choice([None, 3]), **way), batch).batch)
        after, archive = merged(states[-1], kept[-1], batch, way)
        assert (bag(url), bag(url, "a")) == (after, archive), way
        states.append(after), kept.append(archive)  # type: ignore[func-returns-value]
        assert rm.verify(url, "t").holds
    for number, state in zip(batches, states[1:], strict=True):
        assert bag_of(rm.as_of(url, "t", batch=number)) == state
    assert bag_of(rm.as_of(url, "t", position=0)) == before
    for k in range(12):
        assert bag_of(rm.as_of(url, "t", position=0, key={"k": k})) == Counter({row: n for row, n in before.items() if row[0] == k})
    since = dice.randrange(len(batches))
    if states[since] == states[-1]:
        return
    undone = rm.undo(url, since_batch=batches[since])
    assert (bag(url), bag(url, "a"), rm.verify(url, "t").holds) == (states[since], kept[since], True)
    rm.undo(url, undone.batch)
    assert (bag(url), bag(url, "a"), rm.verify(url, "t").holds) == (states[-1], kept[-1], True)
    written = {tuple(row[f"new_{name}"] for name in NAMES) for row in rm.history(url, "t").to_pylist()}
    for row in sorted(states[-1] & Counter(written), key=str)[:1]:
        run(
            "UPDATE t SET n = 77 WHERE "
            + " AND ".join(f"{name} IS NULL" if value is None else f"{name} = {value!r}" for name, value in zip(NAMES, row, strict=True))
        )
        assert not rm.verify(url, "t").holds


@pytest.mark.parametrize("kind", ["sqlite", "postgresql"])
def test_foreign_keys_that_wait_for_the_commit_reject_as_others_do(tmp_path: Path, kind: str) -> None:
    """Two tables, alike but for when their keys are checked, come to the same: to each other, and to themselves."""
    for number in range(length.some(4)):
        dice = length.dice("deferred", kind, number)
        (tmp_path / str(number)).mkdir()
        # of rows that refer to each other and go, those go first where keys are checked at once that come last
        ups, way = dice.choice([([1, 2, 3, 5, 99, None], {}), ([None], {"missing": "delete"})])
        ddl = ["CREATE TABLE p (id INTEGER PRIMARY KEY)", "INSERT INTO p VALUES (1), (2), (3)"]
        for name, waits in (("t", ""), ("u", " DEFERRABLE INITIALLY DEFERRED")):
            ddl.append(
                f"CREATE TABLE {name} (id INTEGER PRIMARY KEY, p INTEGER REFERENCES p (id){waits}, up INTEGER, FOREIGN KEY (up) REFERENCES {name} (id){waits})"
            )
            ddl += [f"CREATE TABLE c{name} (id INTEGER PRIMARY KEY, t INTEGER REFERENCES {name} (id){waits})"]
            ddl += [f"INSERT INTO {name} VALUES (1, 1, NULL), (2, 1, NULL), (3, 2, NULL), (4, NULL, NULL)", f"INSERT INTO c{name} VALUES (1, 3), (2, 4)"]
        with databases.table(kind, tmp_path / str(number), *ddl) as (url, _):
            for _ in range(3):
                batch = [{"id": n, "p": dice.choice([1, 2, 3, 4, None]), "up": dice.choice(ups)} for n in dice.sample(range(1, 12), 7)]
                results = [rm.merge(rm.Job(store=url, table=name, key="id", **way), batch) for name in ("t", "u")]
                told = [result.decisions.select(["row", "decision", "id"]).to_pylist() for result in results]
                assert told[0] == told[1], batch
                assert results[0].counts == results[1].counts
                assert rm.as_of(url, "t", position=10**6).sort_by("id") == rm.as_of(url, "u", position=10**6).sort_by("id")
            undone = [rm.undo(url, result.batch, rest=True).counts for result in results]
            assert undone[0] == undone[1]


@databases.every
def test_rows_without_a_key_come_back_as_they_were(tmp_path: Path, kind: str) -> None:
    """No value finds them: what others wrote about them is undone all the same."""
    with databases.table(kind, tmp_path, DDL[0], "INSERT INTO t (k, v) VALUES (NULL, 'a'), (NULL, 'a'), (NULL, 'b'), (1, 'x')") as (url, run):
        batch = rm.merge(rm.Job(store=url, table="t", key="k"), [{"k": 2, "v": "q", "n": 1}]).batch
        before = bag(url)
        rm.capture(url, "t")
        run("INSERT INTO t (k, v) VALUES (NULL, 'a')", "UPDATE t SET v = 'c' WHERE v = 'b'", "DELETE FROM t WHERE k = 1")
        assert bag_of(rm.as_of(url, "t", position=1)) == bag_of(rm.as_of(url, "t", batch=batch)) == before
        theirs = [row["changed_at"] for row in rm.history(url, "t").to_pylist() if row["batch_no"] is None]
        rm.undo(url, table="t", since=min(theirs))
        assert (bag(url), rm.verify(url, "t").holds) == (before, True)
