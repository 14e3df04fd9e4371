"""One cross-sectional regression for each period, all periods at once."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import partial
from typing import Any, Final

import numpy as np

from ultrum.core.types import Bools, Floats, Ints
from ultrum.errors import EstimationError

_LOSS_ALLOWED: Final = 1e-8  # smallest eigenvalue of the scaled moments, before a period goes to QR
_WORTH_THREADS: Final = (
    1 << 20
)  # numbers of exposures, below which threads cost more than they save
_AT_ONCE: Final = 1 << 20  # numbers that one worker holds, so that they stay in the cache


@dataclass(frozen=True)
class Exposure:
    """One exposure of every asset: a number each (N,), or a table (S, N) and its row for each period.

    A row of −1 is none.
    """

    values: Floats
    rows: Ints | None = None

    def of(self, assets: slice, out: Floats) -> None:
        """Put the exposures of some assets into (n, T)."""
        if self.rows is None:
            out[:] = self.values[assets, None]
            return
        some = self.values[:, assets].T
        first = int(np.argmax(self.rows >= 0))
        known = self.rows[first:]
        if (
            known[0] >= 0 and (np.diff(known) == 1).all()
        ):  # a slice, quick where columns lie together
            out[:, :first] = np.nan
            out[:, first:] = some[:, known[0] : known[-1] + 1]
            return
        out[:] = some[:, self.rows]
        out[:, self.rows < 0] = np.nan

    def drawn(self, periods: Ints) -> Exposure:
        """The same with its periods taken anew."""
        return self if self.rows is None else Exposure(self.values, self.rows[periods])


@dataclass(frozen=True)
class CrossSections:
    """Slopes (T, p), missing where a period has too few assets; R² and assets used (T,).

    ``rows`` (N,), ``realised`` (N,) and ``exposed`` (p, N) are sums over the periods with slopes: how often
    an asset was used, its returns, and its exposures, the constant among them.
    """

    slopes: Floats
    r2: Floats
    counts: Floats
    rows: Floats
    realised: Floats
    exposed: Floats


def cross_sections(returns: Floats, exposures: Sequence[Exposure], constant: bool) -> CrossSections:
    """Least squares of each period's returns on the exposures its assets have.

    Moments of all periods are summed over a few assets at a time, along the way that tables lie in memory.

    Parameters
    ----------
    returns : ndarray, shape (T, N)
    exposures : sequence of Exposure
        Missing values drop the asset from that period.
    constant : bool
    """
    periods, assets = returns.shape
    count = len(exposures) + int(constant)
    step = max(1, _AT_ONCE // max((count + 1) * periods, 1))
    cuts = [slice(low, min(low + step, assets)) for low in range(0, assets, step)]
    found = _worked(partial(_moments, returns, exposures, constant), cuts, returns.size * count)
    moments = np.zeros((periods, count + 1, count + 1))
    for part, _ in found:
        moments += part
    gram, cross, squares = (
        moments[:, :count, :count],
        moments[:, :count, count],
        moments[:, count, count],
    )
    slopes, loose = _solved(gram, cross)
    counts = np.rint(gram[:, 0, 0]) if constant else _counts(returns, exposures)
    enough = counts > count
    for period in np.flatnonzero(loose & enough):
        slopes[period] = _by_qr(*_one_period(returns, exposures, constant, int(period)))
    slopes[~enough] = np.nan
    kept: Bools = np.asarray(np.isfinite(slopes).all(axis=1))
    parts = [sums for _, sums in found]
    if (counts[~kept] > 0).any():  # periods without slopes have no part in the sums
        parts = [_filled(returns, exposures, cut, int(constant)).sums(kept) for cut in cuts]
    sums = np.concatenate(parts, axis=1)
    r2 = _r2(slopes, gram, cross, squares, constant)
    return CrossSections(slopes, r2, counts, sums[0], sums[-1], sums[1:-1])


def _worked(work: Callable[[slice], Any], cuts: list[slice], size: int) -> list[Any]:
    """A piece of work for each block of assets, in order; the blocks are fixed, whoever works."""
    if size < _WORTH_THREADS or len(cuts) < 2:
        return [work(cut) for cut in cuts]
    with ThreadPoolExecutor(os.cpu_count() or 1) as threads:
        return list(threads.map(work, cuts))


@dataclass(frozen=True)
class _Filled:
    """Exposures and, last, returns of some assets (p + 1, n, T), zero where any is missing; and where not."""

    values: Floats
    used: Bools

    def sums(self, kept: Bools | None = None) -> Floats:
        """Over periods: rows of each asset, each exposure, and returns last, (p + 2, n)."""
        weight = np.ones(self.used.shape[1]) if kept is None else kept.astype(np.float64)
        return np.vstack([self.used @ weight, *(z @ weight for z in self.values)])


def _filled(returns: Floats, exposures: Sequence[Exposure], assets: slice, first: int) -> _Filled:
    """Some assets' exposures behind ``first`` constants, and returns."""
    Z = np.empty((first + len(exposures) + 1, assets.stop - assets.start, len(returns)))
    for k, exposure in enumerate(exposures, start=first):
        exposure.of(assets, Z[k])
    Z[-1] = returns[:, assets].T
    # a missing number makes the sum missing; a mask for each exposure would cost a pass each
    used: Bools = np.asarray(np.isfinite(Z[first:].sum(axis=0)))
    if not used.all():
        np.copyto(Z[first:], 0.0, where=~used)
    Z[:first] = used
    return _Filled(Z, used)


def _moments(
    returns: Floats, exposures: Sequence[Exposure], constant: bool, assets: slice
) -> tuple[Floats, Floats]:
    """Sums over some assets of products of exposures and returns, (T, p + 1, p + 1); and over all periods."""
    filled = _filled(returns, exposures, assets, int(constant))
    Z = filled.values
    made = np.empty((len(returns), len(Z), len(Z)))
    for j in range(len(Z)):
        made[:, j, j:] = made[:, j:, j] = np.einsum("nt,knt->tk", Z[j], Z[j:])
    return made, filled.sums()


def _counts(returns: Floats, exposures: Sequence[Exposure]) -> Floats:
    """Assets used in each period, where no constant counts them."""
    whole = _filled(returns, exposures, slice(0, returns.shape[1]), 0)
    return np.asarray(whole.used.sum(axis=0), dtype=np.float64)


def _one_period(
    returns: Floats, exposures: Sequence[Exposure], constant: bool, period: int
) -> tuple[Floats, Floats]:
    """Exposures and returns of the assets that one period has."""
    absent = np.full(returns.shape[1], np.nan)
    columns = [np.ones(returns.shape[1])] if constant else []
    for exposure in exposures:
        row = 0 if exposure.rows is None else int(exposure.rows[period])
        table = np.atleast_2d(exposure.values)
        columns.append(table[row] if row >= 0 else absent)
    X, y = np.column_stack(columns), returns[period]
    used: Bools = np.asarray(np.isfinite(y) & np.isfinite(X).all(axis=1))
    return np.asarray(X[used]), np.asarray(y[used])


def _r2(slopes: Floats, moments: Floats, cross: Floats, squares: Floats, constant: bool) -> Floats:
    """1 − RSS/TSS from the moments, RSS as y'y − 2b'X'y + b'X'Xb, which holds for any b."""
    fitted = np.einsum("tp,tpq,tq->t", slopes, moments, slopes)
    rss = squares - 2.0 * np.einsum("tp,tp->t", slopes, cross) + fitted
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = cross[:, 0] ** 2 / moments[:, 0, 0] if constant else 0.0
        return np.asarray(1.0 - rss / (squares - mean))


def _solved(moments: Floats, cross: Floats) -> tuple[Floats, Bools]:
    """Solutions of the normal equations scaled to unit diagonal, and which of them lose digits."""
    scale = np.sqrt(np.einsum("tpp->tp", moments))
    scale[~(scale > 0)] = 1.0
    scaled = moments / (scale[:, :, None] * scale[:, None, :])
    smallest = np.linalg.eigvalsh(scaled)[:, 0]
    loose: Bools = np.asarray(~(smallest > _LOSS_ALLOWED))
    scaled[loose] = np.eye(moments.shape[1])
    return np.linalg.solve(scaled, (cross / scale)[:, :, None])[:, :, 0] / scale, loose


def _by_qr(X: Floats, y: Floats) -> Floats:
    length = np.linalg.norm(X, axis=0)
    if not (length > 0).all():
        return np.full(X.shape[1], np.nan)
    Q, R = np.linalg.qr(X / length)
    if np.abs(np.diag(R)).min() < len(X) * np.finfo(float).eps:
        return np.full(X.shape[1], np.nan)  # exposures depend on each other in this period
    return np.asarray(np.linalg.solve(R, Q.T @ y) / length)


def refuse_empty(slopes: Floats, names: Sequence[str]) -> None:
    """Say so when no period has an estimate."""
    if not np.isfinite(slopes).all(axis=1).any():
        raise EstimationError(
            f"No period has more assets with returns and exposures than the {len(names)} coefficients "
            f"({', '.join(names)}), or the exposures depend on each other in all of them."
        )
