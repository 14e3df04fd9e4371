"""The Lantern Sea: a made-up world with markets, statistics and local services.

`truth` has the parameters it was made from, `serve` puts it on loopback, `panel` lines it up at once.
"""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final

from ultrum.practice.world import Truth, truth

if TYPE_CHECKING:
    from ultrum.core.panel.aligned_panel import Panel

__all__ = ["Truth", "demo_study", "panel", "serve", "sources_at", "truth"]


def serve(port: int = 0, **options: Any) -> Any:
    """Run the stand-in services on loopback; see :func:`ultrum.practice.service.serve`.

    Parameters
    ----------
    port : int
        Port on loopback; 0 for a free one.
    **options
        Faults to simulate and the pace of answers.

    Returns
    -------
    float or array-like
        Context manager; inside it ``places`` has the address of each service.

    Examples
    --------
    >>> with serve() as service:
    ...     service.sdmx.endswith("/sdmx")
    True
    """
    try:
        from ultrum.practice import service
    except ModuleNotFoundError as error:
        from ultrum.errors import SourceError

        raise SourceError(
            f"The practice services need {error.name}: pip install 'ultrum[practice]'."
        ) from error
    return service.serve(port, **options)


def panel(seed: int | None = None) -> Panel:
    """Monthly panel of the companies that post in miral, with all factors, and no download.

    Parameters
    ----------
    seed : int, optional
        Seed of another world; the shipped one by default.

    Returns
    -------
    Panel
        Monthly returns, decimal.

    Examples
    --------
    >>> panel().assets.shape[1]
    23
    """
    from ultrum.practice.sample_panel import world_panel

    return world_panel(seed)


def demo_study() -> Path:
    """Path of the shipped study file.

    Returns
    -------
    Path
        File in the installed package.

    Examples
    --------
    >>> demo_study().name
    'demo.toml'
    """
    return Path(__file__).parent / "demo.toml"


_TABLES: Final = {  # files that a search finds by name
    "exchange": ("prices.csv", "companies.csv", "dividends.csv", "splits.csv", "final_payments.csv",
                 "indices.csv", "accounts.csv"),
    "college": ("factors_monthly.zip", "factors_daily.zip"),
    "council": ("births.csv",),
    "archive": ("vintages.csv",),
}  # fmt: skip


def sources_at(places: Mapping[str, str]) -> dict[str, dict[str, Any]]:
    """Sources of the practice world for a desk, at the places where it is served.

    Parameters
    ----------
    places : mapping of str to str
        Address of each service, as ``serve`` gives them.

    Returns
    -------
    dict[str, dict[str, Any]]
        Settings by the name of the source.

    Examples
    --------
    >>> sources_at({"college": "http://127.0.0.1:8765/college"})["college"]["kind"]
    'table'
    """
    by_name: dict[str, dict[str, Any]] = {
        name: {"kind": "sdmx" if name == "observatory" else "table", "url": url}
        for name, url in places.items()
    }
    more: dict[str, dict[str, Any]] = {
        "exchange": {"catalogue": {"path": "companies.csv", "address": "prices.csv#{asset}.close",
                                   "measure": "price", "frequency": "Daily, business week"}},
        "harbour": {"snapshots": {"freight": {"path": "today.html", "figure": "Freight rate today",
                                              "title": "Freight rate, miral for a ton"}}},
    }  # fmt: skip
    for name, settings in by_name.items():
        tables: dict[str, dict[str, Any]] = {path: {} for path in _TABLES.get(name, ())}
        settings.update({**({"tables": tables} if tables else {}), **more.get(name, {})})
    return by_name
