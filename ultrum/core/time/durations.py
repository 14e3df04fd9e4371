"""Durations of ISO 8601 with one unit, such as ``P1Y`` or ``P10D``."""

from __future__ import annotations

import re
from typing import Final

from ultrum.core.time.frequency import MONTHS_IN, Frequency
from ultrum.errors import FrequencyError

_DURATION: Final = re.compile(r"^P(\d{1,6})([YMWD])$")


def parse_duration(duration: str) -> tuple[int, str]:
    """Count and unit of a duration.

    Examples
    --------
    >>> parse_duration("P3M")
    (3, 'M')
    """
    match = _DURATION.match(str(duration).upper())
    if not match:
        raise FrequencyError(f"'{duration}' is not a duration. Write P1Y, P3M, P2W or P10D.")
    return int(match[1]), match[2]


_WEEKS_A_MONTH: Final = 365.25 / 12 / 7


def periods_in(duration: str, frequency: Frequency) -> int:
    """Whole periods of a frequency in an ISO 8601 duration such as ``P1Y`` or ``P3M``.

    Examples
    --------
    >>> periods_in("P1Y", Frequency.parse("Q"))
    4
    """
    count, unit = parse_duration(duration)
    months = {"Y": 12, "M": 1}.get(unit)
    if months and frequency.code in MONTHS_IN:
        whole, rest = divmod(count * months, MONTHS_IN[frequency.code])
        if rest == 0:
            return whole
    elif (unit, frequency.code) in {("W", "W"), ("D", "D")}:
        return count
    elif (unit, frequency.code) == ("W", "D"):
        return 7 * count
    weeks = round(count * (months or 0) * _WEEKS_A_MONTH) if frequency.code == "W" else 0
    advice = f"write P{weeks}W" if weeks else "choose another length"
    raise FrequencyError(f"{duration} is not a whole number of {frequency.name} periods; {advice}.")


def months_in(duration: str) -> int:
    """Months in a duration of years or months; 0 for one of weeks or days.

    Examples
    --------
    >>> months_in("P2Y"), months_in("P10D")
    (24, 0)
    """
    match = _DURATION.match(str(duration).upper())
    return int(match[1]) * {"Y": 12, "M": 1}.get(match[2], 0) if match else 0
