"""A first job file, made from a table and a batch: key, renames, and what needs care, with comments."""

from __future__ import annotations

import json
import os
import re
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from itertools import combinations
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.types as pt

from ..core.cast import as_text, plain, wanted
from ..core.guessing import guess_notation, null_words
from ..core.hashing import hash_rows
from ..core.keys import fold_table, null_keys
from ..core.names import closest
from ..core.notation import Notation, read_values
from ..core.records import REJECT_TEXT, known_column, misfit
from ..core.repeats import RepeatFinder
from ..core.schema import Column, TableInfo
from ..errors import IncomingError, JobError
from ..incoming import Chunk, Source, open_incoming
from ..incoming.chunks import Options
from ..incoming.excel import rows_before
from ..incoming.guess import guess
from ..incoming.open import kind_of
from ..incoming.rejected import restored
from ..stores.contract import Session, Store
from ..stores.given import as_store, file_of, of_file
from ..stores.urls import opened, with_variable
from .options import Incoming

_PASSWORD = "RMEND_PASSWORD"  # from where in the environment a drafted job takes the password of its store
_TRIED = 12  # columns of which a key is made up, at most
_AT_MOST = 3  # columns in a key that is not declared


Path = str | os.PathLike[str]
_LOOKED_AT = 1 << 16  # values of a column that are held against those of another
_RECORDS = 100_000  # of which a draft is made


@dataclass
class Draft:
    """What is proposed, and what was seen on the way."""

    key: list[str]
    why: str
    rename: dict[str, str] = field(default_factory=dict)
    ignore: list[str] = field(default_factory=list)
    columns: dict[str, Notation] = field(default_factory=dict)
    """How the texts of columns are written, where that is not as usual."""
    care: list[str] = field(default_factory=list)


def draft(
    store: str | Store,
    table: str,
    incoming: Any,
    folder: Path = ".",
    *,
    key: Sequence[str] | None = None,
    delimiter: str | None = None,
) -> str:
    """The text of a job file that merges a batch into a table; paths in it count from `folder`.

    `incoming` is a file or anything else that `merge` takes. How a CSV file or a sheet is written is found by looking
    at it, but for a `delimiter` that is given; how its columns are, and the key, if no `key` is given, by its first
    100,000 records. The key is the primary key, else a unique constraint, else the smallest set of columns that is
    unique in the table and in the batch. Raises JobError if no key can be found, StoreError and IncomingError as
    `merge` does.
    """
    path = os.fspath(incoming) if isinstance(incoming, str | os.PathLike) else None
    if delimiter is not None:
        Incoming(path=path or "-", delimiter=delimiter)  # which says what is wrong with it
    options = _options(path, delimiter) if path is not None else Options()
    source = open_incoming(incoming, options)
    batch = _Batch.of(source)
    if not batch.count:
        raise IncomingError(f"{source.name} has no records to make a job from")
    with opened(store) as place, place.begin(write=False) as session:
        info = session.describe(table)
        nulls = _nulls(info, batch) if path is not None and kind_of(path) in ("csv", "tsv", "excel") else []
        if nulls and path is not None:
            options = replace(options, nulls=(*options.nulls, *nulls))
            batch = _Batch.of(open_incoming(path, options))
        proposal = propose(session, info, batch, key)
    said = None if path is None else _said(os.path.relpath(path, folder), options)
    return _text(proposal, info, _url(store, folder), said, source.name, batch.count)


def _options(path: str, delimiter: str | None) -> Options:
    """How a file is written, as its beginning tells."""
    options = Options() if delimiter is None else Options(delimiter)
    if not os.path.isfile(path):
        return options
    kind = kind_of(path)
    if kind in ("csv", "tsv"):
        return guess(path, options, delimiter or ("\t" if kind == "tsv" else None))
    return replace(options, skip=rows_before(path)) if kind == "excel" else options


@dataclass
class _Batch:
    """The first records of a batch, column by column; one that a record lacks is null there."""

    columns: dict[str, list[pa.Array]]
    """Each value of a record is in one of the arrays, each in the type in which values came."""
    count: int

    @classmethod
    def of(cls, source: Source) -> _Batch:
        chunks: list[Chunk] = []
        count = 0
        for chunk in restored(source):
            chunks.append(chunk.slice(0, _RECORDS - count))
            count += len(chunks[-1].rows)
            if count >= _RECORDS:
                break
        names = dict.fromkeys(name for chunk in chunks for name in chunk.raw.column_names if name != REJECT_TEXT)
        columns: dict[str, list[pa.Array]] = {name: [] for name in names}
        for chunk in chunks:
            for name, arrays in columns.items():
                there = name in chunk.raw.column_names
                arrays.append(plain(chunk.raw[name]) if there else pa.nulls(len(chunk.rows), pa.string()))
        return cls(columns, count)

    def read(self, name: str, column: Column, notation: Notation | None = None) -> tuple[pa.Array, pa.Array]:
        """A column's values in the type of one of the table, and as texts those that cannot be."""
        values, wrong = [pa.nulls(0, column.type)], [pa.nulls(0, pa.string())]
        for array in self.columns[name]:
            done, bad = read_values(array, column, notation)
            values.append(done)
            if bad is not None:
                wrong.append(as_text(array.filter(pa.array(bad)))[0])
        return pa.concat_arrays(values), pa.concat_arrays(wrong)

    def texts(self, name: str) -> pa.Array:
        """The values of a column that came as texts."""
        return pa.concat_arrays([pa.nulls(0, pa.string()), *(a for a in self.columns[name] if pt.is_string(a.type))])


def _nulls(info: TableInfo, batch: _Batch) -> list[str]:
    """The words that seem to stand for no value."""
    mapping = pair_names(list(batch.columns), [c.name for c in info.columns if not c.generated])
    return list(dict.fromkeys(word for name, to in mapping.items() for word in null_words(batch.texts(name), info[to])))


def propose(session: Session, info: TableInfo, batch: _Batch, key: Sequence[str] | None = None) -> Draft:
    """Find key, renames, notations and what needs care, by the table and some records."""
    mapping = pair_names(list(batch.columns), [c.name for c in info.columns if not c.generated])
    out = Draft([], "")
    for name, column in _pair_values(session, info, batch, mapping).items():
        out.care.append(f"{name} = {column} is a guess by the values, not by the name.")
        mapping[name] = column
    out.rename = {name: column for name, column in mapping.items() if name.lower() != column.lower()}
    out.ignore = [name for name in batch.columns if name not in mapping]
    read = {}
    for name, column in mapping.items():
        notation = _notation(batch.texts(name), info[column], out)
        values, wrong = batch.read(name, info[column], notation)
        read[column] = values
        if notation is not None:
            out.columns[column] = notation
        if len(wrong):
            one = misfit(wrong.slice(0, 1), info[column])[0].as_py()
            none = values.null_count == len(values)
            hint = f". If they stand for rows of another table, look them up: [lookup.{column}]" if none else ""
            out.care.append(f"{len(wrong):,} of {batch.count:,} values do not fit. {one}{hint}")
        elif values.null_count and not info[column].nullable:
            out.care.append(
                f"{column}: {values.null_count:,} of {len(values):,} records have no value, and it is NOT NULL"
            )
    lacking = [c.name for c in info.columns if c.required and c.name not in mapping.values()]
    if lacking:
        out.care.append(
            f"The batch does not send {', '.join(lacking)}, and an insert needs that: new records are rejected."
        )
    if key is not None:
        out.key, out.why = [known_column(info, name).name for name in key], "as you said"
        return out
    values, _ = session.normalise(info, pa.table(read))
    out.key, out.why = _find_key(session, info, values)
    return out


def _notation(texts: pa.Array, column: Column, out: Draft) -> Notation | None:
    """How a column is written, if not as usual; says so where its texts could mean something else as well."""
    found = guess_notation(texts, column)
    if found.notation is not None and found.other is not None:
        out.care.append(f"{column.name} could be {found.other} as well as {found.notation}: look at its values.")
    return found.notation


def pair_names(incoming: Sequence[str], columns: Sequence[str]) -> dict[str, str]:
    """Which incoming name most likely means which column: the same name, the same but for punctuation, a part of it,
    or a close one."""
    out: dict[str, str] = {}
    free = list(columns)

    def bare(name: str) -> str:
        return re.sub(r"[^a-z0-9]", "", name.lower())

    def parts(name: str) -> set[str]:
        return {part for part in re.split(r"[^a-z0-9]+|(?<=[a-z])(?=[0-9])", name.lower()) if part}

    steps = (
        lambda name, column: name.lower() == column.lower(),
        lambda name, column: bare(name) == bare(column) and bare(name),
        lambda name, column: parts(name) and (parts(name) < parts(column) or parts(column) < parts(name)),
        lambda name, column: closest(bare(name), [bare(column)], cutoff=0.75) is not None,
    )
    for step in steps:
        for name in incoming:
            fitting = [column for column in free if step(name, column)] if name not in out else []
            if len(fitting) == 1:
                out[name] = fitting[0]
                free.remove(fitting[0])
    return {name: out[name] for name in incoming if name in out}


def _pair_values(session: Session, info: TableInfo, batch: _Batch, taken: dict[str, str]) -> dict[str, str]:
    """Pairs that the names do not tell: a column that holds the same values, or the only required column of that
    type."""
    free = [c for c in info.columns if c.name not in taken.values() and not c.generated]
    page = next(iter(session.scan(info, [c.name for c in free])), None) if free else None
    out: dict[str, str] = {}
    for by_type in (False, True):
        for name in batch.columns:
            fits = []
            for column in free if name not in out and name not in taken else []:
                values, wrong = batch.read(name, column)
                if values.null_count == len(values) or len(wrong):
                    continue
                if by_type:
                    good = column.required and not pt.is_string(column.type)
                else:
                    good = page is not None and _overlap(values, page.values[column.name]) > 0.8
                if good:
                    fits.append(column)
            if len(fits) == 1:
                out[name] = fits[0].name
                free.remove(fits[0])
    return out


def _overlap(values: pa.Array, others: pa.ChunkedArray) -> float:
    """The share of one column's distinct values that the other column has too."""
    mine = pc.unique(values.slice(0, _LOOKED_AT)).drop_null()
    return float(pc.mean(pc.is_in(mine, value_set=pc.unique(others).cast(mine.type))).as_py() or 0)


def _find_key(session: Session, info: TableInfo, values: pa.Table) -> tuple[list[str], str]:
    sent = values.column_names
    for columns, why in [(info.primary_key, "the primary key"), *((u, "a unique constraint") for u in info.unique)]:
        if columns and all(name in sent for name in columns):
            return list(columns), f"{why} of the table"
    tried = [c for c in sent if not pt.is_nested(info[c].type)][:_TRIED]
    sides = {"the batch": [values], "the table": [page.values for page in session.scan(info, tried)]}
    for size in range(1, _AT_MOST + 1):
        for some in combinations(tried, size):
            if all(_unique(tables, info, list(some)) for tables in sides.values()):
                return list(some), "the smallest set of columns that is unique in the table and in this batch"
    raise JobError(
        f"no key can be proposed for {info.name!r}: neither its primary key nor a unique constraint comes with the "
        f"batch, and no {_AT_MOST} columns are unique in both; name the key yourself in a job file"
    )


def _unique(tables: Sequence[pa.Table], info: TableInfo, key: list[str]) -> bool:
    finder, columns = RepeatFinder(), info.pick(key)
    for table in tables:
        keys = table.select(key)
        if null_keys(keys).any():
            return False
        finder.add(hash_rows(fold_table(keys, columns), 11) if keys.num_rows else np.empty(0, np.uint64))
    return not len(finder.repeated())


def _url(store: Any, folder: Path) -> str:
    store = as_store(store)
    if not isinstance(store, str):
        raise JobError("a job file names its store by a URL; give one")
    path = file_of(store)
    if path is None:
        return with_variable(store, _PASSWORD)
    return _as_is(store if os.path.isabs(path) else of_file(os.path.relpath(path, folder)))


def _as_is(text: str) -> str:
    """A text for a job file, with ${ escaped."""
    return text.replace("${", "$${")


def _quoted(text: str) -> str:
    return json.dumps(text, ensure_ascii=False).replace("\x7f", "\\u007F")


def _listed(names: Sequence[str]) -> str:
    return "[" + ", ".join(map(_quoted, names)) + "]"


def _said(path: str, options: Options) -> str:
    """The batch, as a job file says where it is and how it is written."""
    usual, tab = Options(), options.delimiter == "\t" and kind_of(path) == "tsv"
    said = {} if tab or options.delimiter == usual.delimiter else {"delimiter": _quoted(options.delimiter)}
    if options.quote != usual.quote:
        said["quote"] = _quoted(options.quote)
    if options.skip:
        said["skip"] = str(options.skip)
    if options.encoding != usual.encoding:
        said["encoding"] = _quoted(options.encoding)
    if options.nulls != usual.nulls:
        said["nulls"] = _listed(options.nulls)
    if not said:
        return _quoted(_as_is(path))
    return f"{{path = {_quoted(_as_is(path))}, {', '.join(f'{name} = {value}' for name, value in said.items())}}}"


def _text(made: Draft, info: TableInfo, store: str, incoming: str | None, called: str, seen: int) -> str:
    stem = os.path.splitext(os.path.basename(called))[0] if incoming is not None else info.name
    lines = [
        f"# Merges {_one_line(os.path.basename(called))} into {_one_line(info.name)}. A draft, made from the "
        f"table and the first {seen:,} records.",
        "# Look it over, then: rmend check, rmend preview, rmend merge.", "",
        f"store = {_quoted(store)}", f"table = {_quoted(_as_is(info.name))}",
        f"key = {_listed(made.key)}    # {made.why}",
        *([f"incoming = {incoming}"] if incoming is not None else []),
    ]  # fmt: skip
    if f"${{{_PASSWORD}}}" in store:
        lines.insert(2, f"# The password is not in here: set {_PASSWORD} in the environment (%40 for @, %2F for /).")
    if made.ignore:
        lines.append(f"ignore = {_listed(made.ignore)}    # incoming columns that fit no column of the table")
    lines += [
        'duplicates = "reject"    # of a key that comes more than once: "reject" all, take the "first" or the "last"',
        f"# rejects = {_quoted(f'{stem}.rejects.csv')}    # where records go that cannot be merged",
        '# missing = "delete"    # if the batch is a full copy: rows that did not come are deleted',
        '# max_deletes = "5%"    # stop, and undo everything, when more rows are to be deleted', "",
    ]  # fmt: skip
    if made.rename:
        lines += ["[rename]    # incoming name = column; guessed"]
        lines += [f"{_name(name)} = {_quoted(column)}" for name, column in made.rename.items()] + [""]
    for name, notation in made.columns.items():
        lines += [f"[columns.{_name(name)}]    # how it is written; guessed"]
        lines += [f"{option} = {_quoted(value)}" for option, value in notation.said().items()] + [""]
    for sentence in made.care:
        lines.append(f"# Needs care: {_one_line(sentence)}")
    lines += [
        "# [columns.NAME]    # tolerance, ignore_case, trim: when two values count as the same",
        "# [[rules]]", '# decide = "reject"', f'# when = "incoming.{_one_line(_example(info))}"', '# because = "…"',
    ]  # fmt: skip
    return "\n".join(lines) + "\n"


def _name(name: str) -> str:
    return name if re.fullmatch(r"[A-Za-z0-9_-]+", name) else _quoted(name)


def _one_line(text: str) -> str:
    return re.sub(r"[\x00-\x1f\x7f]+", " ", text)


def _example(info: TableInfo) -> str:
    """An example of a condition."""
    for column in info.columns:
        if wanted(column).startswith(("a number", "a whole")) and column.name not in info.primary_key:
            return f"{column.name} < 0"
    return f"{info.columns[-1].name} IS NULL"
