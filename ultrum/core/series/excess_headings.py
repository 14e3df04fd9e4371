"""Headings of factor files: returns in excess of the risk-free rate, and the risk-free rate itself."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Final

RISK_FREE_HEADINGS: Final = (
    *("rf", "risk free", "risk free rate", "risk free return", "riskfree", "bill", "bills", "t bill", "tbill"),
    *("treasury bill", "cash", "money market", "short rate", "bank bill"),
)
RISK_FREE_RATE: Final = "risk-free rate"
_IN_EXCESS: Final = re.compile(r"\brf\b|\bmktrf\b|\brmrf\b|excess|premium|\bless\b")


def plain_heading(text: str) -> str:
    """A heading in lower case, with single spaces between words.

    Examples
    --------
    >>> plain_heading("Adj. Close*"), plain_heading("Mkt-RF"), plain_heading("ExDate"), plain_heading("Цена.")
    ('adj close', 'mkt rf', 'ex date', 'цена')
    """
    parted = re.sub(r"(?<=[a-z])(?=[A-Z])", " ", text)
    return " ".join(re.findall(r"[^\W_]+", parted.lower()))


def is_excess_heading(text: str) -> bool:
    """Whether a heading is that of a return in excess of the risk-free rate.

    Examples
    --------
    >>> is_excess_heading("Mkt-RF"), is_excess_heading("Market excess return"), is_excess_heading("RF")
    (True, True, False)
    """
    plain = plain_heading(text)
    return plain not in RISK_FREE_HEADINGS and _IN_EXCESS.search(plain) is not None


def excess_of_heading(text: str, names: Iterable[str] = ()) -> str:
    """The rate that a heading states to be subtracted, from the other headings; empty if it states none.

    Examples
    --------
    >>> excess_of_heading("Mkt-RF", ["Mkt-RF", "RF"]), excess_of_heading("Mkt-RF"), excess_of_heading("RF")
    ('RF', 'risk-free rate', '')
    """
    if not is_excess_heading(text):
        return ""
    rates = [n for n in names if plain_heading(n) in RISK_FREE_HEADINGS]
    return rates[0] if len(rates) == 1 else RISK_FREE_RATE
