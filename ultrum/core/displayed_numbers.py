"""Display formats of numbers, shared by the whole package."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Final

if TYPE_CHECKING:
    from ultrum.core.array_types import Floats

MISSING: Final = "—"
_PLACES: Final = 8  # a number with no more decimals loses rounding: 0.055000000000000004 is 0.055
_SMALL_P: Final = 0.001
_WHOLE: Final = 10_000.0  # from here on a number shows no decimals


def decimals(value: float, places: int = 2, *, signed: bool = False, missing: str = MISSING) -> str:
    """A number with a fixed number of decimals, and no minus before zero.

    >>> decimals(0.5642), decimals(-0.0001), decimals(0.31, 1, signed=True), decimals(float("nan"))
    ('0.56', '0.00', '+0.3', '—')
    """
    if math.isnan(value):
        return missing
    rounded = round(float(value), places) + 0.0
    return f"{rounded:+.{places}f}" if signed else f"{rounded:.{places}f}"


def percent(value: float, places: int = 2, *, signed: bool = False) -> str:
    """A decimal number in percent, without the sign.

    >>> percent(0.0712), percent(-0.031, 1)
    ('7.12', '-3.1')
    """
    return decimals(100 * value, places, signed=signed)


def significant(value: float, digits: int = 6) -> str:
    """A number with a given number of significant digits; a dash for a missing one.

    >>> significant(0.055000000000000004), significant(123456.7)
    ('0.055', '123457')
    """
    return MISSING if math.isnan(value) else f"{value + 0.0:.{digits}g}"


def four_digits(value: float) -> str:
    """Four significant digits, large numbers as integers with thousands separators; empty for none.

    >>> four_digits(0.56425), four_digits(1234567.8)
    ('0.5643', '1,234,568')
    """
    if math.isnan(value):
        return ""
    return f"{value:,.0f}" if abs(value) >= _WHOLE else f"{value:.4g}"


def quantity(number: int, noun: str) -> str:
    """A count with its noun, in the plural unless it is one.

    >>> quantity(1, "row"), quantity(12000, "row"), quantity(0, "day"), quantity(2, "industry")
    ('1 row', '12,000 rows', '0 days', '2 industries')
    """
    if number == 1:
        return f"{number:,} {noun}"
    after_consonant = noun.endswith("y") and noun[-2:-1] not in set("aeiou")
    return f"{number:,} {noun[:-1]}ies" if after_consonant else f"{number:,} {noun}s"


def true_minus(text: str) -> str:
    """Text with typographic minus signs before numbers."""
    return text.replace("-", "−")


def p_in_words(value: float) -> str:
    """A formatted p value; empty for none.

    >>> p_in_words(0.0342), p_in_words(1e-9)
    ('0.034', '< 0.001')
    """
    return "" if math.isnan(value) else f"< {_SMALL_P}" if value < _SMALL_P else f"{value:.3f}"


def p_equals(value: float) -> str:
    """A formatted p value as an equation.

    >>> p_equals(0.0342), p_equals(1e-9)
    ('p = 0.034', 'p < 0.001')
    """
    return f"p {p_in_words(value)}" if value < _SMALL_P else f"p = {p_in_words(value)}"


def without_rounding(values: Floats) -> Floats:
    """Numbers rounded to remove the last bits of floating-point noise.

    >>> import numpy as np
    >>> without_rounding(np.array([0.1 + 0.2, 1 / 3])).tolist()
    [0.3, 0.3333333333333333]
    """
    import numpy as np

    short = np.round(values, _PLACES)
    with np.errstate(invalid="ignore"):
        near = np.abs(values - short) <= 4.0 * np.spacing(np.abs(values))
    return np.where(near, short, values)
