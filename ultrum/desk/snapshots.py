"""Snapshots: a page that shows only the current value becomes a series."""

from __future__ import annotations

import re
from typing import Final

import numpy as np

from ultrum.core.series.metadata import Metadata, Step
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.time.frequency import Frequency
from ultrum.desk.downloads import Downloads
from ultrum.desk.settings import SnapshotSettings
from ultrum.errors import SourceError
from ultrum.sources.download import Address
from ultrum.sources.table.file_patterns import LoneFigure, find_figure

_GRAIN: Final = re.compile(r"P(?:(1)D|T(\d+)([MH]))")


def grain_frequency(text: str) -> Frequency:
    """Frequency of a grain.

    Examples
    --------
    >>> grain_frequency("PT30M")
    Frequency('30N')
    """
    match = _GRAIN.fullmatch(text.upper())
    if not match:
        raise SourceError(
            f"'{text}' is not a grain. Write P1D for a day, PT30M for half an hour or PT1H for an hour."
        )
    if match[1]:
        return Frequency("D")
    return Frequency("N" if match[3] == "M" else "H", int(match[2]))


def snapshot_series(downloads: Downloads, wanted: Address, settings: SnapshotSettings) -> TimeSeries:
    """Every value of a page in the vault, after downloading the current one.

    The day is that on the page if it has one, otherwise that of the pull. Two pulls within one grain are one
    observation; the later is a revision.
    """
    downloads.get(wanted.source, settings.path, page=True)
    frequency = grain_frequency(settings.grain)
    seen: dict[int, tuple[str, LoneFigure]] = {}
    revised = 0
    for record in downloads.vintages(wanted.source, settings.path):
        limit = downloads.instant
        if limit and record.retrieved > limit:
            continue
        decimal = settings.options.get("decimal")
        figure = find_figure(
            downloads.vault.payload(record), settings.figure, f"{wanted.source}:{settings.path}", decimal
        )
        for instant in [record.retrieved, *downloads.vault.confirmations(record)]:
            if limit and instant > limit:
                continue
            ordinal = _ordinal(frequency, instant, figure)
            earlier = seen.get(ordinal)
            revised += earlier is not None and earlier[1].value != figure.value
            if earlier is None or earlier[0] <= instant:
                seen[ordinal] = (instant, figure)
    return _series(wanted, settings, frequency, seen, revised)


def _ordinal(frequency: Frequency, instant: str, figure: LoneFigure) -> int:
    """Grain of an observation: that of the day on the page, or of the pull."""
    moment = figure.day if figure.day and frequency.code == "D" else instant.rstrip("Z")
    return int(frequency.ordinals(np.array([moment], dtype="datetime64[s]"))[0])


def _series(
    wanted: Address,
    settings: SnapshotSettings,
    frequency: Frequency,
    seen: dict[int, tuple[str, LoneFigure]],
    revised: int,
) -> TimeSeries:
    ordinals = np.array(sorted(seen), dtype=np.int64)
    figures = [seen[int(o)][1] for o in ordinals]
    percent = figures[-1].percent
    numbers = np.array([f.value / 100.0 if f.percent else f.value for f in figures])
    facts = {k: v for k, v in settings.options.items() if k != "decimal"}
    currency = figures[-1].currency if re.fullmatch("[A-Z]{3}", figures[-1].currency) else ""
    unit = {"unit": "decimal"} if percent else {"unit": "currency", "currency": currency} if currency else {}
    step = Step("seen", (("grain", settings.grain), ("beside", settings.figure), ("revised", str(revised))))
    metadata = Metadata(
        name=wanted.path,
        title=settings.title or settings.figure,
        frequency=frequency,
        source=wanted.source,
        address=str(wanted),
        trail=(step,),
        **{**unit, **facts},
    )
    return SeriesTable.from_arrays(numbers[:, None], frequency.index(ordinals), [metadata]).only()
