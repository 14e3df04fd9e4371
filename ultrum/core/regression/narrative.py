"""A regression in words: each figure in one sentence."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Protocol

import numpy as np
import pandas as pd

from ultrum.core.regression.engine.covariance import errors_said
from ultrum.core.series.text_tables import p_equals
from ultrum.core.time.frequency_inference import infer_frequency
from ultrum.core.time.period_labels import period_label
from ultrum.errors import FrequencyError


class _Regression(Protocol):
    """The figures of a regression that the sentences need."""

    @property
    def name(self) -> Any: ...
    @property
    def nobs(self) -> int: ...
    @property
    def errors(self) -> str: ...
    @property
    def lags(self) -> int | None: ...
    @property
    def response(self) -> pd.Series: ...
    @property
    def sample(self) -> tuple[Any, Any]: ...
    @property
    def coefficients(self) -> pd.Series: ...
    @property
    def p_values(self) -> pd.Series: ...
    @property
    def r2(self) -> float: ...
    @property
    def sigma(self) -> float: ...
    @property
    def dropped(self) -> Mapping[str, int]: ...
    def interval(self, level: float) -> pd.DataFrame: ...


def sentences(fit: _Regression, constant: str, level: float = 0.95) -> list[str]:
    """A sentence for each line of a regression; factor returns are in decimals."""
    noun = noun_of(fit.response.index)
    first, last = (period_label(end) for end in fit.sample)
    lines = [
        f"{fit.name} over {fit.nobs} {noun}s, {first} to {last}, with {errors_said(fit.errors)}"
        + (f" of {fit.lags} lags" if fit.lags is not None else "")
        + "."
    ]
    ends = fit.interval(level)
    for term in fit.coefficients.index:
        value, p = float(fit.coefficients[term]), float(fit.p_values[term])
        low, high = float(ends.loc[term, "low"]), float(ends.loc[term, "high"])
        if term == constant:
            lines.append(_alpha(value, low, high, p, noun, level))
        else:
            lines.append(_beta(str(fit.name), str(term), value, low, high, p, noun, level))
    lines.append(_r2(fit.r2, [str(t) for t in fit.coefficients.index if t != constant]))
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
    sure = (
        "zero lies inside, so this sample does not tell it from nothing"
        if low <= 0 <= high
        else "zero lies outside"
    )
    return (
        f"Alpha: it earned {100 * abs(value):.2f} % a {noun} {direction} than its betas explain; with "
        f"{100 * level:g} % confidence {100 * low:.2f} to {100 * high:.2f} %: {sure} ({p_equals(p)})."
    )


def _beta(
    name: str, term: str, value: float, low: float, high: float, p: float, noun: str, level: float
) -> str:
    inside = [word for number, word in ((0, "zero"), (1, "one")) if low <= number <= high]
    also = {
        0: "neither zero nor one lies inside",
        1: f"{''.join(inside)} lies inside",
        2: "both zero and one lie inside",
    }[len(inside)]
    direction = "more" if value >= 0 else "less"
    return (
        f"{term}: in a {noun} in which {term} earned 1 % more, {name} earned {abs(value):.2f} % {direction} on "
        f"average, all else equal; beta {value:.2f}, with {100 * level:g} % confidence {low:.2f} to {high:.2f}: "
        f"{also} (of zero {p_equals(p)})."
    )


def _r2(r2: float, factors: list[str]) -> str:
    if not np.isfinite(r2):
        return "R² is not defined: the left-hand side does not move."
    what = factors[0] if len(factors) == 1 else "the factors"
    return (
        f"R² {r2:.2f}: {100 * r2:.0f} % of the movement goes with {what}; the other {100 * (1 - r2):.0f} % is "
        "its own, which a holder of many shares need not bear."
    )
