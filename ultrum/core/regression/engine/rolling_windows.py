"""Estimates, covariances and standard errors in every window, on arrays."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from ultrum.core.array_types import Bools, Floats, Ints
from ultrum.core.executors import Workspace
from ultrum.core.regression.engine.covariance_and_bootstrap import COSINE, HAC, covariance
from ultrum.core.regression.engine.least_squares import (
    BatchSolution,
    Shift,
    coefficients_of,
    double_off_diagonal,
    influence_on_data,
    inverse_on_data,
    least_squares,
    pack_inverse,
    pack_products,
    sandwich,
    sandwich_variances,
    solve_batch,
    variances_of_inverse,
)
from ultrum.core.regression.engine.newey_west_and_fixed_b import (
    bartlett_weight,
    cosine_count,
    cosine_sum,
    lag_rules,
    least_persistence,
)
from ultrum.errors import EstimationError

ESTIMATED, TOO_FEW, DEPENDENT = 0, 1, 2
_AT_ONCE = 24576  # estimates worked on together, so that their small matrices stay in the cache
_IN_CACHE = 600_000  # bytes of products of residuals with all lags
_SPARSE = 4  # rows between windows from which on sums of stretches are worth while
_SAMPLED = 25  # rows looked at for a centre of each dependent variable


@dataclass(frozen=True)
class Rows:
    """Dependent variables (T,N) and regressors (T,p), shifted near zero, with missing values set to zero."""

    Y: Floats
    X: Floats
    constant: bool
    shift: Shift = field(init=False)
    shifted: Floats = field(init=False)
    products: Floats = field(init=False)
    present: Floats = field(init=False)
    centre: Floats = field(init=False)
    response: Floats = field(init=False)
    squares: Floats = field(init=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "Y", np.ascontiguousarray(self.Y))
        whole: Bools = np.asarray(np.isfinite(self.X).all(axis=1))
        shift = Shift.of(self.X[whole], self.constant)
        shifted = np.where(whole[:, None], shift.apply(self.X), 0.0)
        valid: Bools = np.asarray(np.isfinite(self.Y))
        valid &= whole[:, None]
        centre = _middle(self.Y) if self.constant else np.zeros(self.Y.shape[1])
        response = self.Y - centre
        np.copyto(response, 0.0, where=~valid)
        arrays = {
            "shift": shift,
            "shifted": shifted,
            "products": pack_products(shifted),
            "present": valid.astype(np.float64),
            "centre": centre,
            "response": response,
            "squares": response * response,
        }
        for name, value in arrays.items():
            object.__setattr__(self, name, value)


@dataclass(frozen=True)
class Recipe:
    """Requested estimates of every window; ``decay`` weighs its observations, oldest first."""

    errors: str
    lags: int | None
    min_obs: int
    decay: Floats | None = None
    whole_covariance: bool = False


@dataclass(frozen=True)
class Estimates:
    """Of W windows: coefficients and standard errors (W,p,N); the rest (W,N); covariance (W,N,p,p) or none."""

    coefficients: Floats
    standard_errors: Floats
    nobs: Ints
    sigma: Floats
    r2: Floats
    status: npt.NDArray[np.int8]
    covariance: Floats | None

    @classmethod
    def room(cls, windows: int, terms: int, assets: int, whole_covariance: bool) -> Estimates:
        """Allocated results; :func:`_fill` writes every window."""
        flat = (windows, assets)
        return cls(
            np.empty((windows, terms, assets)),
            np.empty((windows, terms, assets)),
            np.empty(flat, dtype=np.int64),
            np.empty(flat),
            np.empty(flat),
            np.empty(flat, dtype=np.int8),
            np.empty((*flat, terms, terms)) if whole_covariance else None,
        )

    def part(self, low: int, high: int) -> Estimates:
        """Views of the dependent variables from ``low`` to before ``high``."""
        covariance = None if self.covariance is None else self.covariance[:, low:high]
        return Estimates(
            self.coefficients[:, :, low:high],
            self.standard_errors[:, :, low:high],
            self.nobs[:, low:high],
            self.sigma[:, low:high],
            self.r2[:, low:high],
            self.status[:, low:high],
            covariance,
        )


def estimate(rows: Rows, starts: Ints, stops: Ints, recipe: Recipe, into: Estimates | None = None) -> Estimates:
    """Estimates of the windows ``starts[w] ≤ row < stops[w]``, for every dependent variable.

    They are written to ``into`` if given, such as one block of a larger result.
    """
    terms, assets = rows.X.shape[1], rows.Y.shape[1]
    estimates = into or Estimates.room(len(starts), terms, assets, recipe.whole_covariance)
    for windows in _alike(starts, stops, max(1, _AT_ONCE // max(assets, 1))):
        _fill(
            estimates, rows, starts[windows], int(stops[windows.start] - starts[windows.start]), windows, recipe
        )
    return estimates


def _alike(starts: Ints, stops: Ints, most: int) -> Iterator[slice]:
    """Runs of windows of one width."""
    changes = np.flatnonzero(np.diff(stops - starts)) + 1
    bounds = [0, *changes.tolist(), len(starts)]
    for low, high in itertools.pairwise(bounds):
        for first in range(low, high, most):
            yield slice(first, min(first + most, high))


def _fill(estimates: Estimates, rows: Rows, starts: Ints, width: int, where: slice, recipe: Recipe) -> None:
    """Estimate one run of windows and store it at its position."""
    view = _Views(rows, starts, width, recipe.decay)
    terms = rows.X.shape[1]
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        gram = view.sum_of(rows.products, rows.present)
        nobs = view.counts(gram)
        enough = nobs >= max(recipe.min_obs, terms + 1)
        solution = solve_batch(
            gram, view.sum_of(rows.shifted, rows.response), view.sum_of_squares(), rows.constant
        )
        variance = solution.rss / (nobs - terms)
        estimates.nobs[where], estimates.sigma[where] = (nobs, np.sqrt(variance / view.mean_weights(nobs)))
        estimates.r2[where] = 1.0 - solution.rss / solution.tss
        estimates.coefficients[where] = coefficients_of(solution, rows.shift, rows.centre).swapaxes(0, 1)
        variances = _variances(estimates, where, view, rows, solution, variance, nobs, enough, recipe)
        estimates.standard_errors[where] = np.sqrt(variances).swapaxes(0, 1)
    estimates.status[where] = np.where(enough, ESTIMATED, TOO_FEW)
    _blank_short(estimates, where, enough)
    for window, asset in np.argwhere(solution.loose & enough):
        span = slice(int(starts[window]), int(starts[window]) + width)
        _by_qr(estimates, rows, where.start + int(window), span, int(asset), recipe)


def _variances(
    estimates: Estimates,
    where: slice,
    view: _Views,
    rows: Rows,
    solution: BatchSolution,
    variance: Floats,
    nobs: Ints,
    enough: Bools,
    recipe: Recipe,
) -> Floats:
    """Variances (p, B, N) of the coefficients; full covariances are stored where requested."""
    if recipe.errors == "classical" and estimates.covariance is None:
        return variance * variances_of_inverse(solution, rows.shift)
    if recipe.errors == "classical":
        matrix = inverse_on_data(solution, rows.shift) * variance
    else:
        influence = influence_on_data(solution, rows.shift)
        if recipe.errors in COSINE:
            prewhiten = recipe.errors != "ewc"
            matrix = _cosine_covariance(view, rows, solution, nobs, influence, prewhiten)
        else:
            meat = _meat(view, rows, solution, nobs, enough, recipe)
            if estimates.covariance is None:
                return sandwich_variances(influence, meat)
            matrix = sandwich(influence, meat)
    if estimates.covariance is not None:
        estimates.covariance[where] = matrix.transpose(2, 3, 0, 1)
    return np.asarray(np.diagonal(matrix).transpose(2, 0, 1))


class _Views:
    """Windows of one width over the rows of a block, and weighted sums in them by matrix products."""

    def __init__(self, rows: Rows, starts: Ints, width: int, decay: Floats | None) -> None:
        self.starts, self.count, self.width = starts, len(starts), width
        self.decay = decay
        self.weights = None if decay is None else decay[-width:] / decay[-width:].mean()
        self.rows = rows
        steps = np.diff(starts)
        self.step = int(steps[0]) if len(steps) and (steps == steps[0]).all() else int(not len(steps))

    @property
    def sparse(self) -> bool:
        """Whether windows are far enough apart to sum stretches of rows once and combine them."""
        return self.weights is None and self.count > 1 and not 0 < self.step < _SPARSE

    def of(self, block: Floats) -> Floats:
        """The windows of a block (T, C) as (B, width, C): a view where they are evenly spaced."""
        if not self.step:
            return np.asarray(block[self.starts[:, None] + np.arange(self.width)])
        strides = (block.strides[0] * self.step, *block.strides)
        shape = (self.count, self.width, block.shape[1])
        return np.lib.stride_tricks.as_strided(block[int(self.starts[0]) :], shape, strides, writeable=False)

    def sum_of_squares(self) -> Floats:
        """Σ over rows of each squared dependent variable, (B, N); shared parts of windows are summed once."""
        squares = self.rows.squares
        if self.weights is not None or self.step != 1 or self.count > self.width:
            return self.sum_of(np.ones((len(squares), 1)), squares)[:, 0]
        first, last = int(self.starts[0]), int(self.starts[-1])
        sums = np.empty((self.count, squares.shape[1]))
        before = np.cumsum(squares[first:last][::-1], axis=0)[::-1]
        after = np.cumsum(squares[first + self.width : last + self.width], axis=0)
        sums[:] = squares[last : first + self.width].sum(axis=0)
        sums[:-1] += before
        sums[1:] += after
        return sums

    def sum_of(self, left: Floats, right: Floats) -> Floats:
        """Σ over rows of left' right, (B, columns, N)."""
        if self.sparse:
            return self._by_stretches(left, right)
        columns = self.of(left)
        if self.weights is not None:
            columns = columns * self.weights[None, :, None]
        return np.asarray(np.matmul(columns.transpose(0, 2, 1), self.of(right)))

    def _by_stretches(self, left: Floats, right: Floats) -> Floats:
        """The same sums by stretches between starts and stops; nothing is subtracted."""
        cuts = np.unique(np.concatenate([self.starts, self.starts + self.width]))
        parts = np.empty((len(cuts) - 1, left.shape[1], right.shape[1]))
        for part, low, high in zip(parts, cuts[:-1], cuts[1:], strict=True):
            np.matmul(left[low:high].T, right[low:high], out=part)
        sums = np.empty((self.count, *parts.shape[1:]))
        places = np.searchsorted(cuts, self.starts), np.searchsorted(cuts, self.starts + self.width)
        for out, low, high in zip(sums, *places, strict=True):
            np.add.reduce(parts[low:high], axis=0, out=out)
        return sums

    def counts(self, gram: Floats) -> Ints:
        """Valid observations, (B, N); part of the moments where there is a constant without weights."""
        if self.rows.constant and self.weights is None:
            return np.rint(gram[:, 0]).astype(np.int64)
        plain = _Views(self.rows, self.starts, self.width, None)
        ones = np.ones((len(self.rows.present), 1))
        return np.rint(plain.sum_of(ones, self.rows.present)[:, 0]).astype(np.int64)

    def mean_weights(self, nobs: Ints) -> Floats:
        """Mean weight of the valid observations, (B, N), which scales σ to weights of mean one."""
        if self.weights is None:
            return np.ones((1, 1))
        ones = np.ones((len(self.rows.present), 1))
        return np.asarray(self.sum_of(ones, self.rows.present)[:, 0] / nobs)

    def one(self, which: int) -> _Views:
        """One of the windows."""
        return _Views(self.rows, self.starts[which : which + 1], self.width, self.decay)


def _meat(view: _Views, rows: Rows, solution: BatchSolution, nobs: Ints, enough: Bools, recipe: Recipe) -> Floats:
    """Packed sums (B, q, N) of products of scores, with the formulas of ``covariance``.

    One window and some dependent variables at a time, so that the products of residuals fit in the cache; zero
    where there are not enough observations.
    """
    meat = np.zeros((view.count, rows.products.shape[1], nobs.shape[1]))
    depth = np.zeros_like(nobs)
    if recipe.errors in HAC:
        depth = lag_rules(nobs) if recipe.lags is None else np.full_like(nobs, recipe.lags)
    lagged = _LaggedProducts(rows, view.width)
    slack = double_off_diagonal(pack_inverse(solution)) if recipe.errors in ("hc2", "hc3") else None
    at_once = max(16, _IN_CACHE // (8 * view.width * (1 + min(int(depth.max(initial=0)), view.width - 1))))
    for which, start in enumerate(view.starts.tolist()):
        window = slice(start, start + view.width)
        every = np.flatnonzero(enough[which])
        whole = len(every) == nobs.shape[1]
        for low in range(0, len(every), at_once):
            some: slice | Ints = every[low : low + at_once]
            own = depth[which, some]  # each estimate has its own number of lags, nearly always the same
            if whole:
                some = slice(low, low + len(own))
            errors = rows.shifted[window] @ _columns(solution.coefficients[:, which], some)
            np.subtract(_columns(rows.response[window], some), errors, out=errors)
            errors *= _columns(rows.present[window], some)
            if slack is not None:
                _divide_by_slack(
                    errors, rows.products[window] @ _columns(slack[which], some), view.weights, recipe.errors
                )
            if view.weights is not None:
                errors *= view.weights[:, None]
            for lags in range(int(own.min()), int(own.max()) + 1):
                places = np.flatnonzero(own == lags)
                if len(places) == len(own):
                    meat[which][:, some] = lagged.sums(errors, start, lags)
                elif len(places):
                    meat[which][:, every[low + places]] = lagged.sums(errors[:, places], start, lags)
    if recipe.errors in ("hc1", *HAC):
        meat *= (nobs / (nobs - rows.X.shape[1]))[:, None]
    return meat


def _columns(block: Floats, some: slice | Ints) -> Floats:
    """Some columns with rows in one piece, as products of matrices are."""
    return block[:, some] if isinstance(some, slice) else np.take(block, some, axis=1, mode="clip")


def _divide_by_slack(errors: Floats, leverage: Floats, weights: Floats | None, kind: str) -> None:
    """Residuals over 1 − leverage, or its root, in place."""
    if weights is not None:
        leverage *= weights[:, None]
    free = np.maximum(1.0 - leverage, np.finfo(float).eps)
    errors /= np.sqrt(free) if kind == "hc2" else free


class _LaggedProducts:
    """Products of regressors with those of later rows, with Bartlett weights; all lags are summed at once."""

    def __init__(self, rows: Rows, width: int) -> None:
        self.rows, self.width = rows, width
        self._pairs: dict[int, list[Floats]] = {}
        self._of_window: dict[tuple[int, int], Floats] = {}
        self._workspace = Workspace()

    def sums(self, errors: Floats, start: int, lags: int) -> Floats:
        """Sums (q, N) over a window of the products of scores."""
        pairs = self._pairs_in(start, lags)
        products = self._workspace.floats("products", (pairs.shape[1], errors.shape[1]))
        low = 0
        for lag in range(min(lags, self.width - 1) + 1):
            high = low + self.width - lag
            np.multiply(errors[lag:], errors[: self.width - lag], out=products[low:high])
            low = high
        return np.asarray(pairs @ products)

    def _pairs_in(self, start: int, lags: int) -> Floats:
        """Products (q, rows of all lags) of the regressors in a window."""
        if (start, lags) not in self._of_window:
            x, most = self.rows.shifted, min(lags, self.width - 1)
            if lags not in self._pairs:
                later = [bartlett_weight(k, lags) * pack_products(x[k:], x[:-k]) for k in range(1, most + 1)]
                self._pairs[lags] = [self.rows.products, *later]
            parts = [p[start : start + self.width - lag] for lag, p in enumerate(self._pairs[lags])]
            self._of_window[start, lags] = np.ascontiguousarray(np.concatenate(parts).T)
        return self._of_window[start, lags]


def _cosine_covariance(
    view: _Views, rows: Rows, solution: BatchSolution, nobs: Ints, influence: Floats, prewhiten: bool
) -> Floats:
    """Covariances (p, p, B, N) by EWC; each estimate has its own number of cosines."""
    matrix = np.empty_like(influence)
    for which in range(view.count):
        one = view.one(which)
        window = one.of(rows.shifted)[0]
        errors = one.of(rows.response)[0] - window @ solution.coefficients[:, which]
        errors *= one.of(rows.present)[0]
        if one.weights is not None:
            errors *= one.weights[:, None]
        pull = np.einsum("ijn,tj->tin", influence[:, :, which], window) * (one.of(rows.present)[0] > 0)[:, None]
        least = least_persistence(pull, errors, None) if prewhiten else None
        scores = pull * errors[:, None]
        for count in np.unique(nobs[which]):
            some = nobs[which] == count
            floor = None if least is None else least[:, some]
            total = cosine_sum(scores[:, :, some], None, floor, cosine_count(int(count)))
            matrix[:, :, which, some] = total.transpose(1, 2, 0)
    return np.asarray(matrix * (nobs / (nobs - rows.X.shape[1])))


def _blank_short(estimates: Estimates, where: slice, enough: Bools) -> None:
    """Set estimates with too few observations to missing."""
    short = ~enough
    if not short.any():
        return
    for block in (estimates.sigma, estimates.r2):
        block[where][short] = np.nan
    for block in (estimates.coefficients, estimates.standard_errors):
        np.copyto(block[where], np.nan, where=short[:, None, :])
    if estimates.covariance is not None:
        estimates.covariance[where][short] = np.nan


def _by_qr(estimates: Estimates, rows: Rows, window: int, span: slice, asset: int, recipe: Recipe) -> None:
    """One estimate on its own observations, identical to a single regression."""
    used = rows.present[span, asset] > 0
    X, y = rows.X[span][used], rows.Y[span, asset][used]
    weights = None if recipe.decay is None else recipe.decay[-len(used) :]
    if weights is not None:
        weights = weights[used] / weights[used].mean()
    names = [f"column {i}" for i in range(X.shape[1])]
    try:
        solution = least_squares(X, y[:, None], names, rows.constant, weights)
    except EstimationError:
        estimates.status[window, asset] = DEPENDENT
        for block in (estimates.coefficients[window, :, asset], estimates.standard_errors[window, :, asset]):
            block[:] = np.nan
        estimates.sigma[window, asset] = estimates.r2[window, asset] = np.nan
        if estimates.covariance is not None:
            estimates.covariance[window, asset] = np.nan
        return
    matrix = covariance(
        recipe.errors,
        solution.influence,
        solution.residuals,
        solution.leverage,
        np.flatnonzero(used),
        recipe.lags,
    )[0]
    estimates.coefficients[window, :, asset] = solution.coefficients[:, 0]
    estimates.standard_errors[window, :, asset] = np.sqrt(np.diag(matrix))
    rss = float(np.sum(solution.residuals**2))
    estimates.sigma[window, asset] = np.sqrt(rss / (len(y) - X.shape[1]))
    estimates.r2[window, asset] = r_squared(y[:, None], rss, rows.constant, weights)[0]
    if estimates.covariance is not None:
        estimates.covariance[window, asset] = matrix


def r_squared(Y: Floats, rss: Floats | float, centred: bool, weights: Floats | None = None) -> Floats:
    """1 − RSS/TSS of each column; the total about the mean where there is a constant."""
    if weights is None:
        deviations = Y - Y.sum(axis=0) / len(Y) if centred else Y
        total = np.einsum("tn,tn->n", deviations, deviations)
    else:
        deviations = Y - (weights @ Y) / weights.sum() if centred else Y
        total = weights @ deviations**2
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.asarray(1.0 - rss / total)


def _middle(Y: Floats) -> Floats:
    """A middle value of each column from a few of its observations; zero where none is valid."""
    if not len(Y):
        return np.zeros(Y.shape[1])
    few = np.sort(Y[:: max(1, len(Y) // _SAMPLED)], axis=0)  # missing ones come last
    valid = np.isfinite(few).sum(axis=0)
    middle = np.take_along_axis(few, (np.maximum(valid, 1) - 1)[None] // 2, axis=0)[0]
    return np.where(np.isfinite(middle), middle, 0.0)
