"""Sensitivity of a beta to window, frequency, adjustment and estimator."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Final, Literal

import numpy as np
import pandas as pd

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Bools
from ultrum.core.deprecated_names import RenamedAttribute, renamed_values
from ultrum.core.presentation import TextInNotebooks, quantity
from ultrum.core.pricing.dimson_and_downside_betas import leads_and_lags
from ultrum.core.pricing.factor_betas_and_shrinkage import BLUME_1971, shrink_betas
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.engine.covariance_and_bootstrap import check_errors, errors_in_words
from ultrum.core.regression.inference import t_quantile
from ultrum.core.regression.inputs import CONSTANT
from ultrum.core.regression.regress import regress
from ultrum.core.returns.price_log_and_excess_returns import excess
from ultrum.core.returns.yields import accrual_rate
from ultrum.core.series.time_series import S, SeriesTable, TimeSeries
from ultrum.core.time.frequency import Frequency, last_day, months_in
from ultrum.core.time.index_frequency_and_gaps import infer_frequency
from ultrum.core.transform.aggregation import to_frequency
from ultrum.core.transform.rolling_statistics import months_before
from ultrum.errors import EstimationError, UltrumError, UnitError, one_of

ADJUSTMENTS: Final = ("none", "vasicek", "blume")
ESTIMATORS: Final = ("ols", "dimson")
_EARLIER: Final = {"plain": "ols", "lagged": "dimson"}
CHOICES: Final = ("window", "frequency", "market", "adjustment", "estimator")
LEAST_ROWS: Final = 12


@dataclass(frozen=True, eq=False, repr=False)
class BetaSensitivity(TextInNotebooks):
    """Betas of one asset under every combination of specification choices.

    Attributes
    ----------
    table : DataFrame
        Columns ``window frequency market adjustment estimator beta error low high rows note``.
    asset : str
    chosen : mapping of str to str
        The base case of the user.
    published : float or None
        A published beta.
    errors : str
    end : label
        Last row used.
    """

    table: pd.DataFrame
    asset: str
    chosen: Mapping[str, str]
    published: float | None
    errors: str
    end: object

    own = RenamedAttribute("base_case")

    @property
    def base_case(self) -> pd.Series:
        """The row of the base case."""
        return self.table.iloc[int(np.argmax(self._is_base_case()))]

    @property
    def nearest(self) -> pd.DataFrame:
        """The five combinations nearest to the published beta."""
        if self.published is None:
            raise EstimationError("No published figure was given; set published=1.1.")
        apart = (self.table["beta"] - self.published).abs()
        return self.table.loc[apart.sort_values(kind="stable").index[:5]]

    def spread(self) -> pd.DataFrame:
        """By choice and value: mean, minimum and maximum beta over all combinations with it, and their number."""
        parts = []
        for choice in CHOICES:
            grouped = self.table.dropna(subset=["beta"]).groupby(choice, sort=False)["beta"]
            frame = grouped.agg(["mean", "min", "max", "count"])
            frame.index = pd.MultiIndex.from_product([[choice], frame.index], names=["choice", "value"])
            parts.append(frame)
        return pd.concat(parts)

    def to_frame(self) -> pd.DataFrame:
        """All combinations, with the base case marked."""
        return self.table.assign(own=self._is_base_case())

    def _is_base_case(self) -> Bools:
        chosen = np.ones(len(self.table), dtype=bool)
        for choice, value in self.chosen.items():
            chosen &= (self.table[choice] == value).to_numpy()
        return chosen

    def __repr__(self) -> str:
        beta, chosen = self.table["beta"].dropna(), self.base_case
        if beta.empty:
            why = "; ".join(dict.fromkeys(self.table["note"]))
            return f"Beta of {self.asset}: no combination has an estimate: {why}"
        lost = len(self.table) - len(beta)
        base = f"{chosen['beta']:.2f} ({chosen['low']:.2f} to {chosen['high']:.2f})"
        words = [
            f"Beta of {self.asset}: {len(beta)} combinations from {beta.min():.2f} to {beta.max():.2f}, median "
            f"{beta.median():.2f}{f', {lost} without an estimate' * (lost > 0)}; {errors_in_words(self.errors)}",
            f"base case ({', '.join(map(str, self.chosen.values()))}): "
            + (base if np.isfinite(chosen["beta"]) else f"no estimate, {chosen['note']}"),
        ]
        if self.published is not None:
            share = float((beta <= self.published).mean())
            near = self.nearest.iloc[0]
            words.append(
                f"published {self.published:.2f}: above {100 * share:.0f} % of them; nearest "
                f"{', '.join(str(near[c]) for c in CHOICES)} with {near['beta']:.2f}"
            )
        return "\n".join([*words, self.spread().round(3).to_string()])


@renamed_values(estimators=_EARLIER, chosen=_EARLIER)
@validate_arguments
def beta_sensitivity(
    assets: SeriesTable,
    markets: SeriesTable | TimeSeries,
    asset: str,
    *,
    risk_free: TimeSeries | float,
    windows: Sequence[str] = ("P2Y", "P3Y", "P5Y", "P10Y"),
    frequencies: Sequence[str] = ("W", "M", "Q"),
    adjustments: Sequence[str] = ADJUSTMENTS,
    estimators: Sequence[str] = ESTIMATORS,
    chosen: Mapping[str, str] | None = None,
    published: float | None = None,
    end: str | None = None,
    errors: str = "hac",
    lags: int | Literal["automatic"] | None = None,
) -> BetaSensitivity:
    """Sensitivity of a beta to specification: window, frequency, market, adjustment and estimator.

    Parameters
    ----------
    assets, markets : SeriesTable
        Total returns of companies and of market indices, daily or at the highest frequency needed. The other
        companies form the cross-section of the Vasicek prior.
    asset : str
        Name of the asset.
    risk_free : TimeSeries or float
        Risk-free returns of the same or a lower frequency, without lag, or an effective annual rate. At a higher
        frequency they accrue at the constant rate that compounds to them.
    windows : sequence of str
        Durations of the windows, which end with the data.
    frequencies : sequence of str
        Frequencies of returns to try.
    adjustments : sequence of {"none", "vasicek", "blume"}
        ``blume`` uses the line of Blume (1971), 0.343 + 0.677β.
    estimators : sequence of {"ols", "dimson"}
        ``dimson`` adds one lag and one lead of the market (Dimson 1979).
    chosen : mapping, optional
        The base case, such as ``{"window": "P5Y", "frequency": "M"}``; by default the first of each choice.
    published : float, optional
        A published beta to compare with.
    end : str, optional
        Last day or period used.
    errors : str
        Kind of standard errors, as for :func:`ultrum.regress`.
    lags : int or {"automatic"}, optional
        Lags of ``hac`` in periods, at every frequency; by default the rule for the number of observations.

    Returns
    -------
    BetaSensitivity
        A combination with fewer than 12 observations, or without an estimate, has no beta; its note gives the
        reason.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> returns = ul.SeriesTable.from_pandas(panel.assets, measure="return")
    >>> rate = panel.rate
    >>> whole = panel.factors["market"] + panel.risk_free
    >>> market = ul.TimeSeries.from_pandas(whole.rename("index"), measure="return")
    >>> made = beta_sensitivity(returns, market, "BRTW", risk_free=rate, frequencies=["M", "Q"],
    ...                         windows=["P5Y", "P10Y"], published=0.8)
    >>> len(made.table)
    24
    """
    table = SeriesTable.of([markets]) if isinstance(markets, TimeSeries) else markets
    if asset not in assets.names:
        raise EstimationError(f"No asset '{asset}'; {one_of(asset, assets.names)}")
    check_choices(adjustments, ADJUSTMENTS, "adjustment")
    check_choices(estimators, ESTIMATORS, "estimator")
    check_errors(errors, lags)
    options = {
        "window": list(windows),
        "frequency": [str(f) for f in frequencies],
        "market": table.names,
        "adjustment": list(adjustments),
        "estimator": list(estimators),
    }
    empty = [what for what, given in options.items() if not given]
    if empty:
        raise EstimationError(f"beta_sensitivity: {empty[0]} is empty. Pass at least one.")
    choice_of_user = _base_case(options, dict(chosen or {}))
    rows = []
    for frequency in options["frequency"]:
        y, x = excess_at(assets, table, risk_free, frequency, end)
        for window, market, estimator in itertools.product(windows, table.names, estimators):
            estimate = window_betas(y, x, window, market, estimator, errors, lags)
            for adjustment in adjustments:
                labels = (window, frequency, market, adjustment, estimator)
                rows.append({**dict(zip(CHOICES, labels, strict=True)), **_row(estimate, asset, adjustment)})
    last = y.index[-1]
    return BetaSensitivity(pd.DataFrame(rows), asset, choice_of_user, published, errors, last)


def check_choices(given: Sequence[str], options: Sequence[str], what: str) -> None:
    """Refuse a word that is not an option, and an empty list."""
    wrong = [g for g in given if g not in options]
    if wrong or not len(given):
        raise EstimationError(
            f"{what} '{''.join(map(str, wrong[:1]))}' is not known; it is one of {', '.join(options)}."
        )


def _base_case(options: Mapping[str, list[str]], chosen: dict[str, str]) -> dict[str, str]:
    for choice, value in chosen.items():
        if choice not in options:
            raise EstimationError(f"'{choice}' is not a specification choice; {one_of(choice, options)}")
        if value not in options[choice]:
            raise EstimationError(f"No specification has {choice}='{value}'; {one_of(value, options[choice])}")
    return {choice: chosen.get(choice, values[0]) for choice, values in options.items()}


def excess_at(
    assets: SeriesTable, markets: SeriesTable, risk_free: TimeSeries | float, frequency: str, end: str | None
) -> tuple[pd.DataFrame, pd.DataFrame]:
    """Excess returns of companies and markets at one frequency, on common periods."""
    target = Frequency.parse(frequency)
    rates = (risk_free.metadata,) if isinstance(risk_free, TimeSeries) else ()
    for metadata in (*assets.metadata, *markets.metadata, *rates):
        if not metadata.is_return:
            raise UnitError(f"{metadata.name} is {metadata.measure_in_words}; total returns are expected.")

    def _at(series: S) -> S:
        own_frequency = series.metadata.frequency if isinstance(series, TimeSeries) else series.frequency
        return series if own_frequency == target else to_frequency(series, target)

    def _excess(series: SeriesTable) -> pd.DataFrame:
        held = _at(series)
        if isinstance(risk_free, TimeSeries) and risk_free.metadata.frequency <= target:
            return excess(held, _at(risk_free)).to_frame()
        return excess(held, accrual_rate(risk_free, held.index, target)).to_frame()

    y, x = _excess(assets), _excess(markets)
    shared = y.index.intersection(x.index)
    if end is not None:  # a period that goes on after it has later days in it
        shared = shared[target.ends(target.ordinals_of(shared)) <= last_day(end)]
    if not len(shared):
        raise EstimationError(
            f"Companies and markets have no common {target.name} period up to {end or 'their end'}. Use series "
            "that overlap."
        )
    return y.loc[shared], x.loc[shared]


def window_betas(
    y: pd.DataFrame,
    x: pd.DataFrame,
    window: str,
    market: str,
    estimator: str,
    errors: str,
    lags: int | Literal["automatic"] | None,
    fit: Callable[..., BetaTable] = regress,
    end: np.datetime64 | None = None,
) -> BetaTable | str:
    """Betas of all companies on one market over one window, or the reason why there are none."""
    start = _first_row(y.index, window, end)
    if start is None:
        return f"the data do not cover {window}"
    design = leads_and_lags(x[market], 1, 1) if estimator == "dimson" else x[[market]]
    try:
        return fit(y.iloc[start:], design.iloc[start:], errors=errors, lags=lags)
    except UltrumError as error:
        return str(error)


def _first_row(index: pd.Index, window: str, end: np.datetime64 | None) -> int | None:
    """First row of a window that ends on a day, by default with the data; none if the data begin later."""
    frequency = infer_frequency(index)
    ordinals = frequency.ordinals_of(index)
    begun = frequency.starts(ordinals)
    last = frequency.starts(ordinals[-1:] + 1) - np.timedelta64(1, "D") if end is None else np.array([end])
    months = months_in(window)
    if not months:
        raise EstimationError(f"window='{window}': give years or months, such as P5Y.")
    cut = months_before(last, months)[0]
    late = begun[0] - cut > np.timedelta64(1, "D") + (frequency.starts(ordinals[:1] + 1)[0] - begun[0])
    return None if late else int(np.searchsorted(begun, cut, side="right"))


def _row(estimate: BetaTable | str, asset: str, adjustment: str) -> dict[str, object]:
    """Results of one combination."""
    blank = {"beta": np.nan, "error": np.nan, "low": np.nan, "high": np.nan, "rows": 0, "note": ""}
    if isinstance(estimate, str):
        return {**blank, "note": estimate}
    rows = int(estimate.nobs[asset])
    if rows < LEAST_ROWS:
        return {**blank, "rows": rows, "note": f"{quantity(rows, 'row')}, fewer than {LEAST_ROWS}"}
    try:
        summed = adjust_betas(estimate, adjustment)
    except UltrumError as fault:
        return {**blank, "rows": rows, "note": str(fault)}
    place = summed.assets.index(asset)
    beta, error = (float(summed.coefficients["beta"].iloc[place]), float(np.sqrt(summed.covariance[place, 1, 1])))
    reach = error * float(t_quantile(0.95, float(estimate.df.iloc[place])))
    return {"beta": beta, "error": error, "low": beta - reach, "high": beta + reach, "rows": rows, "note": ""}


def adjust_betas(estimate: BetaTable, adjustment: str) -> BetaTable:
    """One beta per company, the sum over leads and lags, after an adjustment (none, vasicek or blume).

    Examples
    --------
    >>> import ultrum as ul
    >>> betas = ul.factor_betas(ul.practice.panel(), ["market"])
    >>> round(float(adjust_betas(betas, "blume").coefficients["beta"]["BRTW"]), 3)
    0.725
    """
    summed = _sum_lags(estimate)
    if adjustment == "vasicek":
        return shrink_betas(summed)
    return shrink_betas(summed, how="blume", line=BLUME_1971) if adjustment == "blume" else summed


def _sum_lags(table: BetaTable) -> BetaTable:
    """The same regressions with a single beta: the sum over leads and lags, and its joint standard error."""
    gather = np.zeros((2, len(table.terms)))
    gather[0, 0], gather[1, 1:] = 1.0, 1.0
    coefficients = table.estimates.coefficients @ gather.T
    return table.with_coefficients(coefficients, gather @ table.covariance @ gather.T, (CONSTANT, "beta"))
