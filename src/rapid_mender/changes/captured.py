"""What is kept of captures: their rows in `rmend_captures`, and notes among the batches."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any, Literal

from pydantic import TypeAdapter, ValidationError

from ..core.json_text import read_json
from ..core.names import in_quotes
from ..core.own_tables import CAPTURES, CAPTURES_TABLE, Kind
from ..core.schema import TableInfo
from ..errors import JobError, StoreError
from ..stores.contract import Capture, Session, Store
from ..stores.contract.capture import Known, Options
from .detail import Detail
from .details import bring_up_to_date
from .own import rows_of
from .recorder import Recorder

State = Literal["on", "paused"]
NONE = dict.fromkeys(("insert", "update", "delete", "skip", "reject"), 0)


@contextmanager
def turn(place: Store, table: str, write: bool) -> Iterator[tuple[Session, TableInfo]]:
    """A session in which no merge into the table is under way."""
    with place.begin(write=False) as session:
        info = session.describe(table, trusting=True)  # its triggers run with its owner's rights
    if write:
        bring_up_to_date(place)
    with place.begin(write, info if write else None) as session:
        yield session, session.describe(info.name)


def row_for(
    info: TableInfo, made: Capture, told: Options, state: State, triggers: Sequence[str], newest: int | None
) -> dict[str, str | None]:
    count = sum("CREATE TRIGGER" in sql.upper() for sql in triggers)
    row: dict[str, str | None] = {
        "table_name": info.name, "token": made.token, "secret": made.secret, "state": state,
        "options": json.dumps(told.others(), ensure_ascii=False),
        "known": Known.of(info, made.known, count).as_text(),
    }  # fmt: skip
    return row if newest is None else row | {"position": str(newest)}


def needed(session: Session, info: TableInfo) -> dict[str, Any]:
    row = next(iter(rows_of(session, CAPTURES, table_name=info.name)), None)
    if row is None:
        known = [str(one["table_name"]) for one in rows_of(session, CAPTURES)]
        others = f"captured are {in_quotes(known)}" if known else f"nor is any table of {session.where}"
        raise JobError(f"{info.name!r} is not captured; {others}")
    return row


def state_in_words(row: Mapping[str, Any]) -> str:
    return f"{'paused' if row['state'] == 'paused' else 'on'} since {row['changed_at']:%Y-%m-%d %H:%M}"


def options_of(row: Mapping[str, Any]) -> Options:
    kept = read_json(row["options"], dict[str, Any]())
    try:
        return TypeAdapter(Options).validate_python(kept)
    except ValidationError as error:
        raise StoreError(
            f"the options of the capture of {row['table_name']!r} are not as they were written, so somebody has "
            f"altered {CAPTURES_TABLE}: stop that capture, and start it anew"
        ) from error


def last_change(session: Session, info: TableInfo) -> int:
    """The last change of a table, also if it was pruned."""
    return Recorder(session, info, None, True).newest()


def note(
    session: Session,
    info: TableInfo,
    what: Literal["start", "stop", "pause", "resume", "refresh"],
    details: Sequence[Detail] = (),
    figures: Mapping[str, Any] | None = None,
    reserves: int = 0,
) -> None:
    """Note among the batches what was done with a capture; the numbers of changes go on after those it `reserves`."""
    table = session.describe(info.name)
    kind: Kind = f"capture {what}"  # type: ignore[assignment]
    recorder = Recorder(session, table, kind, False, reserves=reserves, kind=kind)
    recorder.start()
    recorder.finish(NONE, dict(figures or {}), details=details)
