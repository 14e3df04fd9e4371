"""Descriptions of series: span, frequency, unit, releases; and revisions between two vintages."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import pandas as pd

from ultrum.core.presentation import TextInNotebooks, quantity
from ultrum.core.series.time_series import TimeSeries
from ultrum.core.time.period_labels_and_relative_dates import period_label
from ultrum.desk.repository import Repository
from ultrum.errors import UltrumError, VaultError
from ultrum.sources.download_and_limits import Address

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
    from ultrum.desk.addresses_and_local_tables import DataSpan
    from ultrum.desk.downloads import LISTING
    from ultrum.sources.download_and_limits import Address

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


# Revisions between two vintages

COLUMNS = ["period", "before", "after", "change", "kind"]


def revisions(repository: Repository, address: str, since: str, until: str) -> pd.DataFrame:
    """Differences of a series between two instants; by default between its last two vintages.

    The comparison uses two downloads of one path: the path that changed last among those with the series.
    """
    wanted = Address.parse(address)
    pairs, most = [], 0
    for path in repository.paths_in_vault(wanted, spans=True):
        vintages = repository.downloads.vintages(wanted.source, path)
        most = max(most, len(vintages))
        old = [r for r in vintages if r.retrieved <= since] if since else vintages[:-1]
        new = [r for r in vintages if r.retrieved <= until] if until else vintages
        if old and new and old[-1].id != new[-1].id:
            pairs.append((new[-1].retrieved, old[-1], new[-1]))
    if not pairs:
        raise VaultError(
            f"The vault {repository.downloads.vault.path} has {quantity(most, 'vintage')} of {address}; a "
            "comparison needs two. Download it again later, with 'ultrum pull' if it is a file."
        )
    _, before, after = max(pairs, key=lambda f: f[0])
    return differences(repository.series_of_record(before, wanted), repository.series_of_record(after, wanted))


def differences(old: TimeSeries, new: TimeSeries) -> pd.DataFrame:
    """Periods whose value is new, removed or changed.

    Examples
    --------
    >>> months = pd.period_range("2024-01", periods=2, freq="M")
    >>> a = TimeSeries.from_pandas(pd.Series([1.0, 2.0], months))
    >>> b = TimeSeries.from_pandas(pd.Series([1.0, 2.5], months))
    >>> differences(a, b)[["period", "change", "kind"]].values.tolist()
    [['2024-02', 0.5, 'revised']]
    """
    left, right = old.values.align(new.values, join="outer")
    differs = (left != right) & ~(left.isna() & right.isna())
    rows = []
    for period in left.index[differs]:
        a, b = float(left[period]), float(right[period])
        kind = "new" if a != a else "gone" if b != b else "revised"  # noqa: PLR0124 - NaN differs from itself
        rows.append((period_label(period), a, b, b - a, kind))
    return pd.DataFrame(rows, columns=COLUMNS)


def status_of(old: TimeSeries | None, new: TimeSeries) -> str:
    """Status of a new vintage relative to an old one: new, same, longer or revised."""
    if old is None:
        return "new"
    try:
        changes = differences(old, new)
    except (TypeError, ValueError, UltrumError):
        return "revised"
    revised = int((changes["kind"] != "new").sum())
    last = period_label(old.index[-1]) if len(old) else ""
    fresh = changes[changes["kind"] == "new"]["period"]
    filled = int((fresh <= last).sum())
    if revised or filled:
        return f"revised ({quantity(revised + filled, 'value')})"
    return f"longer (+{len(fresh)})" if len(fresh) else "same"
