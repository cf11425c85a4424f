"""What is done in a faster way gives what the slower one gives."""

from __future__ import annotations

import io
import random
import sqlite3
import struct
from contextlib import closing
from datetime import UTC, datetime
from itertools import islice
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest

import rapid_mender as rm
from rapid_mender.changes.past import past_of
from rapid_mender.core.schema import Column, TableInfo
from rapid_mender.followers import side_by_side
from rapid_mender.stores.mariadb import wire
from rapid_mender.stores.postgresql import session as postgresql
from rapid_mender.stores.sqlite.types import encode, spelled
from rapid_mender.stores.urls import opened

from . import servers
from .killing import kill_fills, place, register, table_of

PARTS = (
    "CREATE TABLE parted (id bigint, v text) PARTITION BY RANGE (id)",
    "CREATE TABLE low PARTITION OF parted FOR VALUES FROM (0) TO (100)",
    "CREATE TABLE high PARTITION OF parted FOR VALUES FROM (100) TO (100000) PARTITION BY RANGE (id)",
    "CREATE TABLE highest PARTITION OF high FOR VALUES FROM (100) TO (100000)",
    "INSERT INTO parted SELECT n, repeat('x', n % 90) FROM generate_series(0, 5000) AS n",
    "CREATE TABLE parent (id bigint, v text)",
    "CREATE TABLE child (more text) INHERITS (parent)",
    "INSERT INTO parent VALUES (1, 'a')",
    "INSERT INTO child SELECT n, 'b', repeat('y', 90) FROM generate_series(2, 3000) AS n",
    "CREATE TABLE holes (id bigint, v text)",
    "INSERT INTO holes SELECT n, repeat('z', 90) FROM generate_series(1, 5000) AS n",
    "DELETE FROM holes WHERE id BETWEEN 500 AND 4500",
    "CREATE TABLE bare (id bigint, v text)",
    "CREATE VIEW seen AS SELECT * FROM holes",
)


@pytest.mark.postgresql
@pytest.mark.parametrize(("name", "by_blocks"), [("parted", True), ("parent", True), ("holes", True), ("bare", True), ("seen", False)])
def test_a_table_is_read_by_spans_of_blocks(name: str, by_blocks: bool, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(postgresql, "_FIRST_BLOCKS", 1)
    monkeypatch.setattr(postgresql, "PAGE_ROWS", 150)
    with servers.database("postgresql") as database:
        database.run(*PARTS)
        with database.store.begin(write=True) as session:
            info = session.describe(name)
            wanted = session.read(info).values.sort_by("id")
            pages = [page.values for page in session.scan(info, info.names, fresh=True)]
            session._write.drained().blocks = lambda _: None  # type: ignore[attr-defined]
            slowly = [page.values for page in session.scan(info, info.names, fresh=True)]
    assert len(pages) > 5 or not by_blocks or not wanted.num_rows
    for some in (pages, slowly):
        assert pa.concat_tables([wanted.slice(0, 0), *some]).sort_by("id").equals(wanted)


def test_texts_come_over_the_wire_as_they_were_sent(monkeypatch: pytest.MonkeyPatch) -> None:
    full = 0xFFF  # bytes of a packet that is followed by another: else they would be of 16 MiB
    monkeypatch.setattr(wire, "_FULL", full)
    sizes = [0, 1, 250, 251, 252, full - 6, full - 3, full - 2, full, 2 * full - 3, 65_535, 65_536, 1 << 24]
    texts = [None, *(bytes([65 + i]) * size for i, size in enumerate(sizes))]
    parts, number = list[bytes](), 0
    for text in texts:
        size = 0 if text is None else len(text)
        width = next(w for most, w in ((251, 0), (1 << 16, 2), (1 << 24, 3), (1 << 64, 8)) if size < most)
        begin = bytes([size if not width else {2: 252, 3: 253, 8: 254}[width]]) + (size.to_bytes(width, "little") if width else b"")
        payload = b"\xfb" if text is None else begin + text
        for at in range(0, len(payload) + 1, full):
            part = payload[at : at + full]
            parts += [struct.pack("<I", len(part) | number << 24), part]
            number = (number + 1) % 256
    end = b"\xfe\0\0\2\0"
    rows: list[Any] = []
    stream = b"".join(parts) + struct.pack("<I", len(end) | number << 24) + end
    assert wire._read_texts(io.BytesIO(stream).read, rows) == (end, number)
    assert [text for (text,) in rows] == texts
    for cut in (3, 7, len(stream) - 2):
        with pytest.raises(Exception, match="Lost connection"):
            wire._read_texts(io.BytesIO(stream[:cut]).read, [])


@pytest.mark.parametrize("kind", ["sqlite", "postgresql", "mariadb"])
def test_changes_are_read_side_by_side(kind: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(side_by_side, "_SPAN", 7)
    dice = random.Random(kind)
    with place(kind, tmp_path) as there, opened(there.url) as store:
        with store.begin(write=True) as session:
            session.create(TableInfo("t", (Column("id", pa.int64(), nullable=False), Column("v", pa.string())), ("id",)))
        job = rm.Job(store=store, table="t", key="id", missing="delete")
        for turn in range(6):
            rm.merge(job, [{"id": n, "v": f"{turn} {dice.random()}"} for n in dice.sample(range(40), 20)])
        with store.begin(write=False) as session:
            past = past_of(session, "t")
            slowly = pa.concat_tables([page.values for page in past.changes()])
            last = slowly["change_no"][-1].as_py()
            for after, until in ((0, last), (5, last), (5, last - 3), (last - 1, last), (last, last)):
                fast = [page.values for page in side_by_side.read_side_by_side(store, past, after, until, None)]
                assert pa.concat_tables([slowly.slice(0, 0), *fast]).equals(slowly.slice(after, until - after))
            with closing(sqlite3.connect(tmp_path / "register.db") if kind == "sqlite" else store.connect()) as link:  # type: ignore[attr-defined]
                (link.execute if kind == "sqlite" else link.run)("UPDATE t_history SET change_no = change_no + 90000 WHERE change_no > 20")
                if kind == "sqlite":
                    link.commit()
        with store.begin(write=False) as session:
            leaping = pa.concat_tables([page.values for page in past_of(session, "t").changes()])
            fast = [page.values for page in side_by_side.read_side_by_side(store, past_of(session, "t"), 0, last + 90000, None)]
            assert pa.concat_tables(fast).equals(leaping)
        with rm.Follower(store, "t", "all", start=20) as follower:
            assert [one.num_rows for one in follower.changes()] == [last - 20]
        for conflict in ("overwrite", "skip"):  # without what the rows were before, and with it
            rm.sync(store, "t", store, conflict, follower=conflict, conflict=conflict)
        for turn in range(4):
            rm.merge(job, [{"id": n, "v": f"{turn} {dice.random()}"} for n in dice.sample(range(40), 20)])
        for conflict in ("overwrite", "skip"):
            rm.sync(store, "t", store, conflict, follower=conflict, conflict=conflict)
        assert table_of(there.url, "overwrite").sort_by("id") == table_of(there.url, "skip").sort_by("id") == table_of(there.url, "t").sort_by("id")


@pytest.mark.postgresql
def test_a_fill_whose_source_is_lost_is_not_at_its_end(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(postgresql, "_FIRST_BLOCKS", 1)
    monkeypatch.setattr(postgresql, "PAGE_ROWS", 100)
    reads = postgresql.PostgreSQLSession._by_blocks

    def lost(*about: Any) -> Any:
        yield from islice(reads(*about), 3)
        raise rm.StoreError("the connection is lost")

    with servers.database("postgresql") as source, place("sqlite", tmp_path) as target:
        register(source.url, 2_000)[0].close()
        job = rm.Sync(follower="map", store=source.url, table="trees", to_store=target.url, to_table="map")
        with monkeypatch.context() as patch:
            patch.setattr(postgresql.PostgreSQLSession, "_by_blocks", lost)
            with pytest.raises(rm.StoreError, match="is lost"):
                rm.sync(job)
        rm.sync(job)
        assert table_of(target.url, "map").sort_by("tag_no") == table_of(source.url, "trees").sort_by("tag_no")


@pytest.mark.slow
@pytest.mark.parametrize(("kind", "to"), [("sqlite", "postgresql"), ("postgresql", "mariadb")])
def test_a_fill_that_was_killed_goes_on(kind: str, to: str, tmp_path: Path) -> None:
    with place(kind, tmp_path) as there, place(to, tmp_path) as other:
        assert len(kill_fills(there, other, tmp_path, rows=5_000, kills=1, seed=5)) == 1


def test_a_value_alone_is_spelled_for_sqlite_as_a_column_is() -> None:
    rng = random.Random(7)
    moments = [datetime(1, 1, 1, tzinfo=UTC), datetime(9999, 12, 31, 23, 59, 59, 999_999, tzinfo=UTC)]
    moments += [datetime.fromtimestamp(rng.uniform(-6e10, 2e11), UTC).replace(microsecond=rng.choice([0, 1, 999, 1000, 654_321])) for _ in range(99)]
    for kind, values in ((pa.timestamp("ms", "UTC"), moments), (pa.string(), ["", "a'b", "ß"]), (pa.int64(), [0, -(2**63)])):
        assert [spelled(kind, one) for one in values] == encode(pa.array(values, kind)).to_pylist()
    assert spelled(pa.timestamp("us"), moments[0].replace(tzinfo=None)) is spelled(pa.float64(), 1.5) is None, "only a column is known to be right"
