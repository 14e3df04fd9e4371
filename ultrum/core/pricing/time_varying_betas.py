"""Constant, rolling, conditional and state-space betas of one asset, with their forecasts one period ahead."""

from __future__ import annotations

import textwrap
from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np
import pandas as pd

from ultrum.core.arguments import checked
from ultrum.core.array_types import Floats
from ultrum.core.displayed_numbers import counted
from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.pricing.conditional_beta import conditional_beta
from ultrum.core.pricing.factor_betas import chosen_factors, factor_betas
from ultrum.core.pricing.kalman_beta import kalman_beta
from ultrum.core.regression.rolling_regression import rolling_regress
from ultrum.core.series.text_tables import TableInNotebooks, table_text
from ultrum.core.series.time_series import SeriesTable
from ultrum.core.time.gaps import time_positions
from ultrum.core.time.period_labels import span_of
from ultrum.errors import EstimationError, one_of

_FEWEST = 12  # common forecasts


@dataclass(frozen=True, eq=False, repr=False)
class TimeVaryingBetas(TableInNotebooks):
    """Betas of one asset by several estimators.

    Attributes
    ----------
    asset, factor : str
    paths : mapping of str to DataFrame
        By estimator ``estimate low high`` through time, 95 %. All but ``rolling`` use the whole sample, with
        hindsight; the forecasts do not.
    forecasts : DataFrame
        By estimator: ``rmse`` of return less beta known the period before times the factor, decimal a period;
        ``against_constant``, its ratio to that of the constant beta; ``rows``, the same for all.
    basis : str

    Examples
    --------
    >>> import ultrum as ul
    >>> made = time_varying_betas(ul.practice.panel(), "MRWG")
    >>> list(made.paths), made.forecasts["against_constant"].round(3).to_dict()
    (['constant', 'rolling', 'state space'], {'constant': 1.0, 'rolling': 0.958, 'state space': 0.972})
    """

    asset: str
    factor: str
    paths: Mapping[str, pd.DataFrame]
    forecasts: pd.DataFrame
    basis: str

    def to_frame(self) -> pd.DataFrame:
        """A row an estimator: its forecasts.

        Returns
        -------
        DataFrame
            Errors of the forecasts.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> ul.time_varying_betas(panel, "BRTW").to_frame().tail(2).round(2)
                     rmse  against_constant  rows
        rolling      0.06              1.01   191
        state space  0.07              1.02   191
        """
        return self.forecasts

    def __repr__(self) -> str:
        return f"{table_text(self.forecasts)}\n{textwrap.fill(self.basis, 100)}"


@checked
def time_varying_betas(panel: Panel, asset: str, factor: str = "market", *, window: int = 60) -> TimeVaryingBetas:
    """Betas of one asset as constant, rolling, conditional and as a random walk, and which forecasts best.

    Parameters
    ----------
    panel : Panel
        Aligned returns, factors and risk-free return; a conditional beta needs conditions in it.
    asset : str
        Name of the asset.
    factor : str
        Name of the factor.
    window : int
        Periods of the rolling beta.

    Returns
    -------
    TimeVaryingBetas
        Paths with bands, and errors of forecasts one period ahead on data known before.

    Raises
    ------
    EstimationError
        If there is no such asset, or fewer than 12 periods have a forecast by every estimator.

    Notes
    -----
    The forecast of rₜ is βₜ₋₁fₜ, without alpha, with the beta estimated on rows up to t − 1 (of the conditional
    beta its coefficients, with the conditions known before t). The periods are those that all estimators have.

    Examples
    --------
    >>> import ultrum as ul
    >>> time_varying_betas(ul.practice.panel(), "BRTW").forecasts["rows"].unique().tolist()
    [191]
    """
    panel.check_excess("A comparison of betas")
    if asset not in panel.asset_names:
        raise EstimationError(f"No asset '{asset}'; {one_of(asset, panel.asset_names)}")
    chosen_factors(panel, [factor])
    panel = replace(panel, assets=panel.assets[[asset]])  # the others need not be estimated
    excess = panel.excess
    y = excess.to_pandas()[asset]
    f = panel.factors[factor]
    fit = factor_betas(panel, [factor]).fit(asset)
    whole = fit.interval().loc[factor]
    level = {"estimate": fit.coefficients[factor], "low": whole["low"], "high": whole["high"]}
    rolled = rolling_regress(excess, f, window=window)
    state = kalman_beta(panel, factor)
    paths = {
        "constant": pd.DataFrame(level, y.index),
        "rolling": rolled.interval(asset, factor),
        "state space": state.interval(asset),
    }
    growing = rolling_regress(excess, f, window="expanding", min_obs=window, errors="classical")
    known = {
        "constant": growing.frame("coefficients", factor)[asset],
        "rolling": rolled.frame("coefficients", factor)[asset],
        "state space": state.known[asset],
    }
    before = {name: _period_before(path, y.index) for name, path in known.items()}
    if len(panel.conditions.columns):
        paths["conditional"] = conditional_beta(panel, factor=factor).interval(asset)
        before["conditional"] = _conditional_forecast(panel, excess, f, window)
    return TimeVaryingBetas(asset, factor, paths, *_compared(before, y, f, window))


def _period_before(path: pd.Series, index: pd.Index) -> pd.Series:
    """What was known a period before each row; missing over gaps of the calendar."""
    values = path.reindex(index).shift(1)
    return values.where(np.diff(time_positions(index), prepend=-1) == 1)


def _conditional_forecast(panel: Panel, excess: SeriesTable, f: pd.Series, window: int) -> pd.Series:
    """Beta of each row by coefficients up to the row before and the conditions known before it."""
    conditions = panel.conditions
    crossed = conditions.mul(f, axis=0)
    design = pd.concat([f, crossed], axis=1)
    rolled = rolling_regress(excess, design, window="expanding", min_obs=window, errors="classical")
    beta = _period_before(rolled.frame("coefficients", str(f.name)).iloc[:, 0], f.index)
    for name in conditions:
        slope = _period_before(rolled.frame("coefficients", str(name)).iloc[:, 0], f.index)
        beta = beta + slope * conditions[name]
    return beta


def _compared(
    before: Mapping[str, pd.Series], y: pd.Series, f: pd.Series, window: int
) -> tuple[pd.DataFrame, str]:
    """Root mean square errors over the rows that every estimator forecasts."""
    betas: Floats = np.column_stack([b.to_numpy(dtype=np.float64) for b in before.values()])
    errors = y.to_numpy(dtype=np.float64)[:, None] - betas * f.to_numpy(dtype=np.float64)[:, None]
    common = np.isfinite(errors).all(axis=1)
    if common.sum() < _FEWEST:
        raise EstimationError(
            f"{counted(int(common.sum()), 'period')} with a forecast by every estimator; {_FEWEST} are needed. "
            "Take a shorter window."
        )
    rmse = np.sqrt(np.mean(errors[common] ** 2, axis=0))
    table = pd.DataFrame(
        {"rmse": rmse, "against_constant": rmse / rmse[0], "rows": int(common.sum())}, list(before)
    )
    basis = (
        f"{y.name} on {f.name}: forecasts one period ahead without alpha, {span_of(y.index[common])}; "
        f"constant and conditional on all rows before, rolling on {window}"
    )
    return table, basis
