"""The regional council of Miravel: rents of twelve provinces, births of firms in sixty districts, their map."""

from __future__ import annotations

from typing import Any, Final

import numpy as np
import pandas as pd

from ultrum.core.array_types import Floats
from ultrum.practice.economy import Economy
from ultrum.practice.simulate import World

PROVINCES: Final = (
    "Northquay", "Lanternhead", "Saltmarsh", "Eelmouth", "Highfen", "Orchard Down", "Millrace",
    "Stonecross", "Gull Reach", "Far Dunes", "Weirside", "Southbar",
)  # fmt: skip
DISTRICTS_EACH: Final = 5
_COLUMNS: Final = 4


def codes() -> list[str]:
    """Codes of the provinces, with their leading zeros."""
    return [f"{i + 1:02d}" for i in range(len(PROVINCES))]


def districts() -> list[tuple[str, str]]:
    """Code and name of every district."""
    return [
        (f"{code}{k + 1:02d}", f"{name} {['North', 'East', 'South', 'West', 'Centre'][k]}")
        for code, name in zip(codes(), PROVINCES, strict=True)
        for k in range(DISTRICTS_EACH)
    ]


def rents(world: World) -> Floats:
    """Rent for a square metre and month by province (M,12), miral."""
    rng = np.random.default_rng([world.seed, 41])
    goods = world.prices_of_goods[:, :1] / world.prices_of_goods[0, 0]
    start = 6.0 + 9.0 * rng.random(len(PROVINCES))
    drift = np.cumsum(0.0012 + 0.004 * rng.standard_normal((len(goods), len(PROVINCES))), axis=0)
    return np.asarray(start * goods * np.exp(drift))


def rents_file(world: World, code: str) -> str | None:
    """One province's file: years down, months across, the last year unfinished; None if there is none."""
    if code not in codes():
        return None
    column = rents(world)[:, codes().index(code)]
    months = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"]
    lines = [f"Rent for a square metre, {PROVINCES[codes().index(code)]}, QML a month", "",
             ",".join(["Year", *months, "Mean"])]  # fmt: skip
    for row, year in enumerate(range(2004, 2025)):
        cells = [f"{v:.2f}" for v in column[12 * row : 12 * row + 12]]
        if year == 2024:
            cells[9:] = ["", "", ""]
        numbers = [float(c) for c in cells if c]
        lines.append(",".join([str(year), *cells, f"{np.mean(numbers):.2f}"]))
    return "\n".join([*lines, "", "Source: the council's own survey. The last quarter is not in yet."]) + "\n"


def births(world: World) -> pd.DataFrame:
    """Firms founded by district and year: columns ``district name year births``."""
    rng = np.random.default_rng([world.seed, 42])
    mood = Economy(world).cycle[:, 0].reshape(-1, 12).mean(axis=1)
    size = 40 + 400 * rng.random(len(districts()))
    rows = []
    for k, (code, name) in enumerate(districts()):
        counts = rng.poisson(size[k] * np.exp(0.12 * mood + 0.005 * np.arange(len(mood))))
        rows += [(code, name, 2004 + y, int(c)) for y, c in enumerate(counts)]
    return pd.DataFrame(rows, columns=["district", "name", "year", "births"])


def births_file(world: World) -> str:
    """Years across, districts down; one district's last years are missing."""
    table = births(world).pivot(index=["district", "name"], columns="year", values="births").astype(object)
    table.iloc[17, -3:] = "n/a"
    lines = [",".join(["code", "name", *map(str, table.columns)])]
    lines += [",".join([code, name, *map(str, row)]) for (code, name), row in zip(table.index, table.to_numpy(),
                                                                                 strict=True)]  # fmt: skip
    return "Firms founded in the year, by district\n" + "\n".join(lines) + "\n"


def shapes(level: str) -> dict[str, Any]:
    """GeoJSON (RFC 7946) of the provinces or the districts."""
    features = []
    for k, (code, name) in enumerate(zip(codes(), PROVINCES, strict=True)):
        x, y = k % _COLUMNS, k // _COLUMNS
        if level == "provinces":
            features.append(_feature(code, name, _ring(x, y, 1.0)))
            continue
        of_province = districts()[DISTRICTS_EACH * k : DISTRICTS_EACH * (k + 1)]
        for i, (district, title) in enumerate(of_province):
            features.append(_feature(district, title, _ring(x + i / DISTRICTS_EACH, y, 1 / DISTRICTS_EACH)))
    return {"type": "FeatureCollection", "features": features}


def _ring(x: float, y: float, width: float) -> list[list[float]]:
    """A strip of land with a wavy shore, counter-clockwise; neighbours share their borders."""
    west = [_coast_point(x, y + t) for t in np.linspace(0, 1, 9)]
    east = [_coast_point(x + width, y + t) for t in np.linspace(0, 1, 9)]
    south = [_coast_point(x + width * t, y) for t in np.linspace(0, 1, 5)]
    north = [_coast_point(x + width * t, y + 1) for t in np.linspace(0, 1, 5)]
    return [*south, *east[1:], *north[::-1][1:], *west[::-1][1:]]


def _coast_point(x: float, y: float) -> list[float]:
    bend_x = 0.06 * np.sin(2.1 * y + 0.8 * x)
    bend_y = 0.05 * np.sin(1.7 * x - 0.5 * y)
    return [round(float(4.0 + 0.5 * (x + bend_x)), 5), round(float(52.0 + 0.4 * (y + bend_y)), 5)]


def _feature(code: str, name: str, ring: list[list[float]]) -> dict[str, Any]:
    geometry = {"type": "Polygon", "coordinates": [ring]}
    return {
        "type": "Feature",
        "id": code,
        "properties": {"code": code, "name": name},
        "geometry": geometry,
    }
