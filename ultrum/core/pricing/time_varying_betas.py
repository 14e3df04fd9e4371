"""Time-varying betas of one asset: conditional, rolling and state-space, and their forecasts."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
import pandas as pd

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Floats
from ultrum.core.deprecated_names import renamed_arguments
from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.presentation import TableInNotebooks, quantity, table_text
from ultrum.core.pricing.factor_betas_and_shrinkage import chosen_factor, factor_betas
from ultrum.core.pricing.kalman_beta import kalman_beta
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.engine.covariance_and_bootstrap import errors_in_words
from ultrum.core.regression.inference import band_of
from ultrum.core.regression.regress import regress
from ultrum.core.regression.rolling_regression import rolling_regress
from ultrum.core.regression.unit_roots_and_design_warnings import exact_fits
from ultrum.core.series.time_series import SeriesTable
from ultrum.core.time.index_frequency_and_gaps import time_positions
from ultrum.core.time.period_labels_and_relative_dates import span_of
from ultrum.errors import EstimationError, choices, name_list, one_of


@dataclass(frozen=True, eq=False, repr=False)
class ConditionalBetas(TableInNotebooks):
    """Betas as linear functions of conditioning variables.

    Attributes
    ----------
    beta, standard_error : DataFrame, shape (T, N)
        Beta of every row, from the variables known before it.
    table : BetaTable
        The regressions; terms ``factor × condition`` are the change of beta per standard deviation of the
        variable.
    p_value : Series, shape (N,)
        P value of the Wald test that beta does not vary with the conditioning variables.
    scale : DataFrame
        Mean and standard deviation used to standardise each variable.
    basis : str
    """

    beta: pd.DataFrame
    standard_error: pd.DataFrame
    table: BetaTable
    p_value: pd.Series
    scale: pd.DataFrame
    basis: str

    def interval(self, asset: str, level: float = 0.95) -> pd.DataFrame:
        """Beta of one asset through time with its band, columns ``estimate low high``."""
        df = float(self.table.df[asset]) if asset in self.beta else 1.0
        return band_of(self.beta, self.standard_error, asset, level, df)

    def to_frame(self) -> pd.DataFrame:
        """One row per asset: each coefficient with its standard error, t and p; and the joint p value."""
        return self.table.to_frame().assign(constant_beta_p=self.p_value)

    def __repr__(self) -> str:
        terms = [t for t in self.table.coefficients if t != "constant"]
        shown = self.table.coefficients[terms].join(self.p_value.rename("p value of a constant beta"))
        return f"{table_text(shown, '{:.3f}')}\n{self.basis}"


@renamed_arguments(alpha_moves="time_varying_alpha")
@validate_arguments
def conditional_beta(
    panel: Panel,
    conditions: Sequence[str] | None = None,
    *,
    factor: str | None = None,
    time_varying_alpha: bool = False,
    errors: str = "hac",
) -> ConditionalBetas:
    """Conditional beta: linear in lagged conditioning variables (Shanken 1990; Ferson and Harvey 1999).

    Parameters
    ----------
    panel : Panel
        A panel with conditioning variables, which each row has as known at the end of the row before.
    conditions : sequence of str, optional
        All of the panel by default.
    factor : str, optional
        Name of the factor; by default the only one of the panel, or ``market``.
    time_varying_alpha : bool
        Whether alpha also varies with the conditioning variables (Christopherson, Ferson and Glassman 1998).
    errors : str
        As for :func:`ultrum.regress`.

    Returns
    -------
    ConditionalBetas
        Coefficients, and beta at each date.

    Notes
    -----
    eₜ = α + (β₀ + β'zₜ₋₁)fₜ + εₜ, with each z standardised over the sample; the scale affects the coefficients
    only, not the fitted betas.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> rate = ul.TimeSeries.from_pandas(panel.risk_free.rename("bill level"), measure="rate")
    >>> panel = ul.align(assets=panel.assets, factors=panel.factor_table, conditions=rate,
    ...                  risk_free=panel.rate, known_by="P1M")
    >>> conditional_beta(panel).beta.shape
    (250, 23)
    """
    names = [str(c) for c in (panel.conditions if conditions is None else conditions)]
    absent = [c for c in names if c not in panel.conditions]
    if absent or not names:
        names_there = choices(panel.conditions) or "none; align with conditions=..."
        raise EstimationError(f"No condition {name_list(absent) or 'given'}; the panel has: {names_there}.")
    factor = chosen_factor(panel, factor)
    values = panel.factors[factor]
    known_before = panel.conditions[names]
    scale = pd.DataFrame({"mean": known_before.mean(), "deviation": known_before.std()})
    still = scale.index[~(scale["deviation"] > 0)]
    if len(still):
        raise EstimationError(
            f"conditional_beta: {name_list(still)} is constant in the sample, so its coefficient cannot be "
            "estimated. Drop it from conditions=."
        )
    z = (known_before - scale["mean"]) / scale["deviation"]
    moving = {f"{factor} × {c}": values * z[c] for c in names}
    design = pd.DataFrame({**({c: z[c] for c in names} if time_varying_alpha else {}), factor: values, **moving})
    table = regress(panel.excess, design, errors=errors)
    terms = list(table.coefficients.columns)
    places = [terms.index(factor), *(terms.index(t) for t in moving)]
    weights = np.column_stack([np.ones(len(z)), z.to_numpy(dtype=np.float64)])
    beta = weights @ table.coefficients.to_numpy()[:, places].T
    part = table.covariance[:, places][:, :, places]
    error = np.sqrt(np.einsum("ti,nij,tj->tn", weights, part, weights))
    assets = table.coefficients.index
    return ConditionalBetas(
        beta=pd.DataFrame(beta, z.index, assets),
        standard_error=pd.DataFrame(error, z.index, assets),
        table=table,
        p_value=pd.Series([_joint(table, str(a), list(moving)) for a in assets], assets).where(
            ~assets.isin(exact_fits(table))
        ),
        scale=scale,
        basis=f"conditional beta on {factor}; conditioning variables (lagged, standardised): {', '.join(names)}; "
        f"{errors_in_words(errors)}",
    )


def _joint(table: BetaTable, asset: str, terms: list[str]) -> float:
    if not table.nobs[asset]:
        return np.nan
    return table.fit(asset).test(terms).p_value


# Constant, rolling, conditional and state-space betas of one asset, with their forecasts one period ahead

_FEWEST = 12  # common forecasts


@dataclass(frozen=True, eq=False, repr=False)
class TimeVaryingBetas(TableInNotebooks):
    """Betas of one asset by several estimators.

    Attributes
    ----------
    asset, factor : str
    paths : mapping of str to DataFrame
        By estimator ``estimate low high`` over time, with 95 % bands. All but ``rolling`` use the full sample,
        with hindsight; the forecasts do not.
    forecasts : DataFrame
        By estimator: ``rmse`` of the return less the factor times the beta known one period before, decimal per
        period; ``against_constant``, the RMSE ratio to a constant beta; ``rows``, the same for all.
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
        """Forecast errors, one row per estimator.

        Returns
        -------
        DataFrame
            Forecast errors.

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


@validate_arguments
def time_varying_betas(
    panel: Panel, asset: str, factor: str | None = None, *, window: int = 60
) -> TimeVaryingBetas:
    """Time-varying betas of one asset: constant, rolling, conditional, random-walk, and their forecasts.

    Parameters
    ----------
    panel : Panel
        Aligned returns, factors and risk-free return; a conditional beta needs conditioning variables in it.
    asset : str
        Name of the asset.
    factor : str, optional
        Name of the factor; by default the only one of the panel, or ``market``.
    window : int
        Window of the rolling beta, in periods.

    Returns
    -------
    TimeVaryingBetas
        Paths with bands, and one-period-ahead forecast errors from past data only.

    Raises
    ------
    EstimationError
        If there is no such asset, or fewer than 12 periods have a forecast by every estimator.

    Notes
    -----
    The forecast of rₜ is βₜ₋₁fₜ, without alpha, with beta estimated on observations up to t − 1 (for a
    conditional beta the coefficients are, with variables known before t). The comparison uses the periods that
    all estimators have.

    Examples
    --------
    >>> import ultrum as ul
    >>> time_varying_betas(ul.practice.panel(), "BRTW").forecasts["rows"].unique().tolist()
    [191]
    """
    panel.check_excess("A comparison of betas")
    if asset not in panel.asset_names:
        raise EstimationError(f"No asset '{asset}'; {one_of(asset, panel.asset_names)}")
    factor = chosen_factor(panel, factor)
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
    forecasts_by_estimator = {
        "constant": growing.frame("coefficients", factor)[asset],
        "rolling": rolled.frame("coefficients", factor)[asset],
        "state space": state.filtered[asset],
    }
    before = {name: _period_before(path, y.index) for name, path in forecasts_by_estimator.items()}
    if len(panel.conditions.columns):
        paths["conditional"] = conditional_beta(panel, factor=factor).interval(asset)
        before["conditional"] = _conditional_forecast(panel, excess, f, window)
    return TimeVaryingBetas(asset, factor, paths, *_compare_forecasts(before, y, f, window))


def _period_before(path: pd.Series, index: pd.Index) -> pd.Series:
    """The value one period before each row; missing across gaps of the calendar."""
    values = path.reindex(index).shift(1)
    return values.where(np.diff(time_positions(index), prepend=-1) == 1)


def _conditional_forecast(panel: Panel, excess: SeriesTable, f: pd.Series, window: int) -> pd.Series:
    """Beta of each row from coefficients estimated up to the row before and the variables known before it."""
    conditions = panel.conditions
    crossed = conditions.mul(f, axis=0)
    design = pd.concat([f, crossed], axis=1)
    rolled = rolling_regress(excess, design, window="expanding", min_obs=window, errors="classical")
    beta = _period_before(rolled.frame("coefficients", str(f.name)).iloc[:, 0], f.index)
    for name in conditions:
        slope = _period_before(rolled.frame("coefficients", str(name)).iloc[:, 0], f.index)
        beta = beta + slope * conditions[name]
    return beta


def _compare_forecasts(
    before: Mapping[str, pd.Series], y: pd.Series, f: pd.Series, window: int
) -> tuple[pd.DataFrame, str]:
    """Root mean square errors over the rows that every estimator forecasts."""
    betas: Floats = np.column_stack([b.to_numpy(dtype=np.float64) for b in before.values()])
    errors = y.to_numpy(dtype=np.float64)[:, None] - betas * f.to_numpy(dtype=np.float64)[:, None]
    common = np.isfinite(errors).all(axis=1)
    if common.sum() < _FEWEST:
        raise EstimationError(
            f"time_varying_betas: {quantity(int(common.sum()), 'period')} with a forecast by every estimator; at "
            f"least {_FEWEST} are needed. Use a shorter window."
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
