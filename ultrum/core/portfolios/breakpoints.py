"""Breakpoints of characteristics, and the groups of assets between them."""

from __future__ import annotations

import functools
import itertools
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ultrum.core.array_types import Bools, Floats, Ints
from ultrum.errors import EstimationError


@dataclass(frozen=True)
class Groups:
    """How one characteristic divides the assets.

    Attributes
    ----------
    name : str
        The characteristic.
    points : tuple of float
        Increasing fractions between 0 and 1, or values.
    are_values : bool
        Whether the points are values of the characteristic rather than fractions of the assets.
    """

    name: str
    points: tuple[float, ...]
    are_values: bool = False

    @classmethod
    def of(cls, name: str, given: int | Sequence[float], *, are_values: bool = False) -> Groups:
        """Groups from a number of equal ones, or from breakpoints.

        Examples
        --------
        >>> Groups.of("size", 4).points
        (0.25, 0.5, 0.75)
        """
        if isinstance(given, int):
            if given < 2:
                raise EstimationError(
                    f"groups: {name} has {given}.", fix="Use 2 or more groups, or breakpoints.", setting="groups"
                )
            return cls(name, tuple(k / given for k in range(1, given)))
        if any(isinstance(point, str) for point in given):
            raise EstimationError(f"Breakpoints of {name} are numbers; they are {list(given)}.")
        points = tuple(float(point) for point in given)
        if not points or any(not low < high for low, high in itertools.pairwise(points)):
            raise EstimationError(f"Breakpoints of {name} must increase; they are {list(points)}.")
        if not are_values and not (points[0] > 0.0 and points[-1] < 1.0):
            raise EstimationError(
                f"groups: fractions of {name} must lie between 0 and 1; they are {list(points)}.",
                fix="Use fractions such as (0.3, 0.7), a number of groups, or cutoffs= for values.",
                setting="groups",
            )
        return cls(name, points, are_values)

    @property
    def count(self) -> int:
        """Number of groups."""
        return len(self.points) + 1

    def breakpoints(self, values: Floats, inside: Bools) -> Floats:
        """Breakpoints of each row, shape (R, k), for the values (R, N) of some assets; missing if there are none.

        Quantiles interpolate linearly between order statistics (type 7 of Hyndman and Fan 1996).
        """
        points = np.array(self.points)
        if self.are_values:
            return np.broadcast_to(points, (len(values), len(points)))
        ordered = np.sort(np.where(inside, values, np.nan), axis=1)  # missing ones last
        return quantiles(ordered, inside.sum(axis=1), points)


def quantiles(ordered: Floats, counts: Ints, fractions: Floats) -> Floats:
    """Quantiles of the first values of each row, which increase, linear between order statistics.

    Examples
    --------
    >>> quantiles(np.array([[1.0, 2.0, 3.0, 4.0, 10.0]]), np.array([5]), np.array([0.5, 0.875])).tolist()
    [[3.0, 7.0]]
    """
    last = np.maximum(counts - 1, 0)[:, None]
    place = np.round(fractions * last, 9)  # 0.3 × 10 is the third step, not just above it
    low = np.floor(place).astype(np.int64)
    below, above = (np.take_along_axis(ordered, at, axis=1) for at in (low, np.minimum(low + 1, last)))
    return np.where(counts[:, None] > 0, below + (place - low) * (above - below), np.nan)


def portfolio_count(groups: Sequence[Groups]) -> int:
    """Number of portfolios of all groups together."""
    return functools.reduce(lambda product, one: product * one.count, groups, 1)


def assign(
    values: Sequence[Floats], usable: Bools, subset: Bools | None, groups: Sequence[Groups], dependent: bool
) -> tuple[Ints, list[Floats]]:
    """The portfolio of each asset at some formations, −1 for none, and the breakpoints of each characteristic.

    An asset on a breakpoint is in the lower group. With dependent sorts the breakpoints of a characteristic are
    those within each group of the characteristics before it.

    Parameters
    ----------
    values : sequence of ndarray, shape (R, N)
        Characteristics, a row for each formation.
    usable : ndarray, shape (R, N)
        Assets to assign.
    subset : ndarray, shape (R, N), optional
        Assets whose values set the breakpoints; all by default.
    groups : sequence of Groups
    dependent : bool

    Returns
    -------
    ndarray, shape (R, N), and list of ndarray, shape (R, parents, breakpoints)

    Examples
    --------
    >>> size = np.array([[1.0, 2.0, 3.0, 4.0]])
    >>> code, points = assign([size], np.ones((1, 4), dtype=bool), None, [Groups.of("size", 2)], False)
    >>> code.tolist(), points[0].tolist()
    ([[0, 0, 1, 1]], [[[2.5]]])
    """
    code = np.where(usable, 0, -1)
    points: list[Floats] = []
    parents = 1
    for value, each in zip(values, groups, strict=True):
        rows = []
        group = np.zeros(value.shape, dtype=np.int8)
        for parent in range(parents if dependent else 1):
            inside = (code == parent) if dependent else usable
            breaks = each.breakpoints(value, inside if subset is None else inside & subset)
            rows.append(breaks)
            for k in range(breaks.shape[1]):
                above = (
                    value > breaks[:, k : k + 1]
                )  # never a missing value; groups of assets in none are not used
                group += (inside & above if dependent else above).view(np.int8)  # of one byte, as a mask is
            none = np.asarray(np.isnan(breaks).any(axis=1, keepdims=True))
            code = np.where(inside & none, -1, code)
        points.append(np.stack(rows, axis=1))
        code = np.where(code >= 0, code * each.count + group, -1)
        parents *= each.count
    return code, points
