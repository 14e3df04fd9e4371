"""Temporal disaggregation to a higher frequency: Denton, Chow–Lin, and simpler methods.

Values of a higher frequency cannot be recovered, only estimated: held constant, interpolated, or distributed so
that totals, averages or end values of the low-frequency periods are exact.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Final, Literal

import numpy as np
import pandas as pd

from ultrum.core.arguments import refuse_idle_options, validate_arguments
from ultrum.core.array_types import Floats, Ints
from ultrum.core.presentation import quantity
from ultrum.core.series.input_checks import check_size
from ultrum.core.series.metadata import Metadata, hindsight_of
from ultrum.core.series.time_series import S, SeriesTable, TimeSeries
from ultrum.core.time.frequency import Frequency, calendar_days
from ultrum.core.time.period_labels_and_relative_dates import span_of
from ultrum.core.transform.aggregation import default_method
from ultrum.errors import AlignmentError, EstimationError, FrequencyError, UnitError

if TYPE_CHECKING:
    from scipy.sparse import csr_matrix


_EDGE: Final = 0.999


@dataclass(frozen=True)
class ChowLin:
    """High-frequency values, their standard errors, the coefficients and the autocorrelation."""

    values: Floats
    standard_errors: Floats
    coefficients: Floats
    rho: float


@dataclass(frozen=True)
class _Fitted:
    """Generalised least squares of the aggregates at one autocorrelation."""

    coefficients: Floats
    residuals: Floats  # whitened by the Cholesky factor
    factor: Floats
    r: Floats  # triangular factor of the whitened regressors
    covariance: Floats  # of high with low errors, over the variance


def chow_lin(low: Floats, regressors: Floats, aggregator: Floats, name: str) -> ChowLin:
    """Estimate high-frequency values from their aggregates (Chow and Lin 1971).

    The errors follow u_t = ρu_{t−1} + e_t; ρ maximises the likelihood of the aggregates (Bournay and Laroque
    1979), and β is the generalised least squares estimate given ρ. The variance is divided by n − k.

    Parameters
    ----------
    low : ndarray, shape (n,)
    regressors : ndarray, shape (H, k)
    aggregator : ndarray, shape (n, H)
    name : str
        For messages.

    Raises
    ------
    EstimationError
        If there are not more low-frequency values than coefficients, or the indicator is constant.
    """
    n, k = len(low), regressors.shape[1]
    import scipy.linalg  # slow to import, and needed by this method alone

    if n <= k + 1:
        raise EstimationError(
            f"{name} has {quantity(n, 'value')}, too few for {quantity(k, 'coefficient')} and ρ. Use "
            "how='denton'."
        )
    if np.linalg.matrix_rank(aggregator @ regressors) < k:
        raise EstimationError(f"{name}: the indicator is constant. Use how='denton'.")
    rho = _likeliest(low, regressors, aggregator)
    at = _fit(rho, low, regressors, aggregator)
    gain = scipy.linalg.cho_solve((at.factor, True), at.covariance.T).T
    missed = low - aggregator @ regressors @ at.coefficients
    values = regressors @ at.coefficients + gain @ missed
    values = values + gain @ (low - aggregator @ values)
    variance = float(at.residuals @ at.residuals) / (n - k)
    conditional = 1.0 / (1.0 - rho**2) - np.einsum("ij,ij->i", gain, at.covariance)
    spread = regressors - gain @ (aggregator @ regressors)
    shaped = scipy.linalg.solve_triangular(at.r, spread.T, trans="T")
    total = np.maximum(conditional, 0.0) + np.einsum("ij,ij->j", shaped, shaped)
    return ChowLin(values, np.sqrt(variance * total), at.coefficients, rho)


def _likeliest(low: Floats, regressors: Floats, aggregator: Floats) -> float:
    def _minus(rho: float) -> float:
        at = _fit(rho, low, regressors, aggregator)
        spread = max(float(at.residuals @ at.residuals) / len(low), np.finfo(float).tiny)
        return float(0.5 * len(low) * np.log(spread) + np.log(np.diag(at.factor)).sum())

    grid = np.tanh(np.linspace(-1.0, 1.0, 81) * np.arctanh(_EDGE))  # dense where it changes fast
    heights = [_minus(r) for r in grid]
    best = int(np.argmin(heights))
    low_edge, high_edge = grid[max(best - 1, 0)], grid[min(best + 1, len(grid) - 1)]
    import scipy.optimize  # slow to import, and needed here alone

    optimum = scipy.optimize.minimize_scalar(
        _minus, bounds=(low_edge, high_edge), method="bounded", options={"xatol": 1e-10}
    )
    return float(optimum.x if optimum.fun <= heights[best] else grid[best])


def _fit(rho: float, low: Floats, regressors: Floats, aggregator: Floats) -> _Fitted:
    import scipy.linalg

    lags = np.arange(aggregator.shape[1])
    kernel = scipy.linalg.toeplitz(rho**lags / (1.0 - rho**2))
    covariance = kernel @ aggregator.T
    factor = np.linalg.cholesky(aggregator @ covariance)
    x = scipy.linalg.solve_triangular(factor, aggregator @ regressors, lower=True)
    y = scipy.linalg.solve_triangular(factor, low, lower=True)
    q, r = np.linalg.qr(x)
    coefficients = scipy.linalg.solve_triangular(r, q.T @ y)
    return _Fitted(coefficients, y - x @ coefficients, factor, r, covariance)


# Disaggregation to a higher frequency, by a method that the user names

Method = Literal["hold", "linear", "denton", "chow-lin"]
_MOST: Final = 4000  # high-frequency periods of one series that Chow–Lin's dense algebra takes
_LATER: Final = "values within a period follow from its total and from later ones"
_KEPT: Final = {"sum": "totals", "mean": "averages", "last": "ends", "first": "starts"}


@dataclass(frozen=True, eq=False, repr=False)
class EstimatedSeries(TimeSeries):
    """A series estimated by regression, with a standard error for each value.

    Attributes
    ----------
    standard_errors : Series, shape (T,)
        In the unit of the values; zero where a low-frequency value determines the estimate.
    coefficients : Series
        Coefficients of the constant and the indicator.
    rho : float
        First-order autocorrelation of the high-frequency errors.
    """

    standard_errors: pd.Series = field(default_factory=lambda: pd.Series(dtype=float))
    coefficients: pd.Series = field(default_factory=lambda: pd.Series(dtype=float))
    rho: float = 0.0


@dataclass(frozen=True)
class _Places:
    """High-frequency periods within low-frequency ones: ``of_row`` is the low-frequency period of each
    high-frequency one.
    """

    high: Ints
    of_row: Ints
    sizes: Ints

    def aggregator(self, method: str) -> csr_matrix:
        """Sparse matrix (low, high) that sums, averages or selects end values."""
        import scipy.sparse  # slow to import, and needed here alone

        rows = np.arange(len(self.sizes))
        ends = np.cumsum(self.sizes) - 1
        if method in ("last", "first"):
            columns = ends if method == "last" else ends - self.sizes + 1
            data = np.ones(len(rows))
        else:
            columns = np.arange(len(self.high))
            data = np.ones(len(columns)) if method == "sum" else 1.0 / self.sizes[self.of_row]
            rows = self.of_row
        shape = (len(self.sizes), len(self.high))
        return scipy.sparse.csr_array((data, (rows, columns)), shape=shape)


@validate_arguments
def disaggregate(x: S, frequency: str | Frequency, *, how: Method, indicator: TimeSeries | None = None) -> S:
    """Temporal disaggregation to a higher frequency (Chow–Lin, Denton, and simpler methods).

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        The low-frequency series.
    frequency : str or Frequency
        Target frequency, such as ``"M"`` for a quarterly series.
    how : {"hold", "linear", "denton", "chow-lin"}
        ``hold`` keeps each value of irregular dates until the next, such as a policy rate for business days;
        for periods it divides a total evenly, converts a return into the constant rate that compounds to it, and
        repeats other values. It is the only method for returns. ``linear`` interpolates end values, and is
        refused for totals and averages. ``denton`` follows the indicator (or is as smooth as possible) while
        totals, averages or end values stay exact: proportional first differences (Denton 1971) with the start of
        Cholette (1984). ``chow-lin`` (Chow and Lin 1971) regresses on a constant and the indicator with AR(1)
        errors, by maximum likelihood (Bournay and Laroque 1979).
    indicator : TimeSeries, optional
        A series of the target frequency that covers every period of ``x``; positive for Denton.

    Returns
    -------
    TimeSeries or SeriesTable
        One series by Chow–Lin is an :class:`EstimatedSeries`, with standard errors.

    Raises
    ------
    FrequencyError
        If ``frequency`` is not higher, or its periods do not nest in those of ``x``.
    UnitError
        If the method does not fit the measure, such as linear for a flow.
    AlignmentError
        If the indicator does not cover every period of ``x``.

    Examples
    --------
    >>> import pandas as pd
    >>> sales = pd.Series([30.0, 60.0], pd.period_range("2024Q1", periods=2, freq="Q"))
    >>> sales = TimeSeries.from_pandas(sales, name="sales", measure="flow", unit="currency", currency="QML")
    >>> disaggregate(sales, "M", how="hold").to_pandas().tolist()
    [10.0, 10.0, 10.0, 20.0, 20.0, 20.0]
    """
    if how in ("hold", "linear"):
        refuse_idle_options(f"how='{how}'", indicator=indicator)
    target = Frequency.parse(frequency)
    if isinstance(x, TimeSeries):
        return _one(x, target, how, indicator)
    return SeriesTable.of(_one(x[name], target, how, indicator) for name in x.names)


def _one(x: TimeSeries, target: Frequency, how: str, indicator: TimeSeries | None) -> TimeSeries:
    source = x.metadata.frequency
    if how == "hold" and source.code in "BD" and target.code in "BD":
        return _hold_until_next(x, target)
    _check_direction(x.metadata, target)
    method = _method_of(x.metadata, how)
    if x.metadata.is_return:
        check_size(x.as_table(), "disaggregate")
    if x.metadata.measure == "return" and method == "sum":  # the logarithm of growth adds up
        held = _one(_like(x, np.log1p, "log_return"), target, how, indicator)
        return _like(held, np.expm1, "return")
    valid = x.values.dropna()
    if not len(valid):
        raise EstimationError(f"{x.name} has no values. Nothing can be estimated.")
    pieces = []
    for run in _runs(source.ordinals_of(valid.index)):
        low = source.ordinals_of(valid.index)[run]
        places = _places(low, source, target)
        values = valid.to_numpy()[run]
        helper = _indicator_on(places.high, target, indicator, x.name) if indicator else None
        pieces.append((places.high, *_estimate_values(values, places, method, how, helper, x.name)))
    return _join_pieces(x, target, how, method, indicator, pieces)


def _hold_until_next(x: TimeSeries, target: Frequency) -> TimeSeries:
    """Values of irregular dates, each held on every day until the next one; no day has a later value."""
    if x.metadata.is_return or x.metadata.measure == "flow":
        raise UnitError(
            f"{x.name} is {x.metadata.measure_in_words}: held on further days it would count several times. Only "
            "rates, prices and other levels are held."
        )
    valid = x.values.dropna()
    if not len(valid):
        raise EstimationError(f"{x.name} has no values. Nothing can be held.")
    days = calendar_days(valid.index)
    every = pd.bdate_range(days[0], days[-1]) if target.code == "B" else pd.date_range(days[0], days[-1])
    place = np.searchsorted(days, every.to_numpy().astype(days.dtype), side="right") - 1
    held = len(every) - int(np.isin(every.to_numpy().astype(days.dtype), days).sum())
    metadata = x.metadata.add_step(
        "disaggregated", {"frequency": target}, to=target, how="hold", values_held=held
    )
    return TimeSeries.from_arrays(valid.to_numpy()[place], every.rename(x.index.name), metadata)


def _like(x: TimeSeries, turn: np.ufunc, measure: str) -> TimeSeries:
    """The same series with its values converted to another measure."""
    return TimeSeries(turn(x.values), x.metadata.replace(measure=measure))


def _check_direction(metadata: Metadata, target: Frequency) -> None:
    if target >= metadata.frequency:
        raise FrequencyError(
            f"{metadata.name} is {metadata.frequency.name}; {target.name} is not higher. "
            "Use to_frequency for a lower one."
        )
    if target.code in "HN" or not metadata.frequency.contains(target):
        raise FrequencyError(
            f"{target.name} periods do not nest in {metadata.frequency.name} periods. Choose another frequency."
        )


def _method_of(metadata: Metadata, how: str) -> str:
    """How low-frequency values aggregate high-frequency ones: sum, mean, last or first."""
    if metadata.is_return:
        if how != "hold" or metadata.excess_of:
            kind = "excess returns" if metadata.excess_of else "returns"
            raise UnitError(
                f"{metadata.name} holds {kind}; only plain returns can "
                "be taken to a higher frequency, as the constant rate that compounds to them: how='hold'."
            )
        return "sum"
    method = default_method(metadata)
    if how == "linear" and method != "last":
        raise UnitError(
            f"{metadata.name}: lines between {_KEPT.get(method, method)} would not keep them. "
            "Linear joins end values only; use how='hold', 'denton' or 'chow-lin'."
        )
    return method


def _runs(ordinals: Ints) -> Iterator[slice]:
    """Runs of consecutive low-frequency periods; gaps are not bridged."""
    edges = [0, *(np.flatnonzero(np.diff(ordinals) != 1) + 1), len(ordinals)]
    return (slice(a, b) for a, b in itertools.pairwise(edges))


def _places(low: Ints, source: Frequency, target: Frequency) -> _Places:
    first = target.ordinals(source.starts(low[:1]))[0]
    past = target.ordinals(source.ends(low[-1:]) + np.timedelta64(1, "D"))[0]
    high = np.arange(first, past)
    of_row = source.ordinals(target.ends(high)) - low[0]
    return _Places(high, of_row, np.bincount(of_row, minlength=len(low)).astype(np.int64))


def _indicator_on(high: Ints, target: Frequency, indicator: TimeSeries, name: str) -> Floats:
    metadata = indicator.metadata
    if metadata.frequency != target:
        raise FrequencyError(f"indicator {metadata.name} is {metadata.frequency.name}; it must be {target.name}.")
    values = indicator.values.reindex(target.index(high)).to_numpy(dtype=np.float64)
    if np.isnan(values).any():
        first = target.labels(high[np.flatnonzero(np.isnan(values))[:1]])[0]
        raise AlignmentError(
            f"indicator {metadata.name} ({span_of(indicator.values.dropna().index)}) has no value at {first}, "
            f"inside {name}. Use an indicator that covers it, or a shorter sample."
        )
    return values


def _estimate_values(
    values: Floats, places: _Places, method: str, how: str, helper: Floats | None, name: str
) -> tuple[Floats, ChowLin | None]:
    if how == "hold":
        shares = values / places.sizes if method == "sum" else values
        return shares[places.of_row], None
    if how == "linear":
        ends = np.cumsum(places.sizes) - 1
        at = np.arange(len(places.high))
        return np.where(at < ends[0], np.nan, np.interp(at, ends, values)), None
    if how == "denton":
        z = np.ones(len(places.high)) if helper is None else helper
        if (z <= 0).any():
            raise UnitError(
                f"The indicator of {name} has values that are zero or negative; Denton moves in proportion "
                "to it. Use how='chow-lin'."
            )
        return _denton(values, z, places.aggregator(method)), None
    if len(places.high) > _MOST:
        raise EstimationError(
            f"{name}: {len(places.high):,} periods exceed the limit of Chow–Lin ({_MOST:,}). Use a shorter "
            "sample, or how='denton'."
        )
    columns = [np.ones(len(places.high))] + ([] if helper is None else [helper])
    estimate = chow_lin(values, np.column_stack(columns), places.aggregator(method).toarray(), name)
    return estimate.values, estimate


def _denton(low: Floats, z: Floats, aggregator: csr_matrix) -> Floats:
    """Values with the smoothest ratio to ``z`` and exact aggregates.

    Denton (1971), proportional first differences; the first ratio is free (Cholette 1984).
    """
    count, ratios = len(z), aggregator * z
    scale = abs(low).mean() / abs(ratios @ np.ones(count)).mean() or 1.0
    import scipy.sparse.linalg  # slow to import, and needed here alone

    change = scipy.sparse.diags_array([-1.0, 1.0], offsets=[0, 1], shape=(count - 1, count))
    system = scipy.sparse.block_array([[change.T @ change, ratios.T], [ratios, None]], format="csc")
    solve: Callable[[Floats], Floats] = scipy.sparse.linalg.splu(system).solve
    aims = np.concatenate([np.zeros(count), low / scale])
    answer = solve(aims)
    for _ in range(2):  # what rounding left is solved for again, so that totals are exact
        answer = answer + solve(aims - system @ answer)
    return np.asarray(answer[:count] * z * scale)


def _rho_setting(estimate: ChowLin | None) -> str | None:
    """The autocorrelation; at the edge of its range the indicator does not follow the trend of the series."""
    if estimate is None:
        return None
    edge = (
        ", at the edge of its range: the indicator does not follow the trend" if abs(estimate.rho) > 0.998 else ""
    )
    return f"{estimate.rho:.3f}{edge}"


def _join_pieces(
    x: TimeSeries,
    target: Frequency,
    how: str,
    method: str,
    indicator: TimeSeries | None,
    pieces: list[tuple[Ints, Floats, ChowLin | None]],
) -> TimeSeries:
    """The runs on one index, with missing values in the gaps."""
    high = np.arange(pieces[0][0][0], pieces[-1][0][-1] + 1)
    values = np.full(len(high), np.nan)
    errors = values.copy()
    for places, part, estimate in pieces:
        values[places - high[0]] = part
        if estimate is not None:
            errors[places - high[0]] = estimate.standard_errors
    started = int(np.argmax(np.isfinite(values)))
    metadata = x.metadata.add_step(
        "disaggregated",
        {"frequency": target, "hindsight": hindsight_of([x.metadata], _LATER)},
        to=target,
        how=how,
        keeps=_KEPT.get(method),
        indicator=indicator.name if indicator else None,
        rho=_rho_setting(pieces[-1][2]),
    )
    index = target.index(high[started:])
    joined = TimeSeries.from_arrays(values[started:], index, metadata)
    last = pieces[-1][2]
    if last is None:
        return joined
    names = ["constant", *([indicator.name] if indicator else [])]
    return EstimatedSeries(
        joined.array,
        index,
        joined.metadata,
        pd.Series(errors[started:], index=index, name="standard error"),
        pd.Series(last.coefficients, index=names),
        last.rho,
    )
