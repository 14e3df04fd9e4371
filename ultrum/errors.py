"""The exception tree: catch `UltrumError` for all errors of this package.

Every message states what was found, where, and the fix.
"""

import ast
import difflib
import inspect
import re
import sys
import time
import warnings
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextvars import ContextVar
from typing import TypeVar

T = TypeVar("T")

_CONTROL = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u200e\u200f\u202a-\u202e\u2066-\u2069\ufeff]")
_FEW, _CHOICES = 5, 30  # names in one message
_CLAUSE_END = re.compile(r"(?<=[.;:!?])\s+")
_VERBS = "add|choose|convert|divide|drop|give|leave|pass|raise|read|remove|rename|set|start|take|use"
_IMPERATIVE = re.compile(rf"(?:{_VERBS}|(?:if|to) .*\b(?:add|pass|raise|set|use))\b|ul\.", re.IGNORECASE)
_VALUE = r"'[^']*'|\[[^\]]*\]|-?\d+(?:\.\d+)?\b|True\b|False\b"
_KEYWORD = re.compile(rf"\b([a-z][a-z_]*)=((?:{_VALUE})(?:(?:, or| or|,) (?:{_VALUE}))*)?")


def printable(text: str) -> str:
    r"""An external text without characters that control a terminal or change the direction of writing.

    Line breaks and tabs are kept.

    Examples
    --------
    >>> printable("rate\x1b]0;owned\x07 \u202egpj")
    'rate]0;owned gpj'
    """
    return _CONTROL.sub("", text)


class WithFix:
    """A message with a finding and a fix; studies and the command line have fixes in their own words."""

    def __init__(self, *words: object, fix: str = "", setting: str = "") -> None:
        shown = [printable(w) if isinstance(w, str) else w for w in words]
        self.finding = str(shown[0]) if shown else ""
        self.setting = setting
        super().__init__(*([f"{self.finding} {fix}"] if fix else shown))

    @property
    def recommended(self) -> dict[str, tuple[object, ...]]:
        """The keywords that the fix sets, each with its values."""
        return recommended_keywords(str(self))

    def with_fix(self, fixes: Mapping[str, str]) -> str:
        """The text with the fix of another place, if that place has one.

        Parameters
        ----------
        fixes : mapping of str to str
            Fixes of the place, by the name of the setting.

        Returns
        -------
        str
            Text of the message.
        """
        return f"{self.finding} {fixes[self.setting]}" if self.setting in fixes else str(self)


class UltrumError(WithFix, Exception):
    """Base of every deliberate error of Ultrum; its text is safe to print.

    Attributes
    ----------
    finding : str
        The error, without the fix.
    setting : str
        The keyword that the fix sets; studies and the command line have their own word for it.
    recommended : dict of str to tuple
        The keywords that the fix sets, each with its values, the first one first; empty where the value is yours.

    Examples
    --------
    >>> import ultrum as ul
    >>> try:
    ...     ul.factor_betas(ul.practice.panel(), ["markt"])
    ... except ul.UltrumError as error:
    ...     print(error)
    No factor markt; the panel has: market, size, value, momentum.
    >>> ul.UltrumError("Dates are ambiguous. Set dates='day first' or 'month first'.").recommended
    {'dates': ('day first', 'month first')}
    """


def recommended_keywords(text: str) -> dict[str, tuple[object, ...]]:
    """The keywords that the imperative sentences of a message set, each with its values.

    Examples
    --------
    >>> recommended_keywords("half_life=0 is not positive. Use half_life=12, or pass weights=.")
    {'half_life': (12,), 'weights': ()}
    """
    advice = " ".join(s for s in _CLAUSE_END.split(text) if _IMPERATIVE.match(s))
    found: dict[str, tuple[object, ...]] = {}
    for match in _KEYWORD.finditer(advice):
        values = tuple(ast.literal_eval(value) for value in re.findall(_VALUE, match[2] or ""))
        found[match[1]] = found.get(match[1], ()) + values
    return found


def options_in_text(text: str, names: Iterable[str], form: Callable[[str, str], str]) -> str:
    """A message that recommends keywords, such as ``units='percent'``, in the syntax of another place.

    Examples
    --------
    >>> options_in_text("Set units='percent'.", ["units"], lambda name, value: f"--read {name}={value}")
    'Set --read units=percent.'
    >>> options_in_text("Set units={'Close': 'EUR'}.", ["units"], lambda name, value: f"--read {name}={value}")
    'Set --read units.Close=EUR.'
    """
    named = rf"\b({'|'.join(map(re.escape, names))})="
    of_columns = rf"{named}\{{'([^'}}]*)': '([^']*)'\}}"
    text = re.sub(of_columns, lambda m: form(f"{m[1]}.{m[2]}", m[3]), text)
    pattern = rf"{named}(?:'([^']*)'|(\d+)|(True|False)|(\.\.\.))"
    return re.sub(pattern, lambda m: form(m[1], m[2] or m[3] or (m[4] or "").lower() or "…"), text)


class SourceError(UltrumError):
    """A source is unavailable, or gave an unexpected response."""


def missing_package(error: ModuleNotFoundError, what: str, packages: str) -> SourceError:
    """The refusal of something whose optional package is not installed.

    Examples
    --------
    >>> print(missing_package(ModuleNotFoundError(name="keyring"), "A keyring", "keyring"))
    A keyring needs the package keyring, which is not installed. Install it: pip install keyring
    """
    return SourceError(
        f"{what} needs the package {error.name}, which is not installed. Install it: pip install {packages}"
    )


class TableError(UltrumError):
    """A table is ambiguous or cannot be read."""


class NotFoundError(SourceError, TableError):
    """A file or page does not exist; others of the same pattern may."""


class FrequencyError(UltrumError):
    """Frequencies do not match, or a frequency is invalid."""


class UnitError(UltrumError):
    """Units or measures do not match: percent for decimals, prices for returns."""


class CurrencyError(UltrumError):
    """Amounts in different currencies were combined."""


class ArgumentError(UltrumError, TypeError):
    """An argument has the wrong type: a table for one series, a text for a list."""


class AlignmentError(UltrumError):
    """Series cannot be aligned as requested."""


class EstimationError(UltrumError):
    """A model cannot be estimated on the given data."""


class StudyError(UltrumError):
    """A study file is invalid; every error is listed."""


class VaultError(UltrumError):
    """The vault does not have the requested data, or cannot be used."""


class DataWarning(WithFix, UserWarning):
    """Data look wrong and were used unchanged; the message states where, and the fix.

    Examples
    --------
    >>> import warnings
    >>> import ultrum as ul
    >>> with warnings.catch_warnings():
    ...     warnings.simplefilter("error", ul.DataWarning)
    ...     len(ul.factor_betas(ul.practice.panel(), ["market"]).assets)
    23
    """


class PartialReadingWarning(DataWarning):
    """Cells or rows of a table were not used; the message states the first of them.

    Examples
    --------
    >>> issubclass(PartialReadingWarning, DataWarning)
    True
    """


def warn_user(
    message: str, category: type[DataWarning] = DataWarning, *, fix: str = "", setting: str = ""
) -> None:
    """Issue a :class:`DataWarning` at the line of the user that led to it, however deep the call."""
    frame, level = inspect.currentframe(), 0
    while frame is not None and frame.f_globals.get("__name__", "").split(".")[0] == "ultrum":
        frame, level = frame.f_back, level + 1
    warnings.warn(category(message, fix=fix, setting=setting), stacklevel=level + 1)


COUNTS_SHOWN: ContextVar[bool] = ContextVar("whether long work counts its parts on the terminal", default=True)
_PATIENCE = 2.0  # seconds


def count_parts(parts: Iterable[T], label: str, total: int) -> Iterator[T]:
    """The parts of long work, counted on a line of the terminal once they have taken two seconds.

    Nothing is shown where the standard error stream is not a terminal, nor by commands, which have a line of
    their own.

    Examples
    --------
    >>> list(count_parts(iter("abc"), "letters", 3))
    ['a', 'b', 'c']
    """
    if not (sys.stderr.isatty() and COUNTS_SHOWN.get()):
        yield from parts
        return
    began, shown = time.monotonic(), ""
    try:
        for number, part in enumerate(parts, 1):
            yield part
            if time.monotonic() - began > _PATIENCE:
                line = f"{label}: {number:,} of {total:,}"
                sys.stderr.write(f"\r{line.ljust(len(shown))}")
                sys.stderr.flush()
                shown = line
    finally:  # an error message starts on a clean line too
        if shown:
            sys.stderr.write(f"\r{' ' * len(shown)}\r")
            sys.stderr.flush()


_SYNONYMS = {  # the literature's words for values of options, and the values; without spaces and hyphens
    "neweywest": ("hac", "newey_west"),
    "robust": ("hc3", "hc1"),
    "white": ("hc0",),
    "huberwhite": ("hc0",),
    "heteroskedasticityrobust": ("hc3", "hc1"),
    "ols": ("classical", "plain"),
    "nonrobust": ("classical",),
    "homoskedastic": ("classical",),
    "fixedb": ("hac-fixed-b",),
    "kiefervogelsang": ("hac-fixed-b",),
    "cosine": ("ewc",),
    "clusterrobust": ("cr3",),
    "jackknife": ("cr3",),
    "famamacbeth": ("fama_macbeth",),
    "krs": ("misspecification",),
    "kanrobottishanken": ("misspecification",),
    "grs": ("exact",),
    "gibbonsrossshanken": ("exact",),
    "quandtandrews": ("sup-f",),
    "andrews": ("sup-f",),
    "supf": ("sup-f",),
    "sd": ("std",),
    "stdev": ("std",),
    "standarddeviation": ("std",),
    "volatility": ("std",),
    "min": ("low",),
    "minimum": ("low",),
    "max": ("high",),
    "maximum": ("high",),
    "average": ("mean", "average"),
    "avg": ("mean", "average"),
    "ewma": ("exponential",),
    "ewm": ("exponential",),
    "ffill": ("forward",),
    "pad": ("forward",),
    "forwardfill": ("forward",),
    "bfill": ("backward",),
    "backfill": ("backward",),
    "interpolate": ("linear",),
    "prod": ("compound",),
    "product": ("compound",),
    "cumprod": ("compound",),
    "weighted": ("blume",),
    "arithmeticmean": ("arithmetic",),
    "geometricmean": ("geometric",),
    "cagr": ("geometric",),
    "zscore": ("all", "expanding"),
    "bh": ("benjamini-hochberg",),
    "fdr": ("benjamini-hochberg",),
    "by": ("benjamini-yekutieli",),
    "serialcorrelation": ("breusch_godfrey",),
    "autocorrelation": ("breusch_godfrey",),
    "heteroskedasticity": ("breusch_pagan",),
    "normality": ("jarque_bera",),
    "jarquebera": ("jarque_bera",),
    "breuschgodfrey": ("breusch_godfrey",),
    "breuschpagan": ("breusch_pagan",),
    "ramsey": ("reset",),
    "ramseyreset": ("reset",),
    "multicollinearity": ("vif",),
    "varianceinflation": ("vif",),
    "cooks": ("cooks_distance",),
    "buildup": ("components",),
    "waterfall": ("components",),
}
_RELATED = {  # words for another method, and the option closest to it
    "white": ("hc1",),
    "huberwhite": ("hc1",),
    "bonferroni": ("holm",),
    "durbinwatson": ("breusch_godfrey",),
    "ljungbox": ("breusch_godfrey",),
    "lm": ("breusch_godfrey",),
}


def _value_of_synonym(word: str, options: Iterable[str], synonyms: Mapping[str, Iterable[str]]) -> str:
    """The option that a word of the literature stands for; empty if there is none."""
    names = list(options)
    bare = re.sub(r"[^a-z0-9]", "", word.lower())
    return next((value for value in synonyms.get(bare, ()) if value in names and value != word), "")


def one_of(word: object, options: Iterable[object]) -> str:
    """The end of a refusal: the option that the word stands for, the closest one, or the list of options.

    Examples
    --------
    >>> one_of("Newey-West", ["classical", "hac"])
    "use 'hac' for it."
    >>> one_of("Bonferroni", ["holm", "benjamini-hochberg"])
    "the closest method is 'holm'."
    >>> one_of("growht", ["growth", "lag"])
    "did you mean 'growth'?"
    >>> one_of("x", ["growth", "lag"])
    'it is one of growth, lag.'
    """
    names = list(map(str, options))
    if value := _value_of_synonym(str(word), names, _SYNONYMS):
        return f"use '{value}' for it."
    if value := _value_of_synonym(str(word), names, _RELATED):
        return f"the closest method is '{value}'."
    near = difflib.get_close_matches(str(word), names, 1)
    if near:
        return f"did you mean '{near[0]}'?"
    if len(names) < 2:
        return f"it is {names[0]}." if names else "there is none."
    return f"it is one of {choices(names)}."


def name_list(things: Iterable[object], most: int = _FEW) -> str:
    """Names in a list, shortened after the first few, with the number of the others.

    Examples
    --------
    >>> name_list(["BRTW", "EBMK"]), name_list("abcde"), name_list("abcdefgh")
    ('BRTW, EBMK', 'a, b, c, d, e', 'a, b, c, d, e and 3 more')
    """
    names = list(map(str, things))
    more = f" and {len(names) - most:,} more" if len(names) > most else ""
    return ", ".join(names[:most]) + more


def choices(things: Iterable[object]) -> str:
    """A longer list, for the reader to choose from.

    Examples
    --------
    >>> choices(["growth", "lag"])
    'growth, lag'
    >>> choices(range(40))[-18:]
    '28, 29 and 10 more'
    """
    return name_list(things, _CHOICES)


def reason(error: Exception) -> str:
    """The text of a library's error, without system error numbers and the full stop.

    Examples
    --------
    >>> reason(FileNotFoundError(2, "No such file or directory", "a.csv"))
    'No such file or directory'
    """
    text = error.strerror if isinstance(error, OSError) and error.strerror else str(error)
    return re.sub(r"^\[Errno \d+\] ([^:]*): '.*'$", r"\1", text).rstrip(".")
