"""Declarative steps: transformations as data, the same in studies, sets and on the command line."""

from __future__ import annotations

import inspect
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from importlib import import_module
from typing import Any, Final

from ultrum.core.arguments import argument_fault, validate_arguments
from ultrum.core.series.time_series import TimeSeries
from ultrum.core.time.frequency import Frequency, parse_duration
from ultrum.errors import FrequencyError, UnitError, one_of

Step = Mapping[str, object]
Finder = Callable[[str], TimeSeries]
_PART: Final = re.compile(r"\s*([\w-]+)\s*=\s*(.*?)\s*$", re.DOTALL)


@dataclass(frozen=True)
class _StepType:
    """A step: its function or the location of it, the required setting, and settings that refer to other
    series.
    """

    place: Callable[..., object] | str
    main: str
    others: tuple[str, ...] = ()

    @property
    def function(self) -> Callable[..., Any]:
        """The function. Functions of the package are imported on first use, since few steps are used."""
        if not isinstance(self.place, str):
            return self.place
        module, _, name = self.place.rpartition(".")
        function: Callable[..., object] = getattr(import_module(f"ultrum.core.{module}"), name)
        return function


def _splice_parts(x: TimeSeries, part: TimeSeries | list[TimeSeries], **settings: Any) -> TimeSeries:
    """The series with other parts, which come later in time."""
    from ultrum.core.transform.splices_composites_spreads import splice

    return splice(x, *(part if isinstance(part, list) else [part]), **settings)


_STEPS: Final[dict[str, _StepType]] = {
    "to_frequency": _StepType("transform.aggregation.to_frequency", "frequency", ("risk_free",)),
    "disaggregate": _StepType("transform.disaggregation.disaggregate", "frequency", ("indicator",)),
    "growth": _StepType("transform.growth_rebasing_deflating.growth", "over"),
    "difference": _StepType("transform.growth_rebasing_deflating.difference", "over"),
    "rebase": _StepType("transform.growth_rebasing_deflating.rebase", "base"),
    "deflate": _StepType("transform.growth_rebasing_deflating.deflate", "prices", ("prices",)),
    "standardise": _StepType("transform.rolling_statistics.standardise", "window"),
    "rolling": _StepType("transform.rolling_statistics.rolling", "window"),
    "innovations": _StepType("transform.lags_fills_innovations_spells.innovations", "sample"),
    "spread": _StepType("transform.splices_composites_spreads.spread", "short", ("short",)),
    "cumulate": _StepType("transform.growth_rebasing_deflating.cumulate", "initial"),
    "lag": _StepType("transform.lags_fills_innovations_spells.lag", "over"),
    "fill": _StepType("transform.lags_fills_innovations_spells.fill", "how"),
    "splice": _StepType(_splice_parts, "part", ("part",)),
    "to_currency": _StepType("currency.conversion.to_currency", "currency", ("rates",)),
    "yield_to_return": _StepType("returns.yields.yield_to_return", "frequency"),
}


_WHOLE: Final = ("all", "expanding")
_OF_THE_SAMPLE: Final = ("standardise", "innovations", "cumulate")
_ADDED: Final[dict[str, Callable[..., object]]] = {}


@validate_arguments
def add_step(
    function: Callable[..., TimeSeries], *, main: str, others: Sequence[str] = ()
) -> Callable[..., TimeSeries]:
    """Register a function as a step of studies, sets and the command line.

    Studies keep the results of steps and repeat a step when its code changes; changes in functions that it calls
    are not detected.

    Parameters
    ----------
    function : callable
        Accepts a TimeSeries and named settings, and returns a TimeSeries.
    main : str
        The setting that a plain value stands for: ``halve = 2`` is ``halve = {by = 2}``.
    others : sequence of str
        Settings that refer to other series.

    Returns
    -------
    callable
        The function itself.

    Raises
    ------
    UnitError
        If a step of that name exists, or the function has no such setting.

    Examples
    --------
    >>> import pandas as pd
    >>> def halved(x, times=1):
    ...     return x * 0.5**times
    >>> _ = add_step(halved, main="times")
    >>> x = TimeSeries.from_pandas(pd.Series([8.0], pd.period_range("2024-01", periods=1, freq="M")))
    >>> apply_steps(x, [{"halved": 2}]).values.tolist()
    [2.0]
    >>> def growth(x, over="P1Y"):
    ...     return x
    >>> add_step(growth, main="over")
    Traceback (most recent call last):
    ultrum.errors.UnitError: A step 'growth' exists already. Rename the function.
    """
    name = function.__name__
    if name in _STEPS and not _is_same(_STEPS[name].function, function):
        raise UnitError(f"A step '{name}' exists already. Rename the function.")
    settings = list(inspect.signature(function).parameters)[1:]
    for setting in (main, *others):
        if setting not in settings:
            raise UnitError(
                f"The function {name} has no setting '{setting}'; it has: {', '.join(settings) or 'none'}."
            )
    _STEPS[name] = _StepType(function, main, tuple(others))
    _ADDED[name] = function
    return function


def _is_same(registered: Callable[..., object], function: Callable[..., object]) -> bool:
    """Whether a function is the registered one or a new definition of it, as in a notebook cell run again."""
    same = (registered.__module__, registered.__qualname__) == (function.__module__, function.__qualname__)
    return registered is function or (registered.__name__ in _ADDED and same)


def custom_steps() -> Mapping[str, Callable[..., object]]:
    """Registered functions, by name."""
    return dict(_ADDED)


def step_fault(step: object) -> str:
    """The error of a step; empty if it is valid.

    Examples
    --------
    >>> step_fault({"growht": "P1Y"})
    "No step 'growht'; did you mean 'growth'?"
    >>> step_fault({"growth": {"ovre": "P1Y"}})
    "Step 'growth' has no setting 'ovre'; did you mean 'over'?"
    """
    if not isinstance(step, Mapping) or len(step) != 1:
        form = f"{{ {step} = {{}} }}" if isinstance(step, str) else "{ growth = { over = 'P1Y' } }"
        return f"a step must be a table with one key, such as {form}, not {step!r}."
    name, settings = next(iter(step.items()))
    if name not in _STEPS:
        return f"No step '{name}'; {one_of(str(name), _STEPS)}"
    names = _settings_of(name)
    for word in settings if isinstance(settings, Mapping) else ():
        if word not in names:
            return f"Step '{name}' has no setting '{word}'; {one_of(str(word), names)}"
    given = settings if isinstance(settings, Mapping) else {_STEPS[name].main: settings}
    faults = (_value_fault(name, str(word), value) for word, value in given.items())
    return next((f"Step '{name}': {fault}" for fault in faults if fault), "")


def _value_fault(name: str, word: str, value: object) -> str:
    """The error of a value of a setting, as far as it shows without data."""
    step_type = _STEPS[name]
    if word in step_type.others or step_type.place is _splice_parts:
        return ""
    try:
        if word == "frequency" and isinstance(value, str):
            Frequency.parse(value)
        elif word in ("over", "window") and isinstance(value, str) and value not in _WHOLE:
            parse_duration(value)
    except FrequencyError as error:
        return f"{word} = {value!r}: {error}"
    return argument_fault(step_type.function, word, value)


def parse_step(text: str) -> dict[str, object]:
    """A step in one word, as on the command line: ``growth=P1Y`` or ``rolling=12,how=std``.

    Raises
    ------
    UnitError
        If it cannot be parsed.

    Examples
    --------
    >>> parse_step("rolling=12,how=std")
    {'rolling': {'window': 12, 'how': 'std'}}
    >>> parse_step("lag")
    {'lag': {}}
    """
    first, *rest = text.split(",")
    name, has_main, main = (part.strip() for part in first.partition("="))
    if fault := step_fault({name: {}}):
        raise UnitError(fault)
    settings = {_STEPS[name].main: _value(main)} if has_main else {}
    for part in rest:
        match = _PART.match(part)
        if not match:
            raise UnitError(f"'{part}' in the step '{text}' is not a setting; write name=value.")
        settings[match[1]] = _value(match[2])
    if fault := step_fault({name: settings}):
        raise UnitError(fault)
    return {name: settings}


def names_other_series(steps: Sequence[Step]) -> bool:
    """Whether a step refers to another series.

    Examples
    --------
    >>> names_other_series([{"growth": "P1Y"}]), names_other_series([{"deflate": "prices"}])
    (False, True)
    """
    for step in steps:
        name, given = next(iter(step.items()))
        step_type = _STEPS[name]
        settings = given if isinstance(given, Mapping) else {step_type.main: given}
        if any(isinstance(settings.get(other), str | list | tuple) for other in step_type.others):
            return True
    return False


def apply_steps(
    series: TimeSeries, steps: Sequence[Step], find: Finder | None = None, *, start: str = "", end: str = ""
) -> TimeSeries:
    """Apply steps to a series, each a mapping of one name to its settings.

    Parameters
    ----------
    series : TimeSeries
    steps : sequence of mapping
        Such as ``[{"to_frequency": "Q"}, {"growth": {"over": "P1Y"}}]``; a plain value stands for the required
        setting. Steps that need other series (``deflate``, ``spread``, ``splice``, ``to_currency``,
        ``disaggregate`` with an indicator) refer to them by address.
    find : callable, optional
        Returns the series of an address.
    start, end : str
        First and last day of the result. Steps that look back use the data before ``start``; those on a full
        sample (``standardise``, ``innovations``, ``cumulate``) use the span alone.

    Raises
    ------
    UnitError
        If a step or one of its settings is unknown.

    Examples
    --------
    >>> import pandas as pd
    >>> cpi = pd.Series(range(100, 113), pd.period_range("2023-01", periods=13, freq="M"), dtype=float)
    >>> cpi = TimeSeries.from_pandas(cpi, measure="index", timing="average")
    >>> round(apply_steps(cpi, [{"growth": {"over": "P1Y"}}]).values.iloc[-1], 2).item()
    0.12
    """
    series = series.sample(None, end) if end else series
    for step in steps:
        if fault := step_fault(step):
            raise UnitError(fault)
        name, given = next(iter(step.items()))
        step_type = _STEPS[name]
        settings = dict(given) if isinstance(given, Mapping) else {step_type.main: given}
        for other in step_type.others:
            if other in settings:
                settings[other] = _look_up(settings[other], find, name)
        if start and name in _OF_THE_SAMPLE:
            series = series.sample(start)
        try:
            series = step_type.function(series, **settings)
        except TypeError as error:
            raise UnitError(f"Step '{name}': {str(error).rstrip('.')}.") from error
    return series.sample(start) if start else series


def _look_up(value: object, find: Finder | None, name: str) -> object:
    """The series that a step refers to."""
    if isinstance(value, list | tuple):
        return [_look_up(one, find, name) for one in value]
    if not isinstance(value, str):
        return value
    if find is None:
        raise UnitError(f"Step '{name}' needs the series '{value}', which is unavailable here.")
    return find(value)


def _settings_of(name: str) -> list[str]:
    function = _STEPS[name].function
    words = list(inspect.signature(function).parameters)[1:]
    if "settings" in words:
        words = [w for w in words if w != "settings"] + ["link", "prefer", "tolerance", "name"]
    return words


def _value(text: str) -> object:
    """A number if it parses as one; ``a+b`` is a list."""
    if re.fullmatch(r"-?\d+", text):
        return int(text)
    if re.fullmatch(r"-?\d*\.\d+(e-?\d+)?", text):
        return float(text)
    if text in ("true", "false"):
        return text == "true"
    return text.split("+") if "+" in text and ":" in text else text
