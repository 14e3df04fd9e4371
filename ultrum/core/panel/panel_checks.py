"""Panel checks: roles, currencies and sizes that cannot be right."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Final

import numpy as np

from ultrum.core.array_types import Floats
from ultrum.core.series.metadata import ZERO_COST
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.errors import AlignmentError, CurrencyError, UnitError, listed

_WILDEST: Final = {"asset": 4.0, "factor": 1.0, "risk-free": 0.05}


def income_warning(returns: SeriesTable, factors: SeriesTable) -> tuple[str, ...]:
    """A warning where some returns leave dividends out, and others, or those of a factor, do not."""
    described = (*returns.metadata, *factors.metadata)
    bare = [a.name for a in described if a.income == "price"]
    if not bare or all(a.income != "total" for a in described):
        return ()
    return (f"{listed(bare)} are price returns combined with total returns; they leave dividends out.",)


def check_names(assets: SeriesTable, factors: SeriesTable, conditions: Sequence[str], rate: str) -> None:
    """Refuse one name for two things."""
    roles = [
        *((name, "an asset") for name in assets.names), *((name, "a factor") for name in factors.names),
        *((name, "a condition") for name in conditions), (rate, "the risk-free rate"),
    ]  # fmt: skip
    role_of: dict[str, str] = {}
    for name, role in roles:
        if name in role_of:
            raise AlignmentError(
                f"'{name}' is the name of {role_of[name]} and of {role}; rename one with with_metadata(name=...)."
            )
        role_of[name] = role


def check_roles(returns: SeriesTable, factors: SeriesTable, rate: TimeSeries, *, in_excess: bool) -> None:
    """Refuse prices, excess returns and yields where they do not belong."""
    for metadata in returns.metadata:
        if metadata.measure != "return":
            raise UnitError(
                f"{metadata.name} is a {metadata.measure or 'series of unknown measure'}; a panel takes "
                "simple returns. Make them with returns(prices)."
            )
        if metadata.excess_of:
            raise UnitError(
                f"{metadata.name} is already in excess of {metadata.excess_of}; a panel takes total "
                "returns and subtracts the risk-free rate itself."
            )
    for metadata in factors.metadata:
        if not in_excess and metadata.excess_of not in ("", ZERO_COST):
            raise UnitError(
                f"Factor {metadata.name} is in excess of {metadata.excess_of}, and no risk-free rate is given "
                "to subtract from the assets.",
                fix="Give risk_free, a series or a rate a year.",
                setting="risk_free",
            )
        if in_excess and metadata.is_return and not metadata.excess_of:
            raise UnitError(
                f"Factor {metadata.name} is not in excess of anything.",
                fix=f"Apply excess({metadata.name}, risk_free), or use .with_metadata(excess_of='zero cost') for "
                "a long-short portfolio.",
                setting="total_return_factors",
            )
    if rate.metadata.measure != "return":
        raise UnitError(
            f"{rate.name} is a {rate.metadata.measure or 'series of unknown measure'}; the risk-free "
            "rate must be a return per period. Turn a yield into one with yield_to_return."
        )


def by_kind(factors: SeriesTable) -> tuple[list[str], list[str]]:
    """Names of traded factors, and of macro factors, which become known later."""
    traded = [a.name for a in factors.metadata if a.is_return]
    return traded, [name for name in factors.names if name not in traded]


def currency_of(returns: SeriesTable, factors: SeriesTable, rate: TimeSeries) -> str:
    """The one currency of the panel."""
    currencies = {a.currency: a.name for a in (*returns.metadata, *factors.metadata, rate.metadata) if a.currency}
    if len(currencies) > 1:
        listed = ", ".join(f"{name} in {currency}" for currency, name in currencies.items())
        raise CurrencyError(
            f"One panel, several currencies: {listed}. Convert prices with to_currency before making returns."
        )
    return next(iter(currencies), "")


def check_size(table: SeriesTable | None, role: str) -> None:
    """Refuse percent taken for decimals: no market moves by its whole value every month."""
    if table is None:
        return
    block, limit = table.block, _WILDEST[role]
    if not len(block):
        return
    highest = np.maximum(np.fmax.reduce(block, axis=0), -np.fmin.reduce(block, axis=0))
    wild = [k for k in np.flatnonzero(highest > limit) if _size(block[:, k], role) > limit]
    if not wild:
        return
    column = int(wild[0])
    name, finite = table.names[column], block[np.isfinite(block[:, column]), column]
    size = _size(finite, role)
    if role != "risk-free" and finite.min() > 0:
        raise UnitError(
            f"'{name}' is declared as returns, but all its values are above zero, up to "
            f"{finite.max():,.6g}: these look like prices. Make returns with returns(prices)."
        )
    what = "mean" if role == "risk-free" else "standard deviation"
    raise UnitError(
        f"The {role} return '{name}' has a {what} of {100 * size:,.0f} % a period: "
        "these look like percent taken for decimals.",
        fix="Read the table with units='percent', or set check_units=False if they are right.",
        setting="units",
    )


def _size(values: Floats, role: str) -> float:
    """Mean of a risk-free return, deviation of any other."""
    finite = values[np.isfinite(values)]
    if len(finite) < 3:
        return 0.0
    return float(np.mean(np.abs(finite)) if role == "risk-free" else np.std(finite))
