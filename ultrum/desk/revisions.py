"""Revisions between two vintages."""

from __future__ import annotations

import pandas as pd

from ultrum.core.displayed_numbers import quantity
from ultrum.core.series.time_series import TimeSeries
from ultrum.core.time.period_labels import period_label
from ultrum.desk.repository import Repository
from ultrum.errors import UltrumError, VaultError
from ultrum.sources.download import Address

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
