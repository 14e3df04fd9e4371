"""A client for statistics services that speak SDMX (ISO 17369) over REST."""

from ultrum.sources.sdmx.client import FORMATS, Listing, SdmxSource
from ultrum.sources.sdmx.queries import Span

__all__ = ["FORMATS", "Listing", "SdmxSource", "Span"]
