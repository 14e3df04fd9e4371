"""Unit codes: percent, index, count or currency. The catalogue and the data use the same rules."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any, Final

from ultrum.core.currency.currency_codes import is_currency

_PERCENT_CODES: Final = re.compile(
    r"PC|PT|PCT|PERCENT|PCPA|PC_PA|PCCH|PP|(?:PC|PCT|PT|PCH|PERCENT|PER_CENT)_\w+|\w+_(?:PC|PCT|PT)"
)
_PERCENT_WORDS: Final = re.compile(r"\bper ?cent(age)?\b|\bpercent(age)?\b|\bpct\b|%", re.IGNORECASE)
_INDEX_CODES: Final = re.compile(r"IX|INDEX|IDX|(?:IX|INDEX|I\d\d)\b.*")
_INDEX_WORDS: Final = re.compile(r"\bindex\b|= ?100\b", re.IGNORECASE)
_COUNTS: Final = ("PN", "PS", "PERS", "NO", "NUMBER", "COUNT", "UNITS", "PER")


def unit_of_facts(facts: Mapping[str, str]) -> str:
    """Code of the unit among the facts of a series."""
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


def measure_of_unit(unit: str, name: str, timing: str) -> dict[str, Any]:
    """Measure, unit and currency as far as a unit's code and name determine them.

    Parameters
    ----------
    unit, name : str
        Code of the unit and its name in the code list, if known.
    timing : str
        When in its period the series is observed: ``total``, ``average``, ``start`` or ``end``.
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
