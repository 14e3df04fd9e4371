"""Values of a share by forecasts of dividends, residual income and abnormal earnings growth; rates that solve."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Final, Literal

import numpy as np
import pandas as pd

from ultrum.core.array_types import Bools, Floats, Ints
from ultrum.errors import EstimationError, UnitError, name_list

ValuationModel = Literal["constant growth", "two-stage", "H-model", "residual income", "abnormal earnings growth"]
_HIGHEST: Final = 1.0  # discount rate looked at
_GRID: Final = 400  # rates at which values are compared with the price
_HALVINGS: Final = 50
_JUST_ABOVE: Final = 1e-6  # the growth rate at which a value is infinite
NEEDED_COLUMNS: Final[Mapping[str, tuple[str, ...]]] = {
    "constant growth": ("dividend_1", "growth"),
    "two-stage": ("dividend_1", "growth", "growth_years"),
    "H-model": ("dividend_0", "growth", "growth_years"),
    "residual income": ("book_value", "payout", "earnings_1"),
    "abnormal earnings growth": ("earnings_1", "earnings_2", "dividend_1"),
}
OPTIONAL_COLUMNS: Final = ("price", "forecast_sd", "analysts", "growth_sd", "years_to_first")
AMOUNTS: Final = ("dividend", "earnings")  # scaled by the correction of a bias and by its errors
PAID: Final = "dividend_0"  # no forecast
PERPETUAL: Final = ("two-stage", "H-model", "abnormal earnings growth")


@dataclass(frozen=True)
class ValuationOptions:
    """Long-run growth, and what follows the last forecast of earnings."""

    growth: float | Floats
    fade_years: int
    persistence: float


@dataclass(frozen=True)
class ValuationInputs:
    """Forecasts of N assets by column, (N,), after the correction of bias."""

    columns: Mapping[str, Floats]
    price: Floats
    wait: Floats
    relative_error: Floats
    growth_error: Floats
    bias: Floats

    @classmethod
    def of(cls, frame: pd.DataFrame, columns: list[str], bias: float | pd.Series) -> ValuationInputs:
        """Numbers of a table, amounts divided by one plus the bias."""
        each = bias if isinstance(bias, pd.Series) else pd.Series(bias, frame.index)
        shift = np.asarray(each.reindex(frame.index), dtype=np.float64)
        absent = list(map(str, frame.index[~np.isfinite(shift)]))
        if absent:
            raise EstimationError(
                f"bias has no value for {name_list(absent)}. Pass one for each asset, or a number."
            )
        if not (np.abs(shift) < 1.0).all():
            raise UnitError("bias is a share in decimals, 0.08 where forecasts are 8 % too high.")
        numbers = {c: frame[c].to_numpy(dtype=float) for c in columns}
        numbers = {c: v / (1.0 + shift) if c.startswith(AMOUNTS) and c != PAID else v for c, v in numbers.items()}

        def optional(name: str, default: float) -> Floats:
            """A column that may be absent; a missing cell stays missing."""
            given = frame[name] if name in frame else pd.Series(default, frame.index)
            return np.asarray(given, dtype=np.float64)

        analysts = np.nan_to_num(optional("analysts", 1.0), nan=1.0)
        if not (analysts >= 1.0).all():
            raise EstimationError("implied_cost_of_equity: analysts must be at least 1.")
        sizes = optional("forecast_sd", 0.0), optional("growth_sd", 0.0)
        if any((one < 0.0).any() for one in sizes):
            raise EstimationError("implied_cost_of_equity: a standard deviation is negative.")
        return cls(
            numbers,
            frame["price"].to_numpy(dtype=float),
            optional("years_to_first", 1.0),
            sizes[0] / np.sqrt(analysts),
            sizes[1] / np.sqrt(analysts),
            shift,
        )

    def shift(self, level: Floats, growth: Floats) -> ValuationInputs:
        """Amounts times a factor, and growth plus a shift; both may have a leading axis of draws."""
        columns = {
            c: v * level if c.startswith(AMOUNTS) and c != PAID else v + growth if c == "growth" else v
            for c, v in self.columns.items()
        }
        return ValuationInputs(columns, self.price, self.wait, self.relative_error, self.growth_error, self.bias)

    def earnings(self) -> list[Floats]:
        """Forecasts of earnings by year."""
        out: list[Floats] = []
        while f"earnings_{len(out) + 1}" in self.columns:
            out.append(self.columns[f"earnings_{len(out) + 1}"])
        return out


# Values at a discount rate, one year before the first payment


def _constant_growth(r: Floats, x: ValuationInputs, options: ValuationOptions) -> Floats:
    """D₁/(r − g)."""
    return np.asarray(x.columns["dividend_1"] / (r - x.columns["growth"]))


def _two_stage(r: Floats, x: ValuationInputs, options: ValuationOptions) -> Floats:
    """Dividends that grow at g for n years and at g∞ after them; n counts the payments up to the last of the
    stage.

    D₁ Σ_{t=1..n} (1+g)^(t−1)/(1+r)^t + D₁(1+g)^(n−1)(1+g∞)/((r − g∞)(1+r)^n).
    """
    first, growth, years = (x.columns[c] for c in NEEDED_COLUMNS["two-stage"])
    ratio = (1.0 + growth) / (1.0 + r)
    equal = np.abs(growth - r) < 1e-9
    stage = np.where(equal, years / (1.0 + r), (1.0 - ratio**years) / np.where(equal, 1.0, r - growth))
    last = (1.0 + growth) ** (years - 1.0) / (1.0 + r) ** years
    return np.asarray(first * (stage + last * (1.0 + options.growth) / (r - options.growth)))


def _h_model(r: Floats, x: ValuationInputs, options: ValuationOptions) -> Floats:
    """D₀((1 + g∞) + H(g − g∞))/(r − g∞) with H half of the years of decline."""
    last, growth, years = (x.columns[c] for c in NEEDED_COLUMNS["H-model"])
    lift = 1.0 + options.growth + years / 2.0 * (growth - options.growth)
    return np.asarray(last * lift / (r - options.growth))


def _residual_income(r: Floats, x: ValuationInputs, options: ValuationOptions) -> Floats:
    """B₀ + Σ (E_t − rB_{t−1})/(1+r)^t with clean surplus; then the fade of the return on equity, or
    persistence.
    """
    book, payout = x.columns["book_value"], x.columns["payout"]
    total, discount = book + 0.0 * r, np.ones_like(r)
    residual = np.zeros_like(total)
    on_equity = np.zeros_like(total)
    for earnings in x.earnings():
        discount = discount * (1.0 + r)
        residual, on_equity = earnings - r * book, earnings / book
        total = total + residual / discount
        book = book + (1.0 - payout) * earnings
    for year in range(1, options.fade_years + 1):
        discount = discount * (1.0 + r)
        excess = (on_equity - r) * (1.0 - year / (options.fade_years + 1.0))
        total = total + excess * book / discount
        book = book * (1.0 + (1.0 - payout) * (r + excess))
    if options.persistence:
        total = total + residual * options.persistence / ((1.0 + r - options.persistence) * discount)
    return np.asarray(total)


def _abnormal_growth(r: Floats, x: ValuationInputs, options: ValuationOptions) -> Floats:
    """E₁/r + (E₂ + rD₁ − (1+r)E₁)/(r(r − g∞))."""
    first, second, dividend = (x.columns[c] for c in NEEDED_COLUMNS["abnormal earnings growth"])
    return np.asarray(first / r + (second + r * dividend - (1.0 + r) * first) / (r * (r - options.growth)))


Value = Callable[[Floats, ValuationInputs, ValuationOptions], Floats]
VALUES: Final[Mapping[str, Value]] = {
    "constant growth": _constant_growth,
    "two-stage": _two_stage,
    "H-model": _h_model,
    "residual income": _residual_income,
    "abnormal earnings growth": _abnormal_growth,
}


def _excess_value(value: Value, r: Floats, x: ValuationInputs, options: ValuationOptions) -> Floats:
    """Value at the day of the price less the price, as a share of it."""
    with np.errstate(all="ignore"):
        return np.asarray(value(r, x, options) * (1.0 + r) ** (1.0 - x.wait) / x.price - 1.0)


def _lowest(model: str, x: ValuationInputs, options: ValuationOptions) -> Floats:
    """The rate above which the value is finite, (N,)."""
    if model == "constant growth":
        floor = x.columns["growth"]
    elif model in PERPETUAL:
        floor = np.full(len(x.price), options.growth)
    else:
        floor = np.zeros(len(x.price))
    return np.maximum(floor, 0.0) + _JUST_ABOVE


def solve_costs(
    model: str, value: Value, x: ValuationInputs, options: ValuationOptions
) -> tuple[Floats, Ints, list[str]]:
    """Cost, number of roots and reason of each asset."""
    low = _lowest(model, x, options)
    steps = np.linspace(0.0, 1.0, _GRID)[:, None] ** 2  # finer near the lowest rate
    grid = low + (_HIGHEST - low) * steps
    above = _excess_value(value, grid, x, options)
    known: Bools = np.isfinite(above).all(axis=0) & (x.price > 0.0)
    changes = np.diff(above >= 0.0, axis=0)  # a rate of the grid that is a root counts once
    roots = np.where(known, changes.sum(axis=0), 0)
    first = np.argmax(changes, axis=0)
    column = np.arange(len(low))
    cost = _bisect(value, x, options, grid[first, column], grid[np.minimum(first + 1, _GRID - 1), column])
    cost = np.where(roots == 1, cost, np.nan)
    parts = zip(roots, known, above[0], x.price, strict=True)
    notes = [_reason(int(n), bool(k), float(a), float(p)) for n, k, a, p in parts]
    return cost, roots.astype(np.int64), notes


def _reason(roots: int, known: bool, at_lowest: float, price: float) -> str:
    """Why an asset has no cost; empty if it has one."""
    if roots == 1:
        return ""
    if not price > 0.0:
        return "the price is missing or not positive"
    if not known:
        return "an input is missing or not a number"
    if roots > 1:
        return f"{roots} rates solve the equation"
    less = "less than the price at every rate"
    return f"forecasts are worth {less if at_lowest < 0.0 else 'more than the price at every rate up to 100 %'}"


def _bisect(value: Value, x: ValuationInputs, options: ValuationOptions, low: Floats, high: Floats) -> Floats:
    """The root between two rates at which the signs differ."""
    sign = np.sign(_excess_value(value, low, x, options))
    for _ in range(_HALVINGS):
        middle = (low + high) / 2.0
        left = np.sign(_excess_value(value, middle, x, options)) == sign
        low, high = np.where(left, middle, low), np.where(left, high, middle)
    return np.asarray((low + high) / 2.0)


def follow_costs(value: Value, x: ValuationInputs, options: ValuationOptions, start: Floats) -> Floats:
    """Roots near a start, by Newton steps with numerical slopes that are halved where they leave the rates
    allowed.
    """
    r = start
    step = 1e-6
    for _ in range(30):
        at = _excess_value(value, r, x, options)
        slope = (_excess_value(value, r + step, x, options) - at) / step
        with np.errstate(all="ignore"):
            following = r - at / slope
        floor = np.maximum(options.growth, x.columns["growth"] if value is _constant_growth else 0.0)
        floor = np.maximum(floor if value is not _residual_income else 0.0, 0.0) + _JUST_ABOVE
        following = np.where(following <= floor, (r + floor) / 2.0, np.minimum(following, _HIGHEST))
        if np.nanmax(np.abs(following - r), initial=0.0) < 1e-11:
            break
        r = following
    settled = np.abs(_excess_value(value, r, x, options)) < 1e-6
    return np.where(settled, r, np.nan)
