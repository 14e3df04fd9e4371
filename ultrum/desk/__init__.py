"""The desk: sources and vault together."""

from ultrum.desk.batch import PullResult
from ultrum.desk.describe import Description
from ultrum.desk.desk import Desk
from ultrum.desk.series_sets import SeriesSet
from ultrum.desk.settings import SourceSettings, default_vault, load_settings

__all__ = [
    "Description",
    "Desk",
    "PullResult",
    "SeriesSet",
    "SourceSettings",
    "default_vault",
    "load_settings",
]
