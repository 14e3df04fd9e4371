"""Forecasts of beta by window, frequency, adjustment and estimator, against the betas of the following period."""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Bools, Floats
from ultrum.core.model_comparison.sharpe_ratio_and_forecast_tests import (
    diebold_mariano_test,
    forecast_regression,
    model_confidence_set,
)
from ultrum.core.presentation import MainTable, over_basis, quantity, table_text
from ultrum.core.pricing.sensitivity import (
    ADJUSTMENTS,
    ESTIMATORS,
    LEAST_ROWS,
    adjust_betas,
    check_choices,
    excess_at,
    window_betas,
)
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.regress import estimate_table
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.time.frequency import Frequency, months_in
from ultrum.core.time.index_frequency_and_gaps import infer_frequency
from ultrum.core.transform.rolling_statistics import months_before
from ultrum.errors import EstimationError, UltrumError, count_parts, one_of

CHOICES: Final = ("window", "frequency", "adjustment", "estimator")
COMBINED: Final = "mean of all"
ONE: Final = "beta of one"
_FEWEST_DATES: Final = 10
_SCORES: Final = ("mse", "bias", "mz_constant", "mz_slope", "mz_p", "dm_t", "dm_p")
_HEADINGS: Final = {"hedging_volatility": "hedging", "mz_constant": "mz_a", "mz_slope": "mz_b"}


@dataclass(frozen=True, eq=False, repr=False)
class BetaForecasts(MainTable):
    """Forecast errors of each way to estimate beta.

    Attributes
    ----------
    table : DataFrame
        By choice, smallest error first: ``window frequency adjustment estimator``; ``mse``, the mean squared
        forecast error less the variance of the realised betas' own estimation error; ``bias`` (forecast less
        realised); ``hedging_volatility``, annual, of returns hedged with the forecast; ``mz_constant mz_slope
        mz_p`` (Mincer–Zarnowitz, clustered by date); ``dm_t dm_p`` (Diebold–Mariano against the base case,
        negative if better); ``mcs_p`` and ``included`` (model confidence set).
    losses : DataFrame
        Squared error of each choice by forecast date, the mean over companies.
    forecasts : DataFrame
        By date and asset: the forecast of each choice, ``realised`` and ``realised_error``.
    base_case : str
    basis : str
    """

    table: pd.DataFrame
    losses: pd.DataFrame
    forecasts: pd.DataFrame
    base_case: str
    basis: str

    def __repr__(self) -> str:
        shown = self.table.drop(columns=list(CHOICES)).rename(columns=_HEADINGS)
        return over_basis(self.basis, table_text(shown, "{:.3f}"))


@validate_arguments
def evaluate_betas(
    assets: SeriesTable,
    market: TimeSeries,
    *,
    risk_free: TimeSeries | float,
    windows: Sequence[str] = ("P2Y", "P3Y", "P5Y"),
    frequencies: Sequence[str] = ("W", "M"),
    adjustments: Sequence[str] = ADJUSTMENTS,
    estimators: Sequence[str] = ESTIMATORS,
    every: str = "P1Y",
    horizon: str = "P1Y",
    base_case: Mapping[str, str] | None = None,
    realised_frequency: str | None = None,
    level: float = 0.9,
    draws: int = 999,
    seed: int = 0,
) -> BetaForecasts:
    """Compare ways to estimate beta by how well each forecasts the beta of the following period.

    At each date every combination estimates betas with data up to that date. They are compared with the betas
    realised over the following ``horizon``, and by the volatility of returns hedged with them. The mean of all
    combinations, and a beta of one for every company, are evaluated too.

    Parameters
    ----------
    assets : SeriesTable
        Total returns of companies, daily or at the highest frequency needed. Together they form the prior of the
        Vasicek adjustment.
    market : TimeSeries
        Total returns of the market.
    risk_free : TimeSeries or float
        As for :func:`ultrum.beta_sensitivity`.
    windows, frequencies, adjustments, estimators : sequence of str
        As for :func:`ultrum.beta_sensitivity`.
    every, horizon : str
        Durations between forecast dates, and of the period in which the beta is realised.
    base_case : mapping, optional
        Choice that the others are tested against, such as ``{"window": "P5Y", "frequency": "M"}``; by default the
        first of each.
    realised_frequency : str, optional
        Frequency of the returns behind realised betas; by default that of the data.
    level : float
        Probability with which the model confidence set contains the best choice.
    draws, seed : int
        Draws of its bootstrap.

    Returns
    -------
    BetaForecasts
        Over the dates and companies for which every choice has a forecast; what is left out is counted.

    Raises
    ------
    EstimationError
        If a word is unknown, or fewer than ten dates have forecasts of every choice.

    Notes
    -----
    The error of a realised beta is independent of a forecast made before, so that the expected squared difference
    is the squared forecast error plus the variance of the realised beta; its HAC estimate is subtracted from
    ``mse``. Differences between choices do not depend on it.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> returns = ul.SeriesTable.from_pandas(panel.assets, measure="return")
    >>> whole = panel.factors["market"] + panel.risk_free
    >>> market = ul.TimeSeries.from_pandas(whole.rename("index"), measure="return")
    >>> made = ul.evaluate_betas(returns, market, risk_free=panel.rate, windows=["P5Y"], frequencies=["M"],
    ...                          estimators=["ols"], horizon="P2Y", draws=199)
    >>> sorted(made.table["adjustment"])
    ['beta of one', 'blume', 'mean of all', 'none', 'vasicek']
    """
    check_choices(adjustments, ADJUSTMENTS, "adjustment")
    check_choices(estimators, ESTIMATORS, "estimator")
    chosen = list(windows), [str(f) for f in frequencies], list(adjustments), list(estimators)
    options = dict(zip(CHOICES, chosen, strict=True))
    base = _base_label(options, dict(base_case or {}))
    table = SeriesTable.of([market])
    own = str(realised_frequency or assets.frequency.code)
    samples = {
        f: excess_at(assets, table, risk_free, f, None) for f in dict.fromkeys([*options["frequency"], own])
    }
    origins = _origins(samples[own][0].index, every, horizon)
    whole, later = _collect(samples, options, market.name, origins, own, horizon)
    labels = [c for c in whole.columns if c not in ("realised", "realised_error")]
    complete = whole.dropna()
    dates: list[str] = list(map(str, complete.index.get_level_values(0).unique())) if len(complete) else []
    if len(dates) < _FEWEST_DATES:
        raise EstimationError(
            f"evaluate_betas: {quantity(len(dates), 'date')} with a forecast of every choice and a realised "
            f"beta; at least {_FEWEST_DATES} are needed.{_scarcest(whole, labels)} Use shorter windows, a "
            "smaller every, or longer data."
        )
    squared = complete[labels].sub(complete["realised"], axis=0) ** 2
    losses = squared.groupby(level=0).mean()
    rows = _scores(complete, labels, losses, base, int(np.ceil(months_in(horizon) / months_in(every))))
    target = Frequency.parse(own)
    per_year = market.periods_per_year if target == market.frequency else target.periods_per_year
    rows.insert(2, "hedging_volatility", _hedging_volatility(complete, labels, later, per_year))
    rows = rows.join(_confidence_set(losses, level, draws, seed))
    parts = pd.DataFrame([_parts(label) for label in rows.index], rows.index, CHOICES)
    result = parts.join(rows).sort_values("mse", kind="stable").rename_axis("choice")
    lost = len(whole) - len(complete)
    basis = (
        f"{quantity(len(dates), 'forecast date')} ({dates[0]} to {dates[-1]}, every {every}) of "
        f"{quantity(len(origins), 'date')} with data after them; {quantity(len(complete), 'forecast')} of a "
        f"company by every choice, {lost} incomplete left out; betas realised over {horizon} of returns at "
        f"frequency {own}, their estimation variance {float((complete['realised_error'] ** 2).mean()):.4f} "
        f"subtracted from mse; tests against {base}; {100 * level:g} % confidence set"
    )
    return BetaForecasts(result, losses, complete, base, basis)


def _collect(
    samples: Mapping[str, tuple[pd.DataFrame, pd.DataFrame]],
    options: Mapping[str, list[str]],
    market: str,
    origins: list[str],
    own: str,
    horizon: str,
) -> tuple[pd.DataFrame, dict[str, tuple[pd.DataFrame, pd.Series]]]:
    """Forecasts and outcomes by date and company, and the returns behind each outcome."""
    blocks: list[pd.DataFrame] = []
    later: dict[str, tuple[pd.DataFrame, pd.Series]] = {}
    for origin in count_parts(origins, "evaluate_betas, forecast dates", len(origins)):
        outcome = _outcome_after(samples[own], origin, horizon)
        if outcome is not None:
            forecasts = _forecasts_at(samples, options, market, origin)
            blocks.append(pd.concat({origin: forecasts.join(outcome[0])}, names=["date", "asset"]))
            later[origin] = outcome[1]
    return pd.concat(blocks) if blocks else pd.DataFrame(), later


def _confidence_set(losses: pd.DataFrame, level: float, draws: int, seed: int) -> pd.DataFrame:
    """P value of each choice in the model confidence set; empty if all have the same losses."""
    stands_for = _distinct(losses)
    kept = list(dict.fromkeys(stands_for.values()))
    if len(kept) < 2:
        return pd.DataFrame(index=losses.columns)
    chosen = model_confidence_set(losses[kept], level=level, draws=draws, seed=seed).table
    rows = chosen.loc[[stands_for[str(label)] for label in losses], ["p_value", "included"]]
    return rows.set_axis(losses.columns).rename(columns={"p_value": "mcs_p"})


def _scarcest(whole: pd.DataFrame, labels: list[str]) -> str:
    """The choice with forecasts at the fewest dates, in words."""
    if not len(whole):
        return ""
    dates = whole[labels].notna().groupby(level=0).any().sum()
    count = whole.index.get_level_values(0).nunique()
    return f" '{dates.index[int(dates.argmin())]}' has forecasts at {dates.min()} of {quantity(count, 'date')}."


def _base_label(options: Mapping[str, list[str]], chosen: dict[str, str]) -> str:
    """The base case as a label."""
    for choice, value in chosen.items():
        if choice not in options:
            raise EstimationError(f"evaluate_betas: '{choice}' is not a choice; {one_of(choice, options)}")
        if value not in options[choice]:
            raise EstimationError(f"evaluate_betas: {choice}='{value}'; {one_of(value, options[choice])}")
    empty = [choice for choice, values in options.items() if not values]
    if empty:
        raise EstimationError(f"evaluate_betas: {empty[0]} is empty. Pass at least one.")
    return ", ".join(chosen.get(choice, values[0]) for choice, values in options.items())


def _parts(label: str) -> list[str]:
    """Window, frequency, adjustment and estimator of a label."""
    return ["–", "–", label, "–"] if label in (COMBINED, ONE) else label.split(", ")


def _origins(index: pd.Index, every: str, horizon: str) -> list[str]:
    """Forecast dates: days from the end of the data back, the first one a horizon before the end."""
    frequency = infer_frequency(index)
    days = _last_days(index, frequency)
    step, reach = months_in(every), months_in(horizon)
    if not step or not reach:
        raise EstimationError(f"evaluate_betas: every='{every}', horizon='{horizon}': give years or months.")
    count = int((days[-1] - days[0]) / np.timedelta64(28, "D")) // step + 1
    wanted = [months_before(days[-1:], reach + k * step)[0] for k in range(count)]
    return [str(day) for day in reversed(wanted) if day > days[0]]


def _last_days(index: pd.Index, frequency: Frequency) -> np.ndarray:
    """The last day of each period."""
    return np.asarray(frequency.ends(frequency.ordinals_of(index)))


def _forecasts_at(
    samples: Mapping[str, tuple[pd.DataFrame, pd.DataFrame]],
    options: Mapping[str, list[str]],
    market: str,
    origin: str,
) -> pd.DataFrame:
    """Forecasts of every choice with data up to a date, (N, choices); missing where a choice has none."""
    out: dict[str, Floats | float] = {}
    day = np.datetime64(origin)
    for frequency in options["frequency"]:
        y, x = samples[frequency]
        rows = int(np.searchsorted(_last_days(y.index, infer_frequency(y.index)), day, side="right"))
        for window, estimator in itertools.product(options["window"], options["estimator"]):
            estimate: BetaTable | str = "too few rows"
            if rows >= LEAST_ROWS:
                past, kind = (y.iloc[:rows], x.iloc[:rows]), (estimator, "classical")
                estimate = window_betas(*past, window, market, *kind, None, estimate_table, day)
            for adjustment in options["adjustment"]:
                label = ", ".join([window, frequency, adjustment, estimator])
                out[label] = np.nan if isinstance(estimate, str) else _one_choice(estimate, adjustment)
    frame = pd.DataFrame(out, samples[options["frequency"][0]][0].columns)
    if len(out) > 1:
        frame[COMBINED] = frame.mean(axis=1, skipna=False)
    return frame.assign(**{ONE: 1.0})


def _one_choice(estimate: BetaTable, adjustment: str) -> Floats | float:
    """Adjusted betas of companies with enough rows; missing where the adjustment is not possible."""
    try:
        beta = adjust_betas(estimate, adjustment).estimates.coefficients[:, 1]
    except UltrumError:
        return np.nan
    return np.where(estimate.estimates.nobs >= LEAST_ROWS, beta, np.nan)


def _outcome_after(
    sample: tuple[pd.DataFrame, pd.DataFrame], origin: str, horizon: str
) -> tuple[pd.DataFrame, tuple[pd.DataFrame, pd.Series]] | None:
    """Betas over the following period with HAC errors, and the returns behind them."""
    y, x = sample
    days = _last_days(y.index, infer_frequency(y.index))
    day = np.datetime64(origin)
    later = months_before(np.array([day]), -months_in(horizon))[0]
    inside: Bools = (days > day) & (days <= later)
    if inside.sum() < LEAST_ROWS:
        return None
    part, factor = y[inside], x[inside]
    enough = part.notna().sum() >= LEAST_ROWS
    if not enough.any():
        return None
    fit = estimate_table(part.loc[:, enough], factor, errors="hac")
    term = str(factor.columns[0])
    outcome = pd.DataFrame({"realised": fit.coefficients[term], "realised_error": fit.standard_errors[term]})
    return outcome.reindex(y.columns), (part, factor.iloc[:, 0])


def _scores(
    complete: pd.DataFrame, labels: list[str], losses: pd.DataFrame, base: str, horizon: int
) -> pd.DataFrame:
    """Mean squared error, bias and tests of each choice."""
    noise = float((complete["realised_error"] ** 2).mean())
    dates = pd.Series(complete.index.get_level_values(0), complete.index)
    table = pd.DataFrame(index=labels, columns=list(_SCORES), dtype=float)
    for label in labels:
        off = complete[label] - complete["realised"]
        table.loc[label, ["mse", "bias"]] = float((off**2).mean()) - noise, float(off.mean())
        if complete[label].std() > 0:
            fit = forecast_regression(complete["realised"], complete[label], dates)
            test = fit.test([[1.0, 0.0], [0.0, 1.0]], [0.0, 1.0])
            table.loc[label, ["mz_constant", "mz_slope", "mz_p"]] = *fit.coefficients, test.p_value
        if label != base and (losses[label] - losses[base]).abs().max() > 0:
            compared = diebold_mariano_test(losses[label], losses[base], horizon=horizon)
            table.loc[label, ["dm_t", "dm_p"]] = compared.statistic, compared.p_value
    return table


def _hedging_volatility(
    complete: pd.DataFrame,
    labels: list[str],
    later: Mapping[str, tuple[pd.DataFrame, pd.Series]],
    per_year: float,
) -> pd.Series:
    """Annual volatility of returns less forecast beta times market, over the companies and dates in use."""
    total, count = np.zeros(len(labels)), 0
    for date, forecasts in complete.groupby(level=0):
        returns, market = later[str(date)]
        names = forecasts.index.get_level_values(1)
        y, m = returns[names].to_numpy(), market.to_numpy()[:, None, None]
        left = y[:, :, None] - m * forecasts[labels].to_numpy()
        left -= np.nanmean(left, axis=0)
        total += np.nansum(left**2, axis=(0, 1))
        count += int(np.isfinite(left[:, :, 0]).sum()) - len(names)
    return pd.Series(np.sqrt(per_year * total / count), labels)


def _distinct(losses: pd.DataFrame) -> dict[str, str]:
    """For each choice the first one with the same losses, which stands for it in the confidence set."""
    out: dict[str, str] = {}
    for label in losses:
        same = (k for k in out.values() if np.allclose(losses[k], losses[label], rtol=1e-9, atol=0.0))
        out[str(label)] = next(same, str(label))
    return out
