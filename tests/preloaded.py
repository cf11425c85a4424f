"""Read by the process from which runs of `rmend` are forked: every module of ours, and what they need."""

from __future__ import annotations

import importlib
import pkgutil
import sys

import rapid_mender
from rapid_mender.__main__ import WithoutPandas

sys.meta_path.insert(0, WithoutPandas())
for module in pkgutil.walk_packages(rapid_mender.__path__, "rapid_mender."):
    importlib.import_module(module.name)
for driver in ("acero", "csv", "json", "parquet"):
    importlib.import_module(f"pyarrow.{driver}")
importlib.import_module("pyarrow").array([None])  # looks for pandas
