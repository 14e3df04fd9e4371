"""Dates and times of many texts at once, with digits at fixed positions."""

from __future__ import annotations

import re
from typing import Any, Final

import numpy as np
import pyarrow as pa

from ultrum.core.array_types import Array, Bools, Dates, Ints

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
