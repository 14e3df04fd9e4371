"""The public `regress`: takes labelled data, checks them, estimates, and labels the answer."""

from __future__ import annotations

from typing import Any, overload

import numpy as np
import numpy.typing as npt
import pandas as pd

from ultrum.core.labels import infer_frequency
from ultrum.core.regression.covariance import covariance, lag_rule
from ultrum.core.regression.results import CONSTANT, BetaTable, Fit
from ultrum.core.regression.solve import least_squares
from ultrum.core.series import SeriesTable, TimeSeries
from ultrum.core.types import Bools, Floats, Ints
from ultrum.errors import AlignmentError, EstimationError, FrequencyError, UnitError

Vector = pd.Series | TimeSeries | list[float]
NO_RESPONSE, NO_FACTOR, TOO_SHORT = "missing left-hand side", "missing factor", "too few rows"


@overload
def regress(
    y: Vector, X: Any, *, errors: str = ..., lags: int | None = ..., constant: bool = ...
) -> Fit: ...
@overload
def regress(
    y: pd.DataFrame | SeriesTable,
    X: Any,
    *,
    errors: str = ...,
    lags: int | None = ...,
    constant: bool = ...,
) -> BetaTable: ...
@overload
def regress(
    y: npt.NDArray[Any], X: Any, *, errors: str = ..., lags: int | None = ..., constant: bool = ...
) -> Any: ...
def regress(
    y: Any, X: Any, *, errors: str = "hac", lags: int | None = None, constant: bool = True
) -> Fit | BetaTable:
    """Least squares of one left-hand side, or of many at once, each on its own sample.

    Parameters
    ----------
    y : TimeSeries, SeriesTable, pandas or array; shape (T,) or (T, N)
        Left-hand side. Missing values drop the row for that column only.
    X : TimeSeries, SeriesTable, pandas or array; shape (T,) or (T, K)
        Factors, without the constant. Labelled data are matched by their labels.
    errors : {"hac", "classical", "hc0", "hc1", "hc2", "hc3"}
        Standard errors. ``hac`` is Newey and West (1987).
    lags : int, optional
        Lags of ``hac``; by default floor(4(T/100)^(2/9)).
    constant : bool
        Whether to put a constant first.

    Returns
    -------
    Fit
        For one left-hand side.
    BetaTable
        For many. One with too few rows of its own has missing estimates; all its rows are lost.

    Raises
    ------
    EstimationError
        If rows are too few or columns depend on each other; the columns are named.
    UnitError
        If a return in excess of the risk-free rate meets one that is not.

    Notes
    -----
    Solved by Householder QR on columns of unit length, with one step of refinement. Formulas of
    the standard errors are in :mod:`ultrum.core.regression.covariance`.

    Examples
    --------
    >>> import numpy as np
    >>> x = np.array([60.0, 61, 62, 63, 64])
    >>> fit = regress(pd.Series(2 * x + [0.1, -0.1, 0, 0.1, -0.1]), x, errors="classical")
    >>> fit.coefficients.round(3).to_dict()
    {'constant': 1.24, 'x1': 1.98}
    """
    _check_excess(y, X)
    if lags is not None and lags < 0:
        raise EstimationError(f"lags={lags}: a number of periods, 0 or more.")
    left, single = _frame(y, "y")
    right, _ = _frame(X, "x")
    left, right, missed = _matched(left, right)
    design = _with_constant(right) if constant else right
    table = _estimate(left, design, errors, lags, missed)
    return table.fit(str(left.columns[0])) if single else table


def _estimate(
    left: pd.DataFrame, design: pd.DataFrame, errors: str, lags: int | None, missed: int
) -> BetaTable:
    """Estimate columns that share their rows together; put the pieces in one table."""
    Y, X = _numbers(left, "y"), _numbers(design, "X")
    moments = _moments(left.index)
    (rows, assets), terms = Y.shape, X.shape[1]
    coefficients = np.full((assets, terms), np.nan)
    covariances = np.full((assets, terms, terms), np.nan)
    residuals = np.full((rows, assets), np.nan)
    r2, depth, condition = np.full((3, assets), np.nan)
    short = np.zeros(assets, dtype=np.int64)
    whole: Bools = np.asarray(np.isfinite(X).all(axis=1))
    used = np.isfinite(Y) & whole[:, None]
    for columns in _same_rows(used):
        mask = used[:, columns[0]]
        if assets > 1 and mask.sum() <= terms:
            short[columns] = mask.sum()  # its own estimate is missing, the others go on
            continue
        solution = _solve(X[mask], Y[np.ix_(mask, columns)], design, left.columns[columns[0]])
        coefficients[columns] = solution.coefficients.T
        covariances[columns] = covariance(
            errors, solution.influence, solution.residuals, solution.leverage, moments[mask], lags
        )
        residuals[np.ix_(mask, columns)] = solution.residuals
        r2[columns] = _r2(Y[np.ix_(mask, columns)], solution.residuals, CONSTANT in design)
        depth[columns] = _depth(errors, lags, int(mask.sum()))
        condition[columns] = solution.condition
    names = left.columns
    lost = {
        NO_RESPONSE: (~np.isfinite(Y) & whole[:, None]).sum(axis=0) + missed,
        NO_FACTOR: np.full(assets, int((~whole).sum())),
    }
    if short.any():
        lost[TOO_SHORT] = short
    return BetaTable(
        coefficients=pd.DataFrame(coefficients, names, design.columns),
        covariance=covariances,
        r2=pd.Series(r2, names),
        lags=pd.Series(depth, names),
        condition_numbers=pd.Series(condition, names),
        residuals=pd.DataFrame(residuals, left.index, names),
        response=left,
        design=design,
        lost=pd.DataFrame(lost, names),
        errors=errors,
    )


def _solve(X: Floats, Y: Floats, design: pd.DataFrame, name: str) -> Any:
    try:
        return least_squares(X, Y, [str(c) for c in design.columns])
    except EstimationError as error:
        raise EstimationError(f"{name}: {error}") from None


def _same_rows(used: Bools) -> list[Ints]:
    """Columns grouped by the rows they use."""
    packed = np.packbits(used, axis=0).T
    groups: dict[bytes, list[int]] = {}
    for column, key in enumerate(packed):
        groups.setdefault(key.tobytes(), []).append(column)
    return [np.asarray(columns, dtype=np.int64) for columns in groups.values()]


def _r2(Y: Floats, residuals: Floats, centred: bool) -> Floats:
    about = Y - Y.mean(axis=0) if centred else Y
    total = np.sum(about**2, axis=0)
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.asarray(1.0 - np.sum(residuals**2, axis=0) / total)


def _depth(errors: str, lags: int | None, rows: int) -> float:
    if errors != "hac":
        return np.nan
    return lag_rule(rows) if lags is None else lags


def _numbers(frame: pd.DataFrame, stem: str) -> Floats:
    try:
        return frame.to_numpy(dtype=np.float64)
    except (TypeError, ValueError) as error:
        raise EstimationError(f"{stem} holds something that is no number: {error}.") from None


def _frame(data: Any, stem: str) -> tuple[pd.DataFrame, bool]:
    """Any input as a frame of floats, and whether it was one series."""
    if isinstance(data, TimeSeries | SeriesTable):
        return data.to_frame(), isinstance(data, TimeSeries)
    if isinstance(data, pd.Series):
        return data.to_frame(data.name if data.name is not None else f"{stem}1"), True
    if isinstance(data, pd.DataFrame):
        return data, False
    try:
        block = np.asarray(data, dtype=np.float64)
    except (TypeError, ValueError) as error:
        raise EstimationError(f"{stem} is no array of numbers: {error}.") from None
    if block.ndim not in (1, 2):
        raise EstimationError(f"{stem} has {block.ndim} dimensions; rows, or rows and columns.")
    single = block.ndim == 1
    block = block[:, None] if single else block
    names = [f"{stem}{i + 1}" for i in range(block.shape[1])]
    return pd.DataFrame(block, columns=names), single


def _matched(left: pd.DataFrame, right: pd.DataFrame) -> tuple[pd.DataFrame, pd.DataFrame, int]:
    """Both frames on the factors' rows, and the number of left rows without factors."""
    for name, frame in (("y", left), ("X", right)):
        if not frame.index.is_unique:
            raise AlignmentError(f"Row labels repeat in {name}; keep one row of each.")
        if not frame.columns.is_unique:
            twice = frame.columns[frame.columns.duplicated()][0]
            raise AlignmentError(f"{name} has two columns named '{twice}'; rename one.")
    if left.index.equals(right.index):
        return left, right, 0
    if isinstance(left.index, pd.RangeIndex) and isinstance(right.index, pd.RangeIndex):
        raise AlignmentError(
            f"y has {len(left)} rows, X has {len(right)}, and no labels match them."
        )
    if len(left) == len(right) and isinstance(right.index, pd.RangeIndex):
        return left, right.set_axis(left.index), 0  # a plain array stands row by row
    shared = left.index.intersection(right.index, sort=True)
    if not len(shared):
        raise AlignmentError(
            f"y ({left.index[0]} to {left.index[-1]}) and X ({right.index[0]} to "
            f"{right.index[-1]}) share no label; bring both to one frequency and span."
        )
    return left.loc[shared], right.loc[shared], len(left) - len(shared)


def _with_constant(right: pd.DataFrame) -> pd.DataFrame:
    if CONSTANT in right:
        raise EstimationError("X has a column 'constant' already; drop it or say constant=False.")
    design = right.astype(np.float64)
    design.insert(0, CONSTANT, 1.0)
    return design


def _moments(index: pd.Index) -> Ints:
    """Integers that count periods, so that lags skip gaps; trading days count as they come."""
    rows = np.arange(len(index), dtype=np.int64)
    if not isinstance(index, pd.PeriodIndex | pd.DatetimeIndex):
        return rows
    try:
        frequency = infer_frequency(index)
    except FrequencyError:
        return rows
    return rows if frequency.is_dated else frequency.ordinals_of(index)


def _check_excess(y: Any, X: Any) -> None:
    """Refuse an excess return on a factor that is not in excess, and the other way round."""
    if not isinstance(y, TimeSeries | SeriesTable) or not isinstance(X, TimeSeries | SeriesTable):
        return
    left, right = (d.about if isinstance(d, SeriesTable) else (d.about,) for d in (y, X))
    for mine in left:
        for factor in right:
            if (
                mine.is_return
                and factor.is_return
                and bool(mine.excess_of) != bool(factor.excess_of)
            ):
                plain, other = (factor, mine) if mine.excess_of else (mine, factor)
                raise UnitError(
                    f"{other.name} is in excess of {other.excess_of}, {plain.name} is not in "
                    f"excess of anything. Apply excess({plain.name}, risk_free) first."
                )
