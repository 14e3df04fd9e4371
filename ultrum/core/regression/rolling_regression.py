"""Rolling regressions of many dependent variables."""

from __future__ import annotations

from concurrent.futures import Executor
from dataclasses import dataclass, replace
from typing import Final

import numpy as np
import numpy.typing as npt
import pandas as pd

from ultrum.core.arguments import accepts_large, validate_arguments
from ultrum.core.array_types import Floats, Ints
from ultrum.core.executors import each_block
from ultrum.core.presentation import quantity, table_html
from ultrum.core.regression import inputs
from ultrum.core.regression.engine.covariance_and_bootstrap import (
    check_errors,
    degrees_of_freedom,
    errors_in_words,
)
from ultrum.core.regression.engine.newey_west_and_fixed_b import check_depth, lag_rules
from ultrum.core.regression.engine.rolling_windows import Estimates, Recipe, Rows, estimate
from ultrum.core.regression.inference import t_quantile
from ultrum.core.regression.inputs import CONSTANT, Observations, spread_rows
from ultrum.core.time.frequency import Frequency
from ultrum.core.time.index_frequency_and_gaps import infer_frequency, labels_at, time_positions
from ultrum.core.time.period_labels_and_relative_dates import period_label
from ultrum.core.transform.rolling_statistics import starts_of
from ultrum.errors import EstimationError, FrequencyError, count_parts, one_of

STATUS: Final = ("estimated", "too few observations", "collinear")


@dataclass(frozen=True, eq=False, repr=False)
class RollingFit:
    """Regressions of N assets in W windows.

    Attributes
    ----------
    coefficients, standard_errors : ndarray, shape (W, N, p)
    nobs, sigma, r2 : ndarray, shape (W, N)
        Observations used, √(RSS/(nobs − p)) and R² of each window.
    status : ndarray of int8, shape (W, N)
        0 estimated, 1 too few observations, 2 collinear; estimates of status 1 and 2 are missing.
    ends : Index, shape (W,)
        Label of the last observation of each window.
    assets, terms : list of str
    errors : str
    basis : str
        Window, standard errors and sample, in words.
    lags : int or None
        Lags of Newey–West standard errors; by rule if not given.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> rolled = ul.rolling_regress(panel.excess, panel.factor_table.select(["market"]), window=60)
    >>> rolled.frame().iloc[-2:, :3].round(2)
             BRTW  EBMK  CSHW
    period
    2024-11  0.57  0.56  1.14
    2024-12  0.58  0.54  1.10
    """

    coefficients: Floats
    standard_errors: Floats
    nobs: Ints
    sigma: Floats
    r2: Floats
    status: npt.NDArray[np.int8]
    ends: pd.Index
    assets: list[str]
    terms: list[str]
    errors: str
    basis: str
    lags: int | None = None

    @property
    def t_values(self) -> Floats:
        """Coefficients over their standard errors, (W, N, p)."""
        return np.asarray(self.coefficients / self.standard_errors)

    def frame(self, field: str = "coefficients", term: str | None = None) -> pd.DataFrame:
        """One field over time, shape (W, N); ``term`` for coefficients, standard errors and t values.

        By default the first factor. The status is given in words.

        Parameters
        ----------
        field : {"coefficients", "standard_errors", "t_values", "nobs", "r2", "sigma"}
            Field to take.
        term : str, optional
            Name of the constant or factor; by default the first factor.

        Returns
        -------
        DataFrame
            Values, one row per window, one column per asset.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> rolled = ul.rolling_regress(panel.excess, panel.factor_table.select(["market"]), window=60)
        >>> rolled.frame("r2").iloc[-2:, :3].round(2)
                 BRTW  EBMK  CSHW
        period
        2024-11  0.16  0.16  0.32
        2024-12  0.17  0.16  0.31
        """
        fields = ("coefficients", "standard_errors", "t_values", "nobs", "sigma", "r2", "status")
        if field not in fields:
            raise EstimationError(f"No field '{field}'; {one_of(field, fields)}")
        values = getattr(self, field)
        if values.ndim == 3:
            values = values[:, :, self._place(term)]
        elif field == "status":
            values = np.array(STATUS, dtype=object)[values]
        return pd.DataFrame(values, self.ends, self.assets)

    def interval(self, asset: str, term: str | None = None, level: float = 0.95) -> pd.DataFrame:
        """Estimate and confidence interval of one asset through time, columns ``estimate low high``.

        Parameters
        ----------
        asset : str
            Name of the asset.
        term : str, optional
            Name of the constant or factor; by default the first factor.
        level : float
            Confidence level, between 0 and 1.

        Returns
        -------
        DataFrame
            Estimates and bounds, one row per window.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> rolled = ul.rolling_regress(panel.excess, panel.factor_table.select(["market"]), window=60)
        >>> rolled.interval("BRTW").tail(2).round(2)
                 estimate   low  high
        period
        2024-11      0.57  0.20  0.93
        2024-12      0.58  0.21  0.94
        """
        if asset not in self.assets:
            raise EstimationError(f"No asset '{asset}'; {one_of(asset, self.assets)}")
        where, which = self.assets.index(asset), self._place(term)
        centre = self.coefficients[:, where, which]
        rows = self.nobs[:, where]
        lags = lag_rules(rows) if self.lags is None else np.full(len(rows), self.lags)
        free = np.maximum(degrees_of_freedom(self.errors, rows, len(self.terms), lags.astype(float)), 1)
        reach = self.standard_errors[:, where, which] * t_quantile(level, free)
        return pd.DataFrame({"estimate": centre, "low": centre - reach, "high": centre + reach}, self.ends)

    def to_frame(self) -> pd.DataFrame:
        """One row per window and asset: each term with its standard error, observations, sigma, R² and status.

        Returns
        -------
        DataFrame
            Estimates, one row per window and asset.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> moving = ul.rolling_regress(panel.excess, panel.factor_table.select(["market"]), window=60)
        >>> moving.to_frame()[["market", "market_error", "rows"]].tail(2).round(2)
                       market  market_error  rows
        end     asset
        2024-12 TDWD     0.62          0.24    60
                LMPB     1.29          0.33    60
        """
        index = pd.MultiIndex.from_product([self.ends, self.assets], names=["end", "asset"])
        columns: dict[str, object] = {}
        for k, term in enumerate(self.terms):
            columns[term] = self.coefficients[:, :, k].ravel()
            columns[f"{term}_error"] = self.standard_errors[:, :, k].ravel()
        columns |= {"rows": self.nobs.ravel(), "sigma": self.sigma.ravel(), "r2": self.r2.ravel()}
        words = pd.Categorical.from_codes(self.status.ravel().astype(np.int64), categories=pd.Index(STATUS))
        return pd.DataFrame({**columns, "status": words}, index)

    def _place(self, term: str | None) -> int:
        term = term or next((t for t in self.terms if t != CONSTANT), self.terms[0])
        if term not in self.terms:
            raise EstimationError(f"No term '{term}'; {one_of(term, self.terms)}")
        return self.terms.index(term)

    def __repr__(self) -> str:
        return f"{self._head()}\n{self._summary().round(3).to_string(max_rows=24, line_width=100)}"

    def _repr_html_(self) -> str:
        return table_html(self._summary(), self._head(), 24)

    def _head(self) -> str:
        words = [f"{int((self.status == k).sum())} {name}" for k, name in enumerate(STATUS)]
        head = f"{quantity(len(self.ends), 'window')} of {quantity(len(self.assets), 'asset')}"
        return f"{head}, {self.basis}\n{', '.join(words)}"

    def _summary(self) -> pd.DataFrame:
        """First, minimum, maximum and last estimate of the first factor, by asset."""
        shown = self.frame()
        error = self.frame("standard_errors")
        return pd.DataFrame(
            {
                f"first {self.terms[self._place(None)]}": shown.bfill().iloc[0],
                "min": shown.min(),
                "max": shown.max(),
                "last": shown.ffill().iloc[-1],
                "last SE": error.ffill().iloc[-1],
                "windows": (self.status == 0).sum(axis=0),
            }
        )


# Rolling regressions of many dependent variables at once

EXPANDING: Final = "expanding"
_FIRST_EXPANDING: Final = 60  # rows of the first expanding window
_BLOCK: Final = 1000  # dependent variables at a time; fixed, so that results do not depend on who works


@accepts_large("Y")
@validate_arguments
def rolling_regress(
    Y: object,
    X: object,
    *,
    window: int | str = 60,
    min_obs: int | None = None,
    errors: str = "hac",
    lags: int | None = None,
    half_life: float | None = None,
    step: int | str = 1,
    constant: bool = True,
    executor: Executor | None = None,
    to: str | None = None,
) -> RollingFit:
    """Rolling-window or expanding-window least squares of many assets, each on its own observations.

    Parameters
    ----------
    Y : TimeSeries, SeriesTable, LongTable, pandas or array; shape (T,) or (T, N)
        Dependent variables; values may be missing anywhere.
    X : TimeSeries, SeriesTable, pandas or array; shape (T,) or (T, K)
        Factors; an observation with a missing factor is not used.
    window : int, str
        Window length in calendar periods (for daily data observations and missing weekdays), a duration such as
        ``P5Y``, or ``"expanding"`` from the first observation. The first window is the first one that the data
        cover completely.
    min_obs : int, optional
        Minimum number of observations per window and asset; by default max(p + 1, ⌈2/3·window⌉), 60 for expanding
        windows.
    errors : {"classical", "hc0", "hc1", "hc2", "hc3", "hac", "hac-fixed-b", "ewc", "ewc-prewhitened"}
    lags : int, optional
        Lags of ``hac``; by default the rule for the observations of each estimate.
    half_life : float, optional
        Half-life of exponentially decaying weights, in periods; the newest observation has the largest weight.
    step : int or str
        Periods between windows; the last window always ends with the data. Or a lower frequency such as ``"M"``:
        windows end with the last observation of each of its periods.
    constant : bool
        Whether to estimate a constant.
    executor : concurrent.futures.Executor, optional
        Executor for blocks of 1,000 assets; by default threads of this process. The results are bit-identical for
        all executors. A block whose worker dies is repeated.
    to : path, optional
        Path of the results of a :class:`ultrum.LongTable`; not used otherwise.

    Returns
    -------
    RollingFit
        About 16·W·N·(p + 2) bytes. For a LongTable another LongTable: one row per asset and window with data,
        columns ``asset date``, each term and its standard error, ``rows sigma r2 status``.

    Raises
    ------
    EstimationError
        If the window is longer than the data, or not longer than the number of coefficients.

    Notes
    -----
    Sums of products are computed afresh in every window, from values less their medians, so a wrong price affects
    only windows that contain it; ill-conditioned windows are solved by QR.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> made = rolling_regress(panel.excess, panel.factor_table.select(["market"]), window=60)
    >>> made.frame("coefficients", "market").shape
    (193, 23)
    """
    inputs.check_excess(Y, X)
    left, right, _ = inputs.match_rows(inputs.observations_of(Y, "y")[0], inputs.observations_of(X, "x")[0])
    design = inputs.with_constant(right) if constant else right
    left, design = on_calendar(left, design)
    plan = RollingPlan.of(design, window, min_obs, errors, lags, half_life, step, constant)
    estimates = _run_blocks(left.check_finite("Y"), plan, executor)
    return RollingFit(
        coefficients=estimates.coefficients.transpose(0, 2, 1),
        standard_errors=estimates.standard_errors.transpose(0, 2, 1),
        nobs=estimates.nobs,
        sigma=estimates.sigma,
        r2=estimates.r2,
        status=estimates.status,
        ends=plan.ends,
        assets=[str(c) for c in left.names],
        terms=plan.terms,
        errors=plan.recipe.errors,
        basis=plan.basis,
        lags=plan.recipe.lags,
    )


@dataclass(frozen=True)
class RollingPlan:
    """The parts of an estimation shared by all dependent variables: windows, design and options.

    Parameters
    ----------
    X : ndarray, shape (T, p)
        With the constant, if there is one.
    starts, stops : ndarray, shape (W,)
    """

    X: Floats
    starts: Ints
    stops: Ints
    recipe: Recipe
    constant: bool
    ends: pd.Index
    terms: list[str]
    basis: str

    @classmethod
    def of(
        cls,
        design: Observations,
        window: int | str,
        min_obs: int | None,
        errors: str,
        lags: int | None,
        half_life: float | None,
        step: int | str,
        constant: bool,
    ) -> RollingPlan:
        """The plan of a design whose rows are the calendar."""
        errors = check_errors(errors, lags)
        index = design.index
        starts, stops = _windows(index, window, step, min_obs)
        least = _least_rows(min_obs, window, starts, stops, len(design.names))
        check_depth(lags, int((stops - starts).max()))
        decay = _decay(half_life, int((stops - starts).max()))
        kind = f"window {window}" + (f", half-life {half_life:g}" if half_life else "")
        span = f"{period_label(index[0])} to {period_label(index[-1])}"
        return cls(
            X=design.check_finite("X"),
            starts=starts,
            stops=stops,
            recipe=Recipe(errors, lags, least, decay),
            constant=constant,
            ends=index[stops - 1],
            terms=[str(c) for c in design.names],
            basis=f"{kind}, at least {quantity(least, 'observation')}; {errors_in_words(errors)}, for each "
            f"window alone; {span}",
        )

    def within(self, low: int, high: int) -> tuple[RollingPlan, int, int]:
        """The windows that contain some of the rows from ``low`` to before ``high``; first row, first window."""
        some = np.flatnonzero((self.stops > low) & (self.starts < high))
        if not len(some):
            return replace(self, starts=self.starts[:0], stops=self.stops[:0], X=self.X[:0]), 0, 0
        wanted = slice(int(some[0]), int(some[-1]) + 1)
        first, last = int(self.starts[wanted].min()), int(self.stops[wanted].max())
        part = replace(
            self,
            X=self.X[first:last],
            starts=self.starts[wanted] - first,
            stops=self.stops[wanted] - first,
            ends=self.ends[wanted],
        )
        return part, first, wanted.start

    def estimates(self, Y: Floats, into: Estimates | None = None) -> Estimates:
        """Windows of dependent variables (T, N) on the rows of the plan."""
        return estimate(Rows(Y, self.X, self.constant), self.starts, self.stops, self.recipe, into)


def _run_blocks(Y: Floats, plan: RollingPlan, executor: Executor | None) -> Estimates:
    """All blocks of assets, by the given executor or by a few threads of this process."""
    assets = Y.shape[1]
    estimates = Estimates.room(len(plan.starts), len(plan.terms), assets, False)
    cuts = [slice(low, min(low + _BLOCK, assets)) for low in range(0, assets, _BLOCK)]
    parts = [estimates.part(cut.start, cut.stop) for cut in cuts]
    if executor is None:  # threads write where the results belong
        jobs = [(Y[:, cut], part) for cut, part in zip(cuts, parts, strict=True)]
        for _ in count_parts(
            each_block(lambda job: plan.estimates(*job), jobs), "rolling_regress, blocks", len(jobs)
        ):
            pass
        return estimates
    results = each_block(plan.estimates, [Y[:, cut] for cut in cuts], executor)
    for part, block in zip(parts, results, strict=True):
        _copy_block(block, part)
    return estimates


def _copy_block(source: Estimates, into: Estimates) -> None:
    for name in ("coefficients", "standard_errors", "nobs", "sigma", "r2", "status"):
        getattr(into, name)[...] = getattr(source, name)


def on_calendar(left: Observations, design: Observations) -> tuple[Observations, Observations]:
    """Absent rows of the calendar are inserted as missing, since windows are spans of time."""
    positions = time_positions(left.index)
    rows = int(positions[-1] - positions[0]) + 1
    if rows == len(left.index):
        return left, design
    places = positions - positions[0]
    labels = labels_at(left.index, positions, positions[0] + np.arange(rows))
    return (
        Observations(spread_rows(left.values, places, rows), labels, left.names),
        Observations(spread_rows(design.values, places, rows), labels, design.names),
    )


def _windows(index: pd.Index, window: int | str, step: int | str, min_obs: int | None) -> tuple[Ints, Ints]:
    """First row of each window, and the row after its last."""
    rows = len(index)
    if window == EXPANDING:
        first = min_obs or _FIRST_EXPANDING
        starts = np.zeros(max(rows - first + 1, 0), dtype=np.int64)
    elif isinstance(window, int) or str(window).isdigit():
        first = int(window)
        if (min_obs or 0) > first:
            raise EstimationError(f"min_obs={min_obs} is more than the window of {first}.")
        starts = np.arange(max(rows - first + 1, 0))
    else:
        starts, first = _of_duration(index, str(window))
    if first < 1 or not len(starts):
        raise EstimationError(
            f"rolling_regress: a window of {quantity(first, 'observation')} does not fit in "
            f"{quantity(rows, 'observation')}. Use a shorter window."
        )
    stops = np.arange(rows - len(starts) + 1, rows + 1)
    kept = _window_places(index[stops - 1], step)
    return starts[kept].astype(np.int64), stops[kept].astype(np.int64)


def _window_places(ends: pd.Index, step: int | str) -> Ints:
    """Positions of the requested windows, by their ends."""
    if isinstance(step, int):
        if step < 1:
            raise EstimationError(f"step={step}: it must be 1 or more.")
        return np.arange(len(ends) - 1, -1, -step)[::-1]
    if not isinstance(ends, pd.PeriodIndex | pd.DatetimeIndex):
        raise EstimationError(f"step='{step}' needs dates, but the index has none. Use an integer step.")
    days = ends.to_timestamp(how="end") if isinstance(ends, pd.PeriodIndex) else ends
    try:
        periods = Frequency.parse(step).ordinals(days)
    except FrequencyError as error:
        raise EstimationError(f"step='{step}': {error}") from error
    return np.flatnonzero(np.append(np.diff(periods) != 0, True))


def _of_duration(index: pd.Index, window: str) -> tuple[Ints, int]:
    """Starts of the windows of a duration that the data cover completely, and the rows of the first."""
    try:
        frequency = infer_frequency(index)
    except FrequencyError as error:
        raise EstimationError(f"window='{window}' needs dates: {error}") from error
    ordinals = frequency.ordinals_of(index)
    starts = starts_of(window, ordinals, frequency)
    begun = np.flatnonzero(starts > 0)
    if not len(begun):
        raise EstimationError(f"No window of {window} fits in the {quantity(len(index), 'row')} of the data.")
    first = int(begun[0]) if starts[begun[0]] > 0 else 0
    whole = max(first - 1, 0)  # the window before the first that leaves a row out is the first whole one
    return np.asarray(starts[whole:], dtype=np.int64), whole + 1


def _least_rows(min_obs: int | None, window: int | str, starts: Ints, stops: Ints, terms: int) -> int:
    if min_obs is not None:
        if min_obs <= terms:
            raise EstimationError(
                f"min_obs={min_obs} for {terms} coefficients; at least {quantity(terms + 1, 'row')} are needed."
            )
        return min_obs
    if window == EXPANDING:
        return max(terms + 1, _FIRST_EXPANDING)
    widest = int((stops - starts).max())
    if widest <= terms:
        raise EstimationError(
            f"rolling_regress: a window of {widest} observations is too short for {terms} coefficients. Use a "
            "longer window."
        )
    return max(terms + 1, -(-2 * widest // 3))


def _decay(half_life: float | None, widest: int) -> Floats | None:
    """Weights of the observations of the widest window, oldest first."""
    if half_life is None:
        return None
    if not half_life > 0:
        raise EstimationError(
            f"rolling_regress: half_life must be a positive number of periods; got {half_life}."
        )
    return np.asarray(0.5 ** (np.arange(widest - 1, -1, -1) / half_life))
