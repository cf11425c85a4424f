"""Two tables that follow each other become equal, whatever both sides did and in whatever order they follow, and as the rule says."""

from __future__ import annotations

import random
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from time import sleep
from typing import Any

import pytest

import rapid_mender as rm
from rapid_mender.stores.urls import opened

from . import databases, length

TABLE = "CREATE TABLE t (id INTEGER NOT NULL PRIMARY KEY, v INTEGER)"
KEYS = range(4)


@dataclass
class Change:
    """The last change that a side made to a row itself: after how many of its own, and how many of the other's it had seen."""

    number: int
    seen: int
    value: int | None


@dataclass
class Side:
    """One of two tables, and the model of it: plain dicts, and a clock that both share."""

    url: str
    run: Callable[..., None]
    captured: bool
    rows: dict[int, int | None] = field(default_factory=dict)
    own: dict[int, Change] = field(default_factory=dict)
    sent: set[int] = field(default_factory=set)
    """Keys of rows that it changed itself, which the other side has not seen yet."""
    seen: int = 0

    def write(self, key: int, value: int | None, clock: int) -> None:
        """Set a row, or delete it."""
        if value is None and key not in self.rows:
            return
        sleep(0.002)  # the next change is of a later millisecond
        if self.captured:
            there = f"UPDATE t SET v = {value} WHERE id = {key}" if key in self.rows else f"INSERT INTO t VALUES ({key}, {value})"
            self.run(there if value is not None else f"DELETE FROM t WHERE id = {key}")
        else:
            rules = [rm.Rule(decide="delete", when="incoming.v IS NULL")]
            rm.merge(rm.Job(store=self.url, table="t", key="id", rules=rules, seal=clock % 7 == 0), [{"id": key, "v": value}])
        if self.rows.get(key) != value or value is None:
            self.own[key] = Change(clock, self.seen, value)
            self.sent.add(key)
        self.rows = {k: v for k, v in {**self.rows, key: value}.items() if v is not None}

    def there(self) -> dict[int, int]:
        with opened(self.url) as store, store.begin(write=False) as session:
            return {row["id"]: row["v"] for row in session.read(session.describe("t")).values.to_pylist()}


def follow(source: Side, target: Side, rule: str, clock: int) -> None:
    """What a sync makes of the model: a row that both changed, neither having seen the other's change, goes by the rule."""
    for key in sorted(source.sent):
        mine, theirs = source.own[key], target.own.get(key)
        rivals = theirs is not None and theirs.number > mine.seen and mine.number > theirs.seen
        wins = {"later": theirs is None or mine.number > theirs.number, "overwrite": True}.get(rule, False)
        if not rivals or wins:
            target.rows = {k: v for k, v in {**target.rows, key: mine.value}.items() if v is not None}
    source.sent, target.seen = set(), clock


def played(a: Side, b: Side, rules: tuple[str, str], dice: random.Random, steps: int) -> None:
    given = [rule if dice.random() < 0.5 or rule == "overwrite" else None for rule in rules]
    told: dict[str, Any] = {"table": "t", "to_table": "t", "history": True}
    ab, ba = (
        rm.Sync(store=one.url, to_store=other.url, follower=name, conflict=rule, **told)
        for one, other, name, rule in ((a, b, "ab", given[0]), (b, a, "ba", given[1]))
    )
    for key in KEYS:
        a.write(key, 0, 0)
    rm.sync(ab)
    assert rm.sync(ba).filled == 0, "what came from the other table is not filled into it again"
    b.rows = dict(a.rows)
    a.own, a.sent = {}, set()
    log = []
    for clock in range(1, steps + 1):
        what = dice.choice(["a", "a", "b", "b", "ab", "ba"])
        log.append(what)
        if what in ("ab", "ba"):
            rm.sync(ab if what == "ab" else ba)
            follow(*((a, b) if what == "ab" else (b, a)), rules[what == "ba"], clock)
        else:
            (a if what == "a" else b).write(dice.choice(KEYS), dice.choice([1, 2, 3, None]), clock)
    ends = [(ab, a, b, rules[0]), (ba, b, a, rules[1])]
    for sync, source, target, rule in dice.sample(ends, 2) * 2:
        rm.sync(sync)
        follow(source, target, rule, steps + 1)
    assert a.there() == b.there(), log
    assert (a.there(), b.there()) == (a.rows, b.rows), log
    assert [rm.sync(one).counts.total() for one in (ab, ba)] == [0, 0], "nothing goes in a circle"
    assert rm.compare(ab).alike
    assert rm.verify(a.url, "t").holds
    assert rm.verify(b.url, "t").holds


@databases.every
@pytest.mark.parametrize("rules", [("later", "later"), ("overwrite", "skip"), ("skip", "overwrite")])
def test_two_tables_that_follow_each_other_become_equal(kind: str, rules: tuple[str, str], tmp_path: Path) -> None:
    for number in range(length.some(1)):
        dice = length.dice(kind, *rules, number)
        folders = [tmp_path / f"{number}{side}" for side in "ab"]
        for folder in folders:
            folder.mkdir()
        with databases.table("sqlite", folders[0], TABLE) as first, databases.table(kind, folders[1], TABLE) as second:
            sides = [Side(*one, dice.random() < 0.4) for one in dice.sample([first, second], 2)]
            for side in sides:
                if side.captured:
                    rm.capture(side.url, "t")
            played(sides[0], sides[1], rules, dice, 14)


@databases.both
def test_a_row_whose_key_changes_is_two(kind: str, tmp_path: Path) -> None:
    """It goes from one key, and comes to another: what the other side did with the first one later counts."""
    with databases.table("sqlite", tmp_path, TABLE) as (a, run), databases.table(kind, tmp_path, TABLE) as (b, other):
        rm.merge(rm.Job(store=a, table="t", key="id"), [{"id": 1, "v": 1}])
        rm.capture(a, "t")
        syncs = [rm.Sync(store=x, table="t", to_store=y, to_table="t", follower=name, history=True) for x, y, name in ((a, b, "ab"), (b, a, "ba"))]
        for sync in syncs:
            rm.sync(sync)
        rm.capture(b, "t")
        run("UPDATE t SET id = 5 WHERE id = 1")
        sleep(0.01)
        other("UPDATE t SET v = 9 WHERE id = 1")
        for sync in syncs * 2:
            rm.sync(sync)
        assert [Side(url, run, True).there() for url in (a, b)] == [{1: 9, 5: 1}] * 2


@databases.both
def test_both_sides_cannot_win(kind: str, tmp_path: Path) -> None:
    with databases.table(kind, tmp_path, TABLE, TABLE.replace(" t ", " u ")) as (url, _):
        rm.merge(rm.Job(store=url, table="t", key="id"), [{"id": 1, "v": 1}])
        there = {"store": url, "table": "t", "to_store": url, "to_table": "u", "history": True}
        back = {"store": url, "table": "u", "to_store": url, "to_table": "t", "history": True}
        rm.sync(follower="there", conflict="overwrite", **there)
        with pytest.raises(rm.JobError, match='"overwrite" to the sync of the side that wins and "skip" to the other'):
            rm.sync(follower="back", conflict="overwrite", **back)
        rm.sync(follower="back", **back)
        rm.merge(rm.Job(store=url, table="u", key="id"), [{"id": 1, "v": 2}])
        rm.sync(follower="back", **back)
        rm.merge(rm.Job(store=url, table="t", key="id"), [{"id": 1, "v": 3}])
        rm.merge(rm.Job(store=url, table="u", key="id"), [{"id": 1, "v": 4}])
        assert rm.sync(follower="back", **back).outdone == 1
        assert rm.sync(follower="there", **there).counts["update"] == 1
        assert rm.compare(rm.Sync(follower="there", **there)).alike
