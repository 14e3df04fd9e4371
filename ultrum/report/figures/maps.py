"""Maps of regions and their values, from GeoJSON."""

from __future__ import annotations

import itertools
import os
from collections.abc import Iterator, Mapping
from pathlib import Path as FilePath
from typing import TYPE_CHECKING, Any, Final

import numpy as np
import pandas as pd

from ultrum.core.array_types import Floats
from ultrum.errors import TableError, UnitError, name_list
from ultrum.file_access import read_regular
from ultrum.report.figures.figure_style import INK, STONE, axes_for, figure_function, figure_of, foot, points

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.path import Path

_SHADES: Final = ("#e8f1f2", "#b9d7db", "#7fb3bb", "#3f8896", "#0b6477", "#063f4c")
_LARGEST: Final = 64 * 1024 * 1024
_KINDS: Final = ("Polygon", "MultiPolygon")


@figure_function
def regions(
    values: pd.Series | Mapping[str, float],
    shapes: Mapping[str, object] | bytes | str | os.PathLike[str],
    *,
    classes: int = 5,
    breaks: str | list[float] = "quantiles",
    code: str = "code",
    name: str = "name",
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
    name : str
        Property with the name written into a region, where it fits; the code stands for a name that is absent or
        too long. An empty string writes none.
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
    features = _features(shapes)
    polygons = dict(_polygons(features, code))
    factor = 100.0 if unit == "%" else 1.0
    matched = {c: v * factor for c, v in numbers.items() if c in polygons}
    if not matched:
        raise TableError(
            f"None of the codes ({name_list(numbers)}) is a '{code}' of the shapes "
            f"({name_list(polygons)}). Check leading zeros, or set code= to another property."
        )
    limits = _limits(np.array(list(matched.values())), classes, breaks, factor)
    palette = [_SHADES[round(k)] for k in np.linspace(0, 5, len(limits) - 1)]
    ax = axes_for(ax, 6.4)
    shades = {region: _class_of(value, limits) for region, value in matched.items()}
    for region, paths in polygons.items():
        empty = region not in shades
        ax.add_collection(
            PathCollection(
                paths,
                facecolor="white" if empty else palette[shades[region]],
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
    names = {_code_of(f, code): _name_of(f, name) for f in features if name}
    dark = {region for region, shade in shades.items() if palette[shade] in _SHADES[-3:]}
    nameless = _write_names(ax, polygons, names, dark)
    no_room = f"names without room: {nameless}" if nameless else ""
    foot(ax, _foot_line(source, matched, polygons, unmatched), no_room)
    return ax


def _write_names(
    ax: Axes, polygons: Mapping[str, list[Path]], names: Mapping[str | None, str], dark: set[str]
) -> int:
    """The name of each region inside it, else its code; returns how many have room for neither."""
    from matplotlib.font_manager import FontProperties
    from matplotlib.textpath import text_to_path

    font = FontProperties(size=points(8))
    figure_of(ax).draw_without_rendering()  # places the axes
    scale = 72 / figure_of(ax).dpi
    nameless = 0
    for region in sorted(polygons.keys() & {n for n in names if n is not None}):
        outline = max(
            polygons[region], key=lambda path: float(np.prod(np.ptp(np.asarray(path.vertices), axis=0)))
        )
        place, wide = _widest_row(ax.transData.transform_path(outline))
        for text in (names[region], region):
            across = text_to_path.get_text_width_height_descent(text, font, ismath=False)[0] if text else np.inf
            if across < 0.94 * scale * wide:
                x, y = ax.transData.inverted().transform(place)
                colour = "white" if region in dark else INK
                ax.text(x, y, text, ha="center", va="center", color=colour, fontproperties=font)
                break
        else:
            nameless += 1
    return nameless


def _widest_row(outline: Path) -> tuple[Floats, float]:
    """Middle and width of a horizontal stretch inside an outline: wide, and near the middle."""
    corners = np.asarray(outline.vertices)
    low, high = corners.min(axis=0), corners.max(axis=0)
    across = np.linspace(low[0], high[0], 120)
    best, middle = 0.0, (low + high) / 2
    rows = np.linspace(low[1], high[1], 23)[3:-3]
    for y in rows[np.argsort(np.abs(rows - middle[1]), kind="stable")]:
        inside = outline.contains_points(np.column_stack([across, np.full(len(across), y)]))
        edges = np.flatnonzero(np.diff(np.concatenate([[False], inside, [False]]).astype(int)))
        for start, end in zip(edges[::2], edges[1::2], strict=True):
            wide = across[end - 1] - across[start]
            if wide > 1.25 * best:
                best, middle = wide, np.array([across[start] + wide / 2, y])
    return middle, float(best)


def _properties(feature: Mapping[str, object]) -> Mapping[str, object]:
    properties = feature.get("properties")
    return properties if isinstance(properties, Mapping) else {}


def _name_of(feature: Mapping[str, object], name: str) -> str:
    return " ".join(str(_properties(feature).get(name) or "").split())


def _code_of(feature: Mapping[str, object], code: str) -> str | None:
    value = _properties(feature).get(code, feature.get("id") if code == "code" else None)
    return None if value is None else str(value)


def _features(shapes: object) -> list[Mapping[str, object]]:
    import orjson

    if isinstance(shapes, str | os.PathLike):
        path = FilePath(shapes)
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


def _polygons(features: list[Mapping[str, Any]], code: str) -> Iterator[tuple[str, list[Path]]]:
    """Code of each region with its outlines; holes stay open."""
    from matplotlib.path import Path

    for feature in features:
        name = _code_of(feature, code)
        shape = feature.get("geometry") or {}
        if name is None or shape.get("type") not in _KINDS:
            continue
        parts = shape["coordinates"] if shape["type"] == "MultiPolygon" else [shape["coordinates"]]
        outlines: list[Path] = []
        try:
            for rings in parts:
                paths = [Path(np.asarray(ring, dtype=float)[:, :2], closed=True) for ring in rings]
                outlines.append(Path.make_compound_path(*paths))
        except (ValueError, IndexError, TypeError):
            raise TableError(
                f"The shape of region '{name}' is not a polygon of longitudes and latitudes."
            ) from None
        yield name, outlines


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
