"""Implied cost of equity: the discount rate at which forecasts of dividends or earnings are worth the price."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.arguments import LARGEST_RATE, check_probability, refuse_idle_options, validate_arguments
from ultrum.core.array_types import Floats
from ultrum.core.presentation import TextInNotebooks, over_basis, percent, quantity, table_text
from ultrum.core.pricing.premium import Premium
from ultrum.core.pricing.valuation_models import (
    NEEDED_COLUMNS,
    OPTIONAL_COLUMNS,
    PAID,
    PERPETUAL,
    VALUES,
    ValuationInputs,
    ValuationModel,
    ValuationOptions,
    Value,
    follow_costs,
    solve_costs,
)
from ultrum.core.returns.yields import check_annual_rate
from ultrum.core.series.input_checks import asset_codes, check_numeric
from ultrum.errors import EstimationError, UnitError, name_list, one_of, warn_user

_WITHOUT: Final = (
    "no standard error: forecast_sd or growth_sd is missing",
    "no standard error: no input has a spread",
    "no standard error: some drawn inputs have no cost",
)
_PARTS: Final = ("forecasts", "growth", "long-run growth", "bias")


@dataclass(frozen=True, eq=False, repr=False)
class ImpliedCosts(TextInNotebooks):
    """Implied costs of equity with the uncertainty of their inputs.

    Attributes
    ----------
    table : DataFrame
        By asset: ``cost`` (annual; missing unless there is exactly one), ``standard_error``, ``roots``, and
        ``note``.
    shares : DataFrame
        Share of each input in the variance: ``forecasts`` and ``growth`` of the company, ``long-run growth`` and
        ``bias`` in common.
    slopes : DataFrame
        Change of the cost for each unit of an input: ``forecasts`` (a share of them), ``growth``, ``long-run
        growth`` and ``bias``; 0.8 for long-run growth: one point more raises the cost by 0.8 points.
    drawn : DataFrame, shape (draws, N)
        Costs under drawn inputs, for intervals and for the market.
    model : str
    basis : str
    """

    table: pd.DataFrame
    shares: pd.DataFrame
    slopes: pd.DataFrame
    drawn: pd.DataFrame
    model: str
    basis: str

    @property
    def value(self) -> pd.Series:
        """Annual cost of equity by asset."""
        return self.table["cost"]

    @property
    def standard_error(self) -> pd.Series:
        """Its standard error, from the spread of forecasts and growth."""
        return self.table["standard_error"]

    def interval(self, level: float = 0.95) -> pd.DataFrame:
        """Quantiles of the costs under drawn inputs.

        Parameters
        ----------
        level : float
            Between 0 and 1.

        Returns
        -------
        DataFrame
            Columns ``low`` and ``high``; missing where no input has a spread.
        """
        check_probability("level", level)
        tails = self.drawn.quantile([0.5 - level / 2.0, 0.5 + level / 2.0]).T
        tails.columns = pd.Index(["low", "high"])
        return tails.mask(~(self.standard_error > 0.0))

    def to_frame(self) -> pd.DataFrame:
        """Costs with their 95 % intervals.

        Returns
        -------
        DataFrame
            A row each.
        """
        return self.table[["cost", "standard_error"]].join(self.interval()).join(self.table[["roots", "note"]])

    def __repr__(self) -> str:
        return over_basis(self.basis, table_text(self.to_frame().drop(columns="roots")))


@validate_arguments
def implied_cost_of_equity(
    forecasts: pd.DataFrame,
    *,
    model: ValuationModel = "two-stage",
    long_run_growth: float | None = None,
    long_run_growth_error: float = 0.0,
    fade_years: int = 0,
    persistence: float = 0.0,
    bias: float | pd.Series = 0.0,
    bias_error: float = 0.0,
    draws: int = 999,
    seed: int = 0,
) -> ImpliedCosts:
    r"""Implied cost of equity: the rate at which forecast dividends or earnings are worth the price.

    Parameters
    ----------
    forecasts : DataFrame
        A row per asset, amounts per share in the currency of ``price``, rates in decimals. By model:

        - ``constant growth`` (Gordon and Shapiro 1956): ``dividend_1 growth``;
        - ``two-stage``: ``dividend_1 growth growth_years``, then ``long_run_growth``;
        - ``H-model`` (Fuller and Hsia 1984): ``dividend_0 growth growth_years``, the years in which growth falls
          linearly to ``long_run_growth`` (twice the H of the paper);
        - ``residual income`` (Ohlson 1995): ``book_value payout earnings_1``, further ``earnings_2`` …;
        - ``abnormal earnings growth`` (Ohlson and Juettner-Nauroth 2005): ``earnings_1 earnings_2 dividend_1``.

        Optional: ``forecast_sd``, the standard deviation across analysts as a share of the forecast, with
        ``analysts``, their number; ``growth_sd``, the same of growth; ``years_to_first``, years from the price
        to the first payment, 1 by default. Other columns are not used, and named.
    model : str
        One of the models above.
    long_run_growth : float, optional
        Growth for ever after, annual; for the models that need one.
    long_run_growth_error : float
        Its standard error, common to all assets.
    fade_years : int
        Residual income: years in which the return on equity falls linearly to the cost of equity after the last
        forecast; 0 for none.
    persistence : float
        Residual income: share of each year's residual income that persists to the next for ever after (Ohlson
        1995); instead of ``fade_years``.
    bias : float or Series by asset
        Share by which forecasts exceed outcomes, as by :func:`forecast_bias`; amounts are divided by 1 + bias.
    bias_error : float
        Its standard error, common to all assets.
    draws, seed : int
        Draws of the inputs.

    Returns
    -------
    ImpliedCosts
        A cost is given only where exactly one rate solves the equation; ``roots`` counts them between 0 and 100 %
        and ``note`` has the reason if there is none.

    Raises
    ------
    EstimationError
        If a column is missing, an option does not belong to the model, or an asset is listed twice.
    UnitError
        If a growth rate or a payout looks like percent.

    Warns
    -----
    DataWarning
        If an asset has no cost.

    Notes
    -----
    Dividend models with positive dividends have exactly one root above the growth rate, since their value falls
    from infinity to zero. Residual income can have none or several; values are compared with the price at 400
    rates. See docs/formulas.md.

    References
    ----------
    Fuller, R. J., and C.-C. Hsia (1984), A simplified common stock valuation model. Financial Analysts Journal
    40(5), 49–56. Ohlson, J. A. (1995), Earnings, book values, and dividends in equity valuation. Contemporary
    Accounting Research 11, 661–687. Ohlson, J. A., and B. E. Juettner-Nauroth (2005), Expected EPS and EPS
    growth as determinants of value. Review of Accounting Studies 10, 349–365.

    Examples
    --------
    >>> stock = pd.DataFrame({"price": [50.0], "dividend_1": [2.0], "growth": [0.03]}, ["BRTW"])
    >>> round(float(implied_cost_of_equity(stock, model="constant growth").value["BRTW"]), 4)
    0.07
    """
    _check_options(model, long_run_growth, long_run_growth_error, fade_years, persistence)
    columns, unused = _check_columns(forecasts, model)
    if PAID in columns and (bias_error or np.any(np.asarray(bias, dtype=float) != 0.0)):
        raise EstimationError(
            "bias has no effect with model='H-model': dividend_0 is a dividend that was paid, not a forecast. "
            "Remove bias and bias_error."
        )
    options = ValuationOptions(0.0 if long_run_growth is None else long_run_growth, fade_years, persistence)
    inputs = ValuationInputs.of(forecasts, columns, bias)
    value = VALUES[model]
    cost, roots, notes = solve_costs(model, value, inputs, options)
    errors = {
        "forecasts": inputs.relative_error,
        "growth": inputs.growth_error,
        "long-run growth": np.full(len(cost), long_run_growth_error),
        "bias": np.full(len(cost), bias_error),
    }
    drawn = _draw_costs(value, inputs, options, cost, errors, draws, seed)
    slopes = _slopes(value, inputs, options, cost)
    shares, spread = _variance_shares(slopes, errors)
    index = pd.Index(forecasts.index, name="asset")
    stated = np.isfinite(inputs.relative_error) & np.isfinite(inputs.growth_error)
    known = (np.isfinite(drawn).mean(axis=0) > 0.99) & stated & (spread > 0.0)
    deviation = np.std(np.where(np.isfinite(drawn), drawn, cost), axis=0, ddof=1)
    notes = [
        note or ("" if k or not np.isfinite(c) else _WITHOUT[0 if not s else 1 if not e > 0.0 else 2])
        for note, k, c, s, e in zip(notes, known, cost, stated, spread, strict=True)
    ]
    error = np.where(np.isfinite(cost) & known, deviation, np.nan)
    table = pd.DataFrame({"cost": cost, "standard_error": error, "roots": roots, "note": notes}, index)
    missing = list(map(str, index[~np.isfinite(cost)]))
    if missing:
        first = notes[int(np.flatnonzero(~np.isfinite(cost))[0])]
        warn_user(f"implied_cost_of_equity: no cost for {name_list(missing)}; {missing[0]}: {first}.")
    basis = _basis(model, options, inputs, long_run_growth_error, bias_error, unused, len(cost) - len(missing))
    return ImpliedCosts(
        table,
        pd.DataFrame(shares, index, list(_PARTS)),
        pd.DataFrame(slopes, index, list(_PARTS)),
        pd.DataFrame(drawn, columns=index),
        model,
        basis,
    )


# Uncertainty: the roots under drawn inputs, and the share of each input


def _draw_costs(
    value: Value,
    x: ValuationInputs,
    options: ValuationOptions,
    cost: Floats,
    errors: Mapping[str, Floats],
    draws: int,
    seed: int,
) -> Floats:
    """Costs under normal errors of the inputs, (draws, N); those of growth and bias in common are the same for
    all.

    The root is followed from the cost by Newton steps, and missing where they do not settle.
    """
    if not any((e > 0.0).any() for e in errors.values()):
        return np.broadcast_to(cost, (max(draws, 2), len(cost))).copy()
    rng = np.random.default_rng(seed)
    shape = max(draws, 2), len(cost)
    level = 1.0 + errors["forecasts"] * rng.standard_normal(shape)
    growth = errors["growth"] * rng.standard_normal(shape)
    common = rng.standard_normal((2, shape[0], 1))
    level = level / (1.0 + errors["bias"] / (1.0 + x.bias) * common[1])
    moved = x.shift(level, growth)
    drawn_options = ValuationOptions(
        options.growth + errors["long-run growth"] * common[0], options.fade_years, options.persistence
    )
    return follow_costs(value, moved, drawn_options, np.broadcast_to(cost, shape).copy())


def _slopes(value: Value, x: ValuationInputs, options: ValuationOptions, cost: Floats) -> Floats:
    """Change of the cost for a unit of each input, (N, 4), by differences."""
    step, none, one = 1e-5, np.zeros(len(cost)), np.ones(len(cost))
    higher = {
        "forecasts": (x.shift(one + step, none), options),
        "growth": (x.shift(one, none + step), options),
        "long-run growth": (x, replace(options, growth=options.growth + step)),
        "bias": (x.shift(1.0 / (one + step / (1.0 + x.bias)), none), options),
    }
    return np.column_stack([(follow_costs(value, *higher[part], cost.copy()) - cost) / step for part in _PARTS])


def _variance_shares(slopes: Floats, errors: Mapping[str, Floats]) -> tuple[Floats, Floats]:
    """Share of each input in the variance of a cost, (N, 4), and the total standard deviation (N,)."""
    effects = slopes * np.column_stack([errors[part] for part in _PARTS])
    total = np.sum(effects**2, axis=1)
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(total[:, None] > 0.0, effects**2 / total[:, None], np.nan), np.sqrt(total)


# Checks and words


def _check_options(
    model: str, growth: float | None, growth_error: float, fade_years: int, persistence: float
) -> None:
    """Refuse options that do not belong to the model, and rates that look like percent."""
    if model in PERPETUAL and growth is None:
        raise EstimationError(f"model='{model}' needs long_run_growth, such as 0.03.")
    if model not in PERPETUAL and growth is not None:
        instead = "Use the column growth." if model == "constant growth" else "Use fade_years or persistence."
        raise EstimationError(f"long_run_growth has no effect with model='{model}'. {instead}")
    if model not in PERPETUAL:
        refuse_idle_options(f"model='{model}'", long_run_growth_error=growth_error or None)
    if model != "residual income":
        refuse_idle_options(f"model='{model}'", fade_years=fade_years or None, persistence=persistence or None)
    if fade_years and persistence:
        raise EstimationError("Residual income: set fade_years or persistence, not both.")
    if growth is not None and abs(growth) > LARGEST_RATE:
        raise UnitError(f"long_run_growth={growth}: decimals are expected, 0.03 for 3 %.")


def _check_columns(frame: pd.DataFrame, model: str) -> tuple[list[str], list[str]]:
    """The columns of a model, and those that are not used."""
    if not len(frame):
        raise EstimationError("implied_cost_of_equity: there are no rows. Pass one for each asset.")
    if frame.index.has_duplicates:
        twice = sorted(map(str, frame.index[frame.index.duplicated()].unique()))
        raise EstimationError(f"implied_cost_of_equity: {name_list(twice)} has more than one row.")
    needed = ["price", *NEEDED_COLUMNS[model]]
    absent = [c for c in needed if c not in frame]
    if absent:
        raise EstimationError(
            f"model='{model}' needs the columns {', '.join(needed)}; '{absent[0]}' is missing: "
            f"{one_of(absent[0], list(map(str, frame.columns)))}"
        )
    columns = list(NEEDED_COLUMNS[model])
    while model == "residual income" and f"earnings_{len(columns) - 1}" in frame:
        columns.append(f"earnings_{len(columns) - 1}")
    check_numeric(frame, (*columns, *OPTIONAL_COLUMNS), "implied_cost_of_equity")
    limits = {"growth": LARGEST_RATE, "growth_sd": LARGEST_RATE, "payout": 2.0, "forecast_sd": 2.0}
    for column, limit in limits.items():
        if column in frame and (frame[column].abs() > limit).any():
            reached = f"{column} reaches {frame[column].abs().max():g}"
            raise UnitError(f"implied_cost_of_equity: {reached}: decimals are expected, 0.05 for 5 %.")
    for column in ("growth_years", "years_to_first"):
        if column in frame and (frame[column] <= 0.0).any():
            raise EstimationError(f"implied_cost_of_equity: {column} must be positive; it is a number of years.")
    if "book_value" in columns and (frame["book_value"] <= 0).any():
        negative = name_list(list(map(str, frame.index[frame["book_value"] <= 0])))
        raise EstimationError(f"Residual income: the book value of {negative} is not positive. Remove the row.")
    idle = {"forecast_sd"} if PAID in columns else set[str]()
    idle |= {"growth_sd"} if "growth" not in columns else set[str]()
    used = {*columns, *OPTIONAL_COLUMNS} - idle
    return columns, [str(c) for c in frame if c not in used]


def _basis(
    model: str,
    options: ValuationOptions,
    x: ValuationInputs,
    growth_error: float,
    bias_error: float,
    unused: list[str],
    solved: int,
) -> str:
    """What the costs rest on."""
    parts = [
        model if model.endswith("model") else f"{model} model",
        f"{solved} of {quantity(len(x.price), 'asset')} with exactly one root",
    ]
    if model in PERPETUAL:
        error = f" (standard error {percent(growth_error)} points)" if growth_error else ""
        parts.append(f"long-run growth {percent(float(options.growth))} %{error}")
    if model == "residual income":
        after = "no residual income after the last forecast"
        if options.fade_years:
            after = f"return on equity fades to the cost over {options.fade_years} years"
        elif options.persistence:
            after = f"residual income persists by {options.persistence:g} per year"
        parts.append(f"{quantity(len(x.earnings()), 'year')} of earnings, {after}")
    mean_bias = f"mean bias {percent(float(x.bias.mean()))} % (error {percent(bias_error)})"
    corrected = f"forecasts divided by 1 + bias, {mean_bias}"
    parts.append(corrected if np.any(x.bias != 0.0) else "no correction of forecast bias")
    if unused:
        parts.append(f"columns not used: {name_list(unused)}")
    return "; ".join(parts)


# The bias of forecasts, and the market's implied premium


@validate_arguments
def forecast_bias(history: pd.DataFrame, *, by_asset: bool = False) -> pd.DataFrame:
    """Bias of forecasts: the share by which they exceed outcomes.

    Parameters
    ----------
    history : DataFrame
        Past forecasts and what came: columns ``asset period forecast outcome``.
    by_asset : bool
        Whether to estimate it for each asset; by default one bias of all.

    Returns
    -------
    DataFrame
        By asset, or one row ``all``: ``bias``, the sum of forecasts over that of outcomes, less one; its
        ``standard_error`` clustered by period, since forecasts of a year miss together; ``n`` and ``left_out``.

    Raises
    ------
    EstimationError
        If a column is missing, or there are fewer than three periods.

    Notes
    -----
    Each asset counts by its size in ``outcome`` relative to its own mean, so that amounts per share of different
    companies can be added; losses stay in the sums.

    Examples
    --------
    >>> past = pd.DataFrame({"asset": "a", "period": [2020, 2021, 2022], "forecast": [1.1, 2.2, 3.3],
    ...                      "outcome": [1.0, 2.0, 3.0]})
    >>> round(float(forecast_bias(past)["bias"]["all"]), 3)
    0.1
    """
    absent = [c for c in ("asset", "period", "forecast", "outcome") if c not in history]
    if absent:
        raise EstimationError(
            f"forecast_bias: the column '{absent[0]}' is missing; {one_of(absent[0], list(map(str, history)))}"
        )
    check_numeric(history, ("forecast", "outcome"), "forecast_bias")
    whole = history[["asset", "period", "forecast", "outcome"]].replace([np.inf, -np.inf], np.nan)
    whole["asset"] = asset_codes(whole["asset"]).where(whole["asset"].notna())
    used = whole.dropna()
    size = used["outcome"].abs().groupby(used["asset"]).transform("mean")
    used = used[size > 0]
    scaled = used[["forecast", "outcome"]].div(size[size > 0], axis=0)
    groups = used["asset"] if by_asset else pd.Series("all", used.index)
    rows = {}
    for name, part in scaled.groupby(groups):
        periods = used.loc[part.index, "period"]
        total = float(part["outcome"].sum())
        count = periods.nunique()
        if count < 3 or not total > 0.0:
            raise EstimationError(
                f"forecast_bias: {name}: {quantity(count, 'period')} with forecasts and outcomes, which sum to "
                f"{total:.4g}; at least 3 periods and a positive sum are needed."
            )
        bias = float(part["forecast"].sum()) / total - 1.0
        score = (part["forecast"] - (1.0 + bias) * part["outcome"]).groupby(periods).sum() / total
        error = float(np.sqrt((score**2).sum() * count / (count - 1.0)))
        lost = int((whole["asset"] == name).sum()) if by_asset else len(whole)
        rows[str(name)] = (bias, error, len(part), lost - len(part))
    return pd.DataFrame.from_dict(rows, orient="index", columns=["bias", "standard_error", "n", "left_out"])


@validate_arguments
def implied_premium(
    costs: ImpliedCosts, market_values: pd.Series, risk_free: float, *, excess_of: str = ""
) -> Premium:
    """Implied market premium: the value-weighted implied cost of equity less the risk-free rate.

    Parameters
    ----------
    costs : ImpliedCosts
        Costs of the companies of a market.
    market_values : Series by asset
        Weights.
    risk_free : float
        Annual rate.
    excess_of : str
        Name of the rate, so that a cost of equity adds the same one.

    Returns
    -------
    Premium
        For ``premia=`` of :func:`ultrum.cost_of_equity`. Its standard error has the inputs in common (long-run
        growth, bias) and those of each company; the basis has the share of market value covered.

    Raises
    ------
    EstimationError
        If no company with a cost has a positive market value.

    Examples
    --------
    >>> stocks = pd.DataFrame({"price": [50.0, 20.0], "dividend_1": [2.0, 1.0], "growth": 0.03}, ["A", "B"])
    >>> costs = implied_cost_of_equity(stocks, model="constant growth")
    >>> round(implied_premium(costs, pd.Series({"A": 300.0, "B": 100.0}), 0.03).value, 4)
    0.0425
    """
    rate = check_annual_rate(risk_free)
    weights = market_values.reindex(costs.table.index).to_numpy(dtype=float)
    if (weights < 0).any():
        raise EstimationError("implied_premium: a market value is negative.")
    usable = np.isfinite(costs.value.to_numpy()) & (weights > 0)
    if not usable.any():
        raise EstimationError("implied_premium: no company has both an implied cost and a positive market value.")
    share = weights[usable] / weights[usable].sum()
    value = float(costs.value.to_numpy()[usable] @ share) - rate
    drawn = costs.drawn.to_numpy()[:, usable] @ share
    there = drawn[np.isfinite(drawn)]
    error = float(np.std(there, ddof=1)) if 2 * len(there) > len(drawn) else np.nan
    error = 0.0 if error <= 1e-12 else error
    outside = market_values.drop(costs.table.index[usable], errors="ignore")
    covered = float(weights[usable].sum() / market_values.sum())
    without = f", without {name_list(list(map(str, outside.index)))}" if len(outside) else ""
    basis = (
        f"implied from {quantity(int(usable.sum()), 'company')}, {100 * covered:.0f} % of market "
        f"value{without}; {costs.model}, risk-free rate {percent(rate)} %"
    )
    return Premium(value, error, np.inf, excess_of, basis)
