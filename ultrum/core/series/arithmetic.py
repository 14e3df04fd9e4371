"""Arithmetic between series, and between a series and a number: what the result is, by measure and operator.

The table :data:`RULES` has the measure of each result; :data:`SHARED` the facts that a result keeps if both
series have them. What cannot be known is empty, never a guess.
"""

from __future__ import annotations

from numbers import Real
from typing import Any, Final, Literal

import numpy as np
import pandas as pd

from ultrum.core.series.metadata import ZERO_COST, Metadata, check_same, hindsight_of
from ultrum.errors import ArgumentError

Labelled = tuple[pd.Series, Metadata]
Operator = Literal["plus", "less", "plus number", "times", "times negative"]
OPERATORS: Final[tuple[Operator, ...]] = ("plus", "less", "plus number", "times", "times negative")
SAME: Final = "same"
UNKNOWN: Final = ""
RULES: Final = {  # by the measure of the operands, which is the same for both: the result for each operator
    "price": (SAME, UNKNOWN, UNKNOWN, SAME, UNKNOWN),
    "index": (UNKNOWN, UNKNOWN, UNKNOWN, SAME, UNKNOWN),
    "stock": (SAME, SAME, UNKNOWN, SAME, SAME),
    "flow": (SAME, SAME, UNKNOWN, SAME, SAME),
    "rate": (SAME, SAME, SAME, UNKNOWN, UNKNOWN),
    "return": (UNKNOWN, ZERO_COST, UNKNOWN, UNKNOWN, UNKNOWN),
    "log_return": (UNKNOWN, ZERO_COST, UNKNOWN, UNKNOWN, UNKNOWN),
    "quote": (UNKNOWN,) * 5,
    "score": (SAME,) * 5,
    "": (UNKNOWN,) * 5,
}
SHARED: Final = (  # facts of two series that the result keeps if both have them
    *("timing", "seasonal_adjustment", "region", "source", "base_period", "release_lag", "income"),
    *("quoted", "maturity", "day_count", "decimals"),
)
_OF_LEVEL: Final = ("base_period", "decimals", "day_count", "quoted")  # that no longer hold for another scale
_LARGEST_LEVERAGE: Final = 10.0  # of an excess return; more is a change of unit, such as decimals to percent
_NOTHING: Final = Metadata()


def combine(left: Labelled, right: Labelled, word: Literal["plus", "less"], operation: np.ufunc) -> Labelled:
    """Two series of one measure on their common periods."""
    (values, metadata), (others, other) = left, right
    check_same(metadata, other, word)
    a, b = values.align(others, join="inner")
    alone = len(values) + len(others) - 2 * len(a)
    kept = {fact: getattr(metadata, fact) for fact in SHARED if getattr(metadata, fact) == getattr(other, fact)}
    facts = {fact: kept.get(fact, getattr(_NOTHING, fact)) for fact in SHARED}
    facts |= _measure_after(metadata, word) | {
        "name": f"{metadata.name}_{word}_{other.name}",
        "title": f"{metadata.heading} {word} {other.heading}",
        "address": "",
        "hindsight": hindsight_of((metadata, other)),
        "notes": tuple(dict.fromkeys((*metadata.notes, *other.notes))),
    }
    if facts["base_period"] and facts["measure"] != "index":
        facts["base_period"] = ""
    combined = metadata.add_step(word, facts, series=other.name, rows_in_one_only=alone or None)
    return operation(a, b).rename(combined.name), combined


def with_number(metadata: Metadata, word: Literal["plus", "less", "times"], number: float) -> Metadata:
    """Metadata after a number is added, subtracted or multiplied.

    Examples
    --------
    >>> rate = Metadata(name="bill", measure="rate")
    >>> with_number(rate, "plus", 0.01).measure, with_number(rate, "times", 100.0).measure
    ('rate', '')
    """
    if number == (1.0 if word == "times" else 0.0):
        return metadata
    setting = "factor" if word == "times" else "value"
    shown = f"{metadata.heading} {word} {number:g}"
    facts: dict[str, Any] = {"title": shown, "address": ""} | {f: getattr(_NOTHING, f) for f in _OF_LEVEL}
    operator: Operator = "plus number" if word != "times" else "times" if number > 0 else "times negative"
    if word == "times" and metadata.is_return and metadata.excess_of and abs(number) <= _LARGEST_LEVERAGE:
        facts |= {"excess_of": metadata.excess_of}  # a position of another size, which costs nothing either
    else:
        facts |= _measure_after(metadata, operator)
        if word == "times" and facts["measure"] in ("price", "stock", "flow"):
            facts |= {"unit": "", "currency": "", "scale": 0}
    return metadata.add_step(word, facts, **{setting: number})


def _measure_after(metadata: Metadata, operator: Operator) -> dict[str, Any]:
    """Measure, unit, currency and excess of a result."""
    rule = RULES[metadata.measure][OPERATORS.index(operator)]
    if operator == "plus" and metadata.is_return and metadata.excess_of:
        rule = SAME  # two positions that cost nothing
    if rule == SAME:
        return {"measure": metadata.measure}
    if rule == ZERO_COST:
        return {"measure": metadata.measure, "excess_of": ZERO_COST, "income": ""}
    gone = {"measure": "", "unit": "", "excess_of": "", "income": "", "timing": "", "maturity": ""}
    return gone | {"currency": metadata.currency if metadata.measure == "price" and operator == "less" else ""}


def number_in(given: object, name: str) -> float:
    """A number; refuses other types."""
    if not isinstance(given, Real):
        raise ArgumentError(
            f"{name} is combined with a {type(given).__name__}; use a number or, with + and −, a TimeSeries. To "
            "multiply two series: a.to_pandas() * b.to_pandas()."
        )
    return float(given)


def divisor_in(given: object, name: str) -> float:
    """A number to divide by; refuses zero."""
    divisor = number_in(given, name)
    if divisor == 0:
        raise ArgumentError(f"{name} is divided by zero. Use another divisor.")
    return divisor
