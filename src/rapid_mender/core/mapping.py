"""Which incoming column goes to which column of the table."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence

from ..errors import JobError
from .names import in_quotes, near_hint
from .records import REJECT_TEXT
from .schema import TableInfo

_MOST_COLUMNS = 1 << 15


def map_columns(
    info: TableInfo,
    incoming: Sequence[str],
    rename: Mapping[str, str],
    ignore: Iterable[str],
) -> dict[str, str]:
    """Which incoming column goes to which column of the table: incoming name -> column.

    A name that the job does not rename goes to the column of the same name, upper or lower case.
    Several names may go to one column: see `shared`. Raises JobError, naming every name that fits nowhere.
    """
    if len(incoming) > _MOST_COLUMNS:
        raise JobError(f"the batch has {len(incoming):,} columns, and {_MOST_COLUMNS:,} are taken at most")
    if twice := sorted(name for name, count in Counter(incoming).items() if count > 1):
        raise JobError(f"the batch has more than one column named {in_quotes(twice)}; give them different names")
    ignored = set(ignore)
    lower: dict[str, list[str]] = {}
    for column in info.names:
        lower.setdefault(column.lower(), []).append(column)
    mapping: dict[str, str] = {}
    for name in incoming:
        if name in rename:
            if rename[name] not in info:
                raise JobError(
                    f"[rename] {name} = {rename[name]!r}: table {info.name!r} has no such column"
                    f"{near_hint(rename[name], info.names)}"
                )
            mapping[name] = rename[name]
        elif name in ignored:
            continue
        elif name in info:
            mapping[name] = name
        elif name == REJECT_TEXT:
            continue
        elif len(alike := lower.get(name.lower(), [])) == 1:
            mapping[name] = alike[0]
        else:
            raise JobError(
                f"incoming column {name!r} fits no column of {info.name!r}{near_hint(name, info.names)}; "
                "name its column in [rename], or list it in ignore"
            )
    computed = [name for name, column in mapping.items() if info[column].generated]
    if computed:
        raise JobError(f"the database computes {in_quotes(computed)} itself; list it in ignore")
    return mapping


def shared(mapping: Mapping[str, str]) -> tuple[list[str], str] | None:
    """The incoming columns that go to one column of the table, the first such, and why none can; None if each goes to
    one of its own."""
    of_column: dict[str, list[str]] = {}
    for name, column in mapping.items():
        of_column.setdefault(column, []).append(name)
    for column, names in of_column.items():
        if len(names) > 1:
            why = f"the incoming columns {in_quotes(names)} all go to column {column!r}"
            return names, f"{why}; rename one of them, or list it in ignore"
    return None


def check_batch_has(
    incoming: Sequence[str], given: Sequence[str], rename: Mapping[str, str], key: Sequence[str], info: TableInfo
) -> None:
    """Raise JobError unless the batch, taken as a whole, has all columns that the job renames, and the key.

    `given` are its columns and the derived ones.
    """
    there = set(incoming)
    absent = [name for name in rename if name not in there]
    if absent:
        raise JobError(
            f"[rename] {in_quotes(absent)}: the batch has no such column; it has {in_quotes(incoming) or 'no columns'}"
        )
    mapped = {rename.get(name, name).lower() for name in given}
    absent = [name for name in key if name.lower() not in mapped]
    if absent:
        raise JobError(
            f"key: the batch has no column for {in_quotes(absent)}; it has {in_quotes(incoming) or 'no columns'}; "
            "rename one of these in [rename], or choose another key"
        )
