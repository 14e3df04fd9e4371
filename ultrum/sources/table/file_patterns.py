"""Many files of one form, and single values on pages, as one series each."""

from __future__ import annotations

import itertools
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Final, TypeVar

import numpy as np
import pandas as pd

from ultrum.core.presentation import quantity
from ultrum.core.series.metadata import Metadata, Step
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.time.frequency import Frequency, parse_period, periods_in
from ultrum.errors import FrequencyError, NotFoundError, TableError, name_list
from ultrum.sources.table.ambiguous_dates import read_dates
from ultrum.sources.table.cell_grid import column_array
from ultrum.sources.table.html_json_and_workbook_cells import page_text
from ultrum.sources.table.number_formats_and_date_words import decimal_mark, read_numbers
from ultrum.sources.table.reading_result import Decision, Reading, TableOptions

_NUMBER: Final = re.compile(
    r"(?P<pre>[A-Z]{3}|[€$£¥])?\s?(?P<number>[-−(]?\d(?:[\d.,' \u00a0]*\d)?\)?)"
    r"\s?(?P<post>%|per ?cent|[A-Z]{3}\b)?"
)
_REACH: Final = 80
_DATE: Final = re.compile(
    r"(?:as (?:of|at)|on|dated?|updated):?\s+((?:\w+,? )?\d{1,2}(?:st|nd|rd|th)?[ ./-]\w+[ ./-]\d{2,4}|"
    r"\d{4}-\d{2}-\d{2}|\w+ \d{1,2},? \d{4})",
    re.IGNORECASE,
)


@dataclass(frozen=True)
class LoneFigure:
    """A value, the words around it, and its date on the page."""

    value: float
    percent: bool
    currency: str
    words: str
    day: str = ""


def find_figure(body: bytes, beside: str, name: str, decimal: str | None = None) -> LoneFigure:
    """The number after some words of a page.

    Raises
    ------
    TableError
        If the words are absent, no number follows them, or different numbers do.
    """
    text = page_text(body, name)
    wanted = re.compile(r"\s+".join(re.escape(w) for w in beside.split()), re.IGNORECASE)
    places = list(wanted.finditer(text))
    if not places:
        raise TableError(f"{name}: it does not contain the words '{beside}'. It begins: '{text[:80]}'.")
    figures = [f for p in places if (f := _after(text, p.end(), name, decimal)) is not None]
    if not figures:
        raise TableError(f"{name}: no number follows '{beside}' within {_REACH} characters.")
    if len({f.value for f in figures}) > 1:
        phrases = " and ".join(f"'{f.words}'" for f in figures[:3])
        raise TableError(
            f"{name}: different numbers follow '{beside}': {phrases}. Quote more of the words before the number."
        )
    return figures[0]


def _after(text: str, start: int, name: str, decimal: str | None) -> LoneFigure | None:
    """The first number after a position that is not part of a date."""
    stretch = text[start : start + _REACH]
    dated = [m.span(1) for m in _DATE.finditer(stretch)]
    for match in _NUMBER.finditer(stretch):
        if any(a <= match.start("number") < b for a, b in dated):
            continue
        cell = match["number"].strip()
        mark = decimal_mark([cell], decimal, name)
        read = read_numbers(column_array([cell]), mark, frozenset())
        if read.values[0] in (float("inf"),):
            continue
        post = (match["post"] or "").strip()
        percent = post.lower() in ("%", "percent", "per cent")
        currency = match["pre"] or ("" if percent else post)
        words = text[max(0, start - 40) : start + match.end()].strip()
        return LoneFigure(float(read.values[0]), percent, currency, words, _day_near(text, start))
    return None


def _day_near(text: str, place: int) -> str:
    """The date of a page's values, as an ISO date."""
    dates = [(abs(m.start() - place), m[1]) for m in _DATE.finditer(text)]
    for _, words in sorted(dates):
        try:
            moments = read_dates(column_array([words]), None, "page").moments
        except TableError:
            continue
        return str(moments[0].astype("datetime64[D]"))
    return ""


# Many files under one pattern: expanded over codes or dates, combined to one history

_FIELD: Final = re.compile(r"\{(\w+)(?::([^{}]+))?\}")
MOST_FILES: Final = 20_000
T = TypeVar("T")
Read = Callable[[str, TableOptions], Reading]
Load = Callable[[str], bytes]


def is_pattern(text: str) -> bool:
    """Whether an address has a field in braces.

    Examples
    --------
    >>> is_pattern("rents/{region}.csv")
    True
    """
    return bool(_FIELD.search(text)) and "\n" not in text


def expand_pattern(pattern: str, expand: Mapping[str, Sequence[str]]) -> list[tuple[str, dict[str, str]]]:
    """Every address of a pattern, with the values of its fields.

    Parameters
    ----------
    pattern : str
        Such as ``rents/{region}.csv`` or ``copies/{date:%Y%m%d}.html``.
    expand : mapping of str to sequence
        Values for each field. For a field with a date format, the first and last period and optionally a step
        such as ``"P1M"`` or ``"B"`` for business days; or a list of days.

    Examples
    --------
    >>> expand_pattern("rents/{region}.csv", {"region": ["01", "02"]})
    [('rents/01.csv', {'region': '01'}), ('rents/02.csv', {'region': '02'})]
    >>> [a for a, _ in expand_pattern("fx/{day:%Y-%m}.csv", {"day": ("2024-01", "2024-03")})]
    ['fx/2024-01.csv', 'fx/2024-02.csv', 'fx/2024-03.csv']
    """
    fields = list(dict.fromkeys(m[1] for m in _FIELD.finditer(pattern)))
    absent = [f for f in fields if f not in expand]
    if absent:
        raise TableError(f"{pattern}: set what {{{absent[0]}}} takes: expand={{'{absent[0]}': [...]}}.")
    forms = {m[1]: m[2] for m in _FIELD.finditer(pattern) if m[2]}
    choices = [_dates(expand[f], forms[f]) if f in forms else [str(v) for v in expand[f]] for f in fields]
    if np.prod([len(c) for c in choices], dtype=float) > MOST_FILES:
        raise TableError(
            f"{pattern} expands to more than {MOST_FILES:,} addresses. Use a narrower pattern or a shorter span."
        )
    paths = []
    for values in itertools.product(*choices):
        parts = dict(zip(fields, values, strict=True))
        paths.append((_FIELD.sub(lambda m: parts[m[1]], pattern), parts))  # noqa: B023 - used at once
    return paths


def _dates(bounds: Sequence[str], form: str) -> list[str]:
    """Dates from first to last in a format, one per day, month or year."""
    if not _is_range(bounds):
        return list(dict.fromkeys(pd.Timestamp(_first_day(b)).strftime(form) for b in bounds))
    code = "D" if re.search("%[djeU]", form) else "M" if re.search("%[mbB]", form) else "A"
    business = len(bounds) == 3 and bounds[2] == "B"
    frequency = Frequency("B" if business else code)
    try:
        first, last = (int(frequency.ordinals(np.array([_first_day(b)]))[0]) for b in bounds[:2])
        step = periods_in(bounds[2], frequency) if len(bounds) == 3 and not business else 1
    except FrequencyError as error:
        raise TableError(str(error)) from error
    if last < first:
        raise TableError(
            f"The end of the dates ({bounds[1]}) is before their start ({bounds[0]}). Exchange them."
        )
    if last - first > MOST_FILES * step:
        raise TableError(
            f"{bounds[0]} to {bounds[1]} are more than {MOST_FILES:,} addresses. Use a narrower pattern or a "
            "shorter span."
        )
    ordinals = np.arange(first, last + 1, step, dtype=np.int64)
    days = frequency.starts(ordinals)
    return list(dict.fromkeys(pd.Timestamp(d).strftime(form) for d in days))


def _is_range(bounds: Sequence[str]) -> bool:
    """Whether dates are given by the first and the last, optionally with a step."""
    if len(bounds) == 3:
        return str(bounds[2]) == "B" or str(bounds[2]).startswith("P")
    return len(bounds) == 2


def _first_day(period: str) -> np.datetime64:
    try:
        return parse_period(str(period))[1]
    except FrequencyError as error:
        raise TableError(str(error)) from error


def files_of(pattern: str) -> list[tuple[str, dict[str, str]]]:
    """Local files that match a pattern, with the values in their names."""
    base = Path(pattern)
    fixed = next((p for p in (base, *base.parents) if not _FIELD.search(str(p))), Path("."))
    expression = "".join(
        re.escape(part) if i % 3 == 0 else f"(?P<{part}>[^/]+?)" if i % 3 == 1 else ""
        for i, part in enumerate(_FIELD.split(base.as_posix()))
    )
    files = []
    for file in sorted(fixed.rglob("*"))[: MOST_FILES * 2]:
        match = re.fullmatch(expression, file.as_posix())
        if match and file.is_file():
            files.append((str(file), match.groupdict()))
    if not files:
        raise TableError(f"No file matches {pattern}. Check the pattern and its folder.")
    return files


def read_many(
    pattern: str, places: Sequence[tuple[str, dict[str, str]]], options: TableOptions, read: Read, load: Load
) -> Reading:
    """Tables or figures of many files as one reading.

    Files that differ by a date are copies of one page: single values form a history, and tables are combined with
    later copies preferred. Files that differ by a code give series named by it.
    """
    form = next((m[2] or "" for m in _FIELD.finditer(pattern) if m[2] or m[1] == "date"), None)
    words = options.figure
    if words:
        results, absent = _each(places, form, lambda p, _: find_figure(load(p), words, p, options.decimal))
        days = [(_day_of(s, form or "", f), f) for s, f in results]
        return _with_gaps(figure_series(words, days, options), absent)
    readings, absent = _each(places, form, lambda p, parts: read(p, _with_day(options, parts, form)))
    if form is not None:
        ordered = sorted(readings, key=lambda r: _day_of(r[0], form, None))
        return _with_gaps(_history(pattern, [r for _, r in ordered]), absent)
    return _side_by_side(pattern, readings)


def _each(
    places: Sequence[tuple[str, dict[str, str]]], form: str | None, take: Callable[[str, dict[str, str]], T]
) -> tuple[list[tuple[dict[str, str], T]], list[str]]:
    """Content of each file; missing dated files are listed, unless all are missing."""
    results: list[tuple[dict[str, str], T]] = []
    absent: list[str] = []
    fault: NotFoundError | None = None
    for place, parts in places:
        try:
            results.append((parts, take(place, parts)))
        except NotFoundError as error:
            if form is None:
                raise
            fault = error
            absent.append(next(iter(parts.values())))
    if fault is not None and not results:
        raise fault
    return results, absent


def _with_gaps(reading: Reading, absent: Sequence[str]) -> Reading:
    """The reading with a decision that counts the dates without a file."""
    if not absent:
        return reading
    decision = Decision(
        "files missing", f"{quantity(len(absent), 'date')} without a file: {name_list(absent)}", certainty="gaps"
    )
    return replace(reading, decisions=(*reading.decisions, decision))


def _with_day(options: TableOptions, parts: Mapping[str, str], form: str | None) -> TableOptions:
    """Options with the date in a file's name, for tables without dates."""
    if form is None or options.on is not None or not options.headings:
        return options
    return replace(options, on=_day_of(parts, form, None))


def _day_of(parts: Mapping[str, str], form: str, figure: LoneFigure | None) -> str:
    """ISO date in the name of a file, or on the page itself."""
    for text in parts.values():
        for trial in [form] if form else ["%Y-%m-%d", "%Y%m%d", "%Y-%m", "%Y_%m_%d", "%Y"]:
            try:
                return str(pd.to_datetime(text, format=trial).date())
            except ValueError:
                continue
    if figure is not None and figure.day:
        return figure.day
    raise TableError(f"'{next(iter(parts.values()), '')}' in a file name is not a date. Write {{date:%Y%m%d}}.")


def figure_series(words: str, values_found: Sequence[tuple[str, LoneFigure]], options: TableOptions) -> Reading:
    """Single values by day as a series; the newest copy of a day is used."""
    values = dict(sorted(values_found, key=lambda x: x[0]))
    first = next(iter(values.values()))
    percent = options.units == "percent" or (first.percent and options.units is None)
    other = next((d for d, f in values.items() if f.percent != first.percent), None)
    if options.units is None and other is not None:
        raise TableError(
            f"'{words}' has a percent sign on some days and none on others, first on {other}. Set "
            "units='percent' or units='decimal'."
        )
    numbers = [f.value / 100.0 if percent else f.value for f in values.values()]
    series = pd.Series(numbers, pd.DatetimeIndex(list(values)))
    frequency = Frequency.parse(options.frequency or "D")
    facts: dict[str, object] = {"unit": "decimal"} if percent else {}
    if first.currency and not percent:
        facts.update(unit="currency", currency=first.currency)
    steps = [Step("figure read", (("beside", words),))]
    if percent:
        steps.append(Step("percent to decimals"))
    figure = TimeSeries.from_pandas(
        series, name=words, frequency=frequency, **{**facts, **options.facts}, trail=tuple(steps)
    )
    unit = "percent" if percent else first.currency or "as written"
    decisions = [
        Decision("figure", first.words, line=0),
        Decision("units", unit),
        Decision("copies", f"{len(values_found)} read, {quantity(len(values), 'day')}"),
    ]
    return Reading(words, {words: figure.as_table()}, tuple(decisions))


def _history(pattern: str, readings: Sequence[Reading]) -> Reading:
    """Copies of one table in order of time; where they overlap the later one is used, and the overlap is
    counted.
    """
    joined: dict[str, pd.DataFrame] = {}
    units: dict[tuple[str, str], tuple[str, str]] = {}
    metadata_list: dict[str, dict[str, Metadata]] = {}
    changed = 0
    for reading in readings:
        for column, table in reading.fields.items():
            old, new = joined.get(column), table.values
            if old is not None:
                both = old.reindex(index=new.index, columns=new.columns)
                differs = (both != new) & both.notna() & new.notna()
                changed += int(differs.to_numpy().sum())
                new = new.combine_first(old)
            joined[column] = new
            _check_units(units, column, table, pattern)
            metadata_list.setdefault(column, {}).update({a.name: a for a in table.metadata})
    fields = {
        column: SeriesTable.from_arrays(
            frame.to_numpy(dtype=np.float64).copy(),
            frame.index,
            _of_one_frequency([metadata_list[column][str(n)] for n in frame], frame.index),
        )
        for column, frame in joined.items()
    }
    decision = Decision(
        "copies",
        f"{len(readings)} joined; {quantity(changed, 'value')} changed since earlier copies, later values used",
    )
    first = readings[0]
    return replace(first, name=pattern, fields=fields, decisions=(*first.decisions, decision))


def _of_one_frequency(metadata_list: list[Metadata], index: pd.Index) -> list[Metadata]:
    """Descriptors of daily data, where single days leave it open whether weekends are included."""
    if not all(a.frequency.code in "BD" for a in metadata_list) or not isinstance(index, pd.DatetimeIndex):
        return metadata_list
    weekend = not np.is_busday(index.to_numpy().astype("datetime64[D]")).all()
    return [a.replace(frequency=Frequency("D" if weekend else "B")) for a in metadata_list]


def _check_units(
    seen: dict[tuple[str, str], tuple[str, str]], column: str, table: SeriesTable, pattern: str
) -> None:
    """Refuse copies of one series in different units, such as percent signs on later pages only."""
    for metadata in table.metadata:
        unit = (metadata.unit, metadata.currency)
        before = seen.setdefault((column, metadata.name), unit)
        if before != unit:
            first, then = (" ".join(filter(None, u)) or "no unit" for u in (before, unit))
            raise TableError(
                f"{pattern}: '{metadata.name}' is in {first} in earlier copies and in {then} in later ones. Set "
                "units='percent', units='decimal' or the common unit."
            )


def _side_by_side(pattern: str, readings: Sequence[tuple[dict[str, str], Reading]]) -> Reading:
    """Series of several files, named by the part in which the files differ."""
    fields: dict[str, SeriesTable] = {}
    rejected = []
    for parts, reading in readings:
        label = ".".join(parts.values())
        alone = len(reading.series) == 1
        for name, series in reading.series.items():
            named = label if alone else f"{label}.{name}"
            fields[named] = series.with_metadata(name=named).as_table()
        rejected += list(reading.rejected)
    decisions = (*readings[0][1].decisions, Decision("files", f"{len(readings)} under {pattern}"))
    return Reading(pattern, fields, decisions, tuple(rejected))
