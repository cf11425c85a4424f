"""What is kept of a run with its batch: figures for those who look, and details for those who depend on them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from ..changes.detail import Detail, versions_details
from ..changes.recorder import Recorder
from ..jobs.plan import Plan
from .tally import Tally

_LONGEST = 200  # letters of a reason


def figures_of(tally: Tally, key: Sequence[str], retries: int, seconds: float) -> dict[str, Any]:
    """The run's own figures."""
    return {
        **plain_figures(tally.records, tally.changed, key, seconds), "missing": tally.missing, "retries": retries,
        "rules": {str(number): count for number, count in sorted(tally.fired.decided.items())},
        "steps": {name: round(took, 3) for name, took in tally.seconds.items()},
        **({"rejects": {_short(why): n for why, n in tally.reasons.most_common(10)}} if tally.reasons else {}),
    }  # fmt: skip


def plain_figures(records: int, changed: Mapping[str, int], key: Sequence[str], seconds: float) -> dict[str, Any]:
    """Those of a run of which there is little to tell."""
    return {
        "records": records, "missing": 0, "changed": dict(changed), "rules": {}, "key": list(key), "steps": {},
        "retries": 0, "seconds": round(seconds, 3),
    }  # fmt: skip


def warn_at_end(tally: Tally, table: str, stops: Iterable[str], recorder: Recorder | None) -> None:
    """Add the warnings about a whole run into a table. `stops`: why a merge would stop, in a preview."""
    for reason, count in tally.kept.most_common(10):
        tally.warn(f"{count:,} rows that did not come were kept: {reason}")
    for why in stops:
        tally.warn(f"a merge would stop: {why}")
    for number, count in sorted(tally.fired.failed.items()):
        what = "division by zero, overflow, or a text of another form"
        tally.warn(f"rule {number} could not be computed for {count:,} records ({what}); it counted as unknown")
    for danger in recorder.warnings if recorder is not None else ():
        tally.warn(danger)
    if recorder is not None and recorder.unrecorded:
        tally.warn(
            f"{recorder.unrecorded:,} rows that nobody sent were changed by triggers of {table}; the history does not "
            "have these changes, and so does not replay"
        )


def details_of(plan: Plan) -> list[Detail]:
    """What others are to know of a merge."""
    details = [Detail("key", name=name) for name in plan.identity]
    if plan.archive is not None:
        details.append(Detail("archive", name=plan.archive.name))
    if (spans := plan.spans) is not None:
        also = [*spans.surrogates, *(name for name in (spans.current, spans.number) if name is not None)]
        details += versions_details(
            begin=spans.begin, end=spans.end, open_=None if spans.open is None else str(spans.open),
            included=spans.included, columns=spans.versioned, also=also, key=plan.key,
        )  # fmt: skip
    return details


def _short(text: str) -> str:
    return text if len(text) <= _LONGEST else f"{text[: _LONGEST - 1]}…"
