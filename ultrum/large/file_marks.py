"""Metadata that a long Parquet file stores about its values."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any, Final

import pyarrow as pa
import pyarrow.parquet as pq

from ultrum.core.series.metadata import Metadata, Step
from ultrum.core.series.time_series import SeriesTable
from ultrum.errors import TableError, reason

MARK: Final = b"ultrum long table"
_SHARED: Final = ("measure", "unit", "currency", "timing", "income", "excess_of")
_OF_ONE: Final = (
    "suspect_days",
    "events_outside_the_prices",
    "carried",
)  # settings of one asset alone


def facts_of(metadata: Metadata) -> dict[str, Any]:
    """Facts that every asset of a table shares, for the file."""
    facts = {n: getattr(metadata, n) for n in _SHARED if getattr(metadata, n)}
    trail = [[step.action, [pair for pair in step.settings if pair[0] not in _OF_ONE]] for step in metadata.trail]
    return {**facts, "trail": trail}


def shared_facts(table: SeriesTable) -> dict[str, Any]:
    """The facts of every asset, which must be the same, since the file has them once."""
    first = table.metadata[0]
    for other in table.metadata:
        for name in _SHARED:
            if getattr(other, name) != getattr(first, name):
                raise TableError(
                    f"{first.name} has {name} '{getattr(first, name)}', {other.name} "
                    f"'{getattr(other, name)}'; a long table has one for all. Bring them together first, or "
                    "write two tables."
                )
    return facts_of(first)


def facts_from(stored: Mapping[str, Any]) -> dict[str, Any]:
    """Facts as a file holds them."""
    steps = (Step(action, tuple((k, v) for k, v in rest)) for action, rest in stored.get("trail", []))
    return {**stored, "trail": tuple(steps)} if stored else {}


def facts_in(path: Path) -> dict[str, Any]:
    """The metadata of a file written by this package."""
    try:
        stored = (pq.read_schema(path).metadata or {}).get(MARK)
    except (OSError, pa.ArrowInvalid) as error:
        raise TableError(f"{path} is not a readable Parquet file: {reason(error)}.") from error
    return dict(json.loads(stored)) if stored else {}
