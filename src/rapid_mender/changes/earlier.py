"""Stores as earlier versions left them: what is in `rmend_details` now was among the figures of the batches."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from datetime import datetime
from typing import Any

from ..core.json_text import read_json
from ..core.own_tables import BATCHES_TABLE
from ..errors import StoreError
from ..stores.contract import Condition, Selection, Session, Where
from .detail import Detail, versions_details

_NONE: dict[str, Any] = {}
_READ = ("batch_no", "table_name", "started_at", "first_change", "undoes", "figures")


def details_in_figures(session: Session, table: str, where: Where = ()) -> list[Detail]:
    """The details of a table's batches, in a store that has none apart."""
    kept = session.find_own(BATCHES_TABLE)
    if kept is None or "figures" not in kept:
        return []
    here = [[Condition("table_name", "=", table)], *where]
    columns = [name for name in _READ if name in kept]
    rows = session.read(kept, Selection(here, "batch_no", columns=columns)).values.to_pylist()
    return [detail for row in rows for detail in details_in(session.where, row)]


def details_in(where: str, row: Mapping[str, Any]) -> list[Detail]:
    """The details in the figures of a batch of a store. Raises StoreError if somebody has altered these."""
    try:
        return list(_details(row, read_json(row["figures"], _NONE)))
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise StoreError(
            f"{where}: row {row['batch_no']} of {BATCHES_TABLE} has figures that no run has, so somebody has "
            f"altered it; put it back ({type(error).__name__}: {error})"
        ) from error


def _details(row: Mapping[str, Any], figures: dict[str, Any]) -> Iterator[Detail]:
    batch = int(row["batch_no"])
    for name in _texts(figures, "key"):
        yield Detail("key", name=name, batch=batch)
    began = figures.get("began", {})
    if isinstance(began, list):  # by a batch that changed rows
        began = dict.fromkeys(map(_text, began), row["first_change"]) if row["first_change"] is not None else {}
    for name, number in began.items():
        yield Detail("began", name=name, change_no=_number(number), batch=batch)
    if (pruned := figures.get("pruned")) is not None:
        yield Detail(
            "pruned", change_no=_number(pruned["change"]), of_batch=_number(pruned["batch"], True),
            at_time=_time(pruned["time"]), value=_text(pruned["seal"], True), batch=batch,
        )  # fmt: skip
    of_capture = figures.get("capture")
    if figures.get("history") is False:
        after, rows = _number(figures.get("after"), True), _number(figures.get("rows"), True)
        yield Detail("unrecorded" if of_capture is None else "pause", change_no=after, row_count=rows, batch=batch)
    if of_capture == "start":
        yield Detail("captured", batch=batch)
    if (room := figures.get("room")) is not None:
        after, count = map(_number, room)
        yield Detail("resume", change_no=after, row_count=count, at_time=row["started_at"], batch=batch)
    for pause in figures.get("mends", ()):
        yield Detail("mended", of_batch=_number(pause), batch=batch)
    for origin in _texts(figures, "came_from"):
        yield Detail("origin", name=origin, batch=batch)
    for was, name in (("archive", "archive"), ("unarchive", "restored")):
        if was in figures:
            yield Detail(name, name=_text(figures[was]), batch=batch)  # type: ignore[arg-type]
    if (versions := figures.get("versions")) is not None:
        yield from (replace(one, batch=batch) for one in _versions(versions))


def _versions(told: dict[str, Any]) -> list[Detail]:
    return versions_details(
        begin=_text(told["from"]), end=_text(told["to"]), open_=_text(told["open"], True),
        included=told["end"] == "included", columns=_texts(told, "columns"), also=_texts(told, "also"),
        key=_texts(told, "key"),
    )  # fmt: skip


def _texts(figures: Mapping[str, Any], name: str) -> list[str]:
    told = figures.get(name, [])
    if not isinstance(told, list):
        raise TypeError(name)
    return [str(_text(one)) for one in told]


def _text(value: Any, or_none: bool = False) -> Any:
    if not isinstance(value, str) and not (or_none and value is None):
        raise TypeError(repr(value))
    return value


def _number(value: Any, or_none: bool = False) -> Any:
    if not (type(value) is int and 0 <= value < 1 << 62) and not (or_none and value is None):
        raise TypeError(repr(value))
    return value


def _time(value: Any) -> datetime:
    at = datetime.fromisoformat(value)
    if at.tzinfo is None:
        raise ValueError(value)
    return at


def kind_in(row: Mapping[str, Any], figures: dict[str, Any]) -> str:
    """What a batch was."""
    if isinstance(what := figures.get("capture"), str):
        return f"capture {what}"
    if row["undoes"] is not None or "undoes_changes" in figures:
        return "undo"
    return "prune" if "pruned" in figures else "sync" if "came_from" in figures else "merge"
