"""Parsing of date columns: the only format that fits; ambiguity is refused."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime
from typing import Any, Final

import numpy as np
import pyarrow as pa

from ultrum.core.array_types import Array, Dates, Ints
from ultrum.errors import TableError
from ultrum.sources.table.centuries import with_centuries
from ultrum.sources.table.date_formats import (
    BY_NAME,
    FOOTNOTE,
    LETTERS,
    MARKED_PERIOD,
    MARKS,
    DateStyle,
    fitting,
    style_of_pattern,
    styles_of,
    styles_of_shape,
    weak_fitting,
)
from ultrum.sources.table.fixed_width_dates import by_places
from ultrum.sources.table.swapped_dates import refuse_day_month_swap

_MANY: Final = 20_000  # dates worth reading at once


@dataclass(frozen=True)
class ReadDates:
    """Parsed dates of a column: instants, the frequency of the style, and decisions.

    ``moments`` are local times, NaT where a cell is not a date; ``offsets`` are seconds ahead of UTC where cells
    have a zone.
    """

    moments: Dates
    frequency: str
    style: str
    offsets: Ints | None = None

    @property
    def instants(self) -> Dates:
        """Instants in UTC if the offset is known, otherwise in local time."""
        if self.offsets is None:
            return self.moments
        return np.asarray(self.moments.astype("datetime64[s]") - self.offsets.astype("timedelta64[s]"))

    @property
    def has_times(self) -> bool:
        """Whether any instant is not midnight."""
        seconds = self.moments.astype("datetime64[s]").view(np.int64)
        return bool((seconds[~np.isnat(self.moments)] % 86_400).any())


def read_dates(cells: Array, given: str | None, where: str, first_year: int | None = None) -> ReadDates:
    """Parse a column of dates, in one style or in several unambiguous ones.

    Parameters
    ----------
    cells : array of str, datetime or float
        A workbook's own dates are unchanged.
    given : str, optional
        Name of a style to use.
    where : str
        Location, for messages.
    first_year : int, optional
        Year of the earliest date, for two-digit years.

    Raises
    ------
    TableError
        If day and month, or the century, are ambiguous; the message shows both readings.
    """
    read = _read(cells, given, where, first_year)
    if read.frequency == "D":
        refuse_day_month_swap(read.moments, where)
    return read


def _read(cells: Array, given: str | None, where: str, first_year: int | None) -> ReadDates:
    native = _native(cells)
    if native is not None and given is None:
        return native
    texts = [cell_text(c) for c in cells]
    alike = _alike(texts) if given is None else None
    if alike is not None:
        return alike
    distinct = list(dict.fromkeys(t for t in texts if t))
    if given is not None:
        return _as(texts, [style_given(given)], where, first_year)
    if not distinct:
        raise TableError(f"{where}: all dates are empty.")
    formats_of = {t: styles_of(t) for t in distinct}
    good = [t for t in distinct if formats_of[t]]
    usual = good if len(distinct) - len(good) <= 0.1 * len(distinct) else distinct
    fits = fitting(usual, formats_of) or weak_fitting(usual)
    if len(_readings(fits, usual)) > 1:
        raise TableError(_tie(fits, usual, where))
    if fits:
        return _as(texts, fits[:1], where, first_year)
    return _as(texts, _several(usual, where), where, first_year)


def _alike(texts: Sequence[str]) -> ReadDates | None:
    """Many dates of one shape with a single possible style, parsed at once."""
    if len(texts) < _MANY:
        return None
    styles = styles_of_shape(texts[0])
    if len(styles) != 1 or styles[0].weak or styles[0].has_short_year or not styles[0].template:
        return None
    moments = by_places(pa.array(texts), styles[0].template, texts[0])
    if moments is None or np.isnat(moments).any():
        return None
    return ReadDates(moments, styles[0].frequency, styles[0].name)


def cell_text(cell: object) -> str:
    """A cell as text; integers without a decimal point."""
    if isinstance(cell, str):
        text = cell.strip()
        return _without_marks(text) if text[-1:] in MARKS else text
    if cell is None or (isinstance(cell, float) and np.isnan(cell)):
        return ""
    if isinstance(cell, float) and cell.is_integer():
        return str(int(cell))
    if isinstance(cell, datetime):
        return cell.isoformat(" ") if cell.time() != datetime.min.time() else str(cell.date())
    return str(cell)


def _without_marks(text: str) -> str:
    """A text without trailing footnote marks or quality flags."""
    plain = FOOTNOTE.sub("", text)
    marked = MARKED_PERIOD.fullmatch(plain)
    return marked[1] if marked else plain


def _native(cells: Array) -> ReadDates | None:
    """Dates that are typed already, as in workbooks and Parquet."""
    if cells.dtype.kind == "M":
        return ReadDates(cells.astype("datetime64[s]"), "D", "dates of the file itself")
    kinds = set(map(type, cells))
    if kinds == {date} or (kinds == {datetime} and not any(c.tzinfo for c in cells)):
        return ReadDates(_instants(cells, kinds == {datetime}), "D", "dates of the file itself")
    kinds = {type(c) for c in cells if c is not None and c != ""}
    if not kinds or not all(issubclass(k, date) for k in kinds):
        return None
    return _clock_times([None if c in (None, "") else c for c in cells], "D", "dates of the file itself")


def _instants(cells: Iterable[Any], timed: bool) -> Dates:
    """Many dates or datetimes as an array; faster than NumPy's own conversion."""
    days = np.array([c.toordinal() for c in cells], dtype=np.int64) - 719_163
    clock = [c.hour * 3600 + c.minute * 60 + c.second for c in cells] if timed else 0
    return np.asarray((days * 86_400 + np.asarray(clock, dtype=np.int64)).astype("datetime64[s]"))


def _clock_times(moments: Sequence[Any], frequency: str, style: str) -> ReadDates:
    """Instants in local time, with their offsets if they have any."""
    zones = [getattr(m, "tzinfo", None) for m in moments]
    offsets = None
    if any(zones):
        ahead = [z.utcoffset(m) if z else None for z, m in zip(zones, moments, strict=True)]
        offsets = np.array([int(a.total_seconds()) if a else 0 for a in ahead], dtype=np.int64)
        moments = [m.replace(tzinfo=None) if z else m for z, m in zip(zones, moments, strict=True)]
    return ReadDates(np.array(moments, "datetime64[s]"), frequency, style, offsets)


def _as(texts: Sequence[str], styles: Sequence[DateStyle], where: str, first_year: int | None) -> ReadDates:
    """Cells parsed by the first style that fits each."""
    built = [_first_moment(t, styles) for t in texts]
    if not any(m is not None for m in built):
        raise TableError(f"{where}: '{texts[0]}' is not of the form {styles[0].name}.")
    read = _clock_times(built, styles[0].frequency, " or ".join(s.name for s in styles))
    if not any(s.has_short_year for s in styles):
        return read
    if all(s.has_short_year for s in styles):
        return replace(read, moments=with_centuries(read.moments, first_year, where))
    raise TableError(f"{where}: some years have two digits and others four. Write all years with four digits.")


def _first_moment(text: str, styles: Sequence[DateStyle]) -> datetime | None:
    return next((m for s in styles if (m := s.moment(text)) is not None), None)


def style_given(name: str) -> DateStyle:
    """The style of an option: its name, any example, a pattern of strptime, or the meaning of bare numbers.

    Raises
    ------
    TableError
        If nothing fits, or an example has two readings.

    Examples
    --------
    >>> [style_given(name).name for name in ("31/12/2021", "31 de dezembro de 2021", "%d.%m.%y", "epoch ms")]
    ['15/03/2024', '15 March 2024', '%d.%m.%y', 'epoch ms']
    """
    if name in BY_NAME:
        return BY_NAME[name]
    if "%" in name:
        style = style_of_pattern(name)
        if style is not None:
            return style
        raise TableError(
            f"dates='{name}' has a directive that is not known. Use %d, %m, %b, %Y, %y, %q, %H and %M."
        )
    fits = fitting([name]) if styles_of(name) else []
    if len(_readings(fits, [name])) > 1:
        raise TableError(
            f"dates='{name}' has two readings. Use an example with a day above 12, such as '31/12/2024'."
        )
    if not fits:
        raise TableError(
            f"dates='{name}' is not an example of a date. Write one of the file's dates, a pattern such as "
            "'%d.%m.%Y', the language of the months such as 'hr', or 'serial 1900', 'serial 1904', 'epoch s' or "
            "'epoch ms' for numbers."
        )
    return fits[0]


def _readings(fits: Sequence[DateStyle], cells: Sequence[str]) -> list[DateStyle]:
    """Styles whose readings of the cells differ, one per reading."""
    if len(fits) < 2:
        return list(fits)
    kept: dict[tuple[object, ...], DateStyle] = {}
    for style in fits:
        kept.setdefault((*[style.moment(c) for c in cells], style.frequency), style)
    return list(kept.values())


def _tie(fits: Sequence[DateStyle], cells: Sequence[str], where: str) -> str:
    different = _readings(fits, cells)
    example = next((c for c in cells if len({s.moment(c) for s in different}) == len(different)), cells[0])
    readings = [f"{_shown(s, example)} (dates='{s.name}')" for s in different]
    return f"{where}: '{example}' can be {' or '.join(readings)}; set dates."


def _shown(style: DateStyle, cell: str) -> str:
    moment = style.moment(cell)
    return str(moment.date()) if moment is not None else "no date"


def _several(cells: Iterable[str], where: str) -> list[DateStyle]:
    """Styles of a column that mixes them, if every cell is unambiguous.

    Ambiguous cells take the reading of the other cells of their shape.
    """
    groups: dict[str, list[str]] = {}
    for cell in cells:
        groups.setdefault(re.sub(r"\d+", lambda m: "9" * len(m[0]), cell), []).append(cell)
    chosen: dict[str, DateStyle] = {}
    by_separators: dict[str, list[str]] = {}
    for shape, members in groups.items():
        by_separators.setdefault(re.sub(r"9+", "9", re.sub(rf"{LETTERS}+", "a", shape)), []).extend(members)
    for members in by_separators.values():
        fits = fitting(members)
        if not fits:
            raise TableError(
                f"{where}: the dates ('{members[0]}' …) are of an unknown form. Set dates= to an example, such "
                "as dates='15/03/2024'."
            )
        if len(_readings(fits, members)) > 1:
            raise TableError(_tie(fits, members, where))
        chosen[fits[0].name] = fits[0]
    if len({s.frequency for s in chosen.values()}) > 1:
        raise TableError(
            f"{where}: the table mixes dates of several frequencies ({', '.join(chosen)}). Choose one block "
            "with block=."
        )
    return list(chosen.values())
