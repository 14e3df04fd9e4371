"""Data messages to raw series, whatever the format.

SDMX-CSV 1.0 and 2.0, SDMX-JSON 1.0 and 2.0, SDMX-ML 2.1 generic and structure-specific.
"""

from __future__ import annotations

import csv
from collections.abc import Sequence

import lxml.etree

from ultrum.errors import SourceError
from ultrum.sources.sdmx.csv_data import from_csv
from ultrum.sources.sdmx.json_data import from_json
from ultrum.sources.sdmx.raw_series import RawSeries
from ultrum.sources.sdmx.service_errors import message_of_fault
from ultrum.sources.sdmx.xml_data import from_xml

DAMAGED = (ValueError, LookupError, TypeError, AttributeError, ArithmeticError, RecursionError)
_PAGE = (b"<html", b"<!doctype html")


def decode(body: bytes, content_type: str, dimensions: Sequence[str], where: str) -> list[RawSeries]:
    """Series of a data message, whatever its format.

    Parameters
    ----------
    body : bytes
        The message.
    content_type : str
        What the service calls it; the first bytes decide where the two differ.
    dimensions : sequence of str
        Ids of the dimensions, in the order of a key.
    where : str
        Name of what was asked, for messages.

    Raises
    ------
    SourceError
        If the message is in no format of the standard, or is cut short.
    """
    start = body[:512].removeprefix(b"\xef\xbb\xbf").lstrip()
    if start.lower().startswith(_PAGE):
        raise SourceError(f"{where}: a web page came instead of data. Check the source's address.")
    fault = message_of_fault(body)
    if fault:
        raise SourceError(f"{where}: {fault}")
    try:
        if start.startswith(b"{"):
            return from_json(body, dimensions)
        if start.startswith(b"<"):
            return from_xml(body, dimensions)
        return from_csv(body, dimensions)
    except (*DAMAGED, csv.Error, lxml.etree.LxmlError) as error:
        raise SourceError(
            f"{where}: the answer ({content_type or 'no type'}, {len(body):,} bytes) is not a whole "
            f"SDMX data message: {error}. Try again; if it stays, the service is at fault."
        ) from error
