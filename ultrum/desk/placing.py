"""Series chosen by an address, cut to a span, and told where they came from."""

from __future__ import annotations

from dataclasses import replace

from ultrum.core.descriptor import Descriptor
from ultrum.core.series import TimeSeries
from ultrum.errors import SourceError
from ultrum.sources.delivery import Address
from ultrum.sources.table import Reading


def column_of(reading: Reading, wanted: Address) -> TimeSeries:
    """The series of a table that an address names; a table of one series needs no name for it.

    Raises
    ------
    SourceError
        If it names none, or one that is not there.
    """
    series = reading.series
    if not wanted.field and len(series) == 1:
        return next(iter(series.values()))
    if wanted.field in series:
        return series[wanted.field]
    known = ", ".join(list(series)[:12])
    if wanted.field:
        raise SourceError(f"{wanted}: no column '{wanted.field}'; there are: {known}.")
    first = next(iter(series), "column")
    raise SourceError(
        f"{wanted} is a whole table; name a column, such as {wanted}#{first}. There are: {known}."
    )


def addressed(reading: Reading, wanted: Address) -> Reading:
    """Series that know the source they came from."""
    fields = {
        column: type(block)(
            block.values, tuple(_placed(a, wanted, column) for a in block.about), block.causes
        )
        for column, block in reading.fields.items()
    }
    return replace(reading, fields=fields)


def _placed(about: Descriptor, address: Address, column: str) -> Descriptor:
    """Descriptor that knows the source it came from."""
    name = about.name if about.name == column or not column else f"{about.name}.{column}"
    where = Address(address.source, address.path, name)
    return about.changed(source=address.source, address=str(where))
