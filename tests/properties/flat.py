"""Results as plain numbers by label, so that any two can be compared."""

import dataclasses
import math
from collections.abc import Mapping

import numpy as np
import pandas as pd

import ultrum as ul


def flat(result, path=""):
    """Every number of a result, by a text that names its place and its row."""
    if isinstance(result, ul.TimeSeries):
        result = result.to_pandas().to_frame(result.name)
    elif isinstance(result, ul.SeriesTable):
        result = result.to_pandas()
    if isinstance(result, pd.Series):
        result = result.to_frame("")
    if isinstance(result, pd.DataFrame):
        return _of_frame(result, path)
    if isinstance(result, Mapping):
        parts = ((f"{path}/{key}", value) for key, value in result.items())
    elif dataclasses.is_dataclass(result):
        parts = _fields(result, path)
    elif isinstance(result, bool | np.bool_ | int | float | np.number):
        return {path: float(result)}
    elif isinstance(result, tuple | list | np.ndarray):
        parts = ((f"{path}/{place}", value) for place, value in enumerate(np.asarray(result, dtype=object)))
    else:
        return {}
    return {name: number for key, part in parts for name, number in flat(part, key).items()}


PROPERTIES = {  # of results that hold arrays
    "Fit": ("coefficients", "covariance", "sigma", "r2", "lags", "dropped", "clusters"),
    "BetaTable": (
        "coefficients",
        "covariance",
        "nobs",
        "sigma",
        "r2",
        "lags",
        "dropped",
        "clusters",
        "unadjusted",
    ),
}


def _fields(result, path):
    """Public fields of a result; what it was made from is not what it says."""
    if type(result).__name__ in PROPERTIES:
        yield from ((f"{path}/{name}", getattr(result, name)) for name in PROPERTIES[type(result).__name__])
        return
    made_from = {"metadata", "response", "design", "missing", "bootstrap", "weights", "values"}
    for field in dataclasses.fields(result):
        if field.name not in made_from and not field.name.startswith("_"):
            yield f"{path}/{field.name}", getattr(result, field.name)


def _of_frame(frame, path):
    made, labels = {}, list(map(_label, frame.index))
    for column, values in frame.items():
        for label, value in zip(labels, values, strict=True):
            if isinstance(value, bool | np.bool_ | int | float | np.number):
                made[f"{path}/{column}/{label}"] = float(value)
    return made


def _label(label):
    if isinstance(label, pd.Timestamp):
        return str(label.tz_localize(None).date())
    return str(label)


def differences(got, want, rtol=1e-9):
    """Places at which two results differ, missing numbers alike."""
    wrong = sorted(set(got) ^ set(want))
    for name in set(got) & set(want):
        a, b = got[name], want[name]
        missing = math.isnan(a) and math.isnan(b)
        if not missing and not math.isclose(a, b, rel_tol=rtol, abs_tol=1e-12):
            wrong.append(f"{name}: {a!r} for {b!r}")
    return wrong
