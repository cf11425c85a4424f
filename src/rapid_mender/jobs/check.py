"""What is wrong with a job, all at once, and what it will do, in plain sentences. Nothing is written."""

from __future__ import annotations

from dataclasses import dataclass, field
from itertools import islice
from typing import Any

from ..core.hashing import hash_rows
from ..core.keys import fold_table, null_keys
from ..core.records import REJECT_TEXT
from ..core.repeats import RepeatFinder
from ..errors import Error, JobError
from ..incoming import Source
from ..incoming.rejected import check_rejects_path, restored, schema_of
from ..stores.contract import Session
from ..stores.urls import opened
from .hazards import look_at_our_tables
from .job import Job
from .layouts import Layouts, shape_of
from .opening import batch_of, plan_of, source_of
from .options import RejectsTable
from .plan import Plan
from .problems import Problems


@dataclass
class Checked:
    """What was found. `problems` stop a merge; `warnings` may surprise; `sentences` say what a merge does."""

    problems: list[str] = field(default_factory=list)
    warnings: list[str] = field(default_factory=list)
    sentences: list[str] = field(default_factory=list)

    def note(self, error: Error) -> None:
        """Add an error, or each of the problems that it is made of."""
        self.problems += error.problems if isinstance(error, JobError) else [str(error)]

    def _repr_html_(self) -> str:
        """What a notebook shows."""
        from ..notebook import of_checked

        return of_checked(self)


def check(job: Job, incoming: Any = None) -> Checked:
    """Check a job against its table and its batch, before a record is merged.

    Without `incoming` the job's own is looked at, if it has one. Of a batch whose columns show only in its
    records, the first are read. Raises nothing that is about the job: that is among the problems.
    """
    out = Checked()
    source: Source | None = None
    if incoming is not None or job.incoming is not None:
        try:
            source = source_of(job, incoming)
            source.schema  # noqa: B018  is read when it is asked for
        except Error as error:
            out.note(error)
            source = None
    if job.rejects_path is not None:
        try:
            check_rejects_path(job.rejects_path.path, batch_of(job, incoming))
        except JobError as error:
            out.note(error)
    try:
        with opened(job.store) as place, place.begin(write=False) as session:
            plan, problems = plan_of(session, job, source)
            layouts = Layouts(plan, problems)
            look_at_our_tables(session, plan, problems)
            out.problems += problems.take()
            names: list[str] = []
            if source is not None:
                schema = schema_of(source)
                if schema is None and not source.only_once:
                    first = next(islice(restored(source), 1), None)
                    schema = first.raw.schema if first is not None else None
                if schema is not None:
                    names = [name for name in schema.names if name != REJECT_TEXT]
                    try:
                        layouts.check_batch(names, shape_of(schema))
                    except JobError as error:
                        out.problems += [one for one in error.problems if one not in out.problems]
            if plan.key and not out.problems:
                _check_key(session, plan, problems)
            out.warnings += problems.warnings
            if not out.problems:
                out.sentences = sentences(plan, layouts, source, names)
    except Error as error:
        out.note(error)
    return out


def _check_key(session: Session, plan: Plan, problems: Problems) -> None:
    """Count the rows whose keys repeat, or are null, unless the database sees to it that none do."""
    if plan.spans is not None:  # of a key there are several versions
        return
    info, key = plan.info, set(plan.key)
    if any(set(columns) <= key for columns in (info.primary_key, *info.unique) if columns) and not any(
        info[name].nullable for name in key
    ):
        return
    finder, columns, empty = RepeatFinder(), info.pick(plan.key), 0
    for page in session.scan(info, plan.key):
        usable = ~null_keys(page.values)
        empty += int((~usable).sum())
        finder.add(hash_rows(fold_table(page.values, columns), 7)[usable])
    repeats = len(finder.repeated())
    words = ", ".join(plan.key)
    if repeats:
        problems.warn(f"{repeats:,} values of the key {words} are in several rows; their records will be rejected")
    if empty:
        problems.warn(f"{empty:,} rows have no value in {words}; no record will meet them")


def sentences(plan: Plan, layouts: Layouts, source: Source | None, names: list[str]) -> list[str]:
    """What a merge by this plan does."""
    job, info = plan.job, plan.info
    out = [f"Merges {source.name if source else 'a batch'} into {info.name}, by {', '.join(plan.key)}."]
    if job.rename:
        out.append("Renames " + ", ".join(f"{name} to {column}" for name, column in job.rename.items()) + ".")
    for notation in dict.fromkeys(plan.notations.values()):
        columns = [name for name, one in plan.notations.items() if one == notation]
        out.append(f"Reads texts of {', '.join(columns)} by {notation}.")
    own = plan.spans.columns if plan.spans is not None else []
    if derived := {name: value for name, value in job.derive.items() if name not in own[:1]}:
        out.append("Derives " + ", ".join(f"{name} = {value}" for name, value in derived.items()) + ".")
    for name, one in plan.lookups.items():
        by = " and ".join(f"{column} is the incoming {sent}" for column, sent in one.match)
        out.append(f"Looks up {name}: {one.take} of the row of {one.info.name} whose {by}.")
    if names:
        taken = layouts.columns_of(names)
        left = [
            c for c in info.names if c not in taken and c not in job.derive and c not in plan.lookups and c not in own
        ]
        if left:
            out.append(f"Leaves {', '.join(left)} alone on updates, and to the database on inserts.")
        unused = [n for n in names if n in job.ignore]
        if unused:
            out.append(f"Ignores the incoming {', '.join(unused)}.")
    same = "key" if plan.spans is None else "key and one date"
    out.append({
        "reject": f"Rejects all records of a {same.replace(' one', '')} that comes twice with different values.",
        "first": f"Takes the first of several records with one {same}, and skips the others.",
        "last": f"Takes the last of several records with one {same}, and skips the others.",
    }[job.duplicates])  # fmt: skip
    if plan.spans is not None:
        out += _about_versions(plan)
    if job.order:
        out.append(f"Takes the newest record by {plan.order}, and skips records that are older than the existing row.")
    if job.null_key == "generate":
        out.append("Inserts records without a key; the database makes it.")
    for name, options in plan.options.items():
        said = options.likeness.names()
        said += [] if options.compare else ["is no reason to write"]
        said += (
            []
            if options.write == "always"
            else [f"is written {'on inserts only' if options.write == 'insert' else 'never'}"]
        )
        said += ["takes the database's default where an insert has null"] if options.null == "default" else []
        said += [f"leaves its old value in {options.previous}"] if options.previous else []
        if said:
            out.append(f"Column {name}: {', '.join(said)}.")
    if plan.update_only:
        out.append(f"Updates change {', '.join(plan.update_only)} only.")
    verbs = {"insert": "Inserts", "update": "Updates", "delete": "Deletes", "skip": "Skips", "reject": "Rejects"}
    for number, rule in enumerate(job.rules, 1):
        when = rule.when if isinstance(rule.when, str) else f"the function {getattr(rule.when, '__name__', '')} says so"
        why = f" ({rule.because})" if rule.because else ""
        out.append(f"Rule {number}: {verbs[rule.decide].lower()} where {when}{why}.")
    by_default = {"insert": "inserts records whose key no row has", "update": "updates rows that differ"}
    said = [words for name, words in by_default.items() if name in job.allow]
    out.append(f"Otherwise {' and '.join(said)}, and skips the rest." if said else "Otherwise skips.")
    how = {
        "remove": "removed" if plan.spans is None else "closed", "archive": f"moved to {job.archive}",
        "mark": "marked (" + ", ".join(f"{n} = {v}" for n, v in job.mark.items()) + ")",
    }[job.delete]  # fmt: skip
    if job.unmark:
        back = ", ".join(f"{n} = {v}" for n, v in job.unmark.items())
        out.append(f"A record of a marked row brings it back ({back}).")
    elif job.mark:
        out.append("A record of a marked row updates it, and it stays marked; unmark would bring it back.")
    if job.missing == "delete":
        scope = f" and for which {job.scope}" if job.scope else ""
        out.append(f"Rows that do not come{scope} are {how}.")
    elif any(rule.decide == "delete" for rule in job.rules):
        out.append(f"Deleted rows are {how}.")
    limits = []
    if (most := job.max_rejects) is not None:
        limits.append(f"{most} rejects" if most.share is None else f"{most} of the records are rejects")
    if (most := job.max_deletes) is not None:
        limits.append(f"{most} deletes" if most.share is None else f"{most} of the rows are to be deleted")
    if limits:
        out.append(f"Stops, and undoes everything, when more than {' or '.join(limits)}.")
    if job.commit_every:
        out.append(f"Commits after every {job.commit_every:,} records; a stop undoes what came after the last commit.")
    else:
        out.append("All in one transaction.")
    if isinstance(job.rejects, RejectsTable):
        out.append(f"Keeps rejects in the table {job.rejects.table}.")
    elif job.rejects_path:
        out.append(f"Writes rejects to {job.rejects_path.path}.")
    out.append(f"Keeps every change in {info.name}_history." if job.history else "Keeps no history of the changes.")
    return out


def _about_versions(plan: Plan) -> list[str]:
    """What a merge does about versions."""
    spans = plan.spans
    assert spans is not None
    told = spans.options
    dated = f"dated by {told.effective}" if told.effective else "dated by the time of the batch"
    late = {
        "insert": "put in its place among the versions", "skip": "skipped, unless it says what is there",
        "reject": "rejected, unless it says what is there",
    }[told.late]  # fmt: skip
    where = "the current version" if told.overwrite == "current" else "all versions"
    return [
        f"Keeps versions in {spans.begin} and {spans.end}: a change of {', '.join(spans.versioned)} closes the version "
        f"in force, and opens the next; other columns are overwritten in {where}. Records are {dated}.",
        f"A record that is dated before the current version is {late}.",
    ]
