"""Steps said as data: the same words in a study, a set and on the command line."""

from __future__ import annotations

import difflib
from collections.abc import Callable, Mapping, Sequence
from typing import Any, Final

from ultrum.core.convert import to_frequency
from ultrum.core.series import TimeSeries
from ultrum.core.transform.growth import growth
from ultrum.errors import UnitError

Step = Mapping[str, Any]
_STEPS: Final[dict[str, tuple[Callable[..., Any], str]]] = {
    "growth": (growth, "over"),
    "to_frequency": (to_frequency, "frequency"),
}


def step_names() -> list[str]:
    """Names of every step."""
    return list(_STEPS)


def apply_steps(series: TimeSeries, steps: Sequence[Step]) -> TimeSeries:
    """Take a series through steps, each a mapping of one name to its settings.

    Parameters
    ----------
    series : TimeSeries
    steps : sequence of mapping
        Such as ``[{"to_frequency": "Q"}, {"growth": {"over": "P1Y"}}]``; a plain word is the setting
        that the step cannot do without.

    Examples
    --------
    >>> import pandas as pd
    >>> cpi = pd.Series(range(100, 113), pd.period_range("2023-01", periods=13, freq="M"), dtype=float)
    >>> cpi = TimeSeries.wrap(cpi, measure="index", timing="average")
    >>> round(apply_steps(cpi, [{"growth": {"over": "P1Y"}}]).values.iloc[-1], 2).item()
    0.12
    """
    for step in steps:
        if len(step) != 1:
            raise UnitError(
                f"A step has one name, such as {{growth = {{over = 'P1Y'}}}}; not {dict(step)}."
            )
        name, said = next(iter(step.items()))
        if name not in _STEPS:
            near = difflib.get_close_matches(str(name), list(_STEPS), 1)
            hint = f"; did you mean '{near[0]}'?" if near else f"; there are: {', '.join(_STEPS)}."
            raise UnitError(f"No step '{name}'{hint}")
        function, main = _STEPS[name]
        settings = dict(said) if isinstance(said, Mapping) else {main: said}
        try:
            series = function(series, **settings)
        except TypeError as error:
            raise UnitError(f"Step '{name}': {error}.") from None
    return series
