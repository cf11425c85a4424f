"""Results as plain documents, for programs: what `--json` prints."""

from __future__ import annotations

from dataclasses import asdict, fields
from typing import Any

import pyarrow as pa

from .changes.capture import Captured
from .changes.events import documents_of
from .changes.mending import Mended
from .changes.prune import Pruned
from .changes.verify import Verified
from .core.json_text import read_json
from .followers.compare import Compared
from .followers.syncing import Synced
from .jobs.check import Checked
from .jobs.span_check import SpansChecked
from .merging.explain import Explanation
from .merging.result import Result
from .merging.undone import Undone


def of_checked(checked: Checked) -> dict[str, Any]:
    return asdict(checked)


def of_explanation(explanation: Explanation) -> dict[str, Any]:
    return asdict(explanation)


def of_result(result: Result) -> dict[str, Any]:
    return result.to_dict()


def of_changes(changes: pa.Table) -> list[dict[str, Any]]:
    """The changes of a history as documents: old and new values in an object each."""
    return list(documents_of(changes))


def of_rows(rows: pa.Table) -> list[dict[str, Any]]:
    return rows.to_pylist()  # type: ignore[no-any-return]


def of_undone(undone: Undone) -> dict[str, Any]:
    document = {
        name: getattr(undone, name)
        for name in ("table", "store", "key", "what", "undoes", "batch", "counts", "forced", "kept", "stops")
    }
    samples = [
        {"action": one.action, "key": one.key, "values": {c: {"now": now, "then": then} for c, now, then in one.cells}}
        for one in undone.samples
    ]
    more = {"written": undone.wrote, "conflicts": undone.conflicts.to_pylist(), "seconds": round(undone.seconds, 3)}
    return document | more | ({"samples": samples} if samples else {})


def of_verified(verified: Verified) -> dict[str, Any]:
    names = (
        "table",
        "store",
        "key",
        "holds",
        "changes",
        "rows",
        "unknown",
        "found",
        "holes",
        "sealed",
        "seal",
        "unsealed",
    )
    tables = {"differences": verified.differences.to_pylist(), "altered": verified.altered.to_pylist()}
    return {name: getattr(verified, name) for name in names} | tables


def of_pruned(pruned: Pruned) -> dict[str, Any]:
    return asdict(pruned)


def of_synced(synced: Synced) -> dict[str, Any]:
    counted = {"counts": dict(synced.counts), "reasons": dict(synced.reasons)}
    return asdict(synced) | counted | {"seconds": round(synced.seconds, 3)}


def of_compared(compared: Compared) -> dict[str, Any]:
    document = {one.name: getattr(compared, one.name) for one in fields(compared) if one.name != "differences"}
    return document | {"alike": compared.alike, "differences": compared.differences.to_pylist()}


def of_batches(batches: pa.Table) -> list[dict[str, Any]]:
    """Batches as documents, with a run's own figures as an object."""
    none: dict[str, Any] = {}
    return [row | {"figures": row["figures"] and read_json(row["figures"], none)} for row in batches.to_pylist()]


def of_mended(mended: Mended) -> dict[str, Any]:
    return {name: value for name, value in asdict(mended).items() if name != "table"} | {"whole": mended.whole}


def of_spans(found: SpansChecked) -> dict[str, Any]:
    document = {one.name: getattr(found, one.name) for one in fields(found) if one.name not in ("examples", "mends")}
    return document | {"sound": found.sound, "examples": found.examples.to_pylist(), "mends": of_rows(found.mends)}


def of_captured(done: Captured, statements: bool = False) -> dict[str, Any]:
    """A captured table; with `statements`, what would be run."""
    document = asdict(done)
    return document if statements else {name: value for name, value in document.items() if name != "statements"}
