"""Risk premia from history, with standard errors, and the currency risk factor."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Final, Literal

import numpy as np
import pandas as pd

from ultrum.core.arguments import refuse_idle_options, validate_arguments
from ultrum.core.array_types import Floats
from ultrum.core.currency.conversion import to_currency
from ultrum.core.currency.exchange_rates import ExchangeRates
from ultrum.core.deprecated_names import renamed_values
from ultrum.core.presentation import quantity
from ultrum.core.regression.engine.covariance_and_bootstrap import errors_in_words
from ultrum.core.regression.engine.newey_west_and_fixed_b import bartlett_sum, lag_rule
from ultrum.core.regression.inputs import CONSTANT
from ultrum.core.regression.regress import regress
from ultrum.core.returns.price_log_and_excess_returns import excess
from ultrum.core.series.input_checks import check_size
from ultrum.core.series.time_series import SeriesLike, TimeSeries
from ultrum.core.time.index_frequency_and_gaps import time_positions
from ultrum.core.time.period_labels_and_relative_dates import span_of
from ultrum.errors import CurrencyError, EstimationError, UnitError

ZERO_COST: Final = "zero cost"


@dataclass(frozen=True)
class Premium:
    """Expected annual excess return of a factor.

    Attributes
    ----------
    value, standard_error : float
        Annual decimals.
    df : float
        Degrees of freedom of the standard error; infinite for a given premium.
    excess_of : str
        Name of the rate subtracted; ``zero cost`` for a long–short portfolio.
    basis : str
        Source of the premium, in words.
    influence : Series, optional
        Contribution of each period to the value, for the covariance of premia and the bootstrap.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> history = ul.premium(panel.factor_table["market"])
    >>> round(history.value, 4), round(history.standard_error, 4)
    (0.0583, 0.0316)
    """

    value: float
    standard_error: float = 0.0
    df: float = np.inf
    excess_of: str = ""
    basis: str = "given"
    influence: pd.Series | None = field(default=None, repr=False, compare=False)


@renamed_values(mean={"blend": "blume"})
@validate_arguments
def premium(
    factor: TimeSeries,
    *,
    mean: Literal["arithmetic", "geometric", "blume"] = "arithmetic",
    horizon: float | None = None,
    risk_free: TimeSeries | None = None,
    errors: str = "hac",
    lags: int | None = None,
) -> Premium:
    """Risk premium of a traded factor, annual, from its history, such as the equity risk premium (ERP).

    Parameters
    ----------
    factor : TimeSeries
        Excess returns per period.
    mean : {"arithmetic", "geometric", "blume"}
        Arithmetic: P times the mean; geometric: ∏(1+f+rf)^(P/T) − ∏(1+rf)^(P/T); or Blume's (1974) weighted
        average of both for a ``horizon``: ((T−H)·arithmetic + (H−1)·geometric)/(T−1), with T and H in periods.
    horizon : float, optional
        Years, for ``mean="blume"``.
    risk_free : TimeSeries, optional
        Risk-free returns of the same periods, for the geometric mean; without them f alone is compounded.
    errors : str
        Standard error of the arithmetic mean, as for :func:`ultrum.regress`; by the delta method for the others.
    lags : int or {"automatic"}, optional
        Lags of ``hac`` standard errors.

    Returns
    -------
    Premium
        With T − 1 degrees of freedom.

    Examples
    --------
    >>> months = pd.period_range("2024-01", periods=4, freq="M")
    >>> market = pd.Series([0.01, 0.02, 0.0, 0.01], months, name="market")
    >>> market = TimeSeries.from_pandas(market, measure="return", excess_of="bill")
    >>> round(premium(market, errors="classical").value, 4)
    0.12
    """
    if mean != "blume":
        refuse_idle_options(f"mean='{mean}'", horizon=horizon)
    metadata = factor.metadata
    if not metadata.is_return or not metadata.excess_of:
        raise UnitError(
            f"{metadata.name} is not an excess return. Apply excess() first, or set excess_of='zero cost' for "
            "a long–short factor."
        )
    check_size(factor.as_table(), "premium")
    values = factor.values.dropna()
    per_year = factor.periods_per_year
    value, influence = _estimate(values, mean, horizon, _rates(values, risk_free), per_year)
    ones = pd.DataFrame({CONSTANT: 1.0}, values.index)
    each = (influence * len(values)).rename(metadata.name)
    fit = regress(each, ones, errors=errors, lags=lags, constant=False)
    method = f"{mean} mean" + (f" for {horizon:g} years" if mean == "blume" else "")
    return Premium(
        value=value,
        standard_error=float(fit.standard_errors.iloc[0]),
        df=fit.df,
        excess_of=metadata.excess_of,
        basis=f"{method} of {fit.nobs} {metadata.frequency.name} returns, {span_of(values.index)}; "
        f"{errors_in_words(fit.errors)}",
        influence=influence,
    )


def _rates(values: pd.Series, risk_free: TimeSeries | None) -> Floats:
    """Risk-free returns of the factor's periods, zero where none are given."""
    if risk_free is None:
        return np.zeros(len(values))
    if not risk_free.metadata.is_return:
        raise UnitError(f"{risk_free.name} is {risk_free.metadata.measure_in_words}. Use returns per period.")
    rates = risk_free.values.reindex(values.index)
    if rates.isna().any():
        first = rates.index[rates.isna()][0]
        raise EstimationError(f"{risk_free.name} has no value at {first}, where the factor has one.")
    return rates.to_numpy(dtype=np.float64)


def _estimate(
    values: pd.Series, mean: str, horizon: float | None, rates: Floats, per_year: float
) -> tuple[float, pd.Series]:
    """The premium, and the contribution of each period to it."""
    f, rows = values.to_numpy(dtype=np.float64), len(values)
    if rows < 2:
        raise EstimationError(f"premium: {values.name} has {quantity(rows, 'return')}; at least 2 are needed.")
    plain = per_year * float(f.mean())
    each = per_year * (f - f.mean()) / rows
    if mean == "arithmetic":
        return plain, pd.Series(each, values.index)
    whole, rate = np.log1p(f + rates), np.log1p(rates)
    grown, safe = np.exp(per_year * whole.mean()), np.exp(per_year * rate.mean())
    compound = float(grown - safe)
    slow = per_year * (grown * (whole - whole.mean()) - safe * (rate - rate.mean())) / rows
    if mean == "geometric":
        return compound, pd.Series(slow, values.index)
    if horizon is None or not 0 < horizon * per_year <= rows:
        raise EstimationError(
            f"premium: mean='blume' needs horizon= in years, at most the sample length ({rows / per_year:g}); "
            f"got {horizon}."
        )
    share = (rows - horizon * per_year) / (rows - 1.0)
    blended = share * plain + (1.0 - share) * compound
    return blended, pd.Series(share * each + (1.0 - share) * slow, values.index)


def joint_covariance(premia: Mapping[str, Premium]) -> Floats:
    """Covariance of premia: the standard error of each, and the long-run correlation of their histories.

    Given premia have no history and are treated as uncorrelated with the others.
    """
    names = list(premia)
    errors = np.array([premia[n].standard_error for n in names])
    covariance = np.diag(errors**2)
    with_history = [n for n in names if premia[n].influence is not None]
    if len(with_history) < 2:
        return covariance
    block, index = histories_of([premia[n].influence for n in with_history])
    together = bartlett_sum(block, lag_rule(len(block)), time_positions(index))
    scale = np.sqrt(np.diag(together))
    for i, a in enumerate(with_history):
        for j, b in enumerate(with_history[:i]):
            tied = together[i, j] / (scale[i] * scale[j]) if scale[i] > 0 and scale[j] > 0 else 0.0
            row, column = names.index(a), names.index(b)
            covariance[row, column] = covariance[column, row] = tied * errors[row] * errors[column]
    return covariance


def histories_of(influences: Sequence[pd.Series | None]) -> tuple[Floats, pd.Index]:
    """Contribution of each period to each premium, (T, K), zero where a premium has no return; and the periods of
    any of them.
    """
    histories = [i for i in influences if i is not None]
    frame = pd.concat(histories, axis=1).sort_index().fillna(0.0)
    return frame.to_numpy(dtype=np.float64), frame.index


# The currency factor of an international model


@validate_arguments
def currency_factor(
    foreign_rate: TimeSeries | str,
    home_rate: TimeSeries,
    rates: SeriesLike | Iterable[TimeSeries] | ExchangeRates,
) -> TimeSeries:
    """Currency risk factor (Adler and Dumas 1983): excess return on foreign bills, (1 + r*)(1 + s) − 1 − r.

    Parameters
    ----------
    foreign_rate : TimeSeries or str
        Risk-free returns per period, with their currency; or a currency code alone, for cash without interest.
    home_rate : TimeSeries
        Risk-free returns per period, with their currency.
    rates : TimeSeries, several, or ExchangeRates
        Exchange rates, in either direction.

    Returns
    -------
    TimeSeries
        A traded factor, in excess of the home rate, named after the foreign currency.

    Raises
    ------
    CurrencyError
        If a rate has no currency, or both have the same.

    Examples
    --------
    >>> import pandas as pd
    >>> months = pd.period_range("2024-01", periods=3, freq="M")
    >>> there = TimeSeries.from_pandas(pd.Series(0.004, months), name="sorr bill",
    ...                                measure="return", currency="QSR")
    >>> here = TimeSeries.from_pandas(pd.Series(0.002, months), name="bill", measure="return", currency="QML")
    >>> quote = TimeSeries.from_pandas(pd.Series([2.0, 2.1, 2.1], months), measure="quote",
    ...                                unit="QSR/QML", timing="end")
    >>> currency_factor(there, here, quote).to_pandas().round(4).tolist()
    [nan, 0.0522, 0.002]
    """
    if isinstance(foreign_rate, str):
        facts = {"currency": foreign_rate, "name": f"cash in {foreign_rate}", "excess_of": ""}
        foreign_rate = TimeSeries(0.0 * home_rate.values, home_rate.metadata.add_step("cash", facts))
    home, abroad = home_rate.metadata.currency, foreign_rate.metadata.currency
    if not home or not abroad or home == abroad:
        raise CurrencyError(
            f"{foreign_rate.name} is in {abroad or 'no known currency'}, {home_rate.name} in "
            f"{home or 'no known currency'}; two different currencies are needed. "
            "Use .with_metadata(currency=...)."
        )
    factor = excess(to_currency(foreign_rate, home, rates), home_rate)
    return factor.with_metadata(name=abroad, title=f"{foreign_rate.name} over {home_rate.name}")
