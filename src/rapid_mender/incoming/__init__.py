"""Incoming records: files, frames, dicts and iterators as chunks of Arrow."""

from .chunks import Broken, Chunk, Options, Source
from .open import open_incoming
from .spool import Spool

__all__ = ["Broken", "Chunk", "Options", "Source", "Spool", "open_incoming"]
