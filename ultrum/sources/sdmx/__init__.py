"""A client for statistics services that speak SDMX (ISO 17369) over REST."""

from ultrum.sources.sdmx.client import SdmxSource

__all__ = ["SdmxSource"]
