"""A raw series as a data message holds it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from ultrum.core.array_types import Floats, Ints


@dataclass(frozen=True)
class RawSeries:
    """One series as it was sent.

    Attributes
    ----------
    key : str
        Codes of the dimensions, in order, joined by points.
    labels : sequence of str
        Names of periods, shared by the series of a message.
    places : ndarray of int, shape (T,)
        Which label each observation has.
    values : ndarray, shape (T,)
        NaN where nothing was sent.
    attributes : mapping of str to str
        Of the whole series, by id.
    varying : mapping of str to sequence of str
        Attributes of the observations, by id, each of length T.
    """

    key: str
    labels: Sequence[str]
    places: Ints
    values: Floats
    attributes: Mapping[str, str]
    varying: Mapping[str, Sequence[str]] = field(default_factory=dict)

    @property
    def periods(self) -> list[str]:
        """Name of each observation's period."""
        return [self.labels[i] for i in self.places]
