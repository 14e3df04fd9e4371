"""Distribution of returns: histogram, quantiles, moments and tails against the normal."""

from __future__ import annotations

from dataclasses import dataclass
from numbers import Real
from typing import Final

import numpy as np
import pandas as pd
import scipy.special

from ultrum.core.arguments import checked
from ultrum.core.array_types import Floats
from ultrum.core.displayed_numbers import counted
from ultrum.core.rounding import varies
from ultrum.core.series.metadata import Metadata
from ultrum.core.series.time_series import TimeSeries
from ultrum.core.statistics.return_samples import Described
from ultrum.core.time.period_labels import span_of
from ultrum.errors import EstimationError, UnitError

_QUANTILES: Final = (0.01, 0.05, 0.1, 0.25, 0.5, 0.75, 0.9, 0.95, 0.99)
_CENTRE: Final = 0.5
_MOST_BINS: Final = 100_000
_TAILS: Final = (2.0, 3.0, 4.0)


@dataclass(frozen=True, eq=False, repr=False)
class Distribution(Described):
    """The spread of one series.

    Attributes
    ----------
    table : DataFrame
        Rows ``centre`` (within half a deviation of the mean), ``shoulders`` (half to two deviations), and
        ``beyond 2``, ``beyond 3`` and ``beyond 4`` deviations. Columns ``count`` and ``expected`` (values,
        and how many a normal would have), ``observed`` and ``normal`` (shares), ``ratio``.
    histogram : DataFrame
        Bins: ``low high count share density normal``, the last what a normal would have.
    quantiles : Series
    mean, deviation, skewness, kurtosis : float
    jarque_bera, p_value : float
        Jarque and Bera (1980); small p values speak against a normal.
    values : ndarray
    metadata : Metadata
        What the values are.
    """

    histogram: pd.DataFrame
    quantiles: pd.Series
    mean: float
    deviation: float
    skewness: float
    kurtosis: float
    jarque_bera: float
    p_value: float
    values: Floats
    metadata: Metadata

    @property
    def name(self) -> str:
        """Name of the series."""
        return self.metadata.name


@checked
def distribution(x: TimeSeries, *, bins: int | float | list[float] | str = "auto") -> Distribution:
    """Histogram, quantiles, normal fit and a test of it.

    Parameters
    ----------
    x : TimeSeries
        Returns, rates or scores.
    bins : int, float, list or "auto"
        How many bins, the width of one, their edges, or Freedman and Diaconis's (1981) rule.

    Returns
    -------
    Distribution
        Bins, quantiles, moments and the test.

    Raises
    ------
    EstimationError
        If there are fewer than eight values, or they do not vary.

    Examples
    --------
    >>> r = pd.Series(np.arange(20.0), pd.period_range("2023-01", periods=20, freq="M"))
    >>> made = distribution(TimeSeries.from_pandas(r, name="A", measure="return"), bins=4)
    >>> made.histogram["count"].tolist()
    [5, 5, 5, 5]
    """
    if x.metadata.measure in ("price", "index", "stock", "quote"):
        raise UnitError(f"{x.name} is a level ({x.metadata.measure}); look at its returns or growth.")
    values = x.values.dropna().to_numpy(dtype=np.float64)
    if len(values) < 8 or not varies(values):
        raise EstimationError(
            f"{x.name} has {counted(len(values), 'value')}, or they do not vary; eight that do are needed."
        )
    mean, spread = float(values.mean()), float(values.std(ddof=1))
    off = (values - mean) / values.std()
    skew, kurt = float((off**3).mean()), float((off**4).mean())
    statistic = len(values) / 6 * (skew**2 + (kurt - 3) ** 2 / 4)
    table = _shares((values - mean) / spread)
    basis = (
        f"{x.metadata.heading}, {x.metadata.frequency.name}, {span_of(x.values.dropna().index)}, "
        f"{counted(len(values), 'value')}; "
        f"mean {_in_words(mean, x.metadata)}, deviation {_in_words(spread, x.metadata)}, "
        f"skewness {skew:.3g}, kurtosis {kurt:.3g}, Jarque–Bera {statistic:.4g}"
    )
    return Distribution(
        table, basis, _histogram(values, _edges(values, bins), mean, spread),
        pd.Series(np.quantile(values, _QUANTILES), index=_QUANTILES, name=x.name), mean, spread, skew, kurt,
        float(statistic), float(scipy.special.chdtrc(2, statistic)), values, x.metadata,
    )  # fmt: skip


def _in_words(value: float, metadata: Metadata) -> str:
    """A number as people read it: returns and rates in percent."""
    return f"{100 * value:.4g} %" if metadata.in_percent else f"{value:.4g}"


def _shares(scores: Floats) -> pd.DataFrame:
    size = np.abs(scores)
    beyond = 2.0 * scipy.special.ndtr([-_CENTRE, *(-reach for reach in _TAILS)])
    normal = [1.0 - beyond[0], beyond[0] - beyond[1], *beyond[1:]]
    counts = [
        int((size <= _CENTRE).sum()),
        int(((size > _CENTRE) & (size <= _TAILS[0])).sum()),
        *(int((size > reach).sum()) for reach in _TAILS),
    ]
    names = ["centre", "shoulders", *(f"beyond {reach:g}" for reach in _TAILS)]
    table = pd.DataFrame({"count": counts, "expected": np.array(normal) * len(scores)}, names)
    table = table.assign(observed=table["count"] / len(scores), normal=normal)
    return table.assign(ratio=table["observed"] / table["normal"])


def _edges(values: Floats, bins: int | float | list[float] | str) -> Floats:
    if isinstance(bins, str):
        return np.histogram_bin_edges(values, bins="fd")
    if isinstance(bins, list):
        numbers = [b for b in bins if isinstance(b, Real) and np.isfinite(float(b))]
        if len(numbers) < max(len(bins), 2):
            raise UnitError("Edges of bins are two or more finite numbers.")
        edges = np.sort(np.asarray(numbers, dtype=float))
        if edges[0] > values.min() or edges[-1] < values.max():
            raise UnitError(
                f"Bins from {edges[0]:g} to {edges[-1]:g} leave values out ({values.min():g} "
                f"to {values.max():g})."
            )
        return edges
    if not 0 < bins <= _MOST_BINS:
        raise UnitError(f"bins={bins:g}: take a number of bins or a width above 0, at most {_MOST_BINS:,}.")
    if isinstance(bins, float):
        low = np.floor(values.min() / bins)
        count = int(np.floor(values.max() / bins) - low) + 1
        if count > _MOST_BINS:
            raise UnitError(f"A width of {bins:g} makes {count:,} bins; take a wider one.")
        return np.asarray(bins * (low + np.arange(count + 1)))
    return np.linspace(values.min(), values.max(), max(int(bins), 1) + 1)


def _histogram(values: Floats, edges: Floats, mean: float, spread: float) -> pd.DataFrame:
    counts, _ = np.histogram(values, edges)
    width = np.diff(edges)
    normal = np.diff(scipy.special.ndtr((edges - mean) / spread)) / width
    share = counts / len(values)
    return pd.DataFrame({
        "low": edges[:-1], "high": edges[1:], "count": counts, "share": share, "density": share / width,
        "normal": normal,
    })  # fmt: skip
