"""Incoming records: files, frames, dicts and iterators as chunks of Arrow."""

from .broken import Broken, BrokenRecords
from .chunks import Chunk, Options, Source
from .open import open_incoming
from .spool import Spool, tables_of

__all__ = ["Broken", "BrokenRecords", "Chunk", "Options", "Source", "Spool", "open_incoming", "tables_of"]
