"""Raw series of a data message, with period codes and unit codes."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.array_types import Floats, Ints
from ultrum.core.currency.exchange_rates import is_currency
from ultrum.core.time.frequency import Frequency, parse_period
from ultrum.core.time.index_frequency_and_gaps import intraday_frequency
from ultrum.errors import FrequencyError


@dataclass(frozen=True)
class RawSeries:
    """One series as received.

    Attributes
    ----------
    key : str
        Codes of the dimensions, in order, joined by points.
    labels : sequence of str
        Names of periods, shared by the series of a message.
    places : ndarray of int, shape (T,)
        Index of the label of each observation.
    values : ndarray, shape (T,)
        NaN where no value was received.
    attributes : mapping of str to str
        Attributes of the whole series, by id.
    varying : mapping of str to sequence of str
        Attributes of the observations, by id, each of length T.
    """

    key: str
    labels: Sequence[str]
    places: Ints
    values: Floats
    attributes: Mapping[str, str]
    varying: Mapping[str, Sequence[str]] = field(default_factory=dict)

    @property
    def periods(self) -> list[str]:
        """Name of each observation's period."""
        return [self.labels[i] for i in self.places]


# Period codes of observations, and the frequency they show

_HALF: Final = re.compile(r"(\d{4})-?[HBS]([12])")
_RANGE: Final = re.compile(r"(\d{4}-\d\d-\d\d)(?:T[\d:.]+)?(?:Z|[+-]\d\d:\d\d)?/(P\w+)")
_DAY_OF_YEAR: Final = re.compile(r"(\d{4})-?D(\d{3})")
_SPANS: Final = {"P1Y": "A", "P12M": "A", "P6M": "S", "P3M": "Q", "P1M": "M", "P7D": "W", "P1W": "W", "P1D": "D"}
_DIGIT: Final = re.compile(r"\d")
_ORDER: Final = "NHDWMQSA"


def plain_label(label: str) -> str:
    """A period as ``2024``, ``2024-S1``, ``2024-Q1``, ``2024-03``, ``2024-W05`` or a day.

    Time ranges (``2024-01-01/P3M``), half-years of older services (``2024-H1``, ``2024-B1``) and days of the
    reporting year (``2024-D032``) are rewritten; other texts are unchanged.

    Examples
    --------
    >>> plain_label("2024-04-01/P3M"), plain_label("2024-B2"), plain_label("2024-03")
    ('2024-Q2', '2024-S2', '2024-03')
    """
    text = label.strip()
    if half := _HALF.fullmatch(text):
        return f"{half[1]}-S{half[2]}"
    if span := _RANGE.fullmatch(text):
        return _of_range(span[1], span[2], text)
    if day := _DAY_OF_YEAR.fullmatch(text):
        return str(np.datetime64(f"{day[1]}-01-01") + np.timedelta64(int(day[2]) - 1, "D"))
    return text


def _of_range(start: str, duration: str, text: str) -> str:
    """The period with a first day and a duration."""
    if duration not in _SPANS:
        raise FrequencyError(f"'{text}' lasts {duration}, which is not a calendar period.")
    frequency = Frequency(_SPANS[duration])
    ordinals = frequency.ordinals([start])
    if str(frequency.starts(ordinals)[0]) != start and frequency.code != "W":
        raise FrequencyError(f"'{text}' does not begin on the first day of a {frequency.noun}.")
    return frequency.labels(ordinals)[0]


def frequency_of(code: str, labels: Sequence[str]) -> Frequency:
    """Frequency of a series from its code and the names of its periods, which must agree.

    Raises
    ------
    FrequencyError
        If a period is longer than the code states, such as a year in a monthly series.
    """
    shapes = {_DIGIT.sub("0", label): label for label in labels}
    shown = {parse_period(label)[0]: label for label in shapes.values()}
    if not code:
        return Frequency(parse_period(labels[0])[0])
    if code in ("H", "B") and set(shown) == {"S"}:  # half-yearly in the code lists of older services
        return Frequency("S")
    frequency = Frequency.parse(code)
    day_code = "D" if frequency.code == "B" else frequency.code
    for kind, label in shown.items():
        if _ORDER.index(kind) > _ORDER.index(day_code):
            raise FrequencyError(f"the frequency is {frequency.name}, but '{label}' is a {Frequency(kind).noun}.")
    return frequency


def stamps_of(labels: Sequence[str]) -> pd.DatetimeIndex:
    """Instants of intraday observations in UTC; times without a time zone are read as UTC.

    Raises
    ------
    FrequencyError
        If a text is not an instant.
    """
    try:
        return pd.DatetimeIndex(pd.to_datetime(list(labels), utc=True, format="ISO8601"), name="time")
    except ValueError:
        raise FrequencyError(f"'{labels[0]}' and others are not instants such as 2024-03-15T09:30:00Z.") from None


def intraday(labels: Sequence[str]) -> tuple[Frequency, pd.DatetimeIndex]:
    """Frequency from the most common step, and the instants."""
    stamps = stamps_of(labels)
    moments = np.asarray(stamps.tz_localize(None).to_numpy().astype("datetime64[s]"))
    return intraday_frequency(np.sort(moments)), stamps


def has_zone(labels: Sequence[str]) -> bool:
    """Whether the first instant has an offset from UTC."""
    return bool(re.search(r"(Z|[+-]\d\d:?\d\d)$", labels[0].strip())) if len(labels) else True


# Unit codes: percent, index, count or currency. The catalogue and the data use the same rules

_PERCENT_CODES: Final = re.compile(
    r"PC|PT|PCT|PERCENT|PCPA|PC_PA|PCCH|PP|(?:PC|PCT|PT|PCH|PERCENT|PER_CENT)_\w+|\w+_(?:PC|PCT|PT)"
)
_PERCENT_WORDS: Final = re.compile(r"\bper ?cent(age)?\b|\bpercent(age)?\b|\bpct\b|%", re.IGNORECASE)
_INDEX_CODES: Final = re.compile(r"IX|INDEX|IDX|(?:IX|INDEX|I\d\d)\b.*")
_INDEX_WORDS: Final = re.compile(r"\bindex\b|= ?100\b", re.IGNORECASE)
_COUNTS: Final = ("PN", "PS", "PERS", "NO", "NUMBER", "COUNT", "UNITS", "PER")


def unit_of_facts(facts: Mapping[str, str]) -> str:
    """Code of the unit among the attributes of a series."""
    return facts.get("UNIT_MEASURE") or facts.get("UNIT", "")


def is_percent(unit: str, name: str = "") -> bool:
    """Whether a unit, by its code or its name, is percent or percentage points.

    Examples
    --------
    >>> is_percent("PCT"), is_percent("367", "Per cent per annum"), is_percent("Percentage points")
    (True, True, True)
    >>> is_percent("QML")
    False
    """
    if is_index(unit, name):
        return False
    return bool(_PERCENT_CODES.fullmatch(unit.upper())) or any(
        _PERCENT_WORDS.search(text.replace("_", " ")) for text in (unit, name)
    )


def is_index(unit: str, name: str = "") -> bool:
    """Whether a unit is an index."""
    return bool(_INDEX_CODES.fullmatch(unit.upper())) or bool(_INDEX_WORDS.search(name))


def measure_of_unit(unit: str, name: str, timing: str) -> dict[str, str]:
    """Measure, unit and currency as far as a unit's code and name determine them.

    Parameters
    ----------
    unit, name : str
        Code of the unit and its name in the code list, if known.
    timing : str
        Timing of the series within its period: ``total``, ``average``, ``start`` or ``end``.
    """
    counted = {"total": "flow", "end": "stock", "start": "stock"}.get(timing, "")
    if is_percent(unit, name):
        return {"measure": "rate", "unit": "decimal"}
    if is_index(unit, name):
        return {"measure": "index", "unit": "index"}
    if unit.upper() in _COUNTS:
        return {"measure": counted, "unit": "count"}
    if is_currency(unit):
        return {"measure": counted, "unit": "currency", "currency": unit}
    return {"unit": unit}
