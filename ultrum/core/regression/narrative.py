"""A regression in words: each figure in one sentence."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.displayed_numbers import p_equals
from ultrum.core.regression.engine.covariance import errors_in_words
from ultrum.core.time.frequency_inference import infer_frequency
from ultrum.core.time.period_labels import period_label
from ultrum.errors import FrequencyError

NO_RESPONSE: Final = "missing left-hand side"


def dropped_in_words(dropped: Mapping[str, int]) -> str:
    """What was not used, by cause: observations first, then rows that have none.

    Examples
    --------
    >>> dropped_in_words({"missing size": 15, "missing left-hand side": 2})
    'observations dropped: 15 missing size; rows without a response: 2'
    """
    causes = ", ".join(f"{n} {cause}" for cause, n in dropped.items() if n and cause != NO_RESPONSE)
    empty = dropped.get(NO_RESPONSE, 0)
    return f"observations dropped: {causes or 'none'}" + (f"; rows without a response: {empty}" if empty else "")


@dataclass(frozen=True)
class Figures:
    """The figures of a regression that the sentences need."""

    name: str
    nobs: int
    errors: str
    lags: int | None
    index: pd.Index
    coefficients: pd.Series
    p_values: pd.Series
    interval: pd.DataFrame
    level: float
    r2: float
    sigma: float
    dropped: Mapping[str, int]
    detectable: pd.Series


def sentences(fit: Figures, constant: str) -> list[str]:
    """A sentence for each line of a regression; factor returns are in decimals."""
    noun, level = noun_of(fit.index), fit.level
    first, last = (period_label(fit.index[end]) for end in (0, -1))
    lines = [
        f"{fit.name} over {fit.nobs} {noun}s, {first} to {last}, with {errors_in_words(fit.errors)}"
        + (f" of {fit.lags} lags" if fit.lags is not None else "")
        + "."
    ]
    ends = fit.interval
    for term in fit.coefficients.index:
        value, p = float(fit.coefficients[term]), float(fit.p_values[term])
        low, high = float(ends.loc[term, "low"]), float(ends.loc[term, "high"])
        if term == constant:
            lines.append(_alpha(value, low, high, p, noun, level))
            lines.append(
                f"Samples like this show an alpha of {100 * fit.detectable[term]:.2f} % a {noun} four times in "
                "five (two-sided 5 % test); smaller ones mostly pass unseen."
            )
        else:
            lines.append(_beta(str(fit.name), str(term), value, low, high, p, noun, level))
    factors = [str(t) for t in fit.coefficients.index if t != constant]
    lines.append(_r2(fit.r2, factors, centred=constant in fit.coefficients.index))
    lines.append(
        f"What the factors leave unexplained has a standard deviation of {100 * fit.sigma:.2f} % a {noun}."
    )
    dropped = {cause: count for cause, count in fit.dropped.items() if count}
    if dropped:
        reasons = "; ".join(f"{count} {cause}" for cause, count in dropped.items())
        lines.append(f"Rows not used: {reasons}.")
    return lines


def noun_of(index: pd.Index) -> str:
    """Word for one row of an index."""
    try:
        return infer_frequency(index).noun
    except FrequencyError:
        return "row"


def _alpha(value: float, low: float, high: float, p: float, noun: str, level: float) -> str:
    direction = "more" if value >= 0 else "less"
    sure = "zero is inside, so this sample does not tell it from zero" if low <= 0 <= high else "zero is outside"
    return (
        f"Alpha: its mean return is {100 * abs(value):.2f} % a {noun} {direction} than its betas explain; with "
        f"{100 * level:g} % confidence {100 * low:.2f} to {100 * high:.2f} %: {sure} ({p_equals(p)})."
    )


def _beta(name: str, term: str, value: float, low: float, high: float, p: float, noun: str, level: float) -> str:
    inside = [word for number, word in ((0, "zero"), (1, "one")) if low <= number <= high]
    also = {
        0: "neither zero nor one is inside",
        1: f"{''.join(inside)} is inside",
        2: "both zero and one are inside",
    }[len(inside)]
    direction = "higher" if value >= 0 else "lower"
    return (
        f"{term}: in a {noun} in which {term} is 1 % higher, {name} is {abs(value):.2f} % {direction} on "
        f"average, the other factors equal; beta {value:.2f}, with {100 * level:g} % confidence {low:.2f} to "
        f"{high:.2f}: {also} (of zero {p_equals(p)})."
    )


def _r2(r2: float, factors: list[str], *, centred: bool) -> str:
    if not np.isfinite(r2):
        return "R² is not defined: the left-hand side does not move."
    what = factors[0] if len(factors) == 1 else "the factors"
    if not centred:
        return (
            f"R² {r2:.2f} is about zero, not about the mean, since there is no constant: it is no share of the "
            "variance, and not comparable with that of a regression with one."
        )
    return (
        f"R² {r2:.2f}: {100 * r2:.0f} % of the variance goes with {what}; the other {100 * (1 - r2):.0f} % is "
        "specific to the asset, and largely cancels in a portfolio of many."
    )
