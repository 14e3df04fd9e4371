"""Data in SDMX-CSV 1.0 and 2.0."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence

from ultrum.practice.messages.message_headers import Series, facts_of, number
from ultrum.practice.observatory import AGENCY, SERIES_ATTRIBUTES, VERSION, Flow


def data_csv(flow: Flow, series: Sequence[Series], with_data: bool = True, version: str = "1.0.0") -> bytes:
    """One row per observation, or one per series without data."""
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    leading = ["DATAFLOW"] if version == "1.0.0" else ["STRUCTURE", "STRUCTURE_ID", "ACTION"]
    name = f"{AGENCY}:{flow.id}({VERSION})"
    leading_cells = [name] if version == "1.0.0" else ["dataflow", name, "I"]
    writer.writerow([*leading, *flow.dimensions, "TIME_PERIOD", "OBS_VALUE", *SERIES_ATTRIBUTES, "OBS_STATUS"])
    for key, rows in series:
        head = [*leading_cells, *key.split(".")]
        facts = [facts_of(flow, key).get(a, "") for a in SERIES_ATTRIBUTES]
        if not with_data:
            writer.writerow([*head, "", "", *facts, ""])
            continue
        for period, value, status in zip(rows["period"], rows["value"], rows["status"], strict=True):
            shown = "" if value != value else number(value)  # noqa: PLR0124 - NaN differs from itself
            writer.writerow([*head, period, shown, *facts, status])
    return text.getvalue().encode()
