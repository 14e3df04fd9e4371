"""Exchange-rate tables and cross rates; currency codes of ISO 4217."""

from __future__ import annotations

import itertools
import re
from collections import deque
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any, Final

import numpy as np
import pandas as pd

from ultrum.core.array_types import Array, Dates, Floats
from ultrum.core.presentation import quantity
from ultrum.core.series.metadata import Metadata
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.time.frequency import Frequency
from ultrum.core.time.period_labels_and_relative_dates import days_in, span_of
from ultrum.errors import AlignmentError, CurrencyError, one_of

STALE_AFTER: Final = 5


class Rate(float):
    """An exchange rate with its date: the amount of ``quote`` per unit of ``base``.

    Attributes
    ----------
    base, quote : str
    on : str
        Day asked for.
    days : tuple of str
        Day of each quote used, in the order of the path.
    path : tuple of str
        Currencies from base to quote.
    """

    base: str
    quote: str
    on: str
    days: tuple[str, ...]
    path: tuple[str, ...]

    def __new__(
        cls, value: float, base: str, quote: str, on: str, days: Iterable[str], path: Iterable[str]
    ) -> Rate:
        """Return a rate with its date and path."""
        amount = super().__new__(cls, value)
        amount.base, amount.quote, amount.on = base, quote, on
        amount.days, amount.path = tuple(days), tuple(path)
        return amount

    def __repr__(self) -> str:
        through = f" through {', '.join(self.path[1:-1])}" if len(self.path) > 2 else ""
        old = f", quoted {min(self.days)}" if self.days and min(self.days) != self.on else ""
        return f"{float(self):.6g} {self.quote} for one {self.base} on {self.on}{old}{through}"

    def __reduce__(self) -> tuple[object, ...]:
        return Rate, (float(self), self.base, self.quote, self.on, self.days, self.path)


@dataclass(frozen=True)
class _Quotes:
    """One quoted pair: strictly increasing days, and the amount of quote currency per unit of base."""

    days: Dates
    values: Floats
    name: str
    timing: str
    frequency: Frequency


class ExchangeRates:
    """Exchange rates of every pair that the quotes connect.

    Parameters
    ----------
    quotes : TimeSeries, iterable of TimeSeries, or SeriesTable
        Quotes with unit BASE/QUOTE: the amount of QUOTE per unit of BASE. Either direction serves.
    stale_after : int
        A day without a quote uses the last one before it, at most this many weekdays old.
    tolerance : float
        Tolerance of triangular arbitrage: three pairs that form a triangle should multiply to one; larger
        relative gaps are listed in ``unclosed``.

    Attributes
    ----------
    currencies : tuple of str
    unclosed : DataFrame
        Triangles with larger gaps: ``triangle day product gap days_beyond``, at the worst day of each.

    Raises
    ------
    CurrencyError
        If a series is not a quote of two currencies, a pair occurs twice, or a rate is not positive.

    Examples
    --------
    >>> days = pd.bdate_range("2024-03-28", periods=2)
    >>> one = TimeSeries.from_pandas(pd.Series([2.0, 2.1], days), name="a", measure="quote", unit="QSR/QML")
    >>> two = TimeSeries.from_pandas(pd.Series([4.0, 4.0], days), name="b", measure="quote", unit="QTV/QML")
    >>> table = ExchangeRates([one, two])
    >>> table.rate("QTV", "QSR", on="2024-03-28")
    2 QSR for one QTV on 2024-03-28 through QML
    """

    def __init__(
        self,
        quotes: TimeSeries | Iterable[TimeSeries] | SeriesTable,
        *,
        stale_after: int = STALE_AFTER,
        tolerance: float = 0.001,
    ) -> None:
        if isinstance(quotes, SeriesTable):
            members = [quotes[n] for n in quotes.names]
        else:
            members = [quotes] if isinstance(quotes, TimeSeries) else list(quotes)
        self.stale_after, self.tolerance = stale_after, tolerance
        self._pairs: dict[tuple[str, str], _Quotes] = {}
        for series in members:
            self._take(series)
        if not self._pairs:
            raise CurrencyError("A rate table needs at least one quote.")
        self.currencies = tuple(sorted({c for pair in self._pairs for c in pair}))
        self.unclosed = self._open_triangles()

    def _take(self, series: TimeSeries) -> None:
        base, _, quote = series.metadata.unit.partition("/")
        if not base or not quote or base == quote:
            raise CurrencyError(
                f"{series.name} quotes '{series.metadata.unit or 'no pair'}'; set unit='BASE/QUOTE', the "
                "amount of QUOTE for one BASE."
            )
        if (base, quote) in self._pairs or (quote, base) in self._pairs:
            existing = self._pairs.get((base, quote)) or self._pairs[quote, base]
            raise CurrencyError(
                f"{series.name} and {existing.name} both quote {base} and {quote}. Keep one, or splice them."
            )
        known_values = series.values.dropna()
        if not len(known_values) or not (np.isfinite(known_values) & (known_values > 0)).all():
            raise CurrencyError(f"{series.name} needs at least one rate, and all must be positive.")
        frequency = series.metadata.frequency
        days = frequency.ends(frequency.ordinals_of(known_values.index))
        self._pairs[base, quote] = _Quotes(
            days, known_values.to_numpy(dtype=np.float64), series.name, series.metadata.timing, frequency
        )

    def rate(self, base: str, quote: str, *, on: object = None) -> Rate:
        """Amount of ``quote`` per unit of ``base``.

        Parameters
        ----------
        base, quote : str
            ISO 4217 codes.
        on : date or str, optional
            Day; by default the last day with every needed quote.

        Returns
        -------
        Rate
            The rate, its day and the quotes it uses.

        Raises
        ------
        CurrencyError
            If a currency is unknown, the quotes do not connect the two, or the last quote is too old.
        """
        path = self.path(base, quote)
        steps = list(itertools.pairwise(path))
        if on is None:
            on = min((self._between(*s)[0].days[-1] for s in steps), default=self._last_day())
        day = days_in([on], "on")
        value, used = 1.0, []
        for step in steps:
            rates, at = self._on(*step, day)
            if np.isnan(rates[0]):
                self._refuse_old(step, day[0])
            value *= float(rates[0])
            used.append(str(at[0]))
        return Rate(value, base, quote, str(day[0]), used, path)

    def rates(self, base: object, quote: str, on: object) -> Floats:
        """Rates on many days, each row with its own base currency; NaN where no quote is recent enough.

        Parameters
        ----------
        base : str, or array of str of shape (T,)
            Base currency of each rate.
        quote : str
            Quote currency of the rates.
        on : array of dates, shape (T,)
            Days, one per base currency.

        Returns
        -------
        ndarray
            Rates, shape (n,).
        """
        days = days_in(on, "on")
        bases = np.broadcast_to(np.asarray(base, dtype=np.str_), days.shape)
        values = np.full(len(days), np.nan)
        for one in np.unique(bases):
            of_base = bases == one
            values[of_base] = self._along(self.path(str(one), quote), days[of_base])
        return values

    def amount(self, amounts: Any, base: object, quote: str, *, on: Any = None) -> object:
        """Amounts in another currency: a single one, or a column with its currencies and days.

        Parameters
        ----------
        amounts : float, or array of shape (T,)
            One amount or a column of them.
        base : str, or array of str of shape (T,)
            Base currency of each rate.
        quote : str
            Quote currency of the rates.
        on : date, or array of dates of shape (T,), optional
            By default the last day.

        Returns
        -------
        float or ndarray, shape (T,)
            Amounts in the quote currency, with the type of the input.

        Raises
        ------
        CurrencyError
            If a day has no rate; the first such day is named.

        Examples
        --------
        >>> import pandas as pd
        >>> from ultrum import ExchangeRates, TimeSeries
        >>> days = pd.bdate_range("2024-01-02", periods=3)
        >>> dollar = pd.Series([1.09, 1.10, 1.08], days)
        >>> quote = TimeSeries.from_pandas(dollar, name="d", measure="quote", unit="EUR/USD")
        >>> rates = ExchangeRates([quote])
        >>> round(rates.amount(100.0, "EUR", "USD", on="2024-01-03"), 2)
        110.0
        """
        if np.ndim(amounts) == 0:
            return float(amounts) * float(self.rate(str(base), quote, on=on))
        values = np.asarray(amounts, dtype=np.float64)
        wanted = self._last_day() if on is None else on
        days = np.broadcast_to(days_in([wanted] if np.ndim(wanted) == 0 else wanted, "on"), values.shape)
        rates = self.rates(base, quote, days)
        if np.isnan(rates).any():
            first = int(np.flatnonzero(np.isnan(rates))[0])
            one = str(np.broadcast_to(np.asarray(base, dtype=np.str_), values.shape)[first])
            self.rate(one, quote, on=days[first])
        return values * rates

    def matrix(self, *, on: object = None) -> pd.DataFrame:
        """Every pair on one day: rows are bases, columns quotes; missing where no quote is recent enough.

        Parameters
        ----------
        on : date, optional
            Day; by default the last one.

        Returns
        -------
        DataFrame
            Rates, one row per base currency.

        Examples
        --------
        >>> import pandas as pd
        >>> from ultrum import ExchangeRates, TimeSeries
        >>> days = pd.bdate_range("2024-01-02", periods=3)
        >>> dollar = pd.Series([1.09, 1.10, 1.08], days)
        >>> quote = TimeSeries.from_pandas(dollar, name="d", measure="quote", unit="EUR/USD")
        >>> rates = ExchangeRates([quote])
        >>> rates.matrix(on="2024-01-03").round(3)
        costs    EUR  USD
        one
        EUR    1.000  1.1
        USD    0.909  1.0
        """
        table = pd.DataFrame(index=list(self.currencies), columns=list(self.currencies), dtype=float)
        for base, quote in itertools.product(self.currencies, repeat=2):
            try:
                table.loc[base, quote] = float(self.rate(base, quote, on=on))
            except CurrencyError:
                table.loc[base, quote] = np.nan
        table.attrs["on"] = str(on if on is not None else self._last_day())
        return table.rename_axis(index="one", columns="costs")

    def series(self, base: str, quote: str) -> TimeSeries:
        """A pair over time, on the days with every needed quote.

        Parameters
        ----------
        base : str
            Base currency of each rate.
        quote : str
            Quote currency of the rates.

        Returns
        -------
        TimeSeries
            Rates by day.
        """
        path = self.path(base, quote)
        steps = list(itertools.pairwise(path))
        if not steps:
            raise CurrencyError(f"{base} in {quote} is 1 on every day, so there is no quote.")
        days = every = self._between(*steps[0])[0].days
        for step in steps[1:]:
            own_days = self._between(*step)[0].days
            days, every = np.intersect1d(days, own_days), np.union1d(every, own_days)
        if not len(days):
            raise AlignmentError(f"The quotes from {base} to {quote} have no common day.")
        values = self._along(path, days)
        first = self._between(*steps[0])[0]
        names = ", ".join(self._between(*s)[0].name for s in steps)
        metadata = Metadata(
            name=f"{base}_{quote}",
            title=f"{quote} for one {base}",
            frequency=first.frequency,
            measure="quote",
            unit=f"{base}/{quote}",
            timing=first.timing,
        ).add_step(
            "cross rate" if len(steps) > 1 else "rate",
            quotes=names,
            path=" ".join(path),
            days_in_some_only=len(every) - len(days) or None,
        )
        return TimeSeries.from_arrays(values, first.frequency.index(first.frequency.ordinals(days)), metadata)

    def last(self, count: int, base: str, quote: str) -> pd.Series:
        """The last rates of a pair.

        Parameters
        ----------
        count : int
            How many.
        base : str
            Base currency of each rate.
        quote : str
            Quote currency of the rates.

        Returns
        -------
        Series
            Rates by day.
        """
        return self.series(base, quote).to_pandas().tail(count)

    def path(self, base: str, quote: str) -> tuple[str, ...]:
        """The path between two currencies with the fewest quotes.

        Parameters
        ----------
        base : str
            Base currency of each rate.
        quote : str
            Quote currency of the rates.

        Returns
        -------
        tuple[str, ...]
            Currencies, including both ends.
        """
        for currency in (base, quote):
            self._check_currency(currency)
        before: dict[str, str] = {base: ""}
        waiting = deque([base])
        while waiting and quote not in before:
            here = waiting.popleft()
            for there in sorted({b if a == here else a for a, b in self._pairs if here in (a, b)}):
                if there not in before:
                    before[there] = here
                    waiting.append(there)
        if quote not in before:
            raise CurrencyError(f"No quotes connect {base} with {quote}; there are: {self._list_currencies()}.")
        path = [quote]
        while path[-1] != base:
            path.append(before[path[-1]])
        return tuple(reversed(path))

    def timing_of(self, base: str, quote: str) -> tuple[Frequency, str]:
        """Frequency and timing of the lowest-frequency quote between two currencies.

        Parameters
        ----------
        base : str
            Base currency of each rate.
        quote : str
            Quote currency of the rates.

        Returns
        -------
        tuple[Frequency, str]
            Frequency, and timing within the period.
        """
        quotes = [self._between(*s)[0] for s in itertools.pairwise(self.path(base, quote))]
        coarsest = max(quotes, key=lambda q: q.frequency)
        return coarsest.frequency, coarsest.timing

    def names_of(self, base: str, quote: str) -> str:
        """Names of the quotes used between two currencies.

        Parameters
        ----------
        base : str
            Base currency of each rate.
        quote : str
            Quote currency of the rates.

        Returns
        -------
        str
            Names of the quotes, in order.
        """
        return ", ".join(self._between(*s)[0].name for s in itertools.pairwise(self.path(base, quote)))

    def _between(self, base: str, quote: str) -> tuple[_Quotes, bool]:
        """The quotes of a pair, and whether they are inverted."""
        if (base, quote) in self._pairs:
            return self._pairs[base, quote], False
        return self._pairs[quote, base], True

    def _on(self, base: str, quote: str, days: Dates) -> tuple[Floats, Dates]:
        """Last rate on or before each day, and its day; NaN where it is too old."""
        quotes, turned = self._between(base, quote)
        place = np.searchsorted(quotes.days, days, side="right") - 1
        safe = np.maximum(place, 0)
        fresh = place >= 0
        fresh &= np.busday_count(np.minimum(quotes.days[safe], days), days) <= self.stale_after
        values = 1.0 / quotes.values if turned else quotes.values
        return np.where(fresh, values[safe], np.nan), quotes.days[safe]

    def _along(self, path: tuple[str, ...], days: Dates) -> Floats:
        product = np.ones(len(days))
        for step in itertools.pairwise(path):
            product = product * self._on(*step, days)[0]
        return product

    def _last_day(self) -> np.datetime64:
        return max(q.days[-1] for q in self._pairs.values())

    def _check_currency(self, currency: str) -> None:
        if currency not in self.currencies:
            raise CurrencyError(f"No quote of {currency} here; {one_of(currency.upper(), self.currencies)}")

    def _refuse_old(self, step: tuple[str, str], day: np.datetime64) -> None:
        quotes, _ = self._between(*step)
        earlier = quotes.days[quotes.days <= day]
        last = f"the last before it is of {earlier[-1]}" if len(earlier) else f"they begin {quotes.days[0]}"
        raise CurrencyError(
            f"{quotes.name} has no quote of {step[0]} and {step[1]} on {day}: {last}, and one may be "
            f"{self.stale_after} weekdays old at most (stale_after)."
        )

    def _open_triangles(self) -> pd.DataFrame:
        rows = []
        for three in itertools.combinations(self.currencies, 3):
            sides = list(zip(three, (*three[1:], three[0]), strict=True))
            if not all(s in self._pairs or s[::-1] in self._pairs for s in sides):
                continue
            days: Array = self._between(*sides[0])[0].days
            for side in sides[1:]:
                days = np.intersect1d(days, self._between(*side)[0].days)
            product = self._along((*three, three[0]), days)
            gaps = np.abs(product - 1.0)
            if len(gaps) and gaps.max() > self.tolerance:
                worst = int(np.argmax(gaps))
                beyond = int((gaps > self.tolerance).sum())
                rows.append([" ".join(three), str(days[worst]), product[worst], product[worst] - 1.0, beyond])
        return pd.DataFrame(rows, columns=["triangle", "day", "product", "gap", "days_beyond"])

    def _list_currencies(self) -> str:
        return ", ".join(f"{a}/{b}" for a, b in self._pairs)

    def __repr__(self) -> str:
        lines = [
            f"{a}/{b}: {q.name}, {q.frequency.name}, {span_of(pd.DatetimeIndex(q.days))}, {len(q.days)} rates"
            for (a, b), q in self._pairs.items()
        ]
        lines += [
            f"{name} does not close: {100 * gap:+.2f} % on {day}, "
            f"beyond {100 * self.tolerance:g} % on {quantity(n, 'day')}"
            for name, day, _, gap, n in self.unclosed.to_numpy().tolist()
        ]
        return "\n".join(lines)


# Currency codes of ISO 4217, and those the standard leaves to users

_CURRENT: Final = """
    AED AFN ALL AMD ANG AOA ARS AUD AWG AZN BAM BBD BDT BGN BHD BIF BMD BND BOB BOV BRL BSD BTN BWP BYN
    BZD CAD CDF CHE CHF CHW CLF CLP CNY COP COU CRC CUC CUP CVE CZK DJF DKK DOP DZD EGP ERN ETB EUR FJD FKP
    GBP GEL GHS GIP GMD GNF GTQ GYD HKD HNL HRK HTG HUF IDR ILS INR IQD IRR ISK JMD JOD JPY KES KGS KHR KMF
    KPW KRW KWD KYD KZT LAK LBP LKR LRD LSL LYD MAD MDL MGA MKD MMK MNT MOP MRU MUR MVR MWK MXN MXV MYR MZN
    NAD NGN NIO NOK NPR NZD OMR PAB PEN PGK PHP PKR PLN PYG QAR RON RSD RUB RWF SAR SBD SCR SDG SEK SGD SHP
    SLE SOS SRD SSP STN SVC SYP SZL THB TJS TMT TND TOP TRY TTD TWD TZS UAH UGX USD USN UYI UYU UYW UZS VED
    VES VND VUV WST XAF XCD XCG XOF XPF YER ZAR ZMW ZWG
"""
_WITHDRAWN: Final = """
    ATS BEF CYP DEM EEK ESP FIM FRF GRD IEP ITL LTL LUF LVL MTL NLG PTE SIT SKK TRL ROL RUR BGL ZWL MRO STD
    VEF SLL BYR AZM GHC MZM SDD TMM ZMK MXP PLZ YUM CSK ECS XEU
"""
_UNITS: Final = "XDR XAU XAG XPT XPD"  # accounts and metals
ISO_4217: Final = frozenset(" ".join((_CURRENT, _WITHDRAWN, _UNITS)).split())
_PAIR: Final = re.compile(r"([A-Z]{3})[-/_. ]?([A-Z]{3})")
_USER_ASSIGNED: Final = re.compile(r"(AA|Q[M-Z]|ZZ)[A-Z]")


def is_currency(code: str) -> bool:
    """Whether a text is a currency code of ISO 4217, or a user-assigned one.

    User-assigned codes begin with a user-assigned country code of ISO 3166: AA, QM to QZ and ZZ.

    Examples
    --------
    >>> is_currency("EUR"), is_currency("QML"), is_currency("QLX"), is_currency("ABC")
    (True, True, False, False)
    """
    return code in ISO_4217 or bool(_USER_ASSIGNED.fullmatch(code))


def pair_in(text: str) -> tuple[str, str] | None:
    """Base and quote currency of a pair such as EUR/USD, EURUSD, EUR-USD or EUR USD; None for other texts.

    Examples
    --------
    >>> pair_in("EURUSD"), pair_in("QML/QSR"), pair_in("EUR-ABC"), pair_in("FACTOR")
    (('EUR', 'USD'), ('QML', 'QSR'), None, None)
    """
    match = _PAIR.fullmatch(text.strip().upper() if text.islower() else text.strip())
    if match and match[1] != match[2] and is_currency(match[1]) and is_currency(match[2]):
        return match[1], match[2]
    return None
