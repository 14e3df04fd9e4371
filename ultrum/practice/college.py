"""The harbour college's factor file, in the college's own layout."""

from __future__ import annotations

import io
import zipfile

import numpy as np
import pandas as pd

from ultrum.core.array_types import Floats
from ultrum.practice.simulate import World
from ultrum.practice.world import FACTORS

NAME, DAILY_NAME = "factors_monthly.txt", "factors_daily.txt"
_PROSE = """\
Harbour College of Miravel, Department of Exchange and Tides
Factor returns of the Lantern Sea, compiled from all shares posted on the exchange.

All figures are in percent per month. The first column is the return on the one-month bill; the
market is already in excess of it. Size, value and momentum are long-short portfolios.
Missing figures are marked n/a.

Half-year recap (sums of the months, for the notice board)
half-year;bill;market;size;value;momentum
"""


def monthly_text(world: World) -> str:
    """The file's text: prose, a half-year recap, then the months."""
    columns = np.column_stack([world.bill, world.monthly_factors]) * 100.0
    columns[:3, 4] = np.nan  # momentum needs a past
    columns[97, 3] = np.nan
    months = [f"{p.month:02d}/{p.year}" for p in world.months]
    lines = [_PROSE + _recap(world.months, columns)]
    lines.append("\nMonthly factors\nmonth;bill;" + ";".join(FACTORS) + "\n")
    lines += [_line(m, row) for m, row in zip(months, columns, strict=True)]
    lines.append("\nCompiled by the college's own clerks. Errors are corrected in the next issue.\n")
    return "".join(lines)


def monthly_zip(world: World) -> bytes:
    """The same text as the college hands it out."""
    return _zipped(NAME, monthly_text(world))


def daily_zip(world: World) -> bytes:
    """Daily factors: prose, then days written 15.03.2011, in percent."""
    columns = np.column_stack([world.daily_bill, world.factors]) * 100.0
    days = [f"{d.day:02d}.{d.month:02d}.{d.year}" for d in pd.DatetimeIndex(world.days)]
    lines = [
        _PROSE.partition("Half-year")[0].replace("per month", "per day"),
        "day;bill;" + ";".join(FACTORS) + "\n",
    ]
    lines += [_line(d, row) for d, row in zip(days, columns, strict=True)]
    return _zipped(DAILY_NAME, "".join(lines))


def _zipped(name: str, text: str) -> bytes:
    """An archive with a fixed date, so that bytes repeat."""
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w") as archive:
        entry = zipfile.ZipInfo(name, (2025, 1, 6, 9, 0, 0))
        entry.compress_type = zipfile.ZIP_DEFLATED
        archive.writestr(entry, text)
    return packed.getvalue()


def _recap(months: pd.PeriodIndex, columns: Floats) -> str:
    halves = [f"{p.year} H{1 if p.month < 7 else 2}" for p in months]
    sums = pd.DataFrame(columns).groupby(halves, sort=False).sum(min_count=6)
    return "".join(_line(str(h), row) for h, row in zip(sums.index, sums.to_numpy(), strict=True))


def _line(label: str, row: Floats) -> str:
    cells = ["n/a" if np.isnan(v) else f"{v:.4f}" if i == 0 else f"{v:.3f}" for i, v in enumerate(row)]
    return ";".join([label, *cells]) + "\n"
