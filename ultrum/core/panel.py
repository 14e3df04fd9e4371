"""Lining up assets, factors, conditions and the risk-free rate, with an account of what was lost."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, Final

import numpy as np
import pandas as pd

from ultrum.core.convert import to_frequency
from ultrum.core.coverage import coverage_of, ledger_of
from ultrum.core.descriptor import Descriptor
from ultrum.core.frequency import Frequency, periods_in
from ultrum.core.series import SeriesTable, TimeSeries, span_of
from ultrum.core.types import Ints
from ultrum.errors import AlignmentError, CurrencyError, UnitError

HINDSIGHT: Final = "hindsight"
_ROWS: Final = ("complete", "any")
_WILDEST: Final = {"asset": 4.0, "factor": 1.0, "risk-free": 0.05}


@dataclass(frozen=True, eq=False, repr=False)
class Panel:
    """Lined-up data, ready to estimate.

    Attributes
    ----------
    assets : DataFrame, shape (T, N)
        Total returns, in decimals; an asset may be missing singly.
    factors, conditions : DataFrame, shape (T, K) and (T, M)
    risk_free : Series, shape (T,)
        Risk-free return of each period.
    coverage : DataFrame
        By series: first, last, rows, gaps, filled, stale.
    ledger : DataFrame
        Columns ``period series cause``: every value that was missing, and why.
    about : mapping of str to Descriptor
    """

    assets: pd.DataFrame
    factors: pd.DataFrame
    conditions: pd.DataFrame
    risk_free: pd.Series
    coverage: pd.DataFrame
    ledger: pd.DataFrame
    about: Mapping[str, Descriptor]
    frequency: Frequency
    currency: str

    @property
    def excess(self) -> SeriesTable:
        """Asset returns less the risk-free return of the same period."""
        block = self.assets.to_numpy() - self.risk_free.to_numpy()[:, None]
        rate = str(self.risk_free.name)
        abouts = [
            self.about[str(n)].stepped("excess", {"excess_of": rate}, of=rate) for n in self.assets
        ]
        return SeriesTable.build(block, self.assets.index, abouts)

    @property
    def factor_table(self) -> SeriesTable:
        """The factors with their descriptors."""
        return SeriesTable(self.factors, tuple(self.about[str(n)] for n in self.factors))

    @property
    def rate(self) -> TimeSeries:
        """The risk-free return with its descriptor."""
        return TimeSeries(self.risk_free, self.about[str(self.risk_free.name)])

    def wide(self) -> pd.DataFrame:
        """One row per period: assets, factors, conditions, risk-free; two column levels."""
        parts = {
            "asset": self.assets,
            "factor": self.factors,
            "condition": self.conditions,
            "risk-free": self.risk_free.to_frame(),
        }
        return pd.concat({k: v for k, v in parts.items() if v.shape[1]}, axis=1)

    def long(self) -> pd.DataFrame:
        """One row per period and asset with a return: excess return, factors, conditions."""
        excess = self.excess.to_frame().rename_axis("period").reset_index()
        frame = excess.melt("period", var_name="asset", value_name="excess_return").dropna()
        right = self.factors.join(self.conditions).rename_axis("period")
        return frame.merge(right, left_on="period", right_index=True, how="left")

    def sample(self, start: str | None = None, end: str | None = None) -> Panel:
        """Part from ``start`` to ``end``, both included."""
        rate = self.risk_free.loc[start:end]
        if not len(rate):
            raise AlignmentError(
                f"The panel runs {span_of(self.assets.index)}; nothing of it is from "
                f"{start or 'its start'} to {end or 'its end'}."
            )
        return replace(
            self,
            assets=self.assets.loc[start:end],
            factors=self.factors.loc[start:end],
            conditions=self.conditions.loc[start:end],
            risk_free=rate,
            ledger=self.ledger[self.ledger["period"].isin(rate.index)],
        )

    def to_frame(self) -> pd.DataFrame:
        """Same as :meth:`wide`."""
        return self.wide()

    def __repr__(self) -> str:
        span = span_of(self.assets.index)
        counts = (
            f"{self.assets.shape[1]} assets, factors {', '.join(map(str, self.factors)) or 'none'}, "
            f"conditions {', '.join(map(str, self.conditions)) or 'none'}"
        )
        worst = self.ledger["series"].value_counts().head(5)
        lost = ", ".join(f"{name} {count}" for name, count in worst.items())
        return (
            f"Panel: {len(self.assets)} {self.frequency.name} rows, {span}, {self.currency}\n"
            f"{counts}; risk-free {self.risk_free.name}\nmissing values, most first: {lost or 'none'}"
        )

    def _repr_html_(self) -> str:
        return f"<pre>{self!r}</pre>{self.coverage.to_html()}"


def align(
    *,
    assets: SeriesTable | pd.DataFrame,
    factors: SeriesTable | TimeSeries | pd.DataFrame,
    risk_free: TimeSeries,
    conditions: SeriesTable | None = None,
    frequency: str | Frequency = "M",
    rows: str = "complete",
    known_by: str | Mapping[str, str] | None = None,
    start: str | None = None,
    end: str | None = None,
    check_units: bool = True,
) -> Panel:
    """Line up returns, factors, conditions and the risk-free rate in one panel.

    Parameters
    ----------
    assets : SeriesTable or DataFrame
        Total returns, not in excess of anything.
    factors : SeriesTable, TimeSeries or DataFrame
        Traded factors, in excess of the risk-free rate or at zero cost, and macro factors.
    risk_free : TimeSeries
        Simple risk-free return of each period.
    conditions : SeriesTable, optional
        Row t holds what was known at the end of t − 1.
    frequency : str or Frequency
        Frequency of the panel; series of a higher one are converted by their measure.
    rows : {"complete", "any"}
        Keep the rows where every factor, condition and the risk-free rate are present, or all.
    known_by : str or mapping, optional
        When conditions and macro factors became known after the period they describe: a duration
        such as ``"P1M"``, a mapping of names to durations, ``"release lag"`` (each series' own),
        or ``"hindsight"``. Must be said when there are any.
    start, end : str, optional
        First and last period.
    check_units : bool
        Refuse numbers so large that percent must have been taken for decimals.

    Raises
    ------
    AlignmentError
        If ``known_by`` is not said though it matters, or no row is left.
    CurrencyError
        If currencies differ.
    UnitError
        If assets are not returns, or a factor is not in excess, or percent looks like decimals.

    Examples
    --------
    >>> months = pd.period_range("2024-01", periods=3, freq="M")
    >>> def column(name, values, **facts):
    ...     return TimeSeries.wrap(pd.Series(values, months), name=name, measure="return", **facts)
    >>> bill = column("bill", [0.002, 0.002, 0.002])
    >>> market = column("market", [0.03, -0.01, None], excess_of="bill")
    >>> stock = column("BRTW", [0.02, 0.01, 0.02]).as_table()
    >>> panel = align(assets=stock, factors=market, risk_free=bill)
    >>> len(panel.assets), panel.ledger["cause"].tolist()
    (2, ['after its last value'])
    """
    if rows not in _ROWS:
        raise AlignmentError(f"rows='{rows}' is not known; it is complete or any.")
    target = Frequency.parse(frequency)
    rate = to_frequency(risk_free, target)
    returns = to_frequency(_wrapped(assets, measure="return"), target, risk_free=risk_free)
    loadings = to_frequency(_wrapped(factors), target, risk_free=risk_free)
    _check_roles(returns, loadings, rate)
    traded, macro = _by_kind(loadings)
    known = _wrapped(conditions) if conditions is not None else None
    if known is not None:
        known = to_frequency(known, target)
    if (macro or known is not None) and known_by is None:
        named = ", ".join([*macro, *(known.names if known is not None else [])])
        raise AlignmentError(
            f"{named}: say when these became known, known_by='P1M' or the like; "
            "known_by='hindsight' if each may be used in the period it describes."
        )
    blocks = {
        "assets": _shifted(returns, {}),
        "factors": _shifted(loadings, {name: _lag(loadings, name, known_by) for name in macro}),
        "conditions": _conditions(known, known_by),
        "risk_free": _shifted(rate.as_table(), {}),
    }
    if check_units:
        _check_size(blocks["assets"], "asset")
        _check_size(loadings.select(traded) if traded else None, "factor")
        _check_size(blocks["risk_free"], "risk-free")
    return _assemble(blocks, target, rows, start, end, _currency(returns, loadings, rate))


def _assemble(
    blocks: Mapping[str, SeriesTable | None],
    target: Frequency,
    rows: str,
    start: str | None,
    end: str | None,
    currency: str,
) -> Panel:
    """Put the blocks on one index, drop what is not whole and write it down."""
    tables = {role: table for role, table in blocks.items() if table is not None}
    ordinals = _span(tables, target, start, end)
    index = target.index(ordinals)
    frames = {role: table.values.reindex(index) for role, table in tables.items()}
    frames.setdefault("conditions", pd.DataFrame(index=index))
    needed = pd.concat([frames["factors"], frames["conditions"], frames["risk_free"]], axis=1)
    kept = (
        needed.notna().all(axis=1).to_numpy() if rows == "complete" else np.ones(len(index), bool)
    )
    if not kept.any():
        spans = "; ".join(_spans(table) for table in tables.values())
        raise AlignmentError(
            f"No period has every factor, condition and the risk-free rate. {spans}"
        )
    causes = {name: known for t in tables.values() for name, known in t.causes.items()}
    everything = pd.concat([frames["assets"], needed], axis=1)
    return Panel(
        assets=frames["assets"][kept],
        factors=frames["factors"][kept],
        conditions=frames["conditions"][kept],
        risk_free=frames["risk_free"].iloc[:, 0][kept],
        coverage=coverage_of(everything, ordinals, causes),
        ledger=ledger_of(everything, ordinals, causes),
        about={a.name: a for t in tables.values() for a in t.about},
        frequency=target,
        currency=currency,
    )


def _wrapped(data: Any, **facts: Any) -> SeriesTable:
    if isinstance(data, TimeSeries):
        return data.as_table()
    return data if isinstance(data, SeriesTable) else SeriesTable.wrap(data, **facts)


def _check_roles(returns: SeriesTable, factors: SeriesTable, rate: TimeSeries) -> None:
    for about in returns.about:
        if about.measure != "return":
            raise UnitError(
                f"{about.name} is a {about.measure or 'series of unknown measure'}; a panel takes "
                "simple returns. Make them with returns(prices)."
            )
        if about.excess_of:
            raise UnitError(
                f"{about.name} is already in excess of {about.excess_of}; a panel takes total "
                "returns and subtracts the risk-free rate itself."
            )
    for about in factors.about:
        if about.is_return and not about.excess_of:
            raise UnitError(
                f"Factor {about.name} is not in excess of anything. Apply excess({about.name}, "
                "risk_free), or say .described(excess_of='zero cost') for a long-short portfolio."
            )
    if rate.about.measure != "return":
        raise UnitError(
            f"{rate.name} is a {rate.about.measure or 'series of unknown measure'}; the risk-free "
            "rate must be a return per period. Turn a yield into one with per_period."
        )


def _by_kind(factors: SeriesTable) -> tuple[list[str], list[str]]:
    """Names of traded factors, and of macro factors, which become known later."""
    traded = [a.name for a in factors.about if a.is_return]
    return traded, [name for name in factors.names if name not in traded]


def _currency(returns: SeriesTable, factors: SeriesTable, rate: TimeSeries) -> str:
    """The one currency of the panel."""
    said = {a.currency: a.name for a in (*returns.about, *factors.about, rate.about) if a.currency}
    if len(said) > 1:
        listed = ", ".join(f"{name} in {currency}" for currency, name in said.items())
        raise CurrencyError(
            f"One panel, several currencies: {listed}. Convert prices with to_currency before "
            "making returns."
        )
    return next(iter(said), "")


def _lag(table: SeriesTable, name: str, known_by: str | Mapping[str, str] | None) -> int:
    """Periods between the one a value describes and the one it became known in."""
    said = known_by.get(name, "") if isinstance(known_by, Mapping) else known_by or ""
    if said == "release lag":
        said = table[name].about.release_lag
    if said == HINDSIGHT:
        return 0
    if not said:
        raise AlignmentError(f"known_by says nothing of {name}; give it a duration such as 'P1M'.")
    return periods_in(said, table.frequency)


def _conditions(
    known: SeriesTable | None, known_by: str | Mapping[str, str] | None
) -> SeriesTable | None:
    if known is None:
        return None
    return _shifted(known, {name: 1 + _lag(known, name, known_by) for name in known.names})


def _shifted(table: SeriesTable, lags: Mapping[str, int]) -> SeriesTable:
    """Each column moved to the period it became known in."""
    if not any(lags.values()):
        return table
    moved = []
    for name in table.names:
        lag, series = lags.get(name, 0), table[name]
        index = table.frequency.index(table.ordinals + lag)
        about = series.about.stepped("known after", periods=lag) if lag else series.about
        moved.append(TimeSeries(series.values.set_axis(index), about))
    return SeriesTable.of(moved)


def _check_size(table: SeriesTable | None, role: str) -> None:
    """Refuse percent taken for decimals: no market moves by its whole value every month."""
    if table is None:
        return
    for about, column in zip(table.about, table.block.T, strict=True):
        finite = column[np.isfinite(column)]
        if len(finite) < 3:
            continue
        size = float(np.mean(np.abs(finite))) if role == "risk-free" else float(np.std(finite))
        if size > _WILDEST[role]:
            what = "mean" if role == "risk-free" else "standard deviation"
            raise UnitError(
                f"The {role} return '{about.name}' has a {what} of {100 * size:,.0f} % a period: "
                "these look like percent taken for decimals. Read the table with units='percent', "
                "or say check_units=False if they are right."
            )


def _span(
    tables: Mapping[str, SeriesTable], target: Frequency, start: str | None, end: str | None
) -> Ints:
    every = np.concatenate([t.ordinals for t in tables.values() if len(t)])
    first = target.ordinals([pd.Period(start, "D").start_time])[0] if start else every.min()
    last = target.ordinals([pd.Period(end).end_time])[0] if end else every.max()
    if last < first:
        raise AlignmentError(f"The span ends ({end}) before it starts ({start}).")
    return np.arange(first, last + 1, dtype=np.int64)


def _spans(table: SeriesTable) -> str:
    names = ", ".join(table.names[:3]) + (" …" if len(table.names) > 3 else "")
    return f"{names}: {span_of(table.index)}"
