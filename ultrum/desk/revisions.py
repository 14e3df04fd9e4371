"""What was revised between two vintages, and by how much."""

from __future__ import annotations

from typing import TYPE_CHECKING

import pandas as pd

from ultrum.core.series import TimeSeries, period_label
from ultrum.errors import UltrumError, VaultError
from ultrum.sources.delivery import Address

if TYPE_CHECKING:
    from ultrum.desk.desk import Desk

COLUMNS = ["period", "before", "after", "change", "kind"]


def revisions(desk: Desk, address: str, since: str, until: str) -> pd.DataFrame:
    """Differences of a series between two instants; by default between its last two vintages."""
    if not since:
        since = _last_change(desk, address)
    before = desk.at(since)
    try:
        old = before.fetch(address)
    finally:
        before.close()
    after = desk.at(until) if until else desk
    try:
        new = after.fetch(address)
    finally:
        if until:
            after.close()
    return differences(old, new)


def _last_change(desk: Desk, address: str) -> str:
    """Instant just before the newest vintage of what an address needs."""
    wanted = Address.parse(address)
    paths = desk.kept_paths(wanted)
    times = [[r.retrieved for r in desk.vault.vintages(wanted.source, path)] for path in paths]
    turned = [t for t in times if len(t) > 1]
    if not turned:
        raise VaultError(
            f"The vault holds one vintage of {address}; there is nothing to compare it with."
        )
    return max(t[-2] for t in turned)


def differences(old: TimeSeries, new: TimeSeries) -> pd.DataFrame:
    """Periods whose value is new, gone or another.

    Examples
    --------
    >>> months = pd.period_range("2024-01", periods=2, freq="M")
    >>> a = TimeSeries.wrap(pd.Series([1.0, 2.0], months))
    >>> b = TimeSeries.wrap(pd.Series([1.0, 2.5], months))
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
    """What a new vintage is beside an old one: new, same, longer or revised."""
    if old is None:
        return "new"
    try:
        found = differences(old, new)
    except (TypeError, ValueError, UltrumError):
        return "revised"
    revised = int((found["kind"] != "new").sum())
    last = period_label(old.index[-1]) if len(old) else ""
    fresh = found[found["kind"] == "new"]["period"]
    filled = int((fresh <= last).sum())
    if revised or filled:
        return f"revised ({revised + filled} values)"
    return f"longer (+{len(fresh)})" if len(fresh) else "same"
