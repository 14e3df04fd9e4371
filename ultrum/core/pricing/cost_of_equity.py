"""Cost of equity, with the uncertainty of the beta and of the premium joined."""

from __future__ import annotations

import html
from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np
import pandas as pd

from ultrum.core.labels import span_of
from ultrum.core.regression.ols import regress
from ultrum.core.regression.results import CONSTANT, BetaTable, t_quantile
from ultrum.core.series import TimeSeries
from ultrum.core.types import Floats
from ultrum.errors import EstimationError, UnitError

RISK_FREE = "risk-free rate"


@dataclass(frozen=True)
class Premium:
    """Expected annual excess return of a factor.

    Attributes
    ----------
    value, standard_error : float
        Annual decimals.
    df : float
        Degrees of freedom of the standard error; infinite for a premium that is given.
    over : str
        Name of the rate it is in excess of; ``zero cost`` for a long-short portfolio.
    basis : str
        Where it comes from, for people.
    """

    value: float
    standard_error: float = 0.0
    df: float = np.inf
    over: str = ""
    basis: str = "given"


def premium(factor: TimeSeries, *, errors: str = "hac", lags: int | None = None) -> Premium:
    """Annual premium of a traded factor from its whole history.

    Parameters
    ----------
    factor : TimeSeries
        Excess returns per period.
    errors, lags
        Standard error of the mean, as for :func:`ultrum.regress`.

    Returns
    -------
    Premium
        P times the arithmetic mean, its error P times the error of the mean, T − 1 degrees.

    Examples
    --------
    >>> months = pd.period_range("2024-01", periods=4, freq="M")
    >>> market = pd.Series([0.01, 0.02, 0.0, 0.01], months, name="market")
    >>> market = TimeSeries.wrap(market, measure="return", excess_of="bill")
    >>> round(premium(market, errors="classical").value, 4)
    0.12
    """
    about = factor.about
    if not about.is_return or not about.excess_of:
        raise UnitError(
            f"{about.name} is no excess return; a premium is earned over a rate. "
            "Apply excess first, or say excess_of='zero cost'."
        )
    values = factor.values.dropna()
    ones = pd.DataFrame({CONSTANT: 1.0}, values.index)
    fit = regress(values, ones, errors=errors, lags=lags, constant=False)
    per_year = about.frequency.periods_per_year
    return Premium(
        value=float(per_year * fit.coefficients.iloc[0]),
        standard_error=float(per_year * fit.standard_errors.iloc[0]),
        df=fit.df,
        over=about.excess_of,
        basis=f"arithmetic mean of {fit.nobs} {about.frequency.name} returns, "
        f"{span_of(values.index)}",
    )


@dataclass(frozen=True, eq=False, repr=False)
class CostOfEquity:
    """Annual cost of equity of each asset.

    Attributes
    ----------
    value, standard_error : Series, shape (N,)
        Annual decimals. The error joins beta and premium; the risk-free rate is known.
    parts : DataFrame
        Indexed by (asset, part): ``beta beta_error premium premium_error contribution
        variance_share``.
    df : Series, shape (N,)
        Degrees of freedom of the interval.
    draws : None
        No bootstrap draws were needed.
    notes : mapping of str to str
        Assets whose standard error could not be given, and why.
    """

    value: pd.Series
    standard_error: pd.Series
    parts: pd.DataFrame
    df: pd.Series
    risk_free: float
    basis: Mapping[str, str]
    errors: str
    sample: Mapping[str, str]
    draws: None = None
    notes: Mapping[str, str] = field(default_factory=dict)

    def interval(self, level: float = 0.95, method: str = "t") -> pd.DataFrame:
        """Confidence interval, columns ``low high``; the method is Student's t."""
        if method != "t":
            raise EstimationError(f"method='{method}' is not known; it is t.")
        reach = self.standard_error * t_quantile(level, self.df.to_numpy())
        return pd.DataFrame({"low": self.value - reach, "high": self.value + reach})

    def to_frame(self) -> pd.DataFrame:
        """One row per asset: cost of equity, standard error, 95 % interval, degrees of freedom."""
        columns = {"cost_of_equity": self.value, "standard_error": self.standard_error}
        return pd.DataFrame(columns).join(self.interval()).assign(df=self.df)

    def __repr__(self) -> str:
        shown = (100 * self.to_frame()).assign(df=self.df)
        basis = "; ".join(f"{name}: {text}" for name, text in self.basis.items())
        return (
            f"Annual cost of equity, percent; risk-free {100 * self.risk_free:.2f} %; "
            f"{self.errors} errors\n{basis}\n{shown.round(2).to_string(max_rows=30)}"
        )

    def _repr_html_(self) -> str:
        return f"<pre>{html.escape(repr(self))}</pre>"


def cost_of_equity(
    betas: BetaTable,
    *,
    premia: Mapping[str, TimeSeries | Premium | float],
    risk_free: TimeSeries | float,
) -> CostOfEquity:
    """Risk-free rate plus each beta times its premium.

    Parameters
    ----------
    betas : BetaTable
        From :func:`ultrum.factor_betas`.
    premia : mapping
        For every factor its history (a TimeSeries of excess returns), a :class:`Premium`, or an
        annual number taken as known.
    risk_free : TimeSeries or float
        Risk-free returns per period, of which the last in the betas' sample is taken and
        compounded to a year; or an annual rate.

    Returns
    -------
    CostOfEquity

    Raises
    ------
    EstimationError
        If a factor has no premium.
    UnitError
        If a premium is over another rate than the one added to it.

    Notes
    -----
    The variance is β'Vλβ + λ'Vβλ − tr(VβVλ), unbiased for independent estimates (Goodman 1960).
    Premia of several factors are taken as uncorrelated with each other unless a joint covariance
    is known. Intervals are Student's t with the smallest degrees of freedom among them.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> betas = ul.factor_betas(panel, ["market"])
    >>> cost = cost_of_equity(betas, premia={"market": 0.05}, risk_free=0.03)
    >>> bool(0.04 < cost.value["BRTW"] < 0.08)
    True
    """
    factors = [str(t) for t in betas.coefficients.columns if t != CONSTANT]
    prices = _premia(factors, premia)
    rate, rate_name = _annual_rate(risk_free, betas)
    _check_same_rate(prices, rate_name)
    B = betas.coefficients[factors].to_numpy()
    where = betas.coefficients.columns.get_indexer(pd.Index(factors))
    beta_covariance = betas.covariance[:, where][:, :, where]
    lam = np.array([prices[f].value for f in factors])
    lam_covariance = np.diag([prices[f].standard_error ** 2 for f in factors])
    variance = _goodman(B, beta_covariance, lam, lam_covariance)
    degrees = np.minimum(betas.df.to_numpy(), min(prices[f].df for f in factors))
    assets = betas.coefficients.index
    error = np.sqrt(np.where(variance > 0, variance, np.nan))
    return CostOfEquity(
        value=pd.Series(rate + B @ lam, assets, name="cost_of_equity"),
        standard_error=pd.Series(error, assets, name="standard_error"),
        parts=_parts(betas, factors, prices, rate),
        df=pd.Series(degrees, assets, name="df"),
        risk_free=rate,
        basis={f: f"{100 * prices[f].value:.2f} % a year, {prices[f].basis}" for f in factors},
        errors=betas.errors,
        sample={str(a): f"{betas.first[a]} to {betas.last[a]}" for a in assets},
        notes={
            str(a): "no estimate: too few rows"
            if np.isnan(v)
            else "beta and premium are both smaller than their errors; no standard error"
            for a, v in zip(assets, variance, strict=True)
            if not v > 0
        },
    )


def _goodman(B: Floats, V_beta: Floats, lam: Floats, V_lam: Floats) -> Floats:
    """Unbiased variance of β'λ for independent estimates, for each asset."""
    from_premium = np.einsum("nk,kl,nl->n", B, V_lam, B)
    from_beta = np.einsum("k,nkl,l->n", lam, V_beta, lam)
    return np.asarray(from_premium + from_beta - np.einsum("nkl,lk->n", V_beta, V_lam))


def _premia(
    factors: list[str], given: Mapping[str, TimeSeries | Premium | float]
) -> dict[str, Premium]:
    absent = [f for f in factors if f not in given]
    if absent:
        raise EstimationError(f"No premium for {', '.join(absent)}; every factor needs one.")
    found = {}
    for name in factors:
        value = given[name]
        if isinstance(value, TimeSeries):
            value = premium(value)
        elif not isinstance(value, Premium):
            value = Premium(float(value))
        if abs(value.value) > 0.5:
            raise UnitError(
                f"A premium of {100 * value.value:,.0f} % a year for '{name}': decimals are "
                "expected, 0.05 for 5 %."
            )
        found[name] = value
    return found


def _annual_rate(risk_free: TimeSeries | float, betas: BetaTable) -> tuple[float, str]:
    """Annual risk-free rate at the end of the betas' sample, and its name."""
    if not isinstance(risk_free, TimeSeries):
        if abs(risk_free) > 0.5:
            raise UnitError(
                f"A risk-free rate of {100 * risk_free:,.0f} % a year: decimals are expected, 0.03 for 3 %."
            )
        return float(risk_free), ""
    if risk_free.about.measure != "return":
        raise UnitError(
            f"{risk_free.name} is a {risk_free.about.measure or 'series'}; give returns per period "
            "(per_period turns a yield into them) or an annual number."
        )
    known = risk_free.values.loc[: betas.response.index[-1]].dropna()
    if not len(known):
        raise EstimationError(f"{risk_free.name} has no value up to {betas.response.index[-1]}.")
    per_year = risk_free.about.frequency.periods_per_year
    return float(np.expm1(per_year * np.log1p(known.iloc[-1]))), risk_free.name


def _check_same_rate(prices: Mapping[str, Premium], rate_name: str) -> None:
    for factor, price in prices.items():
        if rate_name and price.over not in ("", "zero cost", rate_name):
            raise UnitError(
                f"The premium of '{factor}' is over '{price.over}', the rate added to it is "
                f"'{rate_name}'. Add the rate the premium is measured over."
            )


def _parts(
    betas: BetaTable, factors: list[str], prices: Mapping[str, Premium], rate: float
) -> pd.DataFrame:
    """The build-up: one row per asset and part."""
    blocks = [_rate_part(betas, rate)] + [_factor_part(betas, f, prices[f]) for f in factors]
    frame = pd.concat(blocks).sort_index(level=0, sort_remaining=False, kind="stable")
    total = frame["variance_share"].groupby(level=0).transform("sum")
    frame["variance_share"] = (frame["variance_share"] / total).fillna(0.0)
    return frame.loc[betas.assets]


def _rate_part(betas: BetaTable, rate: float) -> pd.DataFrame:
    index = pd.MultiIndex.from_product([betas.assets, [RISK_FREE]], names=["asset", "part"])
    blank = dict.fromkeys(["beta", "beta_error", "premium", "premium_error"], np.nan)
    return pd.DataFrame({**blank, "contribution": rate, "variance_share": 0.0}, index)


def _factor_part(betas: BetaTable, factor: str, price: Premium) -> pd.DataFrame:
    """One factor's contribution; its share of variance is what remains of it alone."""
    index = pd.MultiIndex.from_product([betas.assets, [factor]], names=["asset", "part"])
    beta = betas.coefficients[factor].to_numpy()
    error = betas.standard_errors[factor].to_numpy()
    own = (beta * price.standard_error) ** 2 + (price.value * error) ** 2
    columns = {
        "beta": beta,
        "beta_error": error,
        "premium": price.value,
        "premium_error": price.standard_error,
        "contribution": beta * price.value,
        "variance_share": own - (error * price.standard_error) ** 2,
    }
    return pd.DataFrame(columns, index)
