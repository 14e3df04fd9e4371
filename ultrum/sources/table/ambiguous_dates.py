"""The style of a column of dates; day and month, and centuries, that can be two things are refused."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime
from functools import cached_property
from typing import Any, Final

import numpy as np
import pyarrow as pa

from ultrum.core.array_types import DAY, Array, Bools, Dates, Ints
from ultrum.core.presentation import quantity
from ultrum.errors import TableError
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

_CLOCK: Final = re.compile(r"([ T;])(\d\d)(:?)(\d\d)(?:(:?)(\d\d))?")
_LENGTHS: Final = np.array([31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31])
_FIRSTS: Final = np.arange("1600-01", "2200-01", dtype="datetime64[M]").astype("datetime64[D]").astype(np.int64)


def letters_of(cells: Any) -> Array | None:
    """Bytes of texts of equal length, shape (length, T)."""
    if cells.null_count or not len(cells) or cells.offset:
        return None
    _, places, data = cells.buffers()
    offsets = np.frombuffer(places, np.int32 if pa.types.is_string(cells.type) else np.int64, len(cells) + 1)
    length = int(offsets[1] - offsets[0])
    if not length or int(offsets[-1] - offsets[0]) != length * len(cells) or (np.diff(offsets) != length).any():
        return None
    raw = np.frombuffer(data, np.uint8)[offsets[0] : offsets[-1]]
    return np.ascontiguousarray(raw.reshape(len(cells), length).T)  # a place after the other


def by_places(cells: object, template: str, example: str) -> Dates | None:
    """Instants of texts with digits at equal positions, NaT where one is not a date.

    Parameters
    ----------
    cells : pyarrow string array
    template : str
        Such as ``YYYY-MM-DD``; a time of day follows the example.
    example : str
        One of the cells.
    """
    letters = letters_of(cells)
    if letters is None or not template:
        return None
    clock = _CLOCK.fullmatch(example[len(template) :]) if len(example) > len(template) else None
    if clock:
        gap, hour_mark, second_mark = clock[1], clock[3], clock[5] or ""
        form = template + gap + "hh" + hour_mark + "mm" + (f"{second_mark}ss" if clock[6] else "")
    else:
        form = template
    if letters.shape[0] != len(form):
        return None
    days = _days(letters, form)
    if days is None:
        return None
    seconds = seconds_of(letters, form, len(template)) if "hh" in form else None
    if "hh" in form and seconds is None:
        return None
    return days if seconds is None else days + seconds


def _number(letters: Array, form: str, code: str, start: int = 0) -> tuple[Ints, Bools] | None:
    place = form.find(code, start)
    if place < 0:
        return None
    total = np.zeros(letters.shape[1], dtype=np.int32)
    good = np.ones(letters.shape[1], dtype=bool)
    for k in range(place, place + len(code)):
        digit = letters[k] - np.uint8(48)  # wraps below zero, so one comparison is enough
        good &= digit <= 9
        total = total * 10 + digit
    return total.astype(np.int64), good


def _days(letters: Array, form: str) -> Dates | None:
    """Days from the letters, NaT where they are none; None if separators differ."""
    for place, letter in enumerate(form):
        if letter not in "YMDhms" and not (letters[place] == ord(letter)).all():
            return None
    parts = [_number(letters, form, code) for code in ("YYYY", "MM", "DD")]
    (year, good_y), (month, good_m) = parts[0], parts[1]  # type: ignore[misc]
    day, good_d = parts[2] or (np.ones(letters.shape[1], np.int64), np.ones(letters.shape[1], bool))
    good = good_y & good_m & good_d & (month >= 1) & (month <= 12) & (day >= 1)
    month = np.where(good, month, 1)
    leap = (year % 4 == 0) & ((year % 100 != 0) | (year % 400 == 0))
    good &= day <= _LENGTHS[month - 1] + (leap & (month == 2))
    days = _FIRSTS[np.clip(year - 1600, 0, 599) * 12 + month - 1] + day - 1
    good &= (year >= 1600) & (year < 2200)
    moments: Dates = (days * 86_400).astype("datetime64[s]")
    moments[~good] = np.datetime64("NaT", "s")
    return moments


def seconds_of(letters: Array, form: str, start: int) -> Array | None:
    """Seconds of the clock from the letters."""
    total = np.zeros(letters.shape[1], dtype=np.int64)
    for code, worth, most in (("hh", 3600, 23), ("mm", 60, 59), ("ss", 1, 59)):
        number = _number(letters, form, code, start)
        if number is None:
            continue
        value, good = number
        if not good.all() or value.max() > most:
            return None
        total += worth * value
    return total.astype("timedelta64[s]")


# Centuries of two-digit years, inferred from the whole column

_LEAST_GAP: Final = 10  # years without data that show where a span of less than a century begins
_ROUND: Final = 50  # a step back of more years is the turn of a century
_AHEAD_DAYS: Final = 366  # the end of the running year may be later than today
_FORECAST_YEARS: Final = 10  # forecasts begin so many years after today at most
_LONGEST_FORECAST: Final = 50


def with_centuries(moments: Dates, first_year: int | None, where: str) -> Dates:
    """Instants with two-digit years, moved to their century.

    The years of a column form one span without a large gap, sorted if the rows are sorted, and do not begin after
    today.

    Parameters
    ----------
    moments : array of datetime64
        Instants of any century, NaT where a cell is not a date.
    first_year : int, optional
        Year of the earliest date, if given.
    where : str
        Location, for messages.

    Raises
    ------
    TableError
        If two centuries are possible.
    """
    dated = np.flatnonzero(~np.isnat(moments))
    if not len(dated):
        return moments
    years = moments[dated].astype("datetime64[Y]").astype(np.int64) + 1970
    short = years % 100
    counted = _by_gap(short) if _gap(short)[1] >= _LEAST_GAP else _by_order(moments[dated], short)
    if counted is None:
        raise TableError(
            f"{where}: the years have two digits and span a century in no order, so their centuries are "
            "ambiguous. Sort the rows by date, or write the years with four digits."
        )
    start = int(counted.min())
    century = _century(counted, moments[dated], start, first_year, where)
    moved = moments.copy()
    moved[dated] = _in_year(moments[dated], counted + century, where)
    return moved


def _gap(short: Ints) -> tuple[int, int]:
    """Year after the longest gap of two-digit years, and the length of the gap."""
    distinct = np.unique(short)
    lengths = np.diff(np.r_[distinct, distinct[0] + 100]) - 1
    longest = int(lengths.argmax())
    return int(distinct[(longest + 1) % len(distinct)]), int(lengths[longest])


def _by_gap(short: Ints) -> Ints:
    """Years counted from the one after the gap, 0 to 199."""
    start = _gap(short)[0]
    return np.where(short >= start, short, short + 100)


def _by_order(moments: Dates, short: Ints) -> Ints | None:
    """Years counted along sorted rows, or None if the rows are not sorted."""
    for sign in (1, -1):
        ordered = short[::sign]
        turns = np.diff(ordered) < -_ROUND
        counted = ordered + 100 * np.r_[0, np.cumsum(turns)]
        months = moments[::sign].astype("datetime64[M]").astype(np.int64) % 12
        if (np.diff(counted * 12 + months) >= 0).all():
            return np.asarray(counted[::sign])
    return None


def _century(counted: Ints, moments: Dates, start: int, first_year: int | None, where: str) -> int:
    """Years to add: the latest century without future dates."""
    today = np.datetime64(date.today(), "D")
    if first_year is not None:
        if (first_year - start) % 100:
            raise TableError(
                f"{where}: first_year={first_year}, but the earliest year ends in {start % 100:02d}."
            )
        return first_year - start
    last = int(counted.argmax())
    later, this_year = 2000 - start // 100 * 100, int(str(today)[:4])
    end = _in_year(moments[[last]], counted[[last]] + later, where)[0].astype("datetime64[D]")
    if end <= today + np.timedelta64(_AHEAD_DAYS, "D"):
        return later
    ahead = int(counted.max()) + later - this_year
    if start + later > this_year + _FORECAST_YEARS or ahead > _LONGEST_FORECAST:
        return later - 100
    earlier = start + later - 100
    raise TableError(
        f"{where}: the years have two digits and can begin in {earlier} or, with forecasts, in "
        f"{start + later}. Set first_year={earlier} or first_year={start + later}."
    )


def _in_year(moments: Dates, years: Array, where: str) -> Dates:
    """The same day and time in other years."""
    months = moments.astype("datetime64[M]")
    rest = moments - months
    place = (years - 1970) * 12 + months.astype(np.int64) % 12
    moved = place.astype("datetime64[M]") + rest
    if (moved.astype("datetime64[M]").astype(np.int64) != place).any():
        raise TableError(f"{where}: a date is 29 February of a year that is not a leap year. Check the years.")
    return np.asarray(moved.astype(moments.dtype))


# Dates with day and month swapped by a spreadsheet, detected by their pattern

_LEAST_ROWS: Final = 4
_BETTER: Final = 0.2  # turns that remain once days and months are exchanged back
_WEEKENDS: Final = 0.15  # of days up to the twelfth, where later days have none
_MANY_SWAPPED: Final = 20


def refuse_day_month_swap(moments: Dates, where: str) -> None:
    """Refuse a column in which dates up to the twelfth of a month have day and month swapped.

    A spreadsheet that expects the month first reads 05/03/2024 as 3 May and leaves 15/03/2024 as it is. The rows
    are then unsorted, and dates fall on weekends, exactly where the day is 12 or less.

    Raises
    ------
    TableError
        With the number of such dates and the first one.
    """
    days = moments.astype("datetime64[D]")[~np.isnat(moments)]
    days = days[np.diff(days.view(np.int64), prepend=-(1 << 62)) != 0]  # rows of one date stand together
    early = _day(days) <= 12
    if len(days) < _LEAST_ROWS or early.all() or not early.any():
        return
    exchanged = _exchange_day_month(days, early)
    before, after = _turns(days), _turns(exchanged)
    ordered = before > 0 and after <= _BETTER * before
    if not (ordered or _on_weekends(days, exchanged, early)):
        return
    changed = np.flatnonzero(exchanged != days)
    raise TableError(
        f"{where}: day and month are swapped in {quantity(len(changed), 'date')} whose day is 12 or less, "
        f"first {days[changed[0]]}, which is {exchanged[changed[0]]} by the order of the rows; a spreadsheet "
        "read them month first. Download the file again, with dates of the form 2024-03-15."
    )


def _day(days: Dates) -> Ints:
    return np.asarray((days - days.astype("datetime64[M]")).astype(np.int64) + 1)


def _exchange_day_month(days: Dates, early: Bools) -> Dates:
    """Dates with day and month swapped where the day can be a month."""
    months = days.astype("datetime64[M]").astype(np.int64)
    year, month, day = months // 12, months % 12 + 1, _day(days)
    first = (year * 12 + day - 1).astype("datetime64[M]").astype("datetime64[D]")
    other = first + DAY * (month - 1)
    return np.asarray(np.where(early, other, days))


def _turns(days: Dates) -> int:
    """Steps against the direction of most steps."""
    steps = np.diff(days.astype(np.int64))
    return int(min((steps > 0).sum(), (steps < 0).sum()))


def _on_weekends(days: Dates, exchanged: Dates, early: Bools) -> bool:
    """Whether only days up to the twelfth fall on weekends, and none does after swapping back."""
    if early.sum() < _MANY_SWAPPED or (~early).sum() < _MANY_SWAPPED or not np.is_busday(days[~early]).all():
        return False
    weekend = ~np.is_busday(days[early])
    return bool(weekend.mean() > _WEEKENDS and np.is_busday(exchanged[early]).all())


# Parsing of date columns: the only format that fits; ambiguity is refused

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

    @cached_property
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
        return _as(texts, [option_style(given)], where, first_year)
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


def option_style(name: str) -> DateStyle:
    """The style of an option: its name, any example, a pattern of strptime, or the meaning of bare numbers.

    Raises
    ------
    TableError
        If nothing fits, or an example has two readings.

    Examples
    --------
    >>> [option_style(name).name for name in ("31/12/2021", "31 de dezembro de 2021", "%d.%m.%y", "epoch ms")]
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
