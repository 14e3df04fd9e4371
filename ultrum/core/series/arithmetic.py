"""Arithmetic between series, and between a series and a number, with units checked."""

from __future__ import annotations

from collections.abc import Callable
from numbers import Real
from typing import Any

import pandas as pd

from ultrum.core.series.metadata import Metadata, check_same
from ultrum.errors import ArgumentError

Labelled = tuple[pd.Series, Metadata]


def combine(left: Labelled, right: Labelled, word: str, operation: Callable[..., Any]) -> Labelled:
    """Two series of one measure on their common periods."""
    (values, metadata), (others, other) = left, right
    check_same(metadata, other, word)
    a, b = values.align(others, join="inner")
    alone = len(values) + len(others) - 2 * len(a)
    combined_metadata = metadata.add_step(word, series=other.name, rows_in_one_only=alone or None)
    return operation(a, b).rename(combined_metadata.name), combined_metadata


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
