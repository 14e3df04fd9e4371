"""Alignment of assets, factors, conditioning variables and the risk-free rate, with checks and a log of missing
data.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Final, Literal

import numpy as np
import pandas as pd

from ultrum.core.arguments import accepts_large, validate_arguments
from ultrum.core.array_types import DAY, Dates, Floats, Ints
from ultrum.core.currency.conversion import to_currency
from ultrum.core.currency.exchange_rates import ExchangeRates
from ultrum.core.panel.aligned_panel import NO_RATE, MissingData, Panel, Presence
from ultrum.core.panel.release_dates import (
    HINDSIGHT,
    KnownBy,
    describe_rule,
    in_release_period,
    latest_release,
    release_span,
    rule_for,
)
from ultrum.core.returns.yields import accrual_rate, check_annual_rate
from ultrum.core.series.input_checks import ACCEPTED, check_rate_size, check_size, not_returns, returns_of
from ultrum.core.series.metadata import MEASURES, ZERO_COST, Metadata, excess_of_heading
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.time.frequency import Frequency
from ultrum.core.time.index_frequency_and_gaps import gap_lengths
from ultrum.core.time.period_labels_and_relative_dates import span_of
from ultrum.core.transform.aggregation import convert, default_method
from ultrum.errors import AlignmentError, CurrencyError, UnitError, name_list, one_of, warn_user


def income_warning(returns: SeriesTable, factors: SeriesTable) -> tuple[str, ...]:
    """A warning where price returns are combined with total returns."""
    described = (*returns.metadata, *factors.metadata)
    bare = [a.name for a in described if a.income == "price"]
    if not bare or all(a.income != "total" for a in described):
        return ()
    return (
        f"{name_list(bare)} are price returns, which exclude dividends, combined with total returns. "
        "Use total returns for all.",
    )


def check_names(assets: SeriesTable, factors: SeriesTable, conditions: Sequence[str], rate: str) -> None:
    """Refuse a name that is used twice."""
    roles = [
        *((name, "an asset") for name in assets.names),
        *((name, "a factor") for name in factors.names),
        *((name, "a condition") for name in conditions),
        (rate, "the risk-free rate"),
    ]
    role_of: dict[str, str] = {}
    for name, role in roles:
        if name in role_of:
            raise AlignmentError(
                f"'{name}' is the name of {role_of[name]} and of {role}.",
                fix="Rename one with with_metadata(name=...).",
                setting="name_of_two",
            )
        role_of[name] = role


def check_roles(returns: SeriesTable, factors: SeriesTable, rate: TimeSeries, *, in_excess: bool) -> None:
    """Refuse prices, excess returns and yields where a panel needs other measures."""
    for metadata in returns.metadata:
        if metadata.measure != "return":
            raise UnitError(
                f"{metadata.name} is {metadata.measure_in_words}; a panel takes "
                "simple returns. Use returns(prices)."
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
                fix="Set risk_free to a series or an annual rate.",
                setting="risk_free",
            )
        if in_excess and metadata.is_return and not metadata.excess_of:
            raise UnitError(
                f"Factor {metadata.name} is not an excess return.",
                fix=f"Apply excess({metadata.name}, risk_free); if it is one already, set excess_of='risk-free "
                "rate', and for a long-short portfolio excess_of='zero cost'.",
                setting="total_return_factors",
            )
    if rate.metadata.measure != "return":
        raise not_returns(rate.metadata, "align")


def by_kind(factors: SeriesTable) -> tuple[list[str], list[str]]:
    """Names of traded factors, and of macro factors, which are published later."""
    traded = [a.name for a in factors.metadata if a.is_return]
    return traded, [name for name in factors.names if name not in traded]


def currency_of(returns: SeriesTable, factors: SeriesTable, rate: TimeSeries) -> str:
    """The single currency of the panel."""
    currencies = {a.currency: a.name for a in (*returns.metadata, *factors.metadata, rate.metadata) if a.currency}
    if len(currencies) > 1:
        listed = ", ".join(f"{name} in {currency}" for currency, name in currencies.items())
        raise CurrencyError(
            f"One panel, several currencies: {listed}.",
            fix="Convert prices with to_currency before making returns.",
            setting="currency",
        )
    return next(iter(currencies), "")


# Alignment of assets, factors, conditions and the risk-free rate, with a log of what is missing

_ROWS: Final = ("complete", "any")


@accepts_large("assets")
@validate_arguments
def align(
    *,
    assets: SeriesTable | TimeSeries | pd.DataFrame | pd.Series,
    factors: SeriesTable | TimeSeries | Sequence[TimeSeries] | pd.DataFrame | pd.Series,
    risk_free: TimeSeries | pd.Series | float | None = None,
    conditions: SeriesTable | TimeSeries | Sequence[TimeSeries] | None = None,
    frequency: str | Frequency = "M",
    rows: Literal["complete", "any"] = "complete",
    known_by: KnownBy | Mapping[str, KnownBy] | None = None,
    currency: str | None = None,
    rates: ExchangeRates | None = None,
    start: str | None = None,
    end: str | None = None,
    measure: str | None = None,
    excess_of: str | None = None,
    check_units: bool = True,
    to: str | None = None,
) -> Panel:
    """Align returns, factors, conditioning variables and the risk-free rate in one panel, without look-ahead.

    Parameters
    ----------
    assets : SeriesTable, DataFrame or LongTable
        Total returns, not excess returns.
    factors : SeriesTable, TimeSeries, several, or DataFrame
        Traded factors, as excess returns or zero-investment returns, and macro factors.
    risk_free : TimeSeries or float, optional
        Simple risk-free return of each period, or an effective annual rate (0.03 for 3 %), accrued over the days
        of each period. Without it nothing is subtracted: betas are those of the market model, and factors must be
        total or zero-investment returns.
    conditions : SeriesTable, TimeSeries or several of them, optional
        Of any frequency. Conditioning variables: row t has the value known at the end of t − 1; a value is
        carried forward until a newer one is known, at most two of its own periods.
    frequency : str or Frequency
        Frequency of the panel; series of a higher frequency are converted by their measure.
    rows : {"complete", "any"}
        ``"complete"`` keeps rows with every factor, conditioning variable and the risk-free rate; ``"any"`` keeps
        all.
    known_by : str, Series, DataFrame or mapping, optional
        Publication lag of conditioning variables and macro factors: a duration such as ``"P1M"``, ``"release
        lag"`` (that of each series), release dates by period, vintages (``period released value``: first and
        revised figures), or ``"hindsight"`` (no lag: look-ahead bias); or a mapping of names to these. Required
        if there are any.
    currency : str, optional
        Currency of the panel; assets in other currencies are converted.
    rates : ExchangeRates, optional
        Exchange rates for the conversion.
    start, end : str, optional
        First and last period.
    measure, excess_of : str, optional
        What factors without metadata are, such as pandas data: ``measure="return"``, in excess of a rate
        (``excess_of="bill"``) or of a long–short portfolio (``excess_of="zero cost"``). A heading such as
        ``Mkt-RF`` states the excess itself.
    check_units : bool
        Refuse numbers so large that they must be percent read as decimals.
    to : path, optional
        Folder for the panel of a :class:`ultrum.LongTable`; not used otherwise.

    Returns
    -------
    Panel
        For a :class:`ultrum.LongTable`, a :class:`ultrum.LongPanel`, whose returns stay on disk.

    Raises
    ------
    AlignmentError
        If ``known_by`` is needed but not set, or no row remains.
    CurrencyError
        If currencies differ.
    UnitError
        If assets are not returns, a factor is not an excess return, or percent looks like decimals.

    Examples
    --------
    >>> months = pd.period_range("2024-01", periods=3, freq="M")
    >>> def column(name, values, **facts):
    ...     return TimeSeries.from_pandas(pd.Series(values, months), name=name, measure="return", **facts)
    >>> bill = column("bill", [0.002, 0.002, 0.002])
    >>> market = column("market", [0.03, -0.01, None], excess_of="bill")
    >>> stock = column("BRTW", [0.02, 0.01, 0.02]).as_table()
    >>> panel = align(assets=stock, factors=market, risk_free=bill)
    >>> len(panel.assets), panel.missing_log["cause"].tolist()
    (2, ['after its last value'])
    """
    if rows not in _ROWS:
        raise AlignmentError(f"rows='{rows}' is not known; it is complete or any.")
    target = Frequency.parse(frequency)
    if isinstance(risk_free, pd.Series):
        risk_free = TimeSeries.from_pandas(risk_free, measure="return")
    given_rate = risk_free if isinstance(risk_free, TimeSeries) else None
    raw = _declare_factors(_factors_of(factors), measure, excess_of, given_rate)
    codes = {t.metadata.frequency.code for t in [given_rate] if t}
    if target.code == "B" and "D" in codes | {raw.frequency.code, _code(assets)}:
        target = Frequency("D")  # some rows are on weekends
    assets = _in_one_currency(_as_table(assets, measure="return"), currency or "", rates)
    if not check_units:
        assets, raw = _accept_sizes(assets), _accept_sizes(raw)
    for table in (assets, raw):
        check_size(returns_of(table), "align", optional=True)
    returns = convert(assets, target, risk_free=given_rate)
    loadings = convert(raw, target, risk_free=given_rate)
    rate = _rate_of(risk_free, (returns, loadings), target)
    check_roles(returns, loadings, rate, in_excess=risk_free is not None)
    macro = by_kind(loadings)[1]
    condition_list = _conditions_of(conditions)
    check_names(returns, loadings, [c.name for c in condition_list], rate.name)
    if (macro or condition_list) and known_by is None:
        raise AlignmentError(_refusal_without_lag(loadings, macro, [c.name for c in condition_list]))
    unknown = [n for n in macro if not loadings[n].metadata.measure]
    if unknown:
        warn_user(
            f"{', '.join(unknown)}: the measure is not declared, so values are lagged as macroeconomic ones. If "
            "they are returns, set measure='return'."
        )
    lagged = [*loadings.metadata, *(c.metadata for c in condition_list)]
    _refuse_hindsight(lagged, [*returns.metadata, rate.metadata], known_by)
    stated, carried = _lag_conditions(condition_list, known_by, target)
    blocks = {
        "assets": returns,
        "factors": _with_macro(loadings, raw, macro, known_by, target),
        "conditions": stated,
        "risk_free": rate.as_table(),
    }
    if check_units:
        check_rate_size(rate.as_table(), "align", optional=True)
    else:
        blocks["risk_free"] = _accept_sizes(rate.as_table())
    warned = income_warning(returns, loadings)
    money = currency_of(returns, loadings, rate)
    return _assemble(blocks, target, rows, start, end, money, carried, warned)


def _assemble(
    blocks: Mapping[str, SeriesTable | None],
    target: Frequency,
    rows: str,
    start: str | None,
    end: str | None,
    currency: str,
    carried: Mapping[str, Ints],
    warnings: tuple[str, ...],
) -> Panel:
    """Put the blocks on one index, drop incomplete rows and log the causes."""
    tables = {role: table for role, table in blocks.items() if table is not None}
    ordinals = _span(tables, target, start, end)
    index = target.index(ordinals)
    frames = {role: _on_index(table.values, index) for role, table in tables.items()}
    frames.setdefault("conditions", pd.DataFrame(index=index))
    needed = pd.concat([frames["factors"], frames["conditions"], frames["risk_free"]], axis=1)
    kept = needed.notna().all(axis=1).to_numpy() if rows == "complete" else np.ones(len(index), bool)
    if not kept.any():
        spans = "; ".join(f"{name} {_span_of_column(needed[name])}" for name in needed)
        raise AlignmentError(f"No period has every factor, every condition and the risk-free rate: {spans}.")
    causes = {name: reasons for t in tables.values() for name, reasons in t.causes.items()}
    names = [*map(str, frames["assets"].columns.tolist()), *map(str, needed)]
    parts = (frames["assets"].to_numpy(), needed.to_numpy(dtype=np.float64))
    present = np.hstack([np.isfinite(part) for part in parts])
    seen = Presence.of(names, index, ordinals, present)
    missing = MissingData(seen, causes, carried, needed.shape[1], kept)
    whole = kept.all()
    return Panel(
        assets=frames["assets"] if whole else frames["assets"][kept],
        factors=frames["factors"][kept],
        conditions=frames["conditions"][kept],
        risk_free=frames["risk_free"].iloc[:, 0][kept],
        coverage=missing.coverage(),
        missing_log=missing.missing_log(),
        metadata={a.name: a for t in tables.values() for a in t.metadata},
        frequency=target,
        currency=currency,
        warnings=warnings,
        missing=missing,
    )


def _rate_of(
    risk_free: TimeSeries | float | None, tables: Sequence[SeriesTable], target: Frequency
) -> TimeSeries:
    """The risk-free return of each period; zeros named NO_RATE where there is none."""
    if isinstance(risk_free, TimeSeries):
        return convert(risk_free.as_table(), target).only()
    index = target.index(np.unique(np.concatenate([t.ordinals for t in tables])))
    rate = accrual_rate(check_annual_rate(risk_free or 0.0), index, target)
    return rate.with_metadata(name=NO_RATE) if risk_free is None else rate


def _on_index(frame: pd.DataFrame, index: pd.Index) -> pd.DataFrame:
    return frame if frame.index.equals(index) else frame.reindex(index)


def _span_of_column(column: pd.Series) -> str:
    valid = column.dropna()
    return f"({span_of(valid.index)})" if len(valid) else "(nothing)"


def _in_one_currency(assets: SeriesTable, currency: str, rates: ExchangeRates | None) -> SeriesTable:
    abroad = [a.name for a in assets.metadata if currency and a.currency and a.currency != currency]
    if not abroad:
        return assets
    if rates is None:
        raise CurrencyError(
            f"{name_list(abroad)}: not in {currency}. Set rates=ExchangeRates(quotes) to convert them."
        )
    return to_currency(assets, currency, rates)


def _code(assets: object) -> str:
    """Frequency code of labelled assets."""
    if isinstance(assets, TimeSeries):
        return assets.metadata.frequency.code
    return assets.frequency.code if isinstance(assets, SeriesTable) else ""


def _accept_sizes(table: SeriesTable) -> SeriesTable:
    """A table whose user states that its numbers are decimals, whatever their size."""
    accepted = [m.add_step(ACCEPTED) for m in table.metadata]
    return table.copy_with(metadata=tuple(accepted))


def _factors_of(factors: object) -> SeriesTable:
    if isinstance(factors, list | tuple):
        return SeriesTable.of(factors)
    return _as_table(factors)


def _declare_factors(
    factors: SeriesTable, measure: str | None, excess_of: str | None, rate: TimeSeries | None
) -> SeriesTable:
    """Factors with the measure and the excess that are given, or stated by their headings."""
    if measure is not None and measure not in MEASURES:
        raise UnitError(f"measure='{measure}' is not known; {one_of(measure, MEASURES)}")
    if measure is not None and (other := [m for m in factors.metadata if m.measure not in ("", measure)]):
        raise UnitError(
            f"{other[0].name} is {other[0].measure_in_words}, not a {measure}. Leave measure out, which is "
            "for factors without metadata."
        )
    if excess_of is not None and all(m.excess_of or excess_of_heading(m.name) for m in factors.metadata):
        raise UnitError(f"excess_of='{excess_of}' is not used: every factor states its own. Leave it out.")
    return SeriesTable.from_arrays(
        factors.block, factors.index, [_declare(m, measure, excess_of, rate) for m in factors.metadata]
    )


def _declare(metadata: Metadata, measure: str | None, excess_of: str | None, rate: TimeSeries | None) -> Metadata:
    """The metadata of a factor with what is given for all, and with the excess that its heading states."""
    if measure is not None and not metadata.measure:
        metadata = metadata.replace(measure=measure)
    if metadata.measure != "return" or metadata.excess_of:
        return metadata
    stated = excess_of_heading(metadata.name)
    over = rate.name if stated and rate is not None else stated or excess_of or ""
    return metadata.replace(excess_of=over) if over else metadata


_EXPANDING: Final = {"standardised": "window='expanding'", "autoregression": "sample='expanding'"}


def _refuse_hindsight(lagged: Sequence[Metadata], others: Sequence[Metadata], known_by: Any) -> None:
    """Refuse series made with later values, and rules of ``known_by`` for series that are not there."""
    names, series = [s.name for s in lagged], [*lagged, *others]
    there = {s.name for s in series}
    unknown = [n for n in known_by if n not in there] if isinstance(known_by, Mapping) else []
    if unknown:
        raise AlignmentError(
            f"known_by names '{unknown[0]}', which is not a factor or condition; {one_of(unknown[0], names)}"
        )
    for one in series:
        rule = known_by.get(one.name) if isinstance(known_by, Mapping) else known_by
        made = one.hindsight
        if not made or (isinstance(rule, str) and rule == HINDSIGHT):
            continue
        remedy = [f"set {fix} where it is made" for word, fix in _EXPANDING.items() if word in made]
        accept = f"set known_by={{'{one.name}': 'hindsight'}} to accept it"
        advice = ", or ".join([*remedy, accept])
        raise AlignmentError(
            f"{one.name} has look-ahead bias: {made}, so its past changes when later rows come.",
            fix=f"{advice[0].upper()}{advice[1:]}.",
            setting="hindsight",
        )


def _refusal_without_lag(factors: SeriesTable, macro: Sequence[str], conditions: Sequence[str]) -> str:
    """The refusal of values whose day of publication is not stated; a factor may just be an undeclared return."""
    lag = (
        "set their publication lag, such as known_by='P1M', or known_by='hindsight' to use each value in the "
        "period it describes (look-ahead)."
    )
    unknown = [n for n in macro if not factors[n].metadata.measure]
    if not unknown:
        return f"{', '.join([*macro, *conditions])}: {lag}"
    return (
        f"{', '.join(unknown)}: the measure is not declared. Set measure='return' if they are returns. If they "
        f"are macroeconomic series, {lag}"
    )


def _conditions_of(conditions: object) -> list[TimeSeries]:
    """Conditioning variables one by one, since each can have its own frequency."""
    if conditions is None:
        return []
    if isinstance(conditions, TimeSeries):
        return [conditions]
    if isinstance(conditions, list | tuple):
        return list(conditions)
    table = _as_table(conditions)
    return [table[name] for name in table.names]


def _with_macro(
    loadings: SeriesTable, raw: SeriesTable, macro: list[str], known_by: Any, target: Frequency
) -> SeriesTable:
    """Factors, with each macro factor in the period of its release."""
    columns = [loadings[name] for name in loadings.names if name not in macro]
    for name in macro:
        rule = rule_for(name, known_by)
        source = raw[name] if raw.frequency == target else loadings[name]
        if isinstance(rule, str) and rule == HINDSIGHT:
            columns.append(loadings[name])
            continue
        ordinals = _periods(*release_span(source, rule, target))
        values = in_release_period(source, rule, target, ordinals)
        metadata = loadings[name].metadata.add_step("in the period of release", known_by=describe_rule(rule))
        columns.append(TimeSeries.from_arrays(values, target.index(ordinals), metadata))
    return SeriesTable.of(columns).select(loadings.names)


def _lag_conditions(
    conditions: list[TimeSeries], known_by: Any, target: Frequency
) -> tuple[SeriesTable | None, dict[str, Ints]]:
    """Each conditioning variable as known at the end of the previous period, and the periods with a
    carried-forward value.
    """
    if not conditions:
        return None, {}
    at_release, older = [], {}
    for condition in conditions:
        rule = rule_for(condition.name, known_by)
        # what is taken at the end of a period is looked up day by day; sums and means wait for its end
        finer = condition.metadata.frequency < target and not isinstance(rule, pd.DataFrame)
        waits = finer and default_method(condition.metadata) != "last"
        source = convert(condition.as_table(), target).only() if waits else condition
        first, last = release_span(source, rule, target)
        ordinals = _periods(first, last + 12 * (source.metadata.frequency > target))
        values, carried = latest_release(source, rule, target, ordinals)
        metadata = source.metadata.add_step(
            "as known before",
            {"frequency": target},
            known_by=describe_rule(rule),
            carried=int(carried.sum()) or None,
        )
        older[metadata.name] = ordinals[carried] + 1
        at_release.append(TimeSeries.from_arrays(values, target.index(ordinals + 1), metadata))
    return SeriesTable.of(at_release), older


def _periods(first: int, last: int) -> Ints:
    return np.arange(first, last + 1, dtype=np.int64)


def _as_table(data: Any, **facts: Any) -> SeriesTable:
    if isinstance(data, TimeSeries):
        return data.as_table()
    data = data.to_frame() if isinstance(data, pd.Series) else data
    return data if isinstance(data, SeriesTable) else SeriesTable.from_pandas(data, **facts)


def _span(tables: Mapping[str, SeriesTable], target: Frequency, start: str | None, end: str | None) -> Ints:
    owners = [t for role, t in tables.items() if role != "conditions" and len(t.index)]
    if not owners:
        raise AlignmentError("Assets, factors and the risk-free rate have no rows.")
    every = np.concatenate([t.ordinals for t in owners])  # conditions are looked up, they span nothing
    first = target.ordinal_of_name(str(start)) if start else every.min()
    last = target.ordinal_of_name(str(end), last=True) if end else every.max()
    if last < first:
        raise AlignmentError(f"The span ends ({end}) before it starts ({start}).")
    if target.code in "BD":
        return _trading_days(owners, target, first, last)
    return np.arange(first, last + 1, dtype=np.int64)


def _trading_days(owners: Sequence[SeriesTable], target: Frequency, first: int, last: int) -> Ints:
    """Days that some series has, and the weekdays of gaps; other missing days are holidays."""
    listed = np.unique(np.concatenate([t.ordinals for t in owners]))
    listed = listed[(listed >= first) & (listed <= last)]
    days = target.starts(listed)
    inside = [
        np.arange(days[row] + DAY, days[row + 1])
        for row in np.flatnonzero(gap_lengths(days, _values_on(owners, days)))
    ]
    absent = [target.ordinals(part[np.is_busday(part)]) for part in inside]
    return np.unique(np.concatenate([listed, *absent]))


def _values_on(owners: Sequence[SeriesTable], days: Dates) -> Floats:
    """Values of all series on each day."""
    index = pd.DatetimeIndex(days.astype("datetime64[s]"))
    return np.hstack([t.values.reindex(index).to_numpy() for t in owners])
