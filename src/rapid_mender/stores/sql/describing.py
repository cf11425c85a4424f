"""How the stores on database servers describe tables, and whom they trust with what is attached to these."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Sequence
from typing import Any

import pyarrow as pa

from ...core.schema import TableInfo
from ...errors import StoreError
from ..background import Background
from ..contract import Need, Session
from .link import Described, Pick, SQLLink


class SQLDescribing(Session):
    """The tables that one transaction on a database server sees."""

    def __init__(
        self, link: SQLLink, known: dict[TableInfo, Described], writes: bool, trusts_owners: bool = False
    ) -> None:
        """`known`: the tables that other sessions of the store have described; `trusts_owners`: what others have
        attached to their tables may run with this user's rights when these are read."""
        self._writes, self.trusts_owners = writes, trusts_owners
        self._known = known
        self._write: Background[Any] = Background(link)
        self._by_name: dict[str, Described | None] = {}
        self._where = link.where
        self._q, self._op = link.name_sql, link.op

    @property
    def where(self) -> str:
        return self._where

    def tables(self) -> list[str]:
        return self._write.drained().tables()

    def find(self, name: str) -> TableInfo | None:
        if name not in self._by_name:
            described = self._write.drained().describe(name)
            self._by_name[name] = described
            if described is not None:
                self._write.drained().marks &= described.info.undoes
                self._by_name[described.info.name] = self._known[described.info] = described
        table = self._by_name[name]
        return None if table is None else table.info

    def missing_grants(self, needs: Sequence[Need]) -> list[str]:
        link, lacking = self._write.drained(), []
        for need in needs:
            place = link.place_of(need.name, self._described(need.beside) if need.beside is not None else None)
            table = link.describe(need.name, place) if need.own else self._named(need.name)
            lacking += self._lacks(table.place if table is not None else place, need.verbs, table)
        return list(dict.fromkeys([*lacking, *self._lacks_temporary()]))

    @abstractmethod
    def _lacks(self, place: tuple[str, str], verbs: frozenset[str], table: Described | None) -> list[str]:
        """What would have to be granted for work on a table; None: it is to be made."""

    @abstractmethod
    def _lacks_temporary(self) -> list[str]:
        """What would have to be granted for temporary tables."""

    def _says(self, expression: str) -> Any:
        return self._write.drained().select([Pick(expression, "said", pa.string())], "")["said"][0].as_py()

    def fits(self, name: str) -> bool:
        return self._write.drained().fits(name)

    def describe(self, name: str, *, trusting: bool = False) -> TableInfo:
        info = super().describe(name, trusting=trusting)
        if not trusting and not self._writes:
            self._check_runs(self._described(info), "read it as a user with fewer rights")
        return info

    def _check_runs(self, table: Described, mend: str) -> None:
        """Raise StoreError if reading a table may run somebody's code with this user's rights."""
        if table.runs and not self.trusts_owners:
            raise StoreError(
                f"table {'.'.join(table.place)} belongs to {table.info.owner}, and reading it may run code of "
                f"{table.info.owner}'s with your rights ({'; '.join(table.runs[:3])}); {mend}; or, if you trust "
                f"{table.info.owner}, add trust_owner=true to the store URL"
            )

    def find_own(self, name: str, beside: TableInfo | None = None, owner: str = "") -> TableInfo | None:
        link = self._write.drained()
        at = self._described(beside) if beside is not None else None
        place = link.place_of(name, at)
        table = self._by_name.get(name)
        if table is None or table.place != place:
            table = link.describe(name, place)
        if table is None:
            return None
        known = (owner, beside.owner if beside is not None else "")
        if not self._writes:
            self._check_runs(table, f"give it to a role that you trust: ALTER TABLE {table.sql} OWNER TO …")
        elif not (table.trusted or table.info.owner in known):
            raise StoreError(
                f"table {'.'.join(table.place)} belongs to {table.info.owner}, and what {table.info.owner} attached to "
                "it could run with your rights; give it to a role that you trust: "
                f"ALTER TABLE {table.sql} OWNER TO …"
            )
        self._by_name[name] = self._by_name[table.info.name] = self._known[table.info] = table
        return table.info

    def _described(self, info: TableInfo) -> Described:
        return self._known.get(info) or self._named(info.name)

    def _named(self, name: str) -> Described:
        self.find(name)
        table = self._by_name[name]
        if table is None:
            raise StoreError(f"table {name!r} has gone from {self.where}; run again when it is back")
        return table
