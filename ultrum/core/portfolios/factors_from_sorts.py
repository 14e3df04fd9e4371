"""Factors from sorts: long–short spreads by formula, net of costs; factor-mimicking portfolios."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Bools, Floats
from ultrum.core.portfolios.sorted_portfolios import SortedPortfolios
from ultrum.core.presentation import TableInNotebooks, quantity
from ultrum.core.pricing.premium import Premium
from ultrum.core.regression.engine.newey_west_and_fixed_b import bartlett_sum, lag_rule
from ultrum.core.series.metadata import ZERO_COST
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.time.index_frequency_and_gaps import time_positions
from ultrum.core.time.period_labels_and_relative_dates import span_of
from ultrum.errors import AlignmentError, EstimationError, UnitError, choices, one_of

_COLLINEAR: Final = 1e8  # condition number
_ROUNDING: Final = 1e-9
_NUMBER: Final = re.compile(r"(\d+(?:\.\d+)?(?:/\d+)?)\s*\*")
_GROUP: Final = re.compile(r"\s*(low|high|\d+)(?=[\s+−-]|$)")
_WRITE: Final = "Write corners with + and -, such as 'value high - value low'."
SORTED: Final = "factor from portfolios"  # step of a factor, with the rules of its sort and what it left out


@validate_arguments
def factor_from_portfolios(
    portfolios: SortedPortfolios, formula: str, *, name: str = "", trading_cost: float = 0.0
) -> TimeSeries:
    """A factor from sorted portfolios: sums and differences of corners, such as ``"value high - value low"``.

    A corner names groups of characteristics by ``low``, ``high`` or a number, and is the mean of all portfolios
    in these groups: in a sort by size (2) and value (3), ``value high`` is the mean of ``size 1 value 3`` and
    ``size 2 value 3``. A corner may have a weight: ``0.5 * size low``. The weights of a factor sum to zero.

    Parameters
    ----------
    portfolios : SortedPortfolios
        From :func:`sort_portfolios`.
    formula : str
        Corners with ``+``, ``-`` and weights.
    name : str
        Name of the factor; by default the formula.
    trading_cost : float
        Cost of a trade as a share of its amount, in decimals: 0.001 is 10 basis points. Purchases and sales of
        the portfolios in the formula are charged; trades between its long and its short side are not netted.

    Returns
    -------
    TimeSeries
        Returns of a zero-cost portfolio; missing where a portfolio that it needs is not held.

    Raises
    ------
    EstimationError
        If the formula cannot be read, or its weights do not sum to zero.

    References
    ----------
    Fama, E. F., and K. R. French (1993), Common risk factors in the returns on stocks and bonds. Journal of
    Financial Economics 33, 3–56.

    Examples
    --------
    >>> import ultrum as ul
    >>> world = ul.practice.stocks(60, 72)
    >>> by = {"size": world.market_values, "value": world.book_to_market}
    >>> sorted_ = ul.sort_portfolios(world.returns, by, groups={"size": 2, "value": (0.3, 0.7)})
    >>> ul.factor_from_portfolios(sorted_, "value high - value low", name="value").metadata.excess_of
    'zero cost'
    """
    if not 0.0 <= trading_cost < 1.0:
        raise UnitError(
            f"factor_from_portfolios: trading_cost={trading_cost:g} is not a share of the amount; 0.001 is 0.1 %."
        )
    weights = formula_weights(portfolios.groups, formula)
    used = np.flatnonzero(weights)
    block = portfolios.returns.block[:, used]
    values = block @ weights[used]
    if trading_cost:
        turnover = portfolios.turnover.to_numpy()[:, used]
        values = values - 2.0 * trading_cost * (turnover @ np.abs(weights[used]))
    base = portfolios.returns.metadata[0]
    metadata = base.replace(name=name or formula, title=name or formula, excess_of=ZERO_COST).add_step(
        SORTED, formula=formula, trading_cost=trading_cost or None, portfolios=portfolios.basis
    )
    return TimeSeries.from_arrays(values, portfolios.returns.index, metadata)


def formula_weights(groups: Mapping[str, int], formula: str) -> Floats:
    """Weight of each portfolio in a formula of corners, shape (P,), for numbers of groups by characteristic.

    Raises
    ------
    EstimationError
        If the formula cannot be read, or its weights do not sum to zero.

    Examples
    --------
    >>> formula_weights({"value": 3}, "value high - value low").tolist()
    [-1.0, 0.0, 1.0]
    """
    weights = np.zeros(tuple(groups.values()))
    for factor, corner in _terms(formula, groups):
        place = tuple(corner.get(name, slice(None)) for name in groups)
        weights[place] += factor / weights[place].size
    if abs(weights.sum()) > _ROUNDING:
        raise EstimationError(
            f"The weights of '{formula}' sum to {weights.sum():g}, not to zero.",
            fix="Subtract as much as is added, or take one portfolio from portfolios.returns.",
        )
    return weights.ravel()


def _terms(formula: str, groups: Mapping[str, int]) -> Iterator[tuple[float, dict[str, int]]]:
    """Weights and corners of a formula; names are recognised first, so they may hold any sign."""
    names = sorted(groups, key=len, reverse=True)
    sign, number, corner, begun = 1.0, 1.0, dict[str, int](), False
    rest = formula.strip()
    while rest:
        name = next((n for n in names if rest == n or rest.startswith(f"{n} ")), None)
        weight = _NUMBER.match(rest)
        if name is not None:
            if name in corner:
                raise EstimationError(f"'{formula}' has {name} twice in one corner. Put + or - between.")
            corner[name], rest = _group(name, rest[len(name) :], groups, formula)
        elif rest[0] in "+-−":
            if corner:
                yield sign * number, corner
            elif begun:
                raise EstimationError(f"'{formula}' has a sign or a weight without a corner.", fix=_WRITE)
            sign, number, corner, rest = (1.0 if rest[0] == "+" else -1.0), 1.0, {}, rest[1:]
        elif weight is not None and not corner:
            top, _, bottom = weight[1].partition("/")
            if bottom and float(bottom) == 0.0:
                raise EstimationError(f"'{formula}' divides by zero.")
            number *= float(top) / float(bottom or 1)
            rest = rest[weight.end() :]
        else:
            word = rest.split()[0]
            raise EstimationError(f"'{formula}' cannot be read at '{rest}'; {one_of(word, groups)}", fix=_WRITE)
        begun, rest = True, rest.lstrip()
    if not corner:
        raise EstimationError(f"'{formula}' has a sign or a weight without a corner.", fix=_WRITE)
    yield sign * number, corner


def _group(name: str, rest: str, groups: Mapping[str, int], formula: str) -> tuple[int, str]:
    """The group that follows a characteristic, from 0, and the rest of the formula."""
    word = _GROUP.match(rest)
    given = word[1] if word is not None else rest.strip().partition(" ")[0]
    place = {"low": 1, "high": groups[name]}.get(given, int(given) if word is not None and given.isdigit() else 0)
    if word is None or not 1 <= place <= groups[name]:
        raise EstimationError(
            f"'{formula}' has the group '{given}' of {name}.",
            fix=f"Use low, high, or a number from 1 to {groups[name]}.",
        )
    return place - 1, rest[word.end() :]


# Factor-mimicking portfolios of factors that are not traded


@dataclass(frozen=True, eq=False, repr=False)
class MimickingPortfolios(TableInNotebooks):
    """Maximum-correlation portfolios of factors that are not traded.

    Attributes
    ----------
    returns : SeriesTable, shape (T, K)
        Excess returns of the portfolios.
    weights : DataFrame, shape (N, K)
        Slopes of the factor on the assets: units of the factor per unit of an asset.
    premia : mapping of str to Premium
        Annual premia; their influence has the error of the weights, so that ``cost_of_equity(premia=...)`` knows
        their joint covariance.
    covariance : DataFrame, shape (K, K)
        Of the annual premia.
    r2 : Series, shape (K,)
        Share of the factor's variance that the assets explain.
    basis : str

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> made = ul.mimicking_portfolios(panel.factor_table["size"], panel.excess)
    >>> made.premia["size"].excess_of
    'zero cost'
    """

    returns: SeriesTable
    weights: pd.DataFrame
    premia: dict[str, Premium]
    covariance: pd.DataFrame
    r2: pd.Series
    basis: str

    def to_pandas(self) -> pd.DataFrame:
        """Returns of the portfolios, a column each.

        Returns
        -------
        DataFrame, shape (T, K)
            Decimals per period.
        """
        return self.returns.to_pandas()

    def to_frame(self) -> pd.DataFrame:
        """Annual premium, standard error, t and R² of each factor.

        Returns
        -------
        DataFrame, shape (K, 4)
            Annual decimals.
        """
        value = pd.Series({name: one.value for name, one in self.premia.items()})
        error = pd.Series({name: one.standard_error for name, one in self.premia.items()})
        return pd.DataFrame({"premium": value, "standard_error": error, "t": value / error, "r2": self.r2})


@validate_arguments
def mimicking_portfolios(
    factors: TimeSeries | SeriesTable, assets: SeriesTable, *, lags: int | None = None
) -> MimickingPortfolios:
    r"""Factor-mimicking portfolios: combinations of assets that correlate most with other factors.

    The weights :math:`b=\hat\Sigma_R^{-1}\hat\Sigma_{Rf}` are the slopes of the factor on the excess returns; the
    premium is :math:`b'\bar R`. Its error takes the estimated weights into account: the influence of period t is
    :math:`b'(R_t-\bar R)+\bar R'\hat\Sigma_R^{-1}(R_t-\bar R)e_t`, with e the residual, summed with Newey–West
    weights.

    Parameters
    ----------
    factors : TimeSeries or SeriesTable, shape (T, K)
        Factors that are not traded, such as unexpected inflation.
    assets : SeriesTable, shape (T, N)
        Excess returns of the base assets, such as sorted portfolios in excess of the bill.
    lags : int, optional
        Newey–West lags.

    Returns
    -------
    MimickingPortfolios
        Returns, weights, and premia with their errors.

    Raises
    ------
    EstimationError
        If periods are too few, or an asset is a combination of the others.

    References
    ----------
    Breeden, D. T., M. R. Gibbons and R. H. Litzenberger (1989), Empirical tests of the consumption-oriented CAPM.
    Journal of Finance 44, 231–262. Lamont, O. A. (2001), Economic tracking portfolios. Journal of Econometrics
    105, 161–184.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> ul.mimicking_portfolios(panel.factor_table["market"], panel.excess).r2["market"].item() > 0.7
    True
    """
    table = factors.as_table() if isinstance(factors, TimeSeries) else factors
    total = [m.name for m in assets.metadata if not (m.is_return and m.excess_of)]
    if total:
        raise UnitError(
            f"mimicking_portfolios: {total[0]} is not an excess return. Apply excess(assets, risk_free)."
        )
    if table.frequency != assets.frequency:
        raise AlignmentError(
            f"mimicking_portfolios: the factors are {table.frequency.name}, the assets "
            f"{assets.frequency.name}. Convert both to one frequency."
        )
    R, f, index, dropped = _complete_rows(table, assets)
    periods, count = R.shape
    weights, influence, r2 = _slopes_and_influence(R, f)
    number = lag_rule(periods) if lags is None else lags
    per_year, df = float(assets.frequency.periods_per_year), periods - count - 1
    long_run = bartlett_sum(influence, number, time_positions(index)) / df  # with the factor T/(T − N − 1)
    covariance = per_year**2 * long_run / periods
    values, errors = per_year * R.mean(axis=0) @ weights, np.sqrt(np.diag(covariance))
    span, names = span_of(index), table.names
    basis = (
        f"Maximum-correlation portfolios of {count} assets ({choices(assets.names)}), "
        f"{quantity(periods, 'period')}, {span}; {quantity(dropped, 'incomplete period')} left out; "
        f"premia per year in decimals, Newey–West errors with {number} lags that include the weights' error."
    )
    of_periods = pd.DataFrame(per_year * influence / periods, index, names)
    premia = {
        name: Premium(value, error, float(df), ZERO_COST, f"mimicking portfolio, {span}", of_periods[name])
        for name, value, error in zip(names, values.tolist(), errors.tolist(), strict=True)
    }
    facts = {"title": "", "excess_of": ZERO_COST, "address": "", "source": ""}
    base = (
        assets.metadata[0]
        .replace(**facts)
        .add_step("mimicking portfolio", {"hindsight": "weighted by slopes of the whole sample"}, of=count)
    )
    return MimickingPortfolios(
        SeriesTable.from_arrays(R @ weights, index, [base.replace(name=name) for name in names]),
        pd.DataFrame(weights, assets.names, names),
        premia,
        pd.DataFrame(covariance, names, names),
        pd.Series(r2, names),
        basis,
    )


def _complete_rows(table: SeriesTable, assets: SeriesTable) -> tuple[Floats, Floats, pd.Index, int]:
    """Asset returns and factors of the periods that have all, their labels, and how many are left out."""
    shared, rows, columns = np.intersect1d(assets.ordinals, table.ordinals, return_indices=True)
    R, f = assets.block[rows], table.block[columns]
    whole: Bools = np.asarray(np.isfinite(R).all(axis=1) & np.isfinite(f).all(axis=1))
    periods, count = int(whole.sum()), R.shape[1]
    if periods <= count + 2:
        raise EstimationError(
            f"mimicking_portfolios: {quantity(periods, 'complete period')} for {count} assets; more periods than "
            "assets + 2 are needed. Use fewer assets."
        )
    return R[whole], f[whole], assets.index[rows][whole], len(shared) - periods


def _slopes_and_influence(R: Floats, f: Floats) -> tuple[Floats, Floats, Floats]:
    """Slopes of the factors on the assets, the influence of each period on the premia, and R²."""
    mean, moved = R.mean(axis=0), f - f.mean(axis=0)
    Q, upper = np.linalg.qr(R - mean)
    scale = np.sqrt((upper**2).sum(axis=0))
    if not (scale > 0).all() or np.linalg.cond(upper / scale) > _COLLINEAR:
        raise EstimationError(
            "mimicking_portfolios: an asset is constant or a combination of the others. Remove it."
        )
    weights = np.linalg.solve(upper, Q.T @ moved)
    residual = moved - (R - mean) @ weights
    direction = len(R) * (Q @ np.linalg.solve(upper.T, mean))  # R̄'Σ⁻¹(R_t − R̄)
    influence = (R - mean) @ weights + direction[:, None] * residual
    return weights, influence, np.asarray(1.0 - (residual**2).sum(axis=0) / (moved**2).sum(axis=0))
