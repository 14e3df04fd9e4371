"""Series, panels and results into files that other software reads, with what each column is."""

from __future__ import annotations

import json
import os
from collections.abc import Mapping
from pathlib import Path
from typing import Any, Final

import pandas as pd

from ultrum.core.descriptor import Descriptor
from ultrum.core.panel import Panel
from ultrum.core.series import SeriesTable, TimeSeries
from ultrum.errors import UltrumError
from ultrum.present.export import to_csv, to_parquet, to_xlsx

_CONTEXT: Final = "http://www.w3.org/ns/csvw"
_TYPES: Final = {"A": "gYear", "M": "gYearMonth", "B": "date", "D": "date"}
_PARTS: Final = {"Q": "quarter", "M": "month", "S": "half"}


def save(
    data: Any, path: str | os.PathLike[str], *, layout: str = "wide", periods: str = "label"
) -> list[Path]:
    """Write series, a panel or a result to CSV, XLSX or Parquet, by the ending of the path.

    Parameters
    ----------
    data : TimeSeries, SeriesTable, Panel, DataFrame, or a result with ``to_frame``
    path : path
        Ending in ``.csv``, ``.xlsx`` or ``.parquet``.
    layout : {"wide", "long"}
        One row a period, or for panels one row a period and asset.
    periods : {"label", "columns"}
        The period by its SDMX name, or as numeric columns (``year`` and ``month`` or ``quarter``), which
        other statistical software asks for.

    Returns
    -------
    list of Path
        The files written. Beside a CSV stands ``NAME.csv-metadata.json``, which says what each column is
        (CSV on the Web, W3C): title, unit, currency, source and the steps it went through.

    Raises
    ------
    UltrumError
        If the ending is none of these, or the file cannot be written.

    Examples
    --------
    >>> import tempfile, ultrum as ul
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     [file.name for file in save(ul.practice.panel(), Path(folder, "panel.csv"), layout="long")]
    ['panel.csv', 'panel.csv-metadata.json']
    """
    target = Path(path)
    if layout not in ("wide", "long") or periods not in ("label", "columns"):
        raise UltrumError("layout is wide or long, periods is label or columns.")
    frame = _with_periods(_framed(data, layout), periods)
    writers = {".csv": to_csv, ".xlsx": to_xlsx, ".parquet": to_parquet}
    writer = writers.get(target.suffix.lower())
    if writer is None:
        raise UltrumError(f"'{target.name}' ends in none of {', '.join(writers)}.")
    try:
        writer(frame, target)
        if writer is not to_csv:
            return [target]
        beside = target.with_name(f"{target.name}-metadata.json")
        said = _metadata(target.name, frame, _abouts(data))
        beside.write_text(json.dumps(said, indent=2, ensure_ascii=False) + "\n", encoding="utf-8")
    except OSError as error:
        raise UltrumError(f"{target} cannot be written: {error.strerror}.") from None
    return [target, beside]


def _framed(data: Any, layout: str) -> pd.DataFrame:
    if isinstance(data, Panel):
        if layout == "long":
            return data.long()
        wide = data.wide()
        wide.columns = pd.Index([str(name) for name in wide.columns.get_level_values(1)])
        return wide
    if isinstance(data, pd.DataFrame):
        return data
    if not hasattr(data, "to_frame"):
        raise UltrumError(
            f"A {type(data).__name__} cannot be written; give series, a panel or a table."
        )
    frame: pd.DataFrame = data.to_frame()
    if layout == "long" and isinstance(data, SeriesTable | TimeSeries):
        named = frame.rename_axis("period").reset_index()
        return named.melt("period", var_name="series", value_name="value").dropna()
    return frame


def _with_periods(frame: pd.DataFrame, periods: str) -> pd.DataFrame:
    """Numeric columns in place of the period, if they are wanted."""
    if periods == "label":
        return frame
    inside = "period" in frame.columns
    index: Any = pd.Index(frame["period"]) if inside else frame.index
    if not isinstance(index, pd.PeriodIndex | pd.DatetimeIndex):
        raise UltrumError("periods='columns' needs rows of periods or dates.")
    rest = frame.drop(columns="period") if inside else frame.reset_index(drop=True)
    made: dict[str, Any] = {"year": index.year}
    code = index.freqstr[:1] if isinstance(index, pd.PeriodIndex) else "D"
    if code in _PARTS:
        made[_PARTS[code]] = getattr(index, _PARTS[code])
    elif code not in "AY":
        made |= {"month": index.month, "day": index.day}
    return pd.concat([pd.DataFrame(made), rest.reset_index(drop=True)], axis=1)


def _abouts(data: Any) -> Mapping[str, Descriptor]:
    if isinstance(data, Panel):
        return data.about
    if isinstance(data, TimeSeries):
        return {data.name: data.about}
    return {a.name: a for a in data.about} if isinstance(data, SeriesTable) else {}


def _metadata(name: str, frame: pd.DataFrame, abouts: Mapping[str, Descriptor]) -> dict[str, Any]:
    """What each column is, as CSV on the Web says it."""
    from ultrum.present.export import flattened

    flat = flattened(frame)
    frequency = next((a.frequency.code for a in abouts.values()), "")
    columns = []
    for column in flat.columns:
        about = abouts.get(column)
        said: dict[str, Any] = {"name": column, "titles": about.heading if about else column}
        if column in ("period", "date"):
            said["datatype"] = _TYPES.get(frequency, "string")
        else:
            said["datatype"] = "number" if pd.api.types.is_numeric_dtype(flat[column]) else "string"
        if about:
            said |= _facts(about)
        columns.append(said)
    return {
        "@context": _CONTEXT,
        "url": name,
        "dialect": {"delimiter": ",", "encoding": "utf-8", "header": True},
        "tableSchema": {"columns": columns},
    }


def _facts(about: Descriptor) -> dict[str, str]:
    """Unit, source and trail of a series in Dublin Core and schema.org words."""
    unit = " ".join(w for w in (about.measure, about.unit, about.currency) if w)
    said = {
        "schema:unitText": unit,
        "dc:source": about.address or about.source,
        "dc:provenance": "; ".join(str(step) for step in about.trail),
    }
    return {key: text for key, text in said.items() if text}
