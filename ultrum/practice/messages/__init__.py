"""SDMX messages of the observatory: CSV, JSON and ML, data and structures."""

from ultrum.practice.messages.data_json import data_json
from ultrum.practice.messages.data_text import data_csv
from ultrum.practice.messages.data_xml import data_xml
from ultrum.practice.messages.message_headers import Content, Series, error_json, error_xml
from ultrum.practice.messages.structures_json import structures_json
from ultrum.practice.messages.structures_xml import specific_schema, structures_xml

__all__ = [
    "Content",
    "Series",
    "data_csv",
    "data_json",
    "data_xml",
    "error_json",
    "error_xml",
    "specific_schema",
    "structures_json",
    "structures_xml",
]
