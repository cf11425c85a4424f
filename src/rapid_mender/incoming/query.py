"""The rows of a query, as incoming records."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np

from ..errors import IncomingError, StoreError
from ..stores.contract import Store
from ..stores.urls import opened
from .chunks import Chunk, Source


@dataclass(frozen=True)
class Query:
    """A query in SQL on a store, whose rows are the records of a batch.

    `store` is a URL or a Store, the one that is merged into or another. The query is run when the batch is read,
    and its rows are streamed.
    """

    store: str | Store = field(repr=False)
    sql: str


@dataclass
class QueryRows(Source):
    """What a query gives. The types are those of the values; a column may come otherwise in another chunk."""

    query: Query | None = None

    def __iter__(self) -> Iterator[Chunk]:
        assert self.query is not None
        row = 1
        with opened(self.query.store) as place, place.begin(write=False) as session:
            pages = session.query(self.query.sql)
            while True:
                try:
                    page = next(pages, None)
                except StoreError as error:
                    raise IncomingError(f"the query cannot be run: {error}") from error
                if page is None:
                    return
                if page.num_rows:
                    yield Chunk(page, np.arange(row, row + page.num_rows))
                row += page.num_rows
