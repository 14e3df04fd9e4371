"""Batch downloads of many series into tables, and named sets of series in TOML files."""

from __future__ import annotations

import hashlib
import os
import threading
import tomllib
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from contextvars import copy_context
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated, Any, Final, Literal

import numpy as np
import pandas as pd
from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from ultrum.core.presentation import quantity, table_html
from ultrum.core.series.time_series import TimeSeries
from ultrum.core.time.frequency import Frequency, calendar_days
from ultrum.core.time.period_labels_and_relative_dates import file_label, period_label
from ultrum.core.transform.steps import Step, apply_steps, step_fault
from ultrum.desk.addresses_and_local_tables import IN_PART, DataSpan
from ultrum.desk.column_names import unique_headings
from ultrum.desk.describe_and_revisions import status_of
from ultrum.desk.repository import Repository
from ultrum.errors import ArgumentError, SourceError, UltrumError, one_of, warn_user
from ultrum.file_access import path_of, read_regular, toml_of
from ultrum.sources.credentials import refuse_secret
from ultrum.sources.download_and_limits import Address


@dataclass(frozen=True, eq=False, repr=False)
class PullResult:
    """What a pull brought.

    Attributes
    ----------
    set : SeriesSet
    series : list of TimeSeries
        In the order of the set, after their steps.
    status : DataFrame
        By address: first, last, values, reason and status (new, same, longer, revised, read in part,
        not requested, failed).
    errors : dict of str to UltrumError
        The reason for each address that was not obtained; ``failed`` has its text.
    names : list of str
        Names of the series in the set, in order; empty where it has none.
    values_before : list of float
        The last value of each series before its span, which a fill without a limit carries into it; NaN for none.
    """

    set: SeriesSet
    series: list[TimeSeries]
    status: pd.DataFrame
    errors: dict[str, UltrumError] = field(default_factory=dict)
    names: list[str] = field(default_factory=list)
    values_before: list[float] = field(default_factory=list)

    @property
    def failed(self) -> dict[str, str]:
        """The reason for each address that was not obtained."""
        return {address: str(error) for address, error in self.errors.items()}

    def to_frame(self) -> pd.DataFrame:
        """A wide table with units and currencies in the headings, or a long table, as the set requests.

        With common dates, ``attrs["dates_left_out"]`` counts dates that some series lack.
        """
        if not self.series:
            raise SourceError("Nothing was obtained: " + "; ".join(self.failed.values()))
        frequencies = {s.metadata.frequency for s in self.series}
        if len(frequencies) > 1 and self.set.shape == "wide":
            named = ", ".join(sorted(f.name for f in frequencies))
            raise SourceError(
                f"The series are {named}; a wide table needs one frequency. Set frequency, or shape = 'long'."
            )
        if self.set.shape == "long":
            return self._long()
        names = unique_headings(self.series, self.names)
        joined = self._on_same_dates(names)
        if joined.shape[1] != len(self.series) or not joined.columns.is_unique:
            raise SourceError(f"{quantity(joined.shape[1], 'column')} were made of {len(self.series)} series.")
        return self._common(joined)

    def _on_same_dates(self, names: Sequence[str]) -> pd.DataFrame:
        """All series on every date of any, with gaps filled as requested, and their number in ``attrs``."""
        joined = pd.concat([s.values for s in self.series], axis=1, keys=names).sort_index()
        if self.set.gaps == "leave":
            return joined
        whole, limit = joined.copy(), self.set.fill_limit
        unlike = [n for n, s in zip(names, self.series, strict=True) if not _is_level(s)]
        for name, before in zip(names, self.values_before or [np.nan] * len(names), strict=True):
            if name not in unlike:
                column = joined[name].ffill(limit=limit)
                whole[name] = column if limit else column.fillna(before)
        whole.attrs["filled"] = {n: c for n, c in (whole.notna().sum() - joined.notna().sum()).items() if c}
        whole.attrs["not_filled"] = [n for n in unlike if joined[n].isna().any()]
        return whole

    def _common(self, joined: pd.DataFrame) -> pd.DataFrame:
        """Rows without missing values, with the number of the other rows, if the set requests them."""
        if self.set.dates != "common":
            return joined
        whole = joined.dropna()
        whole.attrs = dict(joined.attrs)
        whole.attrs["dates_left_out"] = len(joined) - len(whole)
        fewest = joined.notna().sum()
        if len(whole) < _FEW * fewest.max():
            fix = " Fill its gaps with the value before: gaps='fill', or --gaps fill."
            warn_user(
                f"Only {len(whole)} of {len(joined)} dates are common to all series: {fewest.idxmin()} has "
                f"{int(fewest.min())}.{fix if self.set.gaps == 'leave' else ''}"
            )
        return whole

    def _long(self) -> pd.DataFrame:
        """One row for each series and period."""
        given = [*self.names, *[""] * len(self.series)]
        short = [n or s.metadata.heading for s, n in zip(self.series, given, strict=False)]  # units have a column
        names = unique_headings(self.series, short)
        if self.set.dates == "all" and self.set.gaps == "leave":
            parts = [_long(s, name, s.values.dropna()) for s, name in zip(self.series, names, strict=True)]
            return pd.concat(parts, ignore_index=True)
        if len({s.metadata.frequency for s in self.series}) > 1:
            raise SourceError(
                "Common dates and filled gaps need series of one frequency. Set frequency, or leave them out."
            )
        joined = self._common(self._on_same_dates(names))
        parts = [_long(s, n, joined[n].dropna()) for s, n in zip(self.series, names, strict=True)]
        table = pd.concat(parts, ignore_index=True)
        table.attrs = joined.attrs
        return table

    def __repr__(self) -> str:
        table = self.status.to_string(max_rows=60, line_width=100)
        return f"{self.set.title}: {len(self.series)} series\n{table}"

    def _repr_html_(self) -> str:
        return table_html(self.status)


_WEEKEND: Final = np.timedelta64(4, "D")  # days between observations, above which dates are those of changes
_FEW: Final = 0.5  # share of the dates of the longest series, below which its loss is reported


def _long(series: TimeSeries, name: str, valid: pd.Series) -> pd.DataFrame:
    """Rows of the values of one series."""
    periods = [file_label(p) for p in valid.index]
    facts = {
        "unit": series.metadata.unit,
        "currency": series.metadata.currency,
        "title": series.metadata.title,
        "address": series.metadata.address,
    }
    return pd.DataFrame({"period": periods, "series": name, "value": valid.to_numpy(), **facts})


def pull(repository: Repository, what: SeriesSet | Sequence[str] | str, resume: bool = False) -> PullResult:
    """Fetch every series of a set; failures are reported with their reasons."""
    plan = _plan(what)
    progress = _Progress(Path(repository.downloads.vault.path) / "pulls" / f"{plan.identity}.txt", resume)
    job = _Job(repository, plan, progress)
    try:
        job.ask([m for m in plan.series if m.address not in progress.before])
        return _gather(plan, job)
    finally:
        job.close()


def _gather(plan: SeriesSet, job: _Job) -> PullResult:
    """Series of a set with their statuses."""
    got: list[tuple[Member, list[TimeSeries]]] = []
    faults: dict[int, UltrumError] = {}
    for place, member in enumerate(plan.series):
        try:
            got.append((member, job.series_of(member)))
        except UltrumError as error:
            got.append((member, []))
            faults[place] = error
    span = job.span.from_latest(*[s for _, member_series in got for s in member_series])
    return _assemble(plan, job, got, faults, span)


def _assemble(
    plan: SeriesSet,
    job: _Job,
    got: Sequence[tuple[Member, list[TimeSeries]]],
    faults: dict[int, UltrumError],
    span: DataSpan,
) -> PullResult:
    """Series of a set after their steps, with the status of each address."""
    result = PullResult(plan, [], pd.DataFrame())
    rows: list[dict[str, object]] = []
    shaped: list[TimeSeries] = []
    for place, (member, member_series) in enumerate(got):
        try:
            if place in faults:
                raise faults[place]
            each = [_shape_series(one, member, job, plan, span) for one in member_series]
        except UltrumError as error:
            result.errors[member.address] = error
            rows.append(_failure_row(member.address, str(error)))
            continue
        job.progress.finish(member.address)
        rows += [_row(span.cut(one), job.status_of(member, one)) for one in member_series]
        shaped.extend(each)
        alone = len(member_series) == 1
        result.names.extend(
            "" if not member.name else member.name if alone else f"{member.name}, {one.metadata.name}"
            for one in member_series
        )
    final = job.span.from_latest(*shaped)
    cut = [final.cut(s) for s in shaped]
    before = [_value_before(*pair) for pair in zip(shaped, cut, strict=True)]
    return replace(result, series=cut, status=pd.DataFrame(rows), values_before=before)


def _plan(what: SeriesSet | Sequence[str] | str) -> SeriesSet:
    if isinstance(what, SeriesSet):
        return what
    return SeriesSet.of([what] if isinstance(what, str) else list(what))


def _shape_series(series: TimeSeries, member: Member, job: _Job, plan: SeriesSet, span: DataSpan) -> TimeSeries:
    """A series after its steps, in the frequency of the set; cut to its span unless its gaps are filled later."""
    fills = plan.gaps != "leave"
    start = span.start if member.steps or not fills else ""
    last = {"frequency": plan.frequency} | ({"how": plan.how} if plan.how else {})
    conversion: list[Step] = [{"to_frequency": last}] if plan.frequency else []
    if fills and plan.frequency:
        shaped = apply_steps(series, member.steps, job.fetch, start=start, end=span.end)
        shaped = _fill_dates(shaped, plan.fill_limit, Frequency.parse(plan.frequency), span.end)
        shaped = apply_steps(shaped, conversion, end=span.end)
    else:
        shaped = apply_steps(series, [*member.steps, *conversion], job.fetch, start=start, end=span.end)
    if not member.name:
        return shaped
    return shaped.with_metadata(name=member.name, title=shaped.metadata.heading)


def _is_level(series: TimeSeries) -> bool:
    """Whether a value can be repeated: a flow or a return would count twice."""
    return not series.metadata.is_return and series.metadata.measure != "flow"


def _fill_dates(series: TimeSeries, limit: int | None, target: Frequency, end: str) -> TimeSeries:
    """A level on every day, so that each value holds until the next when months or quarters are made of days.

    Where dates are those of changes, such as the meetings of a central bank, the last value holds to the end of
    its period, or of the span. Data of every day end with their last one, so an unfinished period is left out.
    """
    frequency, valid = series.metadata.frequency, series.values.dropna()
    if not frequency.is_dated or frequency.code in "HN" or target <= frequency or not _is_level(series):
        return series
    if not len(valid):
        return series
    days = calendar_days(valid.index)
    last = days[-1]
    if len(days) == 1 or np.median(np.diff(days)) > _WEEKEND:
        last = target.ends(target.ordinals_of(valid.index[-1:]))[0]
        last = min(last, np.datetime64(end)) if end else last
    make = pd.bdate_range if frequency.code == "B" else pd.date_range
    every = make(valid.index[0], pd.Timestamp(last)).union(pd.DatetimeIndex(valid.index))
    filled = valid.reindex(every.as_unit("s").rename(valid.index.name)).ffill(limit=limit).dropna()
    metadata = series.metadata.add_step("filled", how="forward", limit=limit, values=len(filled) - len(valid))
    return TimeSeries(filled, metadata)


def _value_before(whole: TimeSeries, part: TimeSeries) -> float:
    """The last value of a series before the first row of a part of it."""
    earlier = whole.values[whole.index < part.index[0]].dropna() if len(part.index) else whole.values.dropna()
    return float(earlier.iloc[-1]) if len(earlier) else np.nan


def _failure_row(address: str, reason: str) -> dict[str, object]:
    blank = dict.fromkeys(("title", "frequency"), "")
    ends = {"first": "", "last": "", "values": 0, "reason": reason}
    return {"address": address, **blank, "status": "failed", **ends}


def _row(series: TimeSeries, status: str) -> dict[str, object]:
    valid = series.values.dropna()
    status = IN_PART if any(step.action == IN_PART for step in series.metadata.trail) else status
    ends = [period_label(valid.index[i]) for i in (0, -1)] if len(valid) else ["", ""]
    return {
        "address": series.metadata.address or series.name,
        "title": series.metadata.heading,
        "frequency": series.metadata.frequency.name,
        "status": status,
        "first": ends[0],
        "last": ends[1],
        "values": len(valid),
        "reason": "",
    }


class _Progress:
    """Progress of a pull, one line per finished series, so that it can be resumed."""

    def __init__(self, file: Path, resume: bool) -> None:
        self.file = file
        self.before = self._lines() if resume else set()
        self._done = set(self.before)
        self._lock = threading.Lock()
        file.parent.mkdir(parents=True, exist_ok=True)
        if not resume:
            file.write_text("", encoding="utf-8")

    def _lines(self) -> set[str]:
        try:
            return set(self.file.read_text(encoding="utf-8").splitlines())
        except OSError:
            return set()

    def finish(self, address: str) -> None:
        """Record that a series was obtained."""
        with self._lock:
            if address not in self._done:
                self._done.add(address)
                with self.file.open("a", encoding="utf-8") as log:
                    log.write(f"{address}\n")


class _Job:
    """One pull: the desk, the span, and the earlier state of the vault."""

    def __init__(self, repository: Repository, plan: SeriesSet, progress: _Progress) -> None:
        self.repository, self.plan, self.progress = repository, plan, progress
        self.span = DataSpan.of_words(plan.span)
        self.began = datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%S.%fZ")
        self._found: dict[tuple[object, ...], list[TimeSeries]] = {}
        self._faults: dict[tuple[object, ...], UltrumError] = {}
        self._held: dict[tuple[str, str], bool] = {}  # paths that the vault had before
        # one request answers all members of an address: with its history if one of them needs it
        self._whole = {m.address for m in plan.series if m.steps or plan.frequency}
        self._new: tuple[int, set[tuple[str, str]]] = (0, set())
        self._before: Repository | None = None
        self._after: Repository | None = None

    def close(self) -> None:
        """Close the repositories of earlier instants."""
        for repository in (self._before, self._after):
            if repository is not None:
                repository.downloads.vault.close()

    def fetch(self, address: str) -> TimeSeries:
        """One series, whole."""
        return self.repository.one_series(address, DataSpan())

    def ask(self, members: Sequence[Member]) -> None:
        """Request everything at once; errors are reported later, with their series."""
        if self.repository.downloads.offline or len(members) < 2:
            return
        first = {m.address.partition(":")[0]: m for m in members}
        for member in first.values():  # what all series of a source need is asked for once
            self._warm(member)
        with ThreadPoolExecutor(self.repository.downloads.client.policy.connections_per_host + 4) as pool:
            context = copy_context()  # limits of the caller hold in the threads
            once = {self._request_of(m): m for m in members}.values()
            list(pool.map(lambda member: context.copy().run(self._warm, member), once))

    def _warm(self, member: Member) -> None:
        request = self._request_of(member)
        if request in self._found or request in self._faults:
            return
        try:
            self._found[request] = self._read(member, self.repository)
            self.progress.finish(member.address)
        except UltrumError as error:  # reported with its series, without another request
            self._faults[request] = error

    def paths_of(self, member: Member) -> list[tuple[str, str]]:
        """Sources and paths of the downloads that a member needs."""
        return self.repository.paths_of(
            member.address, self.span, member.expand, whole=self._needs_history(member)
        )

    def _needs_history(self, member: Member) -> bool:
        """Whether the full history of a member is fetched, since it is transformed before its span is cut."""
        return member.address in self._whole

    @staticmethod
    def _request_of(member: Member) -> tuple[object, ...]:
        """What identifies the request of a member in this pull; all have one span."""
        return member.address, repr(sorted((member.expand or {}).items()))

    def series_of(self, member: Member) -> list[TimeSeries]:
        """Series that a member refers to; one finished in an earlier pull is read from the vault."""
        request = self._request_of(member)
        if request in self._faults:
            raise self._faults[request]
        if request not in self._found:
            repository = self.vault_only if member.address in self.progress.before else self.repository
            self._found[request] = self._read(member, repository)
        return self._found[request]

    def _read(self, member: Member, repository: Repository) -> list[TimeSeries]:
        if member.expand:
            wanted = Address.parse(member.address)
            reading = repository.table(f"{wanted.source}:{wanted.path}", expand=member.expand)
            return list(reading.series.values())
        return repository.series_within(member.address, self.span, whole=self._needs_history(member))

    @property
    def vault_only(self) -> Repository:
        """The vault as it is; nothing is downloaded."""
        if self._after is None:
            self._after = self.repository.at("9999-12-31T00:00:00Z")
        return self._after

    def status_of(self, member: Member, new: TimeSeries) -> str:
        """Compare a series with the earlier state of the vault."""
        if self.repository.downloads.offline or member.address in self.progress.before:
            return "not requested"
        if not self._fresh() & set(self.paths_of(member)):
            return "same"
        for place in self.paths_of(member):
            if place not in self._held:
                self._held[place] = self.repository.downloads.latest(*place, self.began) is not None
        if not any(self._held[place] for place in self.paths_of(member)):
            return "new"
        if self._before is None:
            self._before = self.repository.at(self.began)
        try:
            before = {s.metadata.address or s.name: s for s in self._read(member, self._before)}
        except UltrumError:
            return "new"
        return status_of(before.get(new.metadata.address or new.name), new)

    def _fresh(self) -> set[tuple[str, str]]:
        """Sources and paths whose bytes are new in this pull."""
        seen, fresh = self._new
        used = self.repository.downloads.used
        fresh |= {(r.source, r.path) for r in used[seen:] if r.retrieved >= self.began}
        self._new = len(used), fresh
        return fresh


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
