"""Validation of arguments by their annotations, and dispatch to data larger than memory.

The allowed types come from the annotations of the function, so each is defined once.

`core` reads no files. `ultrum.large` registers a function for each kind of data on disk.
"""

from __future__ import annotations

import builtins
import functools
import inspect
import os
import types
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from numbers import Integral, Real
from typing import Any, ClassVar, Final, Literal, ParamSpec, TypeVar, Union, get_args, get_origin, get_type_hints

import numpy as np
import pandas as pd

from ultrum.core.deprecated_names import value_now
from ultrum.errors import ArgumentError, TableError, one_of

P = ParamSpec("P")
R = TypeVar("R")

Kinds = tuple[tuple[type, Any], ...]  # classes, each with the kinds of its elements

_HOLDERS: Final = (Sequence, Iterable, Mapping)
_AS_GOOD: Final[dict[object, tuple[type, ...]]] = {
    bool: (bool, np.bool_),
    float: (Real,),
    int: (Integral,),
    Sequence: (Sequence, np.ndarray, pd.Index, pd.Series),
}
_IN_WORDS: Final = {
    float: "a number",
    int: "a whole number",
    str: "text",
    bool: "True or False",
    bytes: "bytes",
    Mapping: "a mapping",
    Sequence: "a list",
    Iterable: "a list",
    os.PathLike: "a path",
    Callable: "a function",
    pd.DataFrame: "a DataFrame",
    pd.Series: "a Series",
    np.ndarray: "an array",
    pd.Index: "an index",
    tuple: "any number",
}
_LARGEST: Final = 1e15
LARGEST_RATE: Final = 0.5  # a year, in decimals; more is percent taken for decimals
_RANGES: Final = {  # what a number of this name can be, in every function or in one
    "seed": (0, 2**63 - 1),
    "draws": (1, 1_000_000),
    "lags": (0, 100_000),
    "most_lags": (0, 10_000),
    "limit": (1, 10**9),
    "digits": (0, 17),
    "at_least": (1, 10**9),
    "min_length": (1, 10**9),
    "min_obs": (1, 10**9),
    "require": (0, 1),
    "stale_after": (0, 10**9),
    "cost_of_equity.draws": (0, 1_000_000),
    "implied_cost_of_equity.persistence": (0, 1),
    "implied_cost_of_equity.fade_years": (0, 100),
    "implied_cost_of_equity.long_run_growth_error": (0, LARGEST_RATE),
    "implied_cost_of_equity.bias_error": (0, 1),
    "risk_free_error": (0, LARGEST_RATE),
}
_MADE_BY: Final = {
    "BetaSensitivity": "beta_sensitivity(...)",
    "BetaTable": "factor_betas(panel)",
    "BreakTest": "break_test(fit)",
    "CalendarReturns": "calendar_returns(x)",
    "Correlations": "correlations(x)",
    "CostOfEquity": "cost_of_equity(betas, ...)",
    "Distribution": "distribution(x)",
    "Drawdowns": "drawdowns(x)",
    "Fit": "regress(y, X)",
    "Panel": "align(assets=..., factors=..., risk_free=...)",
    "PeerBeta": "peer_beta(betas, ...)",
    "Premium": "premium(factor)",
    "ExchangeRates": "ExchangeRates(quotes)",
    "Relative": "compare_to_benchmark(x, benchmark)",
    "RiskReturn": "risk_return(x)",
    "RollingFit": "rolling_regress(Y, X)",
    "SeriesTable": "SeriesTable.from_pandas(frame, measure=...)",
    "TimeSeries": "TimeSeries.from_pandas(series, measure=...) or table['name']",
    "TwoPass": "two_pass(panel)",
}


def validate_arguments(function: Callable[P, R]) -> Callable[P, R]:
    """Refuse arguments whose type does not match the annotation, before the function is entered."""
    shape = inspect.signature(function)
    # imports are over by the first call
    kinds_of = functools.cache(functools.partial(_kinds, function, shape))
    options_of = functools.cache(functools.partial(_options, function, shape))

    @functools.wraps(function)
    def _validate(*args: P.args, **kwargs: P.kwargs) -> R:
        kinds, options = kinds_of(), options_of()
        for name, value in shape.bind(*args, **kwargs).arguments.items():
            if name in kinds and not _fits(value, kinds[name]):
                refuse_large(function.__name__, value)
                raise ArgumentError(_in_words(function.__qualname__, name, value, kinds[name]))
            if name in options and isinstance(value, str) and value not in options[name]:
                hint = one_of(value, options[name])
                raise ArgumentError(f"{function.__qualname__}: {name}='{value}' is not known; {hint}")
            _check_number(function.__qualname__, name, value)
        try:
            return function(*args, **kwargs)
        except OverflowError:
            raise ArgumentError(f"{function.__qualname__}: a number is too large for any data.") from None

    return _validate


def refuse_idle_options(setting: str, **options: object) -> None:
    """Refuse options that a setting leaves without effect.

    Raises
    ------
    ArgumentError
        The first such option is named.

    Examples
    --------
    >>> refuse_idle_options("how='chow'", trim=None)
    """
    for name, value in options.items():
        if value is not None:
            given = f"={value}" if isinstance(value, int | float | str | tuple) else ""
            raise ArgumentError(f"{name}{given} has no effect with {setting}. Remove it.")


def argument_fault(function: Callable[..., object], name: str, value: object) -> str:
    """The error of one argument by its annotation, without a call; empty if it is valid.

    Examples
    --------
    >>> from typing import Literal
    >>> def smooth(x, window: int, how: Literal["mean", "median"] = "mean"): ...
    >>> argument_fault(smooth, "how", "men")
    "how = 'men'; did you mean 'mean'?"
    >>> argument_fault(smooth, "window", "x")
    "window = 'x'; it must be a whole number."
    """
    value = value_now(function, name, value)
    plain = inspect.unwrap(function)
    shape = inspect.signature(plain)
    kinds, options = _kinds(plain, shape), _options(plain, shape)
    if name in options and isinstance(value, str) and value not in options[name]:
        return f"{name} = {value!r}; {one_of(value, options[name])}"
    if name in kinds and not _fits(value, kinds[name]):
        words = dict.fromkeys(_kind_in_words(k, e) for k, e in kinds[name] if k is not types.NoneType)
        return f"{name} = {value!r}; it must be {' or '.join(words)}."
    return ""


def _hints(function: Callable[..., object], shape: inspect.Signature) -> dict[str, object]:
    """Annotations of the arguments as types."""
    single = {name: p.annotation for name, p in shape.parameters.items() if p.annotation is not p.empty}
    annotated = types.SimpleNamespace(__annotations__=single)
    names = _Names({**vars(builtins), **function.__globals__})
    return get_type_hints(annotated, globalns={}, localns=names)


def _kinds(function: Callable[..., object], shape: inspect.Signature) -> dict[str, Kinds]:
    """Types that each argument accepts; unrestricted arguments are omitted."""
    hints = _hints(function, shape)
    kinds = {name: _of_parameter(shape.parameters[name], hint) for name, hint in hints.items()}
    return {name: kind for name, kind in kinds.items() if kind}


def _options(function: Callable[..., object], shape: inspect.Signature) -> dict[str, tuple[str, ...]]:
    """Texts that each argument accepts, where its annotation lists them."""
    options: dict[str, tuple[str, ...]] = {}
    for name, hint in _hints(function, shape).items():
        parts = get_args(hint) if get_origin(hint) in (Union, types.UnionType) else (hint,)
        listed = [part for part in parts if get_origin(part) is Literal]
        if listed and len(listed) == len([p for p in parts if p is not types.NoneType]):
            options[name] = tuple(text for part in listed for text in get_args(part))
    return options


def _of_parameter(parameter: inspect.Parameter, hint: object) -> Kinds:
    """Accepted types of an argument; for ``*args`` those of each element; none for ``**kwargs``."""
    if parameter.kind is inspect.Parameter.VAR_KEYWORD:
        return ()
    kinds = _alternatives(hint)
    return ((tuple, kinds),) if parameter.kind is inspect.Parameter.VAR_POSITIONAL else kinds


class _Names(dict[str, object]):
    """Names of a module; one imported for the type checker alone stands for any type."""

    def __missing__(self, name: str) -> object:
        return object


def _alternatives(hint: object) -> Kinds:
    """Classes of an annotation, with those of its elements; None where it names no class."""
    origin = get_origin(hint)
    either = hint.__constraints__ if isinstance(hint, TypeVar) else get_args(hint)
    if origin in (Union, types.UnionType) or isinstance(hint, TypeVar):
        parts = [_alternatives(part) for part in either]
        return tuple(kind for part in parts for kind in part) if all(parts) else ()
    kind = str if origin is Literal else origin or hint
    if not isinstance(kind, type) or kind in (Any, object) or getattr(kind, "_is_protocol", False):
        return ()
    elements = _alternatives(get_args(hint)[-1]) if kind in _HOLDERS and get_args(hint) else ()
    ours = any(element.__name__ in _MADE_BY for element, _ in elements)
    return ((kind, elements if ours else ()),)


def _fits(value: object, kinds: Kinds) -> bool:
    """Whether a value has one of the types; a text is not a list of letters."""
    if isinstance(value, str | bytes):
        return any(kind is type(value) for kind, _ in kinds)
    if isinstance(value, bool | np.bool_):
        return any(kind in (bool, object) for kind, _ in kinds)
    return any(
        isinstance(value, _AS_GOOD.get(kind, kind)) and _fit_inside(value, elements) for kind, elements in kinds
    )


def _check_number(function: str, name: str, value: object) -> None:
    """Refuse an extreme number, or one outside the range of its argument."""
    if not isinstance(value, Real) or isinstance(value, bool):
        return
    if name in ("level", "power"):
        check_probability(f"{function}: {name}", float(value))
    bounds = _RANGES.get(f"{function}.{name}", _RANGES.get(name))
    low, high = bounds or (-_LARGEST, _LARGEST)
    if not low <= float(value) <= high:  # nor is it NaN
        least = f"from {low:,} to {high:,}" if bounds else "that is finite and not so large"
        raise ArgumentError(f"{function}: {name} is {float(value):g}; use a number {least}.")


def check_probability(name: str, value: float) -> None:
    """Refuse a level or power that does not lie between 0 and 1.

    Raises
    ------
    ArgumentError
        The number is named, with one that fits.

    Examples
    --------
    >>> check_probability("level", 0.95)
    """
    if not 0.0 < value < 1.0:
        raise ArgumentError(f"{name} is {value:g}; use a number between 0 and 1, such as 0.95.")


def _fit_inside(value: object, elements: Kinds) -> bool:
    """Whether each element has its type; an iterator is not consumed."""
    if not elements or not isinstance(value, Collection):
        return True
    inside = value.values() if isinstance(value, Mapping) else value
    return all(_fits(one, elements) for one in inside)


def _in_words(function: str, name: str, value: object, kinds: Kinds) -> str:
    words = [_kind_in_words(k, e) for k, e in kinds if k is not types.NoneType]
    takes = " or ".join(part for part in (", ".join(words[:-1]), *words[-1:]) if part)
    classes = [kind for kind, _ in kinds] + [kind for _, elements in kinds for kind, _ in elements]
    makers = " or ".join(_MADE_BY[k.__name__] for k in dict.fromkeys(classes) if k.__name__ in _MADE_BY)
    kind = type(value).__name__
    given = "nothing (None)" if value is None else f"{'an' if kind[0] in 'aeiou' else 'a'} {kind}"
    if isinstance(value, str):
        given = f"the text '{value[:40]}'"
    elif isinstance(value, list | tuple | Mapping) and len(value):
        first = next(iter(value.values() if isinstance(value, Mapping) else value))
        given += f" of {type(first).__name__}"
    hint = f" {makers} makes one." if makers else ""
    return f"{function}: {name} takes {takes}; it was given {given}.{hint}"


def _kind_in_words(kind: type, elements: Kinds) -> str:
    inside = " or ".join(element.__name__ for element, _ in elements)
    return _IN_WORDS.get(kind, f"a {kind.__name__}") + (f" of {inside}" if inside else "")


# Dispatch to data larger than memory: functions of this package accept such data in place of a table

_ON_DISK: Final = "__on_disk__"


class LargeData:
    """Base class of data on disk."""

    kind_in_words: ClassVar[str] = "data on disk"


def refuse_large(function: str, data: object) -> None:
    """Refuse data on disk where a function works in memory."""
    if isinstance(data, LargeData):
        raise TableError(
            f"{function} works in memory, but the data are on disk. Read some assets with .read([...])."
        )


def accepts_large(data: str) -> Callable[[Callable[P, R]], Callable[P, R]]:
    """Let a function accept data on disk as this argument.

    The function registered by :func:`register_large` for the kind of data does the work. ``to`` applies to data
    on disk only.
    """

    def _decorate(function: Callable[P, R]) -> Callable[P, R]:
        signature = inspect.signature(function)
        work_of: dict[type[LargeData], Callable[..., R]] = {}

        @functools.wraps(function)
        def _dispatch(*args: P.args, **kwargs: P.kwargs) -> R:
            first = args[0] if args else kwargs.get(data)
            if not isinstance(first, LargeData):
                if kwargs.get("to") is not None:
                    raise TableError(
                        f"{function.__name__}: to= applies to data on disk, but these are in memory. Remove it, "
                        "or open the data with LongTable(path)."
                    )
                return function(*args, **kwargs)
            if type(first) not in work_of:
                takes = " or ".join(kind.kind_in_words for kind in work_of)
                raise TableError(f"{function.__name__} takes {takes}; it was given {type(first).kind_in_words}.")
            bound = signature.bind(*args, **kwargs)
            bound.apply_defaults()
            rest = {name: value for name, value in bound.arguments.items() if name != data}
            return work_of[type(first)](first, **rest)

        setattr(_dispatch, _ON_DISK, work_of)
        return _dispatch

    return _decorate


def register_large(function: Callable[..., object], kind: type[LargeData], work: Callable[..., object]) -> None:
    """Register the implementation of a function for one kind of data on disk."""
    getattr(function, _ON_DISK)[kind] = work
