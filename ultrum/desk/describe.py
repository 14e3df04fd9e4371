"""Descriptions of series: span, frequency, unit, releases, revisions."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import pandas as pd

from ultrum.core.displayed_numbers import quantity
from ultrum.core.series.text_tables import TextInNotebooks
from ultrum.core.series.time_series import TimeSeries
from ultrum.core.time.period_labels import period_label

if TYPE_CHECKING:
    from ultrum.desk.repository import Repository

_ADJUSTED = {"N": "none", "S": "for the season", "W": "for working days", "Y": "for season and working days"}


@dataclass(frozen=True, eq=False, repr=False)
class Description(TextInNotebooks):
    """Facts of one series.

    Attributes
    ----------
    series : TimeSeries
        The series itself.
    updated : str
        Instant at which the source last served different bytes.
    checked : str
        Instant of the last confirmation.
    imported : bool
        Whether the download was imported from an archive and not confirmed since.
    """

    series: TimeSeries
    updated: str
    checked: str
    imported: bool = False

    @property
    def facts(self) -> dict[str, str]:
        """Name and text of every known fact."""
        metadata, values = self.series.metadata, self.series.values
        valid = values.dropna()
        unit = metadata.currency if metadata.unit == "currency" else metadata.unit
        adjusted = _ADJUSTED.get(metadata.seasonal_adjustment, metadata.seasonal_adjustment)
        texts = {
            "title": metadata.heading,
            "address": metadata.address,
            "frequency": metadata.frequency.name,
            "measure": metadata.measure,
            "unit": unit,
            "timing": metadata.timing,
            "region": metadata.region,
            "base period": metadata.base_period,
            "seasonal adjustment": adjusted,
            "multiplier": f"10^{metadata.scale}, applied" if metadata.scale else "",
            "first": period_label(valid.index[0]) if len(valid) else "",
            "last": period_label(valid.index[-1]) if len(valid) else "",
            "values": f"{len(valid)} of {quantity(len(values), 'period')}",
            "updated": self.updated,
            "checked": self.checked,
            "imported": "from an archive, not from the source" * self.imported,
            "release lag": metadata.release_lag,
            "notes": "; ".join(metadata.notes),
            "trail": "; ".join(map(str, metadata.trail)),
        }
        return {name: text for name, text in texts.items() if text}

    def to_frame(self) -> pd.DataFrame:
        """One row per fact."""
        return pd.DataFrame(list(self.facts.items()), columns=["fact", "text"])

    def __repr__(self) -> str:
        return "\n".join(f"{name:20s} {text}" for name, text in self.facts.items())


def describe(repository: Repository, address: str) -> Description:
    """Fetch a series and describe it."""
    from ultrum.desk.downloads import LISTING
    from ultrum.desk.spans import DataSpan
    from ultrum.sources.download import Address

    accesses = repository.downloads.accesses
    before = len(accesses)
    series = repository.one_series(address, DataSpan())
    source = Address.parse(address).source
    of_source = [access for access in accesses[before:] if access.source == source and access.accept != LISTING]
    data = [access for access in of_source if access.path.startswith("data/")] or of_source  # not structures
    if not data:
        return Description(series, "", "")
    record = repository.downloads.get_again(data[-1])
    confirmed = repository.downloads.vault.confirmations(record)
    return Description(
        series, _minute(record.retrieved), _minute((confirmed or [record.retrieved])[-1]), record.imported
    )


def _minute(instant: str) -> str:
    return f"{instant[:16].replace('T', ' ')} UTC"
