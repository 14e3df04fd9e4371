"""Maps of regions and their values, from GeoJSON."""

from __future__ import annotations

import itertools
import os
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final

import numpy as np
import pandas as pd

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Floats
from ultrum.errors import TableError, UnitError, name_list
from ultrum.file_access import read_regular
from ultrum.report.figures.figure_style import INK, STONE, axes_for, foot, house_style

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_SHADES: Final = ("#e8f1f2", "#b9d7db", "#7fb3bb", "#3f8896", "#0b6477", "#063f4c")
_LARGEST: Final = 64 * 1024 * 1024
_KINDS: Final = ("Polygon", "MultiPolygon")


@house_style
@validate_arguments
def regions(
    values: pd.Series | Mapping[str, float],
    shapes: Mapping[str, object] | bytes | str | os.PathLike[str],
    *,
    classes: int = 5,
    breaks: str | list[float] = "quantiles",
    code: str = "code",
    unit: str = "",
    title: str = "",
    source: str = "",
    ax: Axes | None = None,
) -> Axes:
    """A map with regions shaded by value.

    Parameters
    ----------
    values : Series or mapping
        Values by code of the region.
    shapes : mapping, bytes or path
        GeoJSON (RFC 7946): a FeatureCollection of polygons.
    classes : int
        Two to six.
    breaks : {"quantiles", "equal"} or list of float
        Classes with equal numbers of regions, with equal widths, or with given inner limits.
    code : str
        Property (or the feature's id) with the code.
    unit : str
        Unit in the legend; ``"%"`` shows decimals as percent.
    title, source : str
        Title; by default generated from the data.
    ax : Axes, optional
        Axes to draw into; by default those of a new figure.

    Returns
    -------
    Axes
        ``ax.unmatched`` lists codes with a value but no shape, which the caption states too; shapes without a
        value are hatched.

    Raises
    ------
    TableError
        If it is not GeoJSON, or no feature has one of the codes.
    UnitError
        If there is no number to show.

    Examples
    --------
    >>> square = [[[0, 0], [1, 0], [1, 1], [0, 0]]]
    >>> feature = {"type": "Feature", "properties": {"code": "01"},
    ...            "geometry": {"type": "Polygon", "coordinates": square}}
    >>> ax = regions({"01": 3.0, "02": 4.0}, {"type": "FeatureCollection", "features": [feature]})
    >>> ax.unmatched
    ['02']
    """
    from matplotlib.collections import PathCollection

    numbers = {str(c): float(v) for c, v in dict(values).items() if np.isfinite(float(v))}
    if not numbers:
        raise UnitError("No region has a value to show.")
    polygons = dict(_polygons(_features(shapes), code))
    factor = 100.0 if unit == "%" else 1.0
    matched = {c: v * factor for c, v in numbers.items() if c in polygons}
    if not matched:
        raise TableError(
            f"None of the codes ({name_list(numbers)}) is a '{code}' of the shapes "
            f"({name_list(polygons)}). Check leading zeros, or set code= to another property."
        )
    limits = _limits(np.array(list(matched.values())), classes, breaks, factor)
    palette = [_SHADES[round(k)] for k in np.linspace(0, 5, len(limits) - 1)]
    ax = axes_for(ax, height=6.4)
    for name, paths in polygons.items():
        empty = name not in matched
        place = 0 if empty else _class_of(matched[name], limits)
        ax.add_collection(
            PathCollection(
                paths,
                facecolor="white" if empty else palette[place],
                edgecolor=STONE if empty else "white",
                hatch="////" if empty else None,
                linewidth=0.6,
            )
        )
    _legend(ax, limits, palette, unit, missing=len(polygons) - len(matched))
    _frame(ax)
    ax.set_title(title or getattr(values, "name", None) or "")
    unmatched = sorted(set(numbers) - set(polygons))
    ax.unmatched = unmatched  # type: ignore[attr-defined]
    foot(ax, _foot_line(source, matched, polygons, unmatched))
    return ax


def _features(shapes: object) -> list[Mapping[str, object]]:
    import orjson

    if isinstance(shapes, str | os.PathLike):
        path = Path(shapes)
        try:
            shapes = read_regular(path, _LARGEST + 1)
            if len(shapes) > _LARGEST:
                raise TableError(f"{path} has more than {_LARGEST:,} bytes. Use simpler shapes.")
        except OSError as error:
            raise TableError(f"{path} cannot be read: {error.strerror}.") from error
    if isinstance(shapes, bytes):
        try:
            shapes = orjson.loads(shapes)
        except orjson.JSONDecodeError as error:
            raise TableError(f"The shapes are not JSON: {error}.") from error
    if not isinstance(shapes, Mapping) or not isinstance(shapes.get("features"), list):
        raise TableError("The shapes are not a GeoJSON FeatureCollection.")
    return [f for f in shapes["features"] if isinstance(f, Mapping)]


def _polygons(features: list[Mapping[str, Any]], code: str) -> Iterator[tuple[str, list[Any]]]:
    """Code of each region with its outlines; holes stay open."""
    from matplotlib.path import Path as Outline

    for feature in features:
        properties = feature.get("properties") or {}
        name = properties.get(code, feature.get("id") if code == "code" else None)
        shape = feature.get("geometry") or {}
        if name is None or shape.get("type") not in _KINDS:
            continue
        parts = shape["coordinates"] if shape["type"] == "MultiPolygon" else [shape["coordinates"]]
        outlines = []
        try:
            for rings in parts:
                paths = [Outline(np.asarray(ring, dtype=float)[:, :2], closed=True) for ring in rings]
                outlines.append(Outline.make_compound_path(*paths))
        except (ValueError, IndexError, TypeError):
            raise TableError(
                f"The shape of region '{name}' is not a polygon of longitudes and latitudes."
            ) from None
        yield str(name), outlines


def _limits(values: Floats, classes: int, breaks: str | list[float], factor: float) -> Floats:
    """Limits of the classes, including minimum and maximum."""
    if not isinstance(breaks, str):
        inner = np.sort(np.asarray(breaks, dtype=float)) * factor
        edges = np.concatenate([[min(values.min(), inner[0])], inner, [max(values.max(), inner[-1])]])
    elif breaks == "quantiles":
        edges = np.quantile(values, np.linspace(0, 1, _count(classes) + 1))
    elif breaks == "equal":
        edges = np.linspace(values.min(), values.max(), _count(classes) + 1)
    else:
        raise UnitError(f"breaks='{breaks}' is not known; it is quantiles, equal or a list of limits.")
    distinct = np.unique(edges)
    return distinct if len(distinct) > 1 else np.array([distinct[0], distinct[0]])


def _count(classes: int) -> int:
    if not 2 <= classes <= len(_SHADES):
        raise UnitError(f"classes={classes}: a map is readable with 2 to {len(_SHADES)}.")
    return classes


def _class_of(value: float, limits: Floats) -> int:
    return int(np.clip(np.searchsorted(limits, value, side="right") - 1, 0, len(limits) - 2))


def _legend(ax: Axes, limits: Floats, palette: list[str], unit: str, missing: int) -> None:
    from matplotlib.patches import Patch

    span = float(limits[-1] - limits[0])
    digits = int(np.clip(2 - np.floor(np.log10(span)), 0, 6)) if span > 0 else 2
    words = [f"{low:,.{digits}f} to {high:,.{digits}f}" for low, high in itertools.pairwise(limits)]
    handles: list[object] = [Patch(facecolor=c, label=w) for c, w in zip(palette, words, strict=True)]
    if missing:
        handles.append(Patch(facecolor="white", edgecolor=STONE, hatch="////", label=f"no value ({missing})"))
    legend = ax.legend(handles=handles, title=unit or None, loc="center left", bbox_to_anchor=(1.0, 0.5))
    legend.get_title().set_color(INK)


def _frame(ax: Axes) -> None:
    """Hide the axes, and scale longitude to the latitude of the map."""
    ax.autoscale_view()
    middle = float(np.mean(ax.get_ylim()))
    if abs(middle) < 89 and abs(ax.get_xlim()[1]) <= 360:
        ax.set_aspect(1.0 / np.cos(np.radians(middle)))
    ax.set_axis_off()


def _foot_line(
    source: str, matched: Mapping[str, object], polygons: Mapping[str, object], unmatched: list[str]
) -> str:
    words = [f"Source: {source}"] if source else []
    words.append(f"{len(matched)} of {len(polygons)} regions have a value")
    if unmatched:
        words.append(f"codes without a shape: {name_list(unmatched)}")
    return "; ".join(words)
