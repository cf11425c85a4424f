"""What a store must do, in roles: a catalog of its tables, values as it holds them, reading rows, writing rows."""

from .capture import PREFIX, Capture, Capturing, Trigger
from .catalog import Catalog, Need, Numbers, nearest
from .failures import Conflict, Forbidden, ForNow, Refers, Refused, Unreachable
from .reader import ALL, Condition, Reader, Selection, Where
from .store import Session, Store
from .values import Normalised, Values, kept
from .watch import OneWriter, Watch
from .writer import KEPT, Load, Refusals, Writer, Written, refused_too

__all__ = [
    "ALL", "KEPT", "PREFIX", "Capture", "Capturing", "Catalog", "Condition", "Conflict", "ForNow", "Forbidden", "Load",
    "Need", "Normalised", "Numbers", "OneWriter", "Reader", "Refers", "Refusals", "Refused", "Selection", "Session",
    "Store", "Trigger", "Unreachable", "Values", "Watch", "Where", "Writer", "Written", "kept", "nearest",
    "refused_too",
]  # fmt: skip
