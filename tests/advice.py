"""Follows the fix of a refusal: makes the refused call again with the keyword or option that the message recommends."""

import contextlib
import functools
import inspect
import io
import re
import sys
import warnings
from pathlib import Path

import ultrum as ul
from ultrum.cli import app

_PACKAGE = str(Path(ul.__file__).parent)
_LIMITS = set(inspect.signature(ul.limits).parameters)
_OPTION = re.compile(r"(?<!\S)(--[a-z][a-z-]*)(?: ('[^']*'|[^\s;]*[^\s,;.)]))?")


def follow(error):
    """Each recommended keyword with its value, and the error of the call that sets it, or None if that succeeds.

    Left out are values that only the user knows, and advice about data that the call cannot change.
    """
    call = _refused_call(error)
    for keyword, values in error.recommended.items() if call else ():
        for value in values:
            again = None if value in (..., [...]) else _with(call, keyword, value)
            if again is not None:
                yield keyword, value, _error_of(again)


def _refused_call(error):
    """The first function of the package that the test called, with its arguments; None for one without a name."""
    trace = error.__traceback__
    while trace is not None and not trace.tb_frame.f_code.co_filename.startswith(_PACKAGE):
        trace = trace.tb_next
    if trace is None:
        return None
    frame, names = trace.tb_frame, inspect.getargvalues(trace.tb_frame)
    code, inner = frame.f_code, frame.f_locals.get("function")
    is_wrapper = "function" in code.co_freevars
    module = inner.__module__ if is_wrapper else frame.f_globals["__name__"]
    place = inner.__qualname__ if is_wrapper else code.co_qualname
    if "<" in place:
        return None
    args = [names.locals[n] for n in code.co_varnames[: code.co_argcount]]
    args += names.locals[names.varargs] if names.varargs else ()
    kwargs = {n: names.locals[n] for n in code.co_varnames[code.co_argcount :][: code.co_kwonlyargcount]}
    kwargs |= names.locals[names.keywords] if names.keywords else {}
    function = functools.reduce(getattr, place.split("."), sys.modules[module])
    if place.endswith("__init__"):
        function, args = type(args[0]), args[1:]
    elif inspect.ismethod(function):
        args = args[1:]  # the class
    return function, args, kwargs


def _with(call, keyword, value):
    """The call with a keyword of its own, inside a limit, or with other declared data; None if it has none of these."""
    function, args, kwargs = call
    parameters = inspect.signature(function).parameters
    if keyword in _LIMITS:
        return functools.partial(_inside, {keyword: value}, function, *args, **kwargs)
    if keyword in parameters or (
        takes_options(parameters) and keyword not in _READ_ONLY.get(function.__name__, ())
    ):
        args = [
            value if name == keyword else arg for name, arg in zip(_names(parameters, args), args, strict=True)
        ]
        kwargs = kwargs if keyword in _names(parameters, args) else {**kwargs, keyword: value}
        return functools.partial(function, *args, **kwargs)
    series = [a for a in (*args, *kwargs.values()) if isinstance(a, ul.TimeSeries | ul.SeriesTable)]
    if keyword not in _CHANGES or not series:
        return None
    new = {id(one): _CHANGES[keyword](value, one) for one in series}
    kwargs = {name: new.get(id(arg), arg) for name, arg in kwargs.items()}
    return functools.partial(function, *(new.get(id(arg), arg) for arg in args), **kwargs)


def takes_options(parameters):
    return any(p.kind is p.VAR_KEYWORD for p in parameters.values())


def _names(parameters, args):
    """Names of positional arguments."""
    places = [n for n, p in parameters.items() if p.kind is not p.KEYWORD_ONLY]
    return [places[min(k, len(places) - 1)] for k in range(len(args))]


def _inside(limits, function, *args, **kwargs):
    with ul.limits(**limits):
        return function(*args, **kwargs)


def _declared(value, data):
    """Series with another measure."""
    return data.with_metadata(measure=value)


def _in_units(value, data):
    """Series as they are read with these units."""
    table = data if isinstance(data, ul.SeriesTable) else data.as_table()
    read = ul.SeriesTable.from_arrays(
        table.block / (100 if value == "percent" else 1), table.index, table.metadata
    )
    return read if isinstance(data, ul.SeriesTable) else read.only()


def _error_of(call):
    with warnings.catch_warnings(action="ignore"), contextlib.redirect_stdout(io.StringIO()):
        try:
            call()
        except ul.UltrumError as error:
            return error
    return None


def recommended_options(words, text):
    """Options that the message of a command recommends, with their values, if those are not the user's own."""
    command = next((app.commands[w] for w in words if w in app.commands), None)
    options = {o: p for p in command.params for o in p.opts} if command else {}
    advice = " ".join(s for s in re.split(r"(?<=[.;:])\s+", text) if re.match(r"(Add|Name|Set|Use|else|or)\b", s))
    for option, value in _OPTION.findall(advice):
        if option in options and option not in _PERMISSIONS:
            if getattr(options[option], "is_flag", False):
                yield [option]
            elif value and not value.isupper() and "…" not in value and not value.endswith("="):
                yield [option, value.strip("'")]


_PERMISSIONS = ("--bind",)  # the user's consent, which no test gives by the way
_READ_ONLY = {"from_pandas": ("units",)}  # keywords of advice about reading a file
_CHANGES = {"measure": _declared, "units": _in_units}
