"""Hazards of a table: what a merge could not undo, could not record, or may not do, reported before a record is
read."""

from __future__ import annotations

from ..core.own_tables import BATCHES_TABLE, CAPTURES_TABLE, DETAILS_TABLE, history_info
from ..core.schema import TableInfo
from ..errors import StoreError
from ..stores.contract import Condition, Need, Selection, Session
from ..stores.contract.capture import Known, altered, lacking
from ..stores.contract.widening import too_narrow
from .options import RejectsTable
from .plan import Plan
from .problems import Problems


def look_for_hazards(plan: Plan, problems: Problems) -> None:
    """Note as problems what makes a table unfit for a job, and as warnings what might."""
    info, job = plan.info, plan.job
    for table in (info, plan.archive):
        _needs_undo(plan, problems, table)
    if job.history and "delete" in job.allow and job.delete != "mark" and _may_delete(plan):
        for one in info.reach:
            if wrong := one.deleting(info.name):
                problems.wrong(f'{wrong}; let it restrict, set delete = "mark", or history = false')
    _look_at_rights(plan, problems)


def look_at_our_tables(session: Session, plan: Plan, problems: Problems) -> None:
    """Note what is wrong with our own tables in the store. A merge would only notice when it writes to them."""
    info = plan.info
    _look_at_capture(session, info, problems)
    if grants := missing_grants(session, plan):
        problems.warn(f"this user lacks rights, and a merge that needs them will stop: {'; '.join(grants)}")
    _needs_undo(plan, problems, session.find_own(BATCHES_TABLE, owner=info.owner))
    for name, sequence in session.behind(info):
        problems.warn(
            f"{name}: where records bring values of their own, {sequence} stays behind, as this user may not set it, "
            f"and a row that takes its value from there may be refused: GRANT UPDATE ON SEQUENCE {sequence}"
        )
    if not plan.job.history:
        return
    shape = history_info(info, session.fits)
    history = session.find_own(shape.name, info)
    _needs_undo(plan, problems, history)
    if history is None and (why := session.cannot_make(shape)):
        problems.wrong(f"the history of {info.name!r} cannot be made: {why}; set history = false")
    if history is not None:
        try:
            too_narrow(session, info, history)
        except StoreError as error:
            problems.wrong(str(error))
    if info.triggers:
        problems.warn(
            f"{info.name} has triggers: what they do to the rows that are written is in the history; other rows of the "
            "table that they change are counted (unrecorded in rmend_batches), and not in the history"
        )
    if why := session.tight(shape):
        problems.warn(f"the history of {info.name!r} might not take every change, and a merge would stop: {why}")


def _look_at_capture(session: Session, info: TableInfo, problems: Problems) -> None:
    kept = session.find_own(CAPTURES_TABLE)
    if kept is None or "known" not in kept or (kept.rights is not None and "select" not in kept.rights):
        return
    of_table = Selection([[Condition("table_name", "=", info.name)]], "capture_no", columns=["state", "known", "token"])
    for danger in session.unsafe_triggers(info):
        problems.warn(danger)
    for row in session.read(kept, of_table).values.to_pylist():
        if row["state"] == "paused":
            problems.warn(f"the capture of {info.name} is paused: what others write to it is not recorded")
        else:
            for note in lacking(session.triggers(info), row["token"], Known.read(row["known"]).triggers):
                problems.warn(f"the capture of {info.name} does not record what others write: {note}")
        for note in altered(session, info, row):
            problems.warn(f"{info.name} is captured, and {note}")


def _needs_undo(plan: Plan, problems: Problems, table: TableInfo | None) -> None:
    if table is not None and not table.undoes and not plan.job.without_undo:
        problems.wrong(
            f"table {table.name!r} has an engine that cannot undo: what a stopped run wrote would stay; give it one "
            "that can (ENGINE = InnoDB), or set without_undo = true to accept that"
        )


def _may_delete(plan: Plan) -> bool:
    return plan.job.missing == "delete" or any(rule.decide == "delete" for rule in plan.job.rules)


def missing_grants(session: Session, plan: Plan) -> list[str]:
    """The rights that the user lacks for all that a merge may do, as the statements that grant them."""
    job, info = plan.job, plan.info
    verbs = {"select"} | ({"insert", "update", "delete"} & set(job.allow))
    if job.delete == "mark" or not _may_delete(plan):
        verbs.discard("delete")
    needs = [Need(info.name, frozenset(verbs), own=False), Need(BATCHES_TABLE, _WRITES | {"update"})]
    needs.append(Need(DETAILS_TABLE, _WRITES))
    if job.history:
        needs.append(Need(history_info(info, session.fits).name, _WRITES, info))
    if plan.archive is not None:
        needs.append(Need(plan.archive.name, _WRITES, own=False))
    if isinstance(job.rejects, RejectsTable):
        needs.append(Need(job.rejects.table, _WRITES))
    return session.missing_grants(needs)


_WRITES = frozenset({"select", "insert"})


def _look_at_rights(plan: Plan, problems: Problems) -> None:
    if plan.info.rights is not None and "select" not in plan.info.rights:
        name = plan.info.name
        problems.wrong(f"this user may not read every column of {name!r}: GRANT SELECT ON {name} TO the user")
