"""Capture: what other programs write to a table is recorded in its history, by triggers."""

from __future__ import annotations

import secrets
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta
from typing import Any, Literal

from ..core.names import in_quotes
from ..core.own_tables import CAPTURES, history_info, is_history, stored_names
from ..core.records import known_column
from ..core.schema import TableInfo
from ..errors import JobError, StoreError
from ..stores.contract import Capture, Condition, Session, Store
from ..stores.contract.capture import ACTIONS, Known, Options, altered
from ..stores.contract.widening import too_narrow
from ..stores.urls import opened
from .captured import last_change, needed, note, options_of, row_for, state_in_words, turn
from .chains import agrees
from .detail import Detail
from .identity import Identity, identity_of
from .lost import was_on, what_is_lost
from .own import own, rows_of
from .past import NUMBER, past_if_any, past_of

_LATE = timedelta(minutes=1)


@dataclass
class Captured:
    """A table that is captured.

    `state` is "on", "paused", or "broken" if its triggers are not all there. `since` is when it was started,
    `position` the last change before. `recorded` changes were recorded since, `a_second` of these in the middle of the
    last minute. `columns` are those that are known. `options` has those that were given. `others` are further triggers
    on the table, `notes` what is to be known of it, in words.
    """

    table: str
    store: str
    history: str
    state: Literal["on", "paused", "broken"]
    since: datetime
    position: int
    columns: list[str]
    options: dict[str, Any]
    recorded: int = 0
    a_second: float = 0.0
    others: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    statements: list[str] = field(default_factory=list, repr=False)
    """What was run, or would be. It has the secret by which merges are known, where the store needs one."""


def capture(
    store: str | Store,
    table: str,
    *,
    columns: Sequence[str] = (),
    actions: Sequence[str] | None = None,
    when: str | None = None,
    actor: str | None = None,
    application: str | None = None,
    deletes: Literal["record", "mark", "refuse"] = "record",
    mark: Mapping[str, str] | None = None,
    says: str | None = None,
    truncate: Literal["record", "refuse"] = "record",
    preview: bool = False,
) -> Captured:
    """Record from now on what any program writes to a table, in its history, in the transaction of the writer.

    `columns`: an update is recorded only if it changes one of these, and names these only as changed; `actions`: only
    these are recorded (all unless told); `when`: only where this condition holds, in the database's own SQL, over
    `new.X` and `old.X`. `actor` and `application` are expressions in the database's own SQL for who did it; without
    them it is the user of the database, and what the connection says of its program, where the database knows.
    `deletes`: "mark" sets the columns of `mark` (expressions in its own SQL) in place of a delete, "refuse" refuses it
    with the text `says`. `truncate`: whether TRUNCATE is recorded as deletes or refused, where the database can. With
    `preview` nothing is done: `statements` are what would be run.

    Raises JobError if the table cannot be captured, or is already; StoreError if it is not there.
    """
    told = Options(
        columns=tuple(columns), actions=ACTIONS if actions is None else tuple(actions), when=when, actor=actor,
        application=application, deletes=deletes, mark=dict(mark or {}), says=says or "", truncate=truncate,
    )  # fmt: skip
    with opened(store) as place, turn(place, table, not preview) as (session, info):
        found = rows_of(session, CAPTURES, table_name=info.name)
        if found and not what_is_lost(session, info, found[0]):
            raise JobError(
                f"{info.name!r} is captured already, {state_in_words(found[0])}; stop that first, or refresh it"
            )
        _check_table(session, info)
        told = _checked(session, info, told)
        token, secret = secrets.token_hex(6), secrets.token_hex(16)
        identity = identity_of(session, info)
        statements, about, newest = _history_sql(session, info, identity)
        if own(session, CAPTURES) is None:
            statements.append(session.create_sql(CAPTURES))
        statements += session.owning_sql(info)
        made_first = [] if preview else statements
        if made_first:  # what follows knows them by their numbers in the catalogue
            session.define(info, made_first)
            statements = []
        for row in found:  # a start that was cut, or a capture that has lost its triggers since
            about += [Detail("pause", "found", change_no=newest)] if was_on(session, info.name) else []
            ending, release = _ending(session, info, row)
            statements += [*ending, *release]
        made = _capture_of(session, info, told, (token, secret), newest, identity)
        triggers = session.capture_sql(info, made)
        row = row_for(info, made, told, "on", triggers, newest)
        statements += [
            session.note_sql(CAPTURES, row, None, ("since", "changed_at")), *session.numbering_sql(info, made)
        ]  # fmt: skip
        if not preview:
            session.define(info, statements, triggers)
            session.define(info, session.numbered_sql(info))
            about += identity.news(info, session.find_own(made.history, info))
            note(session, info, "start", [Detail("captured"), *about], told.others())
        now = datetime.now(UTC)
        notes = [*_about_key(info), *session.not_seen(info, told)]
        others = [f"{one.name}: {one.about}" for one in session.triggers(info) if one.token is None]
        return Captured(
            info.name, place.where, made.history, "on", now, newest, list(made.known), told.others(), others=others,
            notes=notes, statements=[*made_first, *statements, *triggers],
        )  # fmt: skip


def captures(store: str | Store) -> list[Captured]:
    """The captured tables of a store, by name."""
    with opened(store) as place, place.begin(write=False) as session:
        rows = rows_of(session, CAPTURES)
        return [_looked_at(session, place.where, row) for row in sorted(rows, key=lambda row: str(row["table_name"]))]


def stop_capture(store: str | Store, table: str, *, preview: bool = False) -> list[str]:
    """Record no longer what others write to a table; the history stays. Returns the statements that were run, or, with
    `preview`, would be. Raises JobError if the table is not captured."""
    with opened(store) as place, place.begin(not preview) as session:
        gone = rows_of(session, CAPTURES, table_name=table) if session.find(table) is None else []
        if gone:  # with its triggers, unless it has another name now
            statements = [session.note_sql(CAPTURES, {}, row["capture_no"], ()) for row in gone]
            statements += [sql for row in gone for sql in session.orphans_sql(row["token"])]
            if not preview:
                session.define(None, statements)
            return statements
    with opened(store) as place, turn(place, table, not preview) as (session, info):
        row = needed(session, info)
        statements, release = _ending(session, info, row)
        if not preview:
            session.define(info, statements, release)
            note(session, info, "stop")
        return [*statements, *release]


def _ending(session: Session, info: TableInfo, row: Mapping[str, Any]) -> tuple[list[str], list[str]]:
    """The statements by which a capture is noted no longer, and those after which it records nothing."""
    token = row["token"]
    noted = [session.note_sql(CAPTURES, {}, row["capture_no"], ()), *session.strays_sql(info, token)]
    return noted, session.release_sql(info, token)


def refresh_capture(store: str | Store, table: str) -> None:
    """Capture a table with the columns that it has now, and put back triggers that are missing.

    Raises JobError if the table is not captured, or if an option names a column that it has no more.
    """
    with opened(store) as place, turn(place, table, True) as (session, info):
        row = needed(session, info)
        if row["state"] == "paused":
            raise JobError(f"the capture of {info.name!r} is paused; resume it, that refreshes it too")
        again(session, info, row, "refresh")


def again(
    session: Session, info: TableInfo, row: Mapping[str, Any], what: Literal["resume", "refresh"], room: int = 0
) -> None:
    """Make the triggers of a capture anew. They number changes after so many numbers, which stay free."""
    told = _checked(session, info, options_of(row))
    identity = identity_of(session, info)
    lost = bool(what_is_lost(session, info, row)) or past_if_any(session, info.name, info) is None
    statements, about, newest = _history_sql(session, info, identity)
    made = _capture_of(session, info, told, (row["token"], row["secret"]), newest + room, identity)
    triggers = session.capture_sql(info, made)
    noted = row_for(info, made, told, "on", triggers, None)
    statements.append(session.note_sql(CAPTURES, noted, row["capture_no"], ("changed_at",)))
    statements += [*session.strays_sql(info, row["token"]), *session.numbering_sql(info, made)]
    session.define(info, statements, [*session.release_sql(info, row["token"]), *triggers])
    session.define(info, session.numbered_sql(info))
    about += identity.news(info, session.find_own(made.history, info))
    if lost or (row["state"] == "paused" and not room):  # also for those who have compared tables since it was paused
        about.append(Detail("pause", "found" if lost else "resumed", change_no=newest))
    if room:
        about.append(Detail("resume", change_no=newest, row_count=room, at_time=datetime.now(UTC)))
    note(session, info, what, about, reserves=newest + room if room else 0)


def _check_table(session: Session, info: TableInfo) -> None:
    if info.name.rpartition(".")[2].lower().startswith("rmend_") or is_history(info):
        raise JobError(f"{info.name!r} is a table of Rapid Mender's own; these are not captured")
    if why := session.why_no_capture(info):
        raise JobError(f"{info.name!r} cannot be captured: {why}")


def _checked(session: Session, info: TableInfo, told: Options) -> Options:
    """The options with names as the table spells them. Raises JobError for a wrong one."""
    for name, value, known in (
        ("deletes", told.deletes, ("record", "mark", "refuse")), ("truncate", told.truncate, ("record", "refuse")),
        *(("actions", one, ACTIONS) for one in told.actions),
    ):  # fmt: skip
        if value not in known:
            raise JobError(f"{name} is {' or '.join(map(repr, known))}, not {value!r}")
    if not told.actions:
        raise JobError(f"actions: name at least one of {in_quotes(ACTIONS)}")
    if (told.deletes == "mark") != bool(told.mark):
        raise JobError(
            'deletes = "mark" needs the columns to set, as mark = {"felled": "true"}, and only that needs them'
        )
    for what, sql, rows in (
        ("when", told.when, True), ("actor", told.actor, False), ("application", told.application, False),
        *((f"mark: {name}", sql, False) for name, sql in told.mark.items()),
    ):  # fmt: skip
        if sql is not None:
            session.check_sql(info, what, sql, rows)
    says = told.says or f"rows of {info.name} are not deleted"
    return replace(
        told,
        columns=tuple(dict.fromkeys(known_column(info, name).name for name in told.columns)),
        actions=tuple(one for one in ACTIONS if one in told.actions),
        mark={known_column(info, name).name: sql for name, sql in told.mark.items()},
        says=says if told.deletes != "record" else "",
    )


def _history_sql(session: Session, info: TableInfo, identity: Identity) -> tuple[list[str], list[Detail], int]:
    """The statements that make the history, or add columns to it; what is to be noted of these; its last change."""
    shape = history_info(info, session.fits, identity.names)
    kept = session.find_own(shape.name, info)
    if kept is None:
        if why := session.cannot_make(shape):
            raise JobError(f"the history of {info.name!r} cannot be made: {why}")
        return [session.create_sql(shape, info)], [], last_change(session, info)
    if not is_history(kept):
        raise StoreError(f"a table named {shape.name!r} is there already and is not a history; rename it")
    if not kept.undoes:
        raise StoreError(f"table {kept.name!r} has an engine that cannot undo; give it one that can")
    missing = [column for column in shape.columns if column.name not in kept]
    names = stored_names(info, session.fits, identity.names)
    began = identity.beginning(names, kept)
    made = session.add_columns_sql(kept, missing) if missing else []
    narrow = too_narrow(session, info, kept, identity.names)
    newest = last_change(session, info)
    details = [Detail("began", name=name, change_no=newest + 1) for name in began]
    if identity.replaced and not agrees(past_of(session, info.name, info)):
        details.append(Detail("replaced", change_no=newest))
    return made + (session.widen_sql(kept, narrow) if narrow else []), details, newest


def _capture_of(
    session: Session, info: TableInfo, told: Options, named: tuple[str, str], after: int, identity: Identity
) -> Capture:
    shape, names = history_info(info, session.fits), stored_names(info, session.fits, identity.names)
    kept = session.find_own(shape.name, info)
    if kept is not None and session.last(kept.name, NUMBER) >= after:
        after = 0
    token, secret = named
    return Capture(
        **vars(told), token=token, secret=secret, history=shape.name, names=names,
        known={column.name: column.declared or "" for column in info.columns}, after=after,
    )  # fmt: skip


def _about_key(info: TableInfo) -> list[str]:
    if info.identifying:
        return []
    return [
        "the table has no primary key, and no unique columns without nulls: its changes are recorded, but cannot be "
        "followed, undone or verified, nor is there an as-of, until it has one"
    ]


def _looked_at(session: Session, where: str, row: Mapping[str, Any]) -> Captured:
    table, told = row["table_name"], options_of(row)
    columns = Known.read(row["known"]).columns
    since = row["since"].replace(tzinfo=UTC) if row["since"].tzinfo is None else row["since"]
    one = Captured(table, where, "", row["state"], since, int(row["position"]), list(columns), told.others())
    info = session.find(table)
    if info is None:
        return replace(one, state="broken", notes=[f"there is no table {table!r} any more: stop this capture"])
    triggers = session.triggers(info)
    one.others = [f"{trigger.name}: {trigger.about}" for trigger in triggers if trigger.token is None]
    lost = what_is_lost(session, info, row)
    one.notes = [
        *session.unsafe_triggers(info),
        *lost,
        *altered(session, info, row),
        *_about_key(info),
        *session.not_seen(info, told),
    ]
    if lost:
        one.state = "broken"
    past = past_if_any(session, info.name, info)
    if past is None:
        one.notes.append("its history is gone, and writers are refused: refresh it, which notes the gap")
        one.state = "broken"
        return one
    one.history = past.kept.name
    late = datetime.now(UTC) - _LATE
    one.recorded = _captured_since(session, past.kept, [[Condition(NUMBER, ">", one.position)]])
    one.a_second = _captured_since(session, past.kept, [[Condition("changed_at", ">=", late)]]) / _LATE.total_seconds()
    return one


def _captured_since(session: Session, kept: TableInfo, where: list[list[Condition]]) -> int:
    merged = [*where, [Condition("batch_no", ">=", 0)]]
    return session.count(kept, where) - session.count(kept, merged)
