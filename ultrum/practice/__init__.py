"""The Lantern Sea: a synthetic world with markets, statistics and local services.

`truth` has its true parameters, `serve` starts its services on loopback, `panel` returns an aligned panel.
"""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Final

from ultrum.practice.simulated_world import LAST_DAY, Truth, truth

if TYPE_CHECKING:
    from ultrum.core.panel.aligned_panel import Panel
    from ultrum.practice.service import Service
    from ultrum.practice.simulated_exchange import Forecasts, Stocks

__all__ = ["Truth", "demo_study", "forecasts", "panel", "serve", "sources_at", "stocks", "truth"]


def serve(port: int = 0, *, delay: float = 0.0, as_of: str = "", today: str = LAST_DAY) -> Service:
    """Start the services of the practice world on loopback.

    Parameters
    ----------
    port : int
        Port to listen on; 0 for a free one.
    delay : float
        Delay of every answer, in seconds.
    as_of : str
        Point-in-time date of the statistics; by default the latest.
    today : str
        Date shown by the page of today's freight rate.

    Returns
    -------
    Service
        ``places`` has the address of each source, ``url`` that of all. Stops with ``close()``, or at the
        end of a ``with`` block.

    Raises
    ------
    SourceError
        The port is in use, or the extra ``practice`` is not installed.

    Examples
    --------
    >>> with serve() as service:
    ...     sorted(service.places)
    ['archive', 'college', 'council', 'exchange', 'harbour', 'observatory']
    """
    try:
        from ultrum.practice import service
    except ModuleNotFoundError as error:
        from ultrum.errors import missing_package

        raise missing_package(error, "The practice world", "starlette uvicorn") from error
    return service.serve(port, delay=delay, as_of=as_of, today=today)


def panel(seed: int | None = None) -> Panel:
    """Monthly panel of the companies quoted in miral (QML), with all factors; nothing is downloaded.

    Parameters
    ----------
    seed : int, optional
        Seed of another world; by default the shipped one.

    Returns
    -------
    Panel
        Monthly returns, decimal.

    Examples
    --------
    >>> panel().assets.shape[1]
    23
    """
    from ultrum.practice.simulated_exchange import world_panel

    return world_panel(seed)


def stocks(
    count: int = 300, months: int = 240, *, seed: int | None = None, college_factors: bool = False
) -> Stocks:
    """Many stocks with market values, filings and delistings, for sorted portfolios; nothing is downloaded.

    Parameters
    ----------
    count : int
        Number of stocks.
    months : int
        Number of months, from January 2005.
    seed : int, optional
        Seed of another world; by default the shipped one.
    college_factors : bool
        Whether the stocks move with the factors that the college publishes, which sorts of them rebuild; by
        default they have factors of their own, drawn with their true premia.

    Returns
    -------
    Stocks
        Tables, records and true premia.

    Raises
    ------
    EstimationError
        If the college's factors end before the months do.

    Examples
    --------
    >>> stocks(count=50, months=60).filings.columns.tolist()
    ['asset', 'period', 'released', 'value']
    """
    from ultrum.practice.simulated_exchange import SEED, simulate_stocks

    return simulate_stocks(count, months, SEED if seed is None else seed, college_factors)


def forecasts(seed: int | None = None) -> Forecasts:
    """Analysts' forecasts for the listed companies, with known bias and costs of equity; nothing is downloaded.

    Parameters
    ----------
    seed : int, optional
        Seed of another world; by default the shipped one.

    Returns
    -------
    Forecasts
        Forecasts of the last day, past ones with outcomes, and the truth.

    Examples
    --------
    >>> forecasts().history.columns.tolist()
    ['asset', 'period', 'released', 'forecast', 'outcome']
    """
    from ultrum.practice.simulated_exchange import simulate_forecasts
    from ultrum.practice.simulated_world import SEED

    return simulate_forecasts(SEED if seed is None else seed)


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
    "exchange": (
        "prices.csv",
        "companies.csv",
        "dividends.csv",
        "splits.csv",
        "final_payments.csv",
        "indices.csv",
        "accounts.csv",
        "forecasts.csv",
        "past_forecasts.csv",
    ),
    "college": ("factors_monthly.zip", "factors_daily.zip"),
    "council": ("births.csv",),
    "archive": ("vintages.csv",),
}


def sources_at(places: Mapping[str, str]) -> dict[str, dict[str, object]]:
    """Sources of the practice data for a desk, at the addresses of the services.

    Parameters
    ----------
    places : mapping of str to str
        Address of each service, from ``serve``.

    Returns
    -------
    dict[str, dict[str, str]]
        Settings by the name of the source.

    Examples
    --------
    >>> sources_at({"college": "http://127.0.0.1:8765/college"})["college"]["kind"]
    'table'
    """
    by_name: dict[str, dict[str, object]] = {
        name: {"kind": "sdmx" if name == "observatory" else "table", "url": url} for name, url in places.items()
    }
    more: dict[str, dict[str, object]] = {
        "exchange": {
            "catalogue": {
                "path": "companies.csv",
                "address": "prices.csv#{asset}.close",
                "measure": "price",
                "frequency": "Daily, business week",
            }
        },
        "harbour": {
            "snapshots": {
                "freight": {
                    "path": "today.html",
                    "figure": "Freight rate today",
                    "title": "Freight rate, miral for a ton",
                }
            }
        },
    }
    for name, settings in by_name.items():
        tables: dict[str, dict[str, object]] = {path: {} for path in _TABLES.get(name, ())}
        settings.update({**({"tables": tables} if tables else {}), **more.get(name, {})})
    return by_name
