"""A client for statistics services over SDMX (ISO 17369) REST."""

from ultrum.sources.sdmx.client import FORMATS, Listing, SdmxSource, accept_of
from ultrum.sources.sdmx.queries import Span, covers, key_of

__all__ = ["FORMATS", "Listing", "SdmxSource", "Span", "accept_of", "covers", "key_of"]
