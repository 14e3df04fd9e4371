"""Metadata of a series: frequency, unit, measure, currency, source, and the steps applied to it."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, fields, replace
from typing import Any, Final

from ultrum.core.deprecated_names import RenamedAttribute
from ultrum.core.time.frequency import Frequency
from ultrum.errors import ArgumentError, CurrencyError, FrequencyError, UnitError, one_of

MEASURES: Final = ("price", "index", "stock", "flow", "rate", "return", "log_return", "quote", "score")
TIMINGS: Final = ("end", "start", "average", "total")
RETURNS: Final = ("return", "log_return")
LOG_TO_SIMPLE: Final = "log to simple"  # the step of returns that were log returns
ZERO_COST: Final = "zero cost"  # excess_of a long-short portfolio, which is financed by itself
_TIMING_OF: Final = {
    "price": "end",
    "stock": "end",
    "quote": "end",
    "flow": "total",
    "return": "total",
    "log_return": "total",
}
_DECIMAL: Final = ("rate", *RETURNS, "score")
_RESULT_IN_WORDS: Final = {  # what a step makes of a series, behind its title
    "growth": "growth over {over}",
    "difference": "change over {over}",
    "rolled": "rolling {how} over {window}",
    "lagged": "lagged by {by}",
    "cumulated": "cumulated",
    "rebased": "{to} = {value}",
    "standardised": "standardised",
    "innovations": "innovations",
    "deflated": "deflated by {by}",
}


@dataclass(frozen=True)
class Step:
    """One step in the provenance of a series: its name and settings."""

    action: str
    settings: tuple[tuple[str, str], ...] = ()

    def __str__(self) -> str:
        inside = ", ".join(f"{key} {value}" for key, value in self.settings)
        return f"{self.action} ({inside})" if inside else self.action


@dataclass(frozen=True)
class Metadata:
    """The metadata that travel with a series.

    Attributes
    ----------
    measure : str
        price, index, stock, flow, rate, return, log_return, quote or score; empty if unknown.
    unit : str
        decimal, index, currency, count and so on; never percent.
    timing : str
        Timing of an observation within its period: end, start, average or total.
    income : str
        ``total`` if a price or return includes dividends, ``price`` if it excludes them, empty if unknown.
    excess_of : str
        Name of the rate already subtracted from a return, such as ``bill``.
    hindsight : str
        What the values take from later periods, such as ``"standardised over the whole sample"``; a panel refuses
        such a series unless it is asked for by name.
    decimals : int, optional
        Number of decimals that the source publishes.
    notes : tuple of str
        Notes of the source on observations, such as the number of provisional ones.
    trail : tuple of Step
        Provenance: the steps from the source, first step first.

    Examples
    --------
    >>> import ultrum as ul
    >>> facts = ul.Metadata(name="cpi", frequency=ul.Frequency.parse("M"), unit="index")
    >>> facts.changed(title="Consumer prices").title
    'Consumer prices'
    """

    name: str = "series"
    title: str = ""
    frequency: Frequency = Frequency("M")
    measure: str = ""
    unit: str = ""
    scale: int = 0
    currency: str = ""
    timing: str = ""
    seasonal_adjustment: str = ""
    region: str = ""
    source: str = ""
    address: str = ""
    base_period: str = ""
    release_lag: str = ""
    income: str = ""
    excess_of: str = ""
    quoted: str = ""
    maturity: str = ""
    day_count: str = ""
    hindsight: str = ""
    decimals: int | None = None
    notes: tuple[str, ...] = ()
    trail: tuple[Step, ...] = ()

    def __post_init__(self) -> None:
        _check_word("measure", self.measure, MEASURES)
        _check_word("timing", self.timing, TIMINGS)
        if self.unit in ("percent", "%"):
            raise UnitError(
                f"{self.name}: percent is a unit of input and output only. Divide by 100 and set "
                "unit='decimal', or read the file with units='percent'."
            )
        if not self.timing:
            object.__setattr__(self, "timing", _TIMING_OF.get(self.measure, ""))
        if not self.unit and self.measure in _DECIMAL:
            object.__setattr__(self, "unit", "decimal")

    changed = RenamedAttribute("replace")
    stepped = RenamedAttribute("add_step")

    def replace(self, **facts: Any) -> Metadata:
        """Copy with other fields.

        Parameters
        ----------
        **facts
            Fields by name, such as ``unit="decimal"``.

        Returns
        -------
        Metadata
            The changed copy.
        """
        check_facts(facts)
        return replace(self, **facts)

    def add_step(self, action: str, facts: dict[str, Any] | None = None, **settings: object) -> Metadata:
        """Copy with one more step in its provenance, and other fields.

        Parameters
        ----------
        action : str
            Name of the step.
        facts : dict, optional
            Fields that the step changes.
        **settings
            Settings of the step, for the provenance.

        Returns
        -------
        Metadata
            The changed copy.
        """
        step = step_of(action, **settings)
        words = _title_after(self, step)
        return replace(self, trail=(*self.trail, step), **({"title": words} if words else {}) | (facts or {}))

    def with_step(self, step: Step, **checked: object) -> Metadata:
        """As :meth:`add_step`, for a step shared by many series and valid fields.

        Parameters
        ----------
        step : Step
            Step to add.
        **checked
            Valid fields.

        Returns
        -------
        Metadata
            The changed copy.
        """
        return self._with({**checked, "trail": (*self.trail, step)})

    def for_each(self, names: Iterable[str]) -> list[Metadata]:
        """The same facts for series of other names.

        Parameters
        ----------
        names : iterable of str
            Names of the series.

        Returns
        -------
        list of Metadata
            One for each name.

        Examples
        --------
        >>> [m.unit for m in Metadata(measure="return").for_each(["a", "b"])]
        ['decimal', 'decimal']
        """
        return [self._with({"name": name}) for name in names]

    def _with(self, checked: Mapping[str, object]) -> Metadata:
        """Copy with other valid fields, without the checks that tables of thousands would repeat."""
        new, facts = object.__new__(Metadata), self.__dict__.copy()
        facts.update(checked)
        object.__setattr__(new, "__dict__", facts)  # in half the time of setting each
        return new

    @property
    def is_return(self) -> bool:
        """Whether it describes returns, simple or log."""
        return self.measure in RETURNS

    @property
    def measure_in_words(self) -> str:
        """The measure with its article, for messages: "a price", "an index"."""
        measure = self.measure or "series of unknown measure"
        return f"{'an' if measure[0] in 'aeiou' else 'a'} {measure}"

    @property
    def in_percent(self) -> bool:
        """Whether values are displayed in percent: returns and rates, not scores."""
        return self.unit == "decimal" and self.measure != "score"

    @property
    def heading(self) -> str:
        """The title, or the name if there is none."""
        return self.title or self.name


def check_facts(facts: Iterable[str]) -> None:
    """Refuse an unknown field, such as a misspelt one."""
    names = [f.name for f in fields(Metadata)]
    for fact in facts:
        if fact not in names:
            raise ArgumentError(f"Metadata has no field '{fact}'; {one_of(fact, names)}")


def _title_after(metadata: Metadata, step: Step) -> str:
    """The title of a transformed series, so that a legend distinguishes it from its source."""
    words = _RESULT_IN_WORDS.get(step.action, "")
    if not words:
        return ""
    settings = {"over": "one period", "to": "base", "value": "100", **dict(step.settings)}
    return f"{metadata.heading}, {words.format_map(settings)}"


def hindsight_of(metadata_list: Iterable[Metadata], added: str = "") -> str:
    """What a result of several series takes from later periods: that of each, and what the step adds."""
    return "; ".join(dict.fromkeys(filter(None, (*(m.hindsight for m in metadata_list), added))))


def step_of(action: str, **settings: object) -> Step:
    """A step with its given settings."""
    return Step(action, tuple((k, str(v)) for k, v in settings.items() if v is not None))


def check_same(left: Metadata, right: Metadata, word: str) -> None:
    """Refuse to combine series with different frequency, measure, unit, currency or excess state."""
    days = {left.frequency.code, right.frequency.code} == {"B", "D"}
    if left.frequency != right.frequency and not days:
        raise FrequencyError(
            f"{left.name} is {left.frequency.name}, {right.name} {right.frequency.name}: "
            "bring both to one frequency with to_frequency first."
        )
    for fact in ("measure", "unit", "excess_of"):
        mine, theirs = getattr(left, fact), getattr(right, fact)
        if mine != theirs:
            raise UnitError(
                f"{left.name} {word} {right.name}: {fact} '{mine}' against '{theirs}'. "
                "For returns less a risk-free rate use yield_to_return and excess."
            )
    if left.currency != right.currency:
        raise CurrencyError(
            f"{left.name} is in {left.currency or 'no currency'}, {right.name} in "
            f"{right.currency or 'no currency'}: convert one with to_currency first."
        )


def _check_word(field: str, word: str, options: tuple[str, ...]) -> None:
    if word and word not in options:
        raise UnitError(f"{field} '{word}' is not known; {one_of(word, options)}")


# Headings of factor files: returns in excess of the risk-free rate, and the risk-free rate itself

RISK_FREE_HEADINGS: Final = (
    *("rf", "risk free", "risk free rate", "risk free return", "riskfree", "bill", "bills", "t bill", "tbill"),
    *("treasury bill", "cash", "money market", "short rate", "bank bill"),
)
RISK_FREE_RATE: Final = "risk-free rate"
_IN_EXCESS: Final = re.compile(r"\brf\b|\bmktrf\b|\brmrf\b|excess|premium|\bless\b")


def plain_heading(text: str) -> str:
    """A heading in lower case, with single spaces between words.

    Examples
    --------
    >>> plain_heading("Adj. Close*"), plain_heading("Mkt-RF"), plain_heading("ExDate"), plain_heading("Цена.")
    ('adj close', 'mkt rf', 'ex date', 'цена')
    """
    parted = re.sub(r"(?<=[a-z])(?=[A-Z])", " ", text)
    return " ".join(re.findall(r"[^\W_]+", parted.lower()))


def is_excess_heading(text: str) -> bool:
    """Whether a heading is that of a return in excess of the risk-free rate.

    Examples
    --------
    >>> is_excess_heading("Mkt-RF"), is_excess_heading("Market excess return"), is_excess_heading("RF")
    (True, True, False)
    """
    plain = plain_heading(text)
    return plain not in RISK_FREE_HEADINGS and _IN_EXCESS.search(plain) is not None


def excess_of_heading(text: str, names: Iterable[str] = ()) -> str:
    """The rate that a heading states to be subtracted, from the other headings; empty if it states none.

    Examples
    --------
    >>> excess_of_heading("Mkt-RF", ["Mkt-RF", "RF"]), excess_of_heading("Mkt-RF"), excess_of_heading("RF")
    ('RF', 'risk-free rate', '')
    """
    if not is_excess_heading(text):
        return ""
    rates = [n for n in names if plain_heading(n) in RISK_FREE_HEADINGS]
    return rates[0] if len(rates) == 1 else RISK_FREE_RATE
