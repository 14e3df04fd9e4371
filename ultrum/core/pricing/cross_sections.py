"""Cross-sectional regressions of all periods at once."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Final, TypeVar

import numpy as np

from ultrum.core.array_types import Bools, Floats, Ints
from ultrum.core.executors import each_block
from ultrum.core.regression.engine.least_squares import coefficients, condition_number, solve_moments
from ultrum.errors import EstimationError, count_parts

T = TypeVar("T")

WINDOW: Final = 60  # periods of rolling betas
_WORTH_THREADS: Final = 1 << 20  # numbers of exposures, below which threads cost more than they save
_AT_ONCE: Final = 1 << 20  # numbers that one worker holds, so that they stay in the cache


@dataclass(frozen=True)
class Exposure:
    """One exposure of every asset: a number per asset (N,), or a table (S, N) with its row for each period.

    A row of −1 is none.
    """

    values: Floats
    rows: Ints | None = None

    def part(self, assets: slice) -> Exposure:
        """Exposures of some assets."""
        return Exposure(self.values[..., assets], self.rows)

    def into(self, out: Floats) -> None:
        """Write the exposures into an array (N, T)."""
        if self.rows is None:
            out[:] = self.values[:, None]
            return
        some = self.values.T
        first = int(np.argmax(self.rows >= 0))
        rows = self.rows[first:]
        if rows[0] >= 0 and (np.diff(rows) == 1).all():  # a slice, quick where columns lie together
            out[:, :first] = np.nan
            out[:, first:] = some[:, rows[0] : rows[-1] + 1]
            return
        out[:] = some[:, self.rows]
        out[:, self.rows < 0] = np.nan

    def drawn(self, periods: Ints) -> Exposure:
        """The same exposure with its periods resampled."""
        return self if self.rows is None else Exposure(self.values, self.rows[periods])


@dataclass(frozen=True)
class CrossSections:
    """Slopes (T, p), missing where a period has too few assets; R² and assets used (T,).

    ``rows`` (N,), ``realised`` (N,) and ``exposed`` (p, N) are sums over the periods with slopes: how often an
    asset was used, its returns, and its exposures, including the constant.
    """

    slopes: Floats
    r2: Floats
    counts: Floats
    rows: Floats
    realised: Floats
    exposed: Floats


class Blocks(ABC):
    """Returns and exposures of all assets, a few assets at a time; the blocks do not depend on the number of
    workers.
    """

    @abstractmethod
    def each(self, work: Work[T]) -> Iterable[T]:
        """One task for each block, in order."""


Work = Callable[[Floats, Sequence[Exposure]], T]  # of returns (T, n) and exposures of some assets


@dataclass(frozen=True)
class _InMemory(Blocks):
    """Blocks of tables kept in memory, in their memory order."""

    returns: Floats
    exposures: Sequence[Exposure]
    terms: int

    def each(self, work: Work[T]) -> Iterable[T]:
        """Uses threads where there is enough work."""
        periods, assets = self.returns.shape
        step = max(1, _AT_ONCE // max((self.terms + 1) * periods, 1))
        cuts = [slice(low, min(low + step, assets)) for low in range(0, assets, step)]

        def _part(cut: slice) -> T:
            return work(self.returns[:, cut], [e.part(cut) for e in self.exposures])

        if self.returns.size * self.terms < _WORTH_THREADS or len(cuts) < 2:
            return [_part(cut) for cut in cuts]
        return count_parts(each_block(_part, cuts), "cross-sections, blocks", len(cuts))


def cross_sections(returns: Floats, exposures: Sequence[Exposure], constant: bool) -> CrossSections:
    """Least squares of each period's returns on the exposures of the available assets.

    Parameters
    ----------
    returns : ndarray, shape (T, N)
    exposures : sequence of Exposure
        Missing values drop the asset from that period.
    constant : bool
    """
    count = len(exposures) + int(constant)
    return sections_of(_InMemory(returns, exposures, count), constant)


def sections_of(blocks: Blocks, constant: bool) -> CrossSections:
    """Cross-sections of assets in blocks, with moments of all periods summed over the blocks."""
    parts: list[Floats] = []
    moments: Floats = np.zeros(0)
    for part in blocks.each(partial(_moments, constant)):
        moments = moments + part[0] if parts else part[0]
        parts.append(part[1])
    count = moments.shape[1] - 1
    gram, cross, squares = (moments[:, :count, :count], moments[:, :count, count], moments[:, count, count])
    slopes, loose = solve_moments(gram, cross, squares)
    counts = np.rint(gram[:, 0, 0]) if constant else sum(blocks.each(_counts), np.zeros(len(gram)))
    enough = counts > count
    _solve_alone(slopes, np.flatnonzero(loose & enough), blocks, constant)
    slopes[~enough] = np.nan
    kept: Bools = np.asarray(np.isfinite(slopes).all(axis=1))
    if (counts[~kept] > 0).any():  # periods without slopes have no part in the sums
        parts = list(blocks.each(partial(_sums, constant, kept)))
    totals = np.concatenate(parts, axis=1)
    r2 = _r2(slopes, gram, cross, squares, constant)
    return CrossSections(slopes, r2, counts, totals[0], totals[-1], totals[1:-1])


def _solve_alone(slopes: Floats, periods: Ints, blocks: Blocks, constant: bool) -> None:
    """Ill-conditioned periods are solved by QR on their assets."""
    if not len(periods):
        return
    parts = list(blocks.each(partial(_rows_of_periods, constant, periods)))
    for k, period in enumerate(periods):
        X = np.concatenate([part[k][0] for part in parts])
        slopes[period] = _by_qr(X, np.concatenate([part[k][1] for part in parts]))


@dataclass(frozen=True)
class _Filled:
    """Exposures and, last, returns of some assets (p + 1, n, T), zero where any is missing; and a mask of
    those.
    """

    values: Floats
    used: Bools

    def sums(self, kept: Bools | None = None) -> Floats:
        """Sums over periods by asset: observations, each exposure, and returns last, (p + 2, n)."""
        weight = np.ones(self.used.shape[1]) if kept is None else kept.astype(np.float64)
        return np.vstack([self.used @ weight, *(z @ weight for z in self.values)])


def _fill_exposures(returns: Floats, exposures: Sequence[Exposure], first: int) -> _Filled:
    """Exposures of some assets after ``first`` constants, and returns."""
    Z = np.empty((first + len(exposures) + 1, returns.shape[1], len(returns)))
    for k, exposure in enumerate(exposures, start=first):
        exposure.into(Z[k])
    Z[-1] = returns.T
    # a missing number makes the sum missing; a mask for each exposure would cost a pass each
    used: Bools = np.asarray(np.isfinite(Z[first:].sum(axis=0)))
    if not used.all():
        np.copyto(Z[first:], 0.0, where=~used)
    Z[:first] = used
    return _Filled(Z, used)


def _moments(constant: bool, returns: Floats, exposures: Sequence[Exposure]) -> tuple[Floats, Floats]:
    """Sums over some assets of products of exposures and returns, (T, p + 1, p + 1); and over all periods."""
    filled = _fill_exposures(returns, exposures, int(constant))
    Z = filled.values
    moments = np.empty((len(returns), len(Z), len(Z)))
    for j in range(len(Z)):
        moments[:, j, j:] = moments[:, j:, j] = np.einsum("nt,knt->tk", Z[j], Z[j:])
    return moments, filled.sums()


def _sums(constant: bool, kept: Bools, returns: Floats, exposures: Sequence[Exposure]) -> Floats:
    """Sums over the periods that are used."""
    return _fill_exposures(returns, exposures, int(constant)).sums(kept)


def _counts(returns: Floats, exposures: Sequence[Exposure]) -> Floats:
    """Number of assets in each period, for designs that have no constant to count them."""
    return np.asarray(_fill_exposures(returns, exposures, 0).used.sum(axis=0), dtype=np.float64)


def _rows_of_periods(
    constant: bool, periods: Ints, returns: Floats, exposures: Sequence[Exposure]
) -> list[tuple[Floats, Floats]]:
    """Exposures and returns of the assets available in each of some periods."""
    filled = _fill_exposures(returns, exposures, int(constant))
    return [
        (filled.values[:-1, used, t].T, filled.values[-1, used, t])
        for t, used in ((t, filled.used[:, t]) for t in periods)
    ]


def _r2(slopes: Floats, moments: Floats, cross: Floats, squares: Floats, constant: bool) -> Floats:
    """1 − RSS/TSS from the moments, RSS as y'y − 2b'X'y + b'X'Xb, which holds for any b."""
    fitted = np.einsum("tp,tpq,tq->t", slopes, moments, slopes)
    rss = squares - 2.0 * np.einsum("tp,tp->t", slopes, cross) + fitted
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = cross[:, 0] ** 2 / moments[:, 0, 0] if constant else 0.0
        return np.asarray(1.0 - rss / (squares - mean))


def _by_qr(X: Floats, y: Floats) -> Floats:
    """Slopes of one period, missing where its exposures are collinear."""
    length = np.linalg.norm(X, axis=0)
    if not (length > 0).all() or condition_number(X) > 1.0 / (len(X) * np.finfo(float).eps):
        return np.full(X.shape[1], np.nan)
    return np.asarray(coefficients(X / length, y) / length)


def refuse_empty(slopes: Floats, names: Sequence[str]) -> None:
    """Raise an error when no period has an estimate."""
    if not np.isfinite(slopes).all(axis=1).any():
        raise EstimationError(
            f"No period has more assets with returns and exposures than the {len(names)} coefficients "
            f"({', '.join(names)}), or "
            "the exposures are collinear in all of them. Use more assets or fewer factors."
        )
