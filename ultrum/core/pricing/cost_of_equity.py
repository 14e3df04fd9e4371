"""Cost of equity with the combined uncertainty of betas and premia, by one model or several."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Final, cast

import numpy as np
import pandas as pd

from ultrum.core.arguments import LARGEST_RATE, validate_arguments
from ultrum.core.array_types import Floats
from ultrum.core.pricing.cost_of_equity_result import (
    RISK_FREE,
    CostBootstrap,
    CostEstimates,
    CostOfEquity,
    by_asset,
)
from ultrum.core.pricing.dimson_and_downside_betas import OneBeta
from ultrum.core.pricing.premium import ZERO_COST, Premium, joint_covariance, premium
from ultrum.core.pricing.two_pass_result import TwoPass
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.inputs import CONSTANT
from ultrum.core.returns.yields import annual_yield, check_annual_rate
from ultrum.core.series.time_series import TimeSeries
from ultrum.core.time.period_labels_and_relative_dates import period_label
from ultrum.errors import EstimationError, UnitError, name_list, one_of, warn_user


@dataclass(frozen=True)
class Exposures:
    """Betas of any kind: (N,K) with covariances (N,K,K), and their basis."""

    assets: pd.Index
    factors: list[str]
    beta: Floats
    covariance: Floats
    df: Floats
    errors: str
    sample: Mapping[str, str]
    end: object

    @classmethod
    def of(cls, betas: BetaTable | OneBeta) -> Exposures:
        """From a table of regressions, or one beta per asset."""
        if isinstance(betas, OneBeta):
            names = betas.beta.index
            return cls(
                assets=names,
                factors=[str(betas.beta.name)],
                beta=betas.beta.to_numpy()[:, None],
                covariance=betas.standard_error.to_numpy()[:, None, None] ** 2,
                df=betas.nobs.to_numpy() - 2.0,
                errors=betas.errors,
                sample=dict.fromkeys(map(str, names), betas.basis),
                end=betas.end,
            )
        factors = [str(t) for t in betas.coefficients.columns if t != CONSTANT]
        where = betas.coefficients.columns.get_indexer(pd.Index(factors))
        first, last = betas.first, betas.last
        return cls(
            assets=betas.coefficients.index,
            factors=factors,
            beta=betas.coefficients[factors].to_numpy(),
            covariance=betas.covariance[:, where][:, :, where],
            df=betas.df.to_numpy(dtype=np.float64),
            errors=betas.errors,
            sample={str(a): f"{period_label(first[a])} to {period_label(last[a])}" for a in betas.assets},
            end=betas.response.index[-1],
        )


@dataclass(frozen=True)
class CostVariance:
    """Variance of a product of independent estimates: by component (N,), and of each factor alone (N,K)."""

    by_factor: Floats
    beta: Floats
    premium: Floats
    rate: float

    @classmethod
    def of(cls, exposures: Exposures, lam: Floats, spread: Floats, rate: float) -> CostVariance:
        """β'Vλβ + λ'Vβλ + tr(VβVλ) plus the variance of the rate; half of the trace to each component."""
        own_beta, own_premium = np.diagonal(exposures.covariance, axis1=1, axis2=2), np.diag(spread)
        half = np.einsum("nkl,lk->n", exposures.covariance, spread) / 2.0
        return cls(
            exposures.beta**2 * own_premium + lam**2 * own_beta + own_beta * own_premium,
            np.einsum("k,nkl,l->n", lam, exposures.covariance, lam) + half,
            np.einsum("nk,kl,nl->n", exposures.beta, spread, exposures.beta) + half,
            rate,
        )

    @property
    def total(self) -> Floats:
        """Of each asset, (N,)."""
        return np.asarray(self.beta + self.premium + self.rate)

    @property
    def own(self) -> Floats:
        """Sum of the variances of the parts, without the covariances of the factors, (N,)."""
        return np.asarray(self.by_factor.sum(axis=1) + self.rate)

    def shares(self, assets: pd.Index) -> pd.DataFrame:
        """Shares of beta, premium and risk-free rate; missing where all are known."""
        whole = np.where(self.total > 0, self.total, np.nan)
        columns = {"beta": self.beta / whole, "premium": self.premium / whole, RISK_FREE: self.rate / whole}
        return pd.DataFrame(columns, assets)


# Cost of equity with the uncertainty of beta and premium combined

_MONTH_OF_DAYS: Final = 21  # a daily rate accrues three days on Mondays; a month averages them
Premia = Mapping[str, TimeSeries | Premium | float] | TwoPass
AddOns = Mapping[str, tuple[float, str]]


@validate_arguments
def cost_of_equity(
    betas: BetaTable | OneBeta,
    *,
    premia: Premia,
    risk_free: TimeSeries | float,
    risk_free_error: float = 0.0,
    on: object = None,
    add_ons: AddOns | None = None,
    draws: int = 999,
    seed: int = 0,
) -> CostOfEquity:
    """Cost of equity: risk-free rate plus each beta times its risk premium, plus additional premia.

    Parameters
    ----------
    betas : BetaTable or OneBeta
        From :func:`ultrum.factor_betas`, :func:`ultrum.shrink_betas` or another estimator.
    premia : mapping, or TwoPass
        For every factor a history (a TimeSeries of excess returns), a :class:`Premium`, or an annual number
        treated as known; or the risk premia of two-pass regressions with their joint covariance.
    risk_free : TimeSeries or float
        Returns per period, compounded to a year (for daily returns the mean of the last 21); a yield, by its
        quoting rule and maturity; or an annual rate.
    risk_free_error : float
        Standard error of the risk-free rate, if it is not known with certainty.
    on : label, optional
        Date of the rate; by default the end of the betas' sample.
    add_ons : mapping of str to (float, str), optional
        Additional premia in annual decimals, each with its reason.
    draws, seed : int
        Draws of the stationary block bootstrap for ``interval(method="bootstrap")``, computed on first use, for
        unadjusted betas only; 0 for none. Other intervals draw nothing.

    Returns
    -------
    CostOfEquity
        Costs of equity with standard errors, intervals and components.

    Raises
    ------
    EstimationError
        If a factor has no premium, or an additional premium no reason.
    UnitError
        If a premium is measured over another rate than the one added to it.

    Warns
    -----
    DataWarning
        If a premium is negative, or a cost of equity is below the risk-free rate.

    Notes
    -----
    The squared standard error is β'Vλβ + λ'Vβλ + tr(VβVλ), the variance of a product of independent estimates
    (Aroian 1947), plus that of the risk-free rate. It is never negative, and the shares of beta, λ'Vβλ + ½tr, and
    premium, β'Vλβ + ½tr, lie between 0 and 100 %. Premia with histories have the correlation of their histories.
    Intervals are quantiles of the distribution of the product. A premium given as a number, and the risk-free
    rate without ``risk_free_error``, are taken as known; the result lists them.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> betas = ul.factor_betas(panel, ["market"])
    >>> cost = cost_of_equity(betas, premia={"market": 0.05}, risk_free=0.03)
    >>> bool(0.04 < cost.value["BRTW"] < 0.08)
    True
    """
    exposures = Exposures.of(betas)
    prices, spread = premia_of(exposures.factors, premia)
    rate, rate_name = annual_rate(risk_free, exposures.end if on is None else on)
    check_same_rate(prices, rate_name)
    extra = check_add_ons(add_ons or {}, exposures.factors)
    lam = np.array([prices[f].value for f in exposures.factors])
    base = rate + sum(value for value, _ in extra.values())
    value = pd.Series(base + exposures.beta @ lam, exposures.assets, name="cost_of_equity")
    pieces = CostVariance.of(exposures, lam, spread, risk_free_error**2)
    prices_df = min(prices[f].df for f in exposures.factors)
    estimates = CostEstimates(
        exposures.beta, exposures.covariance, exposures.df, lam, spread, prices_df, base, risk_free_error
    )
    bootstrap = None
    if draws and _can_be_drawn(betas) and np.isfinite(spread).all():
        bootstrap = CostBootstrap(
            cast(BetaTable, betas), exposures.factors, prices, lam, spread, base, risk_free_error, draws, seed
        )
    _warn_of_low_costs(value, rate, prices)
    degrees = np.minimum(exposures.df, prices_df)
    degrees = np.where(np.isfinite(value), degrees, np.nan)
    error = np.sqrt(pieces.total)
    basis = {f: f"{100 * prices[f].value:.2f} % per year, {prices[f].basis}" for f in exposures.factors}
    return CostOfEquity(
        value=value,
        standard_error=pd.Series(error, exposures.assets, name="standard_error"),
        parts=_parts(exposures, prices, pieces, rate, risk_free_error, extra),
        shares=pieces.shares(exposures.assets),
        df=pd.Series(degrees, exposures.assets, name="df"),
        risk_free=rate,
        basis={**basis, **{n: f"{100 * v:.2f} %, {reason}" for n, (v, reason) in extra.items()}},
        errors=exposures.errors,
        sample=exposures.sample,
        estimates=estimates,
        taken_as_known=parts_without_error(prices, risk_free_error),
        bootstrap=bootstrap,
        notes=_notes(value, error),
    )


def _warn_of_low_costs(value: pd.Series, rate: float, prices: Mapping[str, Premium]) -> None:
    """A negative premium, or a cost below the risk-free rate, is possible but rarely intended."""
    negative = [f"{name} ({100 * p.value:.2f} %)" for name, p in prices.items() if p.value < 0]
    if negative:
        warn_user(
            f"Negative annual premium: {name_list(negative)}. The sample mean reflects the sample rather than "
            "expectations. Use a longer history, or a premium with its source."
        )
    low = value.index[(value < rate).to_numpy()]
    if len(low):
        warn_user(
            f"{len(low)} of {len(value)} costs of equity are below the risk-free rate of {100 * rate:.2f} %: "
            f"{name_list(low)}. Check betas and premia before you use them."
        )


def _can_be_drawn(betas: BetaTable | OneBeta) -> bool:
    return isinstance(betas, BetaTable) and betas.unadjusted is None


def premia_of(factors: list[str], given: Premia) -> tuple[dict[str, Premium], Floats]:
    """Premium of every factor, and their covariance (K,K)."""
    names = list(given.premia.index) if isinstance(given, TwoPass) else list(given)
    absent = [f for f in factors if f not in names]
    if absent:
        raise EstimationError(f"No premium for {name_list(absent)}. Pass one for each factor in premia=.")
    if isinstance(given, TwoPass):
        return _of_two_pass(given, factors)
    premia = {name: _one_premium(name, given[name]) for name in factors}
    return premia, joint_covariance(premia)


def _one_premium(name: str, value: TimeSeries | Premium | float) -> Premium:
    if isinstance(value, TimeSeries):
        value = premium(value)
    elif not isinstance(value, Premium):
        value = Premium(float(value))
    if not np.isfinite(value.value):
        raise UnitError(f"The premium of '{name}' is {value.value}. Pass a number in decimals, 0.05 for 5 %.")
    if abs(value.value) > LARGEST_RATE:
        raise UnitError(
            f"A premium of {100 * value.value:,.0f} % per year for '{name}': decimals are expected, 0.05 for 5 %."
        )
    return value


def _of_two_pass(given: TwoPass, factors: list[str]) -> tuple[dict[str, Premium], Floats]:
    """Annual risk premia of two-pass regressions with their joint covariance."""
    per_year, errors = given.periods_per_year, given.standard_errors
    premia = {
        f: Premium(
            per_year * float(given.premia[f]),
            per_year * float(errors[f]),
            given.df,
            given.excess_of,
            f"two-pass premium, {given.kind.replace('_', ' ')} errors",
        )
        for f in factors
    }
    return premia, per_year**2 * given.covariance.loc[factors, factors].to_numpy()


def annual_rate(risk_free: TimeSeries | float, on: Any) -> tuple[float, str]:
    """Annual risk-free rate on a date, and its name."""
    if not isinstance(risk_free, TimeSeries):
        return check_annual_rate(risk_free), ""
    history = risk_free.sample(None, on)
    rates = history.values.dropna()
    if not len(rates):
        raise EstimationError(
            f"{risk_free.name} has no value up to {on}. Use an earlier start of the series, or pass a number."
        )
    if risk_free.metadata.measure == "rate":
        return annual_yield(float(rates.iloc[-1]), risk_free.metadata), risk_free.name
    if risk_free.metadata.measure != "return":
        raise UnitError(
            f"{risk_free.name} is {risk_free.metadata.measure_in_words}. Use returns per period, a yield, or an "
            "annual number."
        )
    latest = rates.iloc[-_MONTH_OF_DAYS:] if risk_free.metadata.frequency.is_dated else rates.iloc[-1:]
    return float(np.expm1(history.periods_per_year * np.log1p(latest).mean())), risk_free.name


def check_same_rate(prices: Mapping[str, Premium], rate_name: str) -> None:
    """Refuse a premium over another rate than the one added to it."""
    for factor, price in prices.items():
        if rate_name and price.excess_of not in ("", ZERO_COST, rate_name):
            raise UnitError(
                f"The premium of '{factor}' is over '{price.excess_of}', the rate added to it is "
                f"'{rate_name}'. Add the rate the premium is measured over."
            )


def check_add_ons(given: AddOns, factors: list[str]) -> dict[str, tuple[float, str]]:
    """Additional premia with their reasons, as numbers in decimals."""
    for name, add_on in given.items():
        if name in (*factors, RISK_FREE):
            raise EstimationError(f"The add-on '{name}' has the name of another part. Rename it.")
        if not isinstance(add_on, tuple) or len(add_on) != 2 or not str(add_on[1]).strip():
            raise EstimationError(f"The add-on '{name}' needs a number and its reason: (0.01, 'why').")
        if abs(add_on[0]) > LARGEST_RATE:
            raise UnitError(f"The add-on '{name}' is {100 * add_on[0]:,.0f} % per year: decimals are expected.")
    return dict(given)


def _parts(
    exposures: Exposures,
    prices: Mapping[str, Premium],
    pieces: CostVariance,
    rate: float,
    rate_error: float,
    extra: Mapping[str, tuple[float, str]],
) -> pd.DataFrame:
    """The components: one row per asset and part."""
    whole = np.where(pieces.own > 0, pieces.own, np.nan)
    blocks = [_flat_part(exposures, RISK_FREE, rate, np.nan_to_num(rate_error**2 / whole))]
    for k, factor in enumerate(exposures.factors):
        price, error = prices[factor], np.sqrt(exposures.covariance[:, k, k])
        columns = {
            "beta": exposures.beta[:, k],
            "beta_error": error,
            "premium": price.value,
            "premium_error": price.standard_error,
            "contribution": exposures.beta[:, k] * price.value,
            "variance_share": np.nan_to_num(pieces.by_factor[:, k] / whole),
        }
        blocks.append(pd.DataFrame(columns, _label_parts(exposures, factor)))
    blocks += [
        _flat_part(exposures, name, value, np.zeros(len(exposures.assets))) for name, (value, _) in extra.items()
    ]
    return by_asset(pd.concat(blocks), list(exposures.assets))


def _flat_part(exposures: Exposures, name: str, value: float, share: Floats) -> pd.DataFrame:
    """A component that is the same for all assets."""
    blank = dict.fromkeys(["beta", "beta_error", "premium", "premium_error"], np.nan)
    return pd.DataFrame({**blank, "contribution": value, "variance_share": share}, _label_parts(exposures, name))


def _label_parts(exposures: Exposures, part: str) -> pd.MultiIndex:
    return pd.MultiIndex.from_product([exposures.assets, [part]], names=["asset", "part"])


def parts_without_error(prices: Mapping[str, Premium], rate_error: float) -> tuple[str, ...]:
    """Parts that have no standard error."""
    premia = [f"premium of {name}" for name, price in prices.items() if price.standard_error == 0]
    return (*premia, *([RISK_FREE] if rate_error == 0 else []))


def _notes(value: pd.Series, error: Floats) -> dict[str, str]:
    notes = {}
    for asset, cost, spread in zip(value.index, value, error, strict=True):
        if np.isnan(cost):
            notes[str(asset)] = "no estimate: too few observations"
        elif np.isnan(spread):
            notes[str(asset)] = "no standard error: a premium has none"
    return notes


# Costs of equity by several models side by side


@validate_arguments
def cost_comparison(
    estimators: Mapping[str, BetaTable | OneBeta],
    *,
    asset: str | None = None,
    level: float = 0.95,
    factor: str | None = None,
    **options: Any,
) -> pd.DataFrame:
    """Costs of equity by several estimators of beta, in one table.

    Parameters
    ----------
    estimators : mapping of str to BetaTable or OneBeta
        Tables of betas by the name of the estimator.
    asset : str, optional
        One asset; all by default.
    level : float
        Of the intervals.
    factor : str, optional
        Factor whose beta is shown; by default the first.
    **options
        As for :func:`ultrum.cost_of_equity`.

    Returns
    -------
    DataFrame
        Indexed by (asset, estimator): ``beta beta_error cost standard_error low high``.

    Examples
    --------
    >>> import ultrum as ul
    >>> table = ul.factor_betas(ul.practice.panel(), ["market"])
    >>> made = cost_comparison({"plain": table, "vasicek": ul.shrink_betas(table)}, asset="BRTW",
    ...                        premia={"market": 0.05}, risk_free=0.03)
    >>> made.shape
    (2, 6)
    """
    if not estimators:
        raise EstimationError("cost_comparison: no betas. Pass beta tables by name.")
    blocks = []
    for name, betas in estimators.items():
        cost = cost_of_equity(betas, **options)
        parts = [p for p in cost.parts.index.unique(1) if p != RISK_FREE]
        if factor is not None and factor not in parts:
            raise EstimationError(f"No factor {factor} in {name}; {one_of(factor, parts)}")
        part = factor or parts[0]
        exposure = cost.parts.xs(part, level=1)
        frame = pd.DataFrame(
            {
                "beta": exposure["beta"],
                "beta_error": exposure["beta_error"],
                "cost": cost.value,
                "standard_error": cost.standard_error,
            }
        ).join(cost.interval(level))
        frame.index = pd.MultiIndex.from_product([frame.index, [name]], names=["asset", "estimator"])
        blocks.append(frame)
    whole = pd.concat(blocks)
    assets = list(dict.fromkeys(whole.index.get_level_values(0)))
    if asset is not None:
        if asset not in assets:
            raise EstimationError(f"No asset '{asset}'; {one_of(asset, assets)}")
        return whole.loc[[asset]]
    return whole.loc[assets]
