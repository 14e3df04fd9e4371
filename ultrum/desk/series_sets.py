"""Named sets of series, with their transformations, saved as TOML."""

from __future__ import annotations

import hashlib
import os
import tomllib
from collections.abc import Sequence
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from ultrum.core.presentation import quantity
from ultrum.core.transform.steps import step_fault
from ultrum.errors import ArgumentError, SourceError, one_of
from ultrum.file_access import path_of, read_regular, toml_of
from ultrum.sources.credentials import refuse_secret


class Member(BaseModel):
    """One address of a set: its short name, and its steps."""

    model_config = ConfigDict(extra="forbid", frozen=True)
    address: Annotated[str, Field(min_length=3)]
    name: str = ""
    steps: list[dict[str, Any]] = []
    expand: dict[str, list[str]] = {}

    @model_validator(mode="after")
    def _holds_no_secret(self) -> Member:
        """Refuse a secret in any text, since the set is written to files and to the catalogue."""
        texts = [self.address, self.name, *(str(v) for s in self.steps for v in s.values()), *self.expand]
        for text in (*texts, *(v for values in self.expand.values() for v in values)):
            refuse_secret(text, f"Series '{self.address.partition('?')[0]}'")
        return self


class SeriesSet(BaseModel):
    """Series that are pulled and refreshed together.

    Attributes
    ----------
    title : str
    span : list of str
        First and last period, or ``["last 25 years"]``.
    frequency : str
        Common target frequency; empty to keep the frequencies.
    how : str
        Conversion method for all, such as ``last`` or ``mean``; by default it follows the measure of each series.
    gaps : str
        ``leave``, ``fill`` (each value stays until the next), or the maximum number of periods: ``fill 2``. Days
        are filled before they are converted to ``frequency``, and rows before common dates are chosen. Without a
        maximum the last value before the span is carried into it. Flows and returns keep their gaps.
    dates : {"all", "common"}
        Every date of any series, or only common dates.
    shape : {"wide", "long"}
    series : list of Member

    Examples
    --------
    >>> prices = SeriesSet.of(["observatory:PRICES/M.QM.CPI"], title="Prices", span=["last 25 years"])
    >>> prices.series[0].address
    'observatory:PRICES/M.QM.CPI'
    """

    model_config = ConfigDict(extra="forbid", frozen=True)
    title: str = "set"
    span: list[str] = ["earliest", "latest"]
    frequency: str = ""
    how: str = ""
    gaps: Annotated[str, Field(pattern=r"^(leave|fill( \d+)?)$")] = "leave"
    dates: Literal["all", "common"] = "all"
    shape: Literal["wide", "long"] = "wide"
    series: Annotated[list[Member], Field(min_length=1)]

    def __init__(self, **settings: Any) -> None:
        try:
            super().__init__(**settings)
        except ValidationError as error:
            text = _faults(error)
            count = quantity(error.error_count(), "fault")
            raise ArgumentError(f"The set has {count}: {text}{'' if text.endswith('?') else '.'}") from error

    @property
    def fill_limit(self) -> int | None:
        """Maximum number of periods to fill; None for no maximum."""
        words = self.gaps.split()
        return int(words[1]) if len(words) > 1 else None

    @classmethod
    def of(cls, addresses: Sequence[str], **settings: Any) -> SeriesSet:
        """Create a set of addresses.

        Parameters
        ----------
        addresses : sequence of str
            Addresses of the series.
        **settings
            Settings of the set, such as ``span=["2010", "latest"]``.

        Raises
        ------
        ArgumentError
            If an address or a setting is invalid.
        """
        return cls(series=[{"address": a} for a in addresses], **settings)

    @classmethod
    def load(cls, file: str | os.PathLike[str]) -> SeriesSet:
        """Read a set.

        Parameters
        ----------
        file : str or path
            TOML file of the set.

        Raises
        ------
        SourceError
            If the file cannot be read; every error in it is listed.
        """
        path = path_of(file)
        try:
            content = toml_of(read_regular(path).decode("utf-8"))
        except OSError as error:
            raise SourceError(f"{path} cannot be read: {error.strerror}.") from error
        except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
            raise SourceError(f"{path} is not TOML: {error}.") from error
        try:
            series_set = cls(**content)
        except ArgumentError as error:
            raise SourceError(f"{path}: {str(error)[:1].lower()}{str(error)[1:]}") from error
        wrong = [fault for m in series_set.series for s in m.steps if (fault := step_fault(s))]
        if wrong:
            raise SourceError(f"{path}: {' '.join(wrong)}")
        return series_set

    def save(self, file: str | os.PathLike[str]) -> None:
        """Write the set, without default values.

        Parameters
        ----------
        file : str or path
            TOML file to write.
        """
        import tomlkit

        content = self.model_dump(exclude_defaults=True)
        document = tomlkit.document()
        members = content.pop("series")
        for key, value in content.items():
            document.add(key, value)
        tables = tomlkit.aot()
        for member in members:
            tables.append(tomlkit.item(member))
        document.add("series", tables)
        path_of(file).write_text(tomlkit.dumps(document), encoding="utf-8")

    @property
    def identity(self) -> str:
        """The identity of the set."""
        return hashlib.sha256(self.model_dump_json().encode()).hexdigest()[:24]


def _faults(error: ValidationError) -> str:
    """Each error with its location; a misspelt key with the right one."""
    faults = []
    for fault in error.errors():
        *_, key = fault["loc"] or ("",)
        names = [*(Member if len(fault["loc"]) > 1 else SeriesSet).model_fields]
        unknown = f"is not a setting; {one_of(key, names)}"
        words = unknown.rstrip(".") if fault["type"] == "extra_forbidden" else fault["msg"].lower()
        if fault["type"] == "string_pattern_mismatch":
            words = f"'{fault['input']}' is not known; write leave, fill, or a number of periods: fill 2"
        faults.append(f"{'.'.join(str(p) for p in fault['loc'])}: {words}")
    return "; ".join(faults)
