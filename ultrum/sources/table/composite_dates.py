"""Dates in several columns, such as year and month, and bars of prices within a day."""

from __future__ import annotations

import itertools
import re
from collections import Counter, defaultdict
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.array_types import Array, Bools, Floats
from ultrum.core.presentation import quantity
from ultrum.errors import TableError, choices
from ultrum.sources.table.ambiguous_dates import ReadDates, cell_text
from ultrum.sources.table.cell_grid import Row, column_array, is_empty, is_value, shape_of
from ultrum.sources.table.date_formats import month_of_name
from ultrum.sources.table.date_layouts import is_month_name, label_part, part_of_year
from ultrum.sources.table.header_line import Heading
from ultrum.sources.table.number_formats_and_date_words import field_of, read_numbers
from ultrum.sources.table.table_detection import Block

_MONTH_WORDS: Final = ("month", "m", "mon", "monat", "mes", "mois", "mm", "month_no")
_QUARTER_WORDS: Final = ("quarter", "q", "qtr", "quartal", "trimestre")
_DAY_WORDS: Final = ("day", "d", "tag", "dia", "jour", "dd", "day of month")
_HALF_WORDS: Final = re.compile(
    r"half|semest|halbjahr|halvår|półrocz|pololet|polrok|полугод|puolivuosi|半期|반기|半年", re.IGNORECASE
)
_KEY_WORDS: Final = frozenset(
    [
        "region",
        "code",
        "id",
        "group",
        "sector",
        "area",
        "type",
        "category",
        "industry",
        "country",
        "class",
        "item",
        "no",
    ]
)
_FEWEST_YEARS: Final = 2  # with all four quarters
_SHARE_OF_STEPS: Final = 0.8  # from one quarter to the next; a row may be missing
_TWELVE: Final = frozenset(map(str, range(1, 13)))
_TIME_WORDS: Final = ("time", "hour", "zeit", "uhrzeit", "clock", "time of day")
_PERIOD: Final = re.compile(r"([MQSH])(\d{1,2})", re.IGNORECASE)
_REGIONS: Final = "Africa|America|Antarctica|Asia|Atlantic|Australia|Europe|Indian|Pacific"
_ZONE: Final = re.compile(rf"\b(?:UTC|GMT|(?:{_REGIONS})/\w+)\b")
_QUARTER_NUMBER: Final = re.compile(r"0?(?P<q>[1-4])[/.-](?P<y>\d{4})|(?P<z>\d{4})[/.:-]0?(?P<r>[1-4])")
_WHOLE: Final = re.compile(r"M13|Q0?5|S0?3|A0?1", re.IGNORECASE)
_CLOCK: Final = re.compile(r"\d{1,2}:\d{2}(:\d{2})?( ?[ap]\.?m\.?)?", re.IGNORECASE)
_BARE_CLOCK: Final = re.compile(r"\d{3,4}|\d{6}")
_WHOLE_YEAR: Final = re.compile(r"(annual|year|total|average|mean|sum|avg|jan-dec|jahr|m13).*", re.IGNORECASE)
_WHOLE_YEAR_ROW: Final = re.compile(
    r"((annual|year|total|average|mean|avg|gesamt|insgesamt|summe|ann[ée]e|annuel|a[ñn]o|anual|anno|annuale|jaar|år|rok|год|"
    r"fy|cy|a)( .*)?|jan-dec|jahr\w*( .*)?)",
    re.IGNORECASE,
)


@dataclass(frozen=True)
class DateCells:
    """Date cells, their source columns, and how they were combined.

    ``aside`` has the rows of whole years among those of months or quarters.
    """

    cells: Array
    used: tuple[int, ...]
    how: str = ""
    aside: tuple[int, ...] = ()


def date_cells(block: Block, style: str | None = None) -> DateCells:
    """The dates of a block, combined from columns where they are split; ``style`` is the one given."""
    column = block.date_column
    cells = [row[column] for row in block.rows]
    parted = _date_parts(block, cells)
    if parted is not None:
        return parted
    quarters, how = _quarter_numbers(block, cells) if not style else ([], "")
    if quarters:
        return DateCells(_objects(quarters), (column,), f"numbers of quarters, {how}")
    array = np.empty(len(cells), dtype=object)
    array[:] = cells
    return DateCells(array, (column,))


def _quarter_numbers(block: Block, cells: Sequence[object]) -> tuple[list[str], str]:
    """Quarters written like months, such as 1/2020, and what shows that they are quarters."""
    matches = [_QUARTER_NUMBER.fullmatch(cell_text(c)) for c in cells]
    found = [(m["y"] or m["z"], m["q"] or m["r"]) for m in matches if m is not None]
    if len(found) < len(cells):
        return [], ""
    headed = not block.heading.missing and field_of(block.heading.names[block.date_column]) == "quarter"
    years: dict[str, set[str]] = defaultdict(set)
    for year, quarter in found:
        years[year].add(quarter)
    whole = sum(len(quarters) == 4 for quarters in years.values()) >= _FEWEST_YEARS
    if not headed and not whole and not _follow_one_another(years):
        return [], ""
    how = "by the heading" if headed else "as each year has 1 to 4"
    return [f"{year}-Q{quarter}" for year, quarter in found], how


def _follow_one_another(years: Mapping[str, set[str]]) -> bool:
    """Whether numbers within years go on from 4 to 1 of the next, over several years; months would skip eight."""
    ordinals = np.unique([4 * int(y) + int(q) for y, quarters in years.items() for q in quarters])
    return len(years) > _FEWEST_YEARS and float((np.diff(ordinals) == 1).mean()) >= _SHARE_OF_STEPS


def _date_parts(block: Block, cells: Sequence[object]) -> DateCells | None:
    names = [n.lower() for n in block.heading.names]
    if all(shape_of(c) == "2024" for c in cells[:50]):
        parted = _year_and_part(block, cells, names)
        if parted is not None:
            return parted
    clock = _clock_column(block, names)
    if clock is None:
        return None
    joined = [f"{cell_text(d)} {_clock_text(row[clock])}" for d, row in zip(cells, block.rows, strict=True)]
    return DateCells(_objects(joined), (block.date_column, clock), "date and time in two columns")


def _clock_column(block: Block, names: Sequence[str]) -> int | None:
    """Column of times of day, to the right of the dates."""
    place = block.date_column + 1
    if place >= len(names):
        return None
    cells = [cell_text(row[place]) for row in block.rows[:200]]
    if all(_CLOCK.fullmatch(c) for c in cells):
        return place
    named = names[place] in _TIME_WORDS
    return place if named and all(_BARE_CLOCK.fullmatch(c) for c in cells) else None


def _clock_text(cell: object) -> str:
    text = cell_text(cell)
    return text.zfill(4) if text.isdigit() and len(text) < 5 else text


def _year_and_part(block: Block, date_cells_of: Sequence[object], names: Sequence[str]) -> DateCells | None:
    """Year next to month, quarter or period code, and optionally a day."""
    for place, name in enumerate(names):
        if place == block.date_column:
            continue
        cells = [row[place] for row in block.rows]
        aside = _of_whole_years(name, date_cells_of, cells)
        parts = [c for k, c in enumerate(cells) if k not in aside]
        reader = _part_reader(name, parts) or _months_without_heading(date_cells_of, name, cells)
        if reader is None:
            _refuse_an_unknown_part(block, name, place, aside)
            continue
        texts = [
            reader(cell_text(year), cell_text(parts[0] if k in aside else c))
            for k, (year, c) in enumerate(zip(date_cells_of, cells, strict=True))
        ]
        day = next((k for k, n in enumerate(names) if n in _DAY_WORDS and k != place), None)
        if day is not None and name in _MONTH_WORDS:
            texts = [
                f"{t}-{int(float(cell_text(row[day]))):02d}" for t, row in zip(texts, block.rows, strict=True)
            ]
            return DateCells(_objects(texts), (block.date_column, place, day), "year, month and day apart")
        how = f"year and '{name}' apart"
        if aside:
            listed = dict.fromkeys(cell_text(cells[k]) or "empty" for k in aside)
            how += f"; {quantity(len(aside), 'row')} of whole years not used ({choices(list(listed))})"
        return DateCells(_objects(texts), (block.date_column, place), how, aside)
    return None


def _of_whole_years(name: str, years: Sequence[object], cells: Sequence[object]) -> tuple[int, ...]:
    """Rows of a column of months or quarters that are of the whole year: M13, Annual, the year, or nothing."""
    texts = [cell_text(c) for c in cells]
    if not _is_headed(name) and not any(map(_is_part, texts[:3])):
        return ()
    codes = [k for k, text in enumerate(texts) if _WHOLE.fullmatch(text)]
    odd = [
        k
        for k, (text, year) in enumerate(zip(texts, years, strict=True))
        if not text or text == cell_text(year) or _WHOLE_YEAR_ROW.fullmatch(text)
    ]
    parts = {text: part_of_year(text) for k, text in enumerate(texts) if k not in {*codes, *odd}}
    others = [text for text, part in parts.items() if part is None]
    complete = len(parts) - 1 in (4, 12)  # so that what is left is no part
    if _is_headed(name) and complete and len(others) == 1:
        odd = sorted({*odd, *(k for k, text in enumerate(texts) if text in others)})
    return tuple(sorted({*codes, *odd})) if 3 * len(odd) <= len(cells) else tuple(codes)


def _is_part(text: str) -> bool:
    """Whether a text is a code or a name of a part of a year, or the code of a whole one."""
    return bool(_PERIOD.fullmatch(text) or _WHOLE.fullmatch(text) or part_of_year(text))


def _is_headed(name: str) -> bool:
    """Whether a column is named month or quarter."""
    return name in (*_MONTH_WORDS, *_QUARTER_WORDS) or field_of(name) in ("month", "quarter")


def _refuse_an_unknown_part(block: Block, name: str, place: int, aside: Sequence[int]) -> None:
    """Refuse a column of months or quarters by its heading in which some cells are neither."""
    if not _is_headed(name):
        return
    texts = [cell_text(row[place]) for k, row in enumerate(block.rows) if k not in set(aside)]
    unknown = [text for text in texts if not part_of_year(text)]
    if 0 < 3 * len(unknown) <= len(texts):
        raise TableError(
            f"{block.place}: '{unknown[0]}' under '{name}' is neither a month nor a quarter "
            f"({quantity(len(unknown), 'such cell')}). Correct the file."
        )


def _part_reader(name: str, cells: Sequence[object]) -> Callable[[str, str], str] | None:
    """How to combine a year with a cell of a column, if the column has parts of years."""
    texts = [cell_text(c) for c in cells[:400]]
    if not texts or any(not t for t in texts):
        return None
    if all(_PERIOD.fullmatch(t) or t.upper() == "A01" for t in texts):
        return _code
    field = field_of(name)
    if name in _MONTH_WORDS or field == "month" or all(is_month_name(t) for t in texts):
        ok = all(is_month_name(t) or (t.isdigit() and 1 <= int(t) <= 12) for t in texts)
        return _monthly if ok else None
    if (name in _QUARTER_WORDS or field == "quarter") and all(re.fullmatch(r"[1-4]", t) for t in texts):
        texts = [f"Q{t}" for t in texts]
    if {p[0] if (p := part_of_year(t)) else "" for t in texts} in ({"Q"}, {"S"}):
        return _quarterly
    return _part_numbers(name, field, texts)


def _part_numbers(name: str, field: str, texts: Sequence[str]) -> Callable[[str, str], str] | None:
    """Numbers of half-years or weeks, by the heading."""
    if _HALF_WORDS.search(name) and all(t in ("1", "2") for t in texts):
        return lambda year, text: f"{year}-S{text}"
    if (name in ("week", "wk", "woche") or field == "week") and all(
        t.isdigit() and 1 <= int(t) <= 53 for t in texts
    ):
        return lambda year, text: f"{year}-W{int(text):02d}"
    return None


def _months_without_heading(
    years: Sequence[object], name: str, cells: Sequence[object]
) -> Callable[[str, str], str] | None:
    """Months under an unknown heading: a column that runs 1 to 12 next to each year."""
    texts = [cell_text(c) for c in cells]
    if {t.lstrip("0") for t in texts} != _TWELVE or name in _KEY_WORDS:
        return None
    pairs = list(zip(map(cell_text, years), (t.lstrip("0") for t in texts), strict=True))
    counts = Counter(year for year, _ in pairs)
    whole = [year for year in counts if counts[year] == len(_TWELVE)]
    return _monthly if len(set(pairs)) == len(pairs) and len(whole) >= len(counts) - 2 else None


def _code(year: str, text: str) -> str:
    match = _PERIOD.fullmatch(text)
    if not match or _WHOLE.fullmatch(text):
        return f"{year}-01"  # set aside
    letter, number = match[1].upper(), int(match[2])
    return f"{year}-{number:02d}" if letter == "M" else f"{year}-{letter}{number}"


def _quarterly(year: str, text: str) -> str:
    part = part_of_year(f"Q{text}" if text.isdigit() else text)
    return label_part(year, part) if part else ""


def _monthly(year: str, text: str) -> str:
    return f"{year}-{int(text) if text.isdigit() else month_of_name(text):02d}"


def _objects(texts: Sequence[str]) -> Array:
    array = np.empty(len(texts), dtype=object)
    array[:] = texts
    return array


def side_by_side(block: Block) -> Block | None:
    """The block with years down and months or quarters across, reshaped to one value per row, or None."""
    if block.family != "A" or block.heading.missing:
        return None
    parts = {k: p for k, n in enumerate(block.heading.names) if k != block.date_column and (p := part_of_year(n))}
    bare = {block.heading.names[k].strip() for k in parts}
    if bare == set("1234") and block.heading.names[block.date_column].lower() in _QUARTER_WORDS:
        parts = {k: ("Q", number) for k, (_, number) in parts.items()}
    kinds = {p[0] for p in parts.values()}
    by_place = _months_between(block, parts) if kinds == {"M"} else {}
    parts |= by_place
    if len(kinds) != 1 or len(parts) < {"M": 6, "Q": 4, "S": 2}[next(iter(kinds))]:
        return None
    others = [k for k in range(len(block.heading.names)) if k not in parts and k != block.date_column]
    whole = [
        k for k in others if _WHOLE_YEAR.fullmatch(block.heading.names[k]) or _is_of_the_year(block, k, parts)
    ]
    _refuse_a_month_unknown(block, whole, parts)
    keys = [k for k in others if k not in whole]
    names = [*[block.heading.names[k] for k in keys], "period", "value"]
    rows: list[Row] = []
    lines: list[int] = []
    for row, line in zip(block.rows, block.lines, strict=True):
        year = cell_text(row[block.date_column])
        for place, part in parts.items():
            rows.append([*[row[k] for k in keys], label_part(year, part), row[place]])
            lines.append(line)
    kept = _without_empty_ends(rows)
    unfilled = len(rows) - len(kept)
    across = {"M": "months", "Q": "quarters", "S": "half-years"}[next(iter(kinds))]
    decisions = [("layout", f"years down, {across} across")]
    decisions += [("month", f"'{block.heading.names[k]}' is month {parts[k][1]}, by its place") for k in by_place]
    decisions += [("set aside", f"column '{block.heading.names[k]}'") for k in whole]
    if unfilled:
        decisions.append(("set aside", f"{unfilled} empty cells before the first or after the last value"))
    grid = replace(block.grid, rows=rows, lines=lines)
    heading = Heading(names, first_row=block.heading.first_row, line=block.heading.line)
    return replace(
        block,
        grid=grid,
        date_column=len(keys),
        heading=heading,
        rows=[rows[i] for i in kept],
        lines=[lines[i] for i in kept],
        prose=[],
        family=next(iter(kinds)),
        decisions=[*block.decisions, *decisions],
    )


def _months_between(block: Block, parts: Mapping[int, tuple[str, int]]) -> dict[int, tuple[str, int]]:
    """Months whose heading is not understood, by their place between two that are.

    Raises
    ------
    TableError
        If columns of numbers between the months can be no months.
    """
    found: dict[int, tuple[str, int]] = {}
    places = sorted(parts)
    for left, right in itertools.pairwise(places):
        between = range(left + 1, right)
        if not between or not any(_has_numbers(block, k) for k in between):
            continue
        if parts[right][1] - parts[left][1] != right - left:
            name = block.heading.names[left + 1]
            raise TableError(
                f"{block.place}: column '{name}' stands between the months '{block.heading.names[left]}' and "
                f"'{block.heading.names[right]}' and is not one. Remove it from the file."
            )
        found |= {k: ("M", parts[left][1] + k - left) for k in between}
    return found


def _refuse_a_month_unknown(block: Block, whole: Sequence[int], parts: Mapping[int, tuple[str, int]]) -> None:
    """Refuse a column of numbers that can be the month that is missing, or a mean of the year."""
    names = block.heading.names
    unknown = [k for k in whole if not _WHOLE_YEAR.fullmatch(names[k])]
    if unknown and next(iter(parts.values()))[0] == "M" and len(set(parts.values())) < len(_TWELVE):
        raise TableError(
            f"{block.place}: the columns name {len(parts)} months, and '{names[unknown[0]]}' can be another or a "
            "mean of the year. Write 'Total' or the name of the month as its heading."
        )


def _has_numbers(block: Block, column: int) -> bool:
    return any(is_value(r[column]) for r in block.rows)


def _is_of_the_year(block: Block, column: int, parts: Mapping[int, tuple[str, int]]) -> bool:
    """Whether a column to the right of the months has numbers: a mean or sum of the year."""
    cells = [r[column] for r in block.rows if not is_empty(r[column])]
    return column > max(parts) and bool(cells) and all(map(is_value, cells))


def _without_empty_ends(rows: Sequence[Row]) -> list[int]:
    """Rows without the empty cells before the first and after the last month."""
    filled = [i for i, row in enumerate(rows) if not is_empty(row[-1])]
    if not filled:
        return list(range(len(rows)))
    keys = [tuple(map(cell_text, row[:-2])) for row in rows]
    last: dict[object, int] = {}
    first: dict[object, int] = {}
    for i in filled:
        last[keys[i]] = i
        first.setdefault(keys[i], i)
    return [i for i in range(len(rows)) if keys[i] in first and first[keys[i]] <= i <= last[keys[i]]]


# Price bars (OHLC) without a header, identified by high ≥ open, close ≥ low

NAMES: Final = ("open", "high", "low", "close", "volume", "open interest")


def name_bars(block: Block, where: str) -> Block:
    """The block, with names if it has none and its columns are unambiguously bars.

    Raises
    ------
    TableError
        If it has no heading, and its columns are ambiguous.
    """
    if not block.heading.missing:
        return block
    width = len(block.rows[0])
    bare = replace(block, heading=Heading([f"{k}" for k in range(width)]))
    dated = date_cells(bare).used
    values = [k for k in range(width) if k not in dated]
    if not _are_bars(block, values):
        first = " ".join(cell_text(c) for c in block.rows[0])
        raise TableError(
            f"{where}: the table that starts on line {block.lines[0]} has no header; its first row is "
            f"'{first}'. Set the names of its {width} columns with columns=[...]; if it continues the table "
            "above at another frequency, set another column of dates with date_column=..."
        )
    names = ["date", *["time"] * (len(dated) - 1), *NAMES[: len(values)]]
    bar_names = (
        "columns",
        f"bars without a header: {', '.join(NAMES[: len(values)])}; high is highest, low lowest",
    )
    return replace(block, heading=Heading(names), decisions=[*block.decisions, bar_names])


def _are_bars(block: Block, values: list[int]) -> bool:
    """Whether four to six columns of numbers are open, high, low, close, volume, open interest."""
    if not 4 <= len(values) <= 6 or values != list(range(values[0], values[0] + len(values))):
        return False
    columns = []
    for mark in (".", ","):
        read = [read_numbers(column_array([r[k] for r in block.rows]), mark, frozenset()) for k in values]
        columns = [r.values for r in read]
        if not any(np.isinf(c).any() for c in columns):
            break
    return not any(np.isinf(c).any() for c in columns) and has_bar_order(columns)


def has_bar_order(columns: list[Floats]) -> bool:
    """Whether second and third columns bound the first and fourth, and some bar has a range."""
    opens, high, low, close = columns[:4]
    complete = np.isfinite(opens) & np.isfinite(high) & np.isfinite(low) & np.isfinite(close)
    if complete.sum() < 3:
        return False
    o, h, lo, c = opens[complete], high[complete], low[complete], close[complete]
    bounded = bool((h >= np.maximum(o, c)).all() and (lo <= np.minimum(o, c)).all())
    ranged = bool((h > lo).mean() > 0.2)
    sizes = [col[np.isfinite(col)] for col in columns[4:]]
    counts = all(len(s) == 0 or ((s >= 0).all() and np.median(s) > 0) or (s == 0).all() for s in sizes)
    return bounded and ranged and counts


# Times of day in a time zone, including the skipped and repeated hours of daylight saving


def zone_of_headings(names: Sequence[str], used: Sequence[int]) -> str:
    """Time zone in the headings of the columns of dates, such as "Time (UTC)"; empty if they state none.

    >>> zone_of_headings(["Time (Europe/Paris)", "Bid"], [0])
    'Europe/Paris'
    """
    return next((m[0] for k in used if k < len(names) and (m := _ZONE.search(names[k]))), "")


def in_zone(dates: ReadDates, timezone: str, where: str) -> ReadDates:
    """Dates with the offset from UTC of each time; the order of rows resolves the repeated hour of autumn.

    Raises
    ------
    TableError
        If the zone is unknown, a time was skipped by the clock change, or a repeated time is ambiguous.
    """
    local = pd.DatetimeIndex(dates.moments)
    try:
        unknown = local.tz_localize(timezone, ambiguous="NaT", nonexistent="NaT")
    except (KeyError, ValueError, TypeError, LookupError, OSError):
        raise TableError(
            f"{where}: timezone='{timezone}' is not a time zone; write it like 'Europe/Paris' or 'UTC'."
        ) from None
    open_rows = np.asarray(unknown.isna()) & ~np.asarray(local.isna())
    shifted = _localise_repeats(local, timezone, where, open_rows) if open_rows.any() else unknown
    ahead = (local - shifted.tz_convert("UTC").tz_localize(None)) / pd.Timedelta(seconds=1)
    return replace(dates, offsets=np.nan_to_num(np.asarray(ahead)).astype(np.int64))


def _localise_repeats(local: pd.DatetimeIndex, timezone: str, where: str, rows: Bools) -> pd.DatetimeIndex:
    """Localised times; the first of two equal ones is in summer time."""
    first = local[rows][0]
    try:
        local.tz_localize(timezone, ambiguous=np.zeros(len(local), dtype=bool))
    except ValueError:
        skipped = local[
            rows
            & np.asarray(
                local.tz_localize(timezone, ambiguous=np.zeros(len(local), dtype=bool), nonexistent="NaT").isna()
            )
        ][0]
        raise TableError(
            f"{where}: the clocks of {timezone} skipped {skipped} when summer time began, so the data are in "
            "another time zone. Set it, such as timezone='UTC'."
        ) from None
    try:
        return local.tz_localize(timezone, ambiguous="infer")
    except ValueError:
        raise TableError(
            f"{where}: the clocks of {timezone} showed {first} twice, and the order of the rows does not show "
            "which one is meant. Write the times with their offset from UTC (2024-10-27T02:00+02:00), or in UTC."
        ) from None
