"""Pulling many series at once: in parallel, each with its status, none stopping the others."""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from datetime import UTC, date, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pandas as pd

from ultrum.core.convert import to_frequency
from ultrum.core.labels import period_label, table_html
from ultrum.core.moments import resolve_span
from ultrum.core.series import TimeSeries
from ultrum.core.steps import apply_steps
from ultrum.desk.revisions import status_of
from ultrum.desk.sets import Member, SeriesSet
from ultrum.errors import SourceError, UltrumError
from ultrum.sources.delivery import Address

if TYPE_CHECKING:
    from ultrum.desk.desk import Desk


@dataclass(frozen=True, eq=False, repr=False)
class PullResult:
    """What a pull brought.

    Attributes
    ----------
    set : SeriesSet
    series : list of TimeSeries
        In the order of the set, after their steps.
    status : DataFrame
        By address: status (new, same, longer, revised, unasked, failed), first, last, values, reason.
    """

    set: SeriesSet
    series: list[TimeSeries]
    status: pd.DataFrame
    failed: dict[str, str] = field(default_factory=dict)

    def to_frame(self) -> pd.DataFrame:
        """Series side by side under headings with unit and currency, or in long form, as the set says.

        With common dates, ``attrs["dates_left_out"]`` counts those that some series lack.
        """
        if not self.series:
            raise SourceError("Nothing was obtained: " + "; ".join(self.failed.values()))
        frequencies = {s.about.frequency for s in self.series}
        if len(frequencies) > 1 and self.set.shape == "wide":
            named = ", ".join(sorted(f.name for f in frequencies))
            raise SourceError(
                f"The series are {named}; side by side they need one frequency: say frequency, or shape = "
                "'long'."
            )
        if self.set.shape == "long":
            return pd.concat([_long(s) for s in self.series], ignore_index=True)
        columns = {heading(s): s.values for s in self.series}
        joined = pd.concat(
            columns, axis=1, join="inner" if self.set.dates == "common" else "outer"
        ).sort_index()
        if self.set.dates == "common":
            every = len(set().union(*[s.index for s in self.series]))
            joined = joined.dropna()
            joined.attrs["dates_left_out"] = every - len(joined)
        return _filled(joined, self.set.gaps)

    def __repr__(self) -> str:
        table = self.status.to_string(max_rows=60, line_width=100)
        return f"{self.set.title}: {len(self.series)} series\n{table}"

    def _repr_html_(self) -> str:
        return table_html(self.status)


def heading(series: TimeSeries) -> str:
    """Title, unit and currency of a series as the head of a column."""
    about = series.about
    unit = about.currency or {"decimal": "decimal", "index": f"index {about.base_period}=100" if about.base_period
                              else "index"}.get(about.unit, about.unit)  # fmt: skip
    title = about.heading
    return f"{title} [{unit}]" if unit else title


def _filled(frame: pd.DataFrame, gaps: str) -> pd.DataFrame:
    return frame if gaps == "leave" else frame.ffill(limit=int(gaps.split()[1]))


def _long(series: TimeSeries) -> pd.DataFrame:
    known = series.values.dropna()
    facts = {"series": series.about.address or series.name, "title": series.about.heading,
             "unit": series.about.unit, "currency": series.about.currency}  # fmt: skip
    periods = [period_label(p) for p in known.index]
    return pd.DataFrame({**facts, "period": periods, "value": known.to_numpy()})


def pull(desk: Desk, what: SeriesSet | Sequence[str] | str, resume: bool = False) -> PullResult:
    """Fetch every series of a set; what fails is told with its reason."""
    plan = _plan(what)
    progress = _Progress(Path(desk.vault.path) / "pulls" / f"{plan.identity}.txt", resume)
    job = _Job(desk, *resolve_span(plan.span, date.today()), progress)
    try:
        job.ask([m for m in plan.series if m.address not in progress.before])
        return _gathered(plan, job)
    finally:
        job.close()


def _gathered(plan: SeriesSet, job: _Job) -> PullResult:
    """Series of a set with the status of each."""
    series: list[TimeSeries] = []
    rows: list[dict[str, Any]] = []
    failed: dict[str, str] = {}
    for member in plan.series:
        try:
            found = job.series_of(member)
            shaped = [_shaped(one, member, job, plan, len(found)) for one in found]
        except UltrumError as error:
            failed[member.address] = str(error)
            rows.append(_failed_row(member.address, str(error)))
            continue
        job.progress.finish(member.address)
        rows += [_row(one, job.status_of(member, one)) for one in found]
        series += shaped
    return PullResult(plan, series, pd.DataFrame(rows), failed)


def _plan(what: SeriesSet | Sequence[str] | str) -> SeriesSet:
    if isinstance(what, SeriesSet):
        return what
    return SeriesSet.of([what] if isinstance(what, str) else list(what))


def _shaped(
    series: TimeSeries, member: Member, job: _Job, plan: SeriesSet, count: int
) -> TimeSeries:
    made = apply_steps(series, member.steps, job.desk.fetch)
    if plan.frequency:
        made = to_frequency(made, plan.frequency)
    return (
        made.described(name=member.name, title=made.about.heading)
        if member.name and count == 1
        else made
    )


def _failed_row(address: str, reason: str) -> dict[str, Any]:
    blank = dict.fromkeys(("title", "frequency"), "")
    ends = {"first": "", "last": "", "values": 0, "reason": reason}
    return {"address": address, **blank, "status": "failed", **ends}


def _row(series: TimeSeries, status: str) -> dict[str, Any]:
    known = series.values.dropna()
    ends = [period_label(known.index[i]) for i in (0, -1)] if len(known) else ["", ""]
    return {
        "address": series.about.address or series.name, "title": series.about.heading,
        "frequency": series.about.frequency.name, "status": status, "first": ends[0], "last": ends[1],
        "values": len(known), "reason": "",
    }  # fmt: skip


class _Progress:
    """How far a pull came, a line for each series done, so that it can be taken up."""

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
        """Note that a series was obtained."""
        with self._lock:
            if address not in self._done:
                self._done.add(address)
                with self.file.open("a", encoding="utf-8") as log:
                    log.write(f"{address}\n")


class _Job:
    """One pull: the desk, the span, and how the vault stood before."""

    def __init__(self, desk: Desk, start: str, end: str, progress: _Progress) -> None:
        self.desk, self.start, self.end, self.progress = desk, start, end, progress
        self.began = datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%S.%fZ")
        self._found: dict[str, list[TimeSeries]] = {}
        self._new: tuple[int, set[tuple[str, str]]] = (0, set())
        self._before: Desk | None = None
        self._after: Desk | None = None

    def close(self) -> None:
        """Close the desks that looked back."""
        for desk in (self._before, self._after):
            if desk is not None:
                desk.close()

    def ask(self, members: Sequence[Member]) -> None:
        """Ask for all answers at once; faults are told later, each with its series."""
        if self.desk.offline or len(members) < 2:
            return
        first = {m.address.partition(":")[0]: m for m in members}
        for member in first.values():  # what all series of a source need is asked for once
            self._warm(member)
        with ThreadPoolExecutor(self.desk.connections + 4) as pool:
            list(pool.map(self._warm, members))

    def _warm(self, member: Member) -> None:
        with contextlib.suppress(UltrumError):
            self._found[member.address] = self._read(member, self.desk)
            self.progress.finish(member.address)

    def paths_of(self, member: Member) -> list[tuple[str, str]]:
        """Sources and paths of the deliveries that a member needs."""
        return self.desk.paths_of(member.address, self.start, self.end, member.over)

    def series_of(self, member: Member) -> list[TimeSeries]:
        """Series that a member names; one done in an earlier pull is taken from the vault."""
        if member.address not in self._found:
            desk = self.kept if member.address in self.progress.before else self.desk
            self._found[member.address] = self._read(member, desk)
        return self._found[member.address]

    def _read(self, member: Member, desk: Desk) -> list[TimeSeries]:
        if member.over:
            wanted = Address.parse(member.address)
            reading = desk.table(f"{wanted.source}:{wanted.path}", over=member.over)
            return list(reading.series.values())
        return desk.fetch_all(member.address, start=self.start, end=self.end)

    @property
    def kept(self) -> Desk:
        """The vault as it is, asking nobody."""
        if self._after is None:
            self._after = self.desk.at("9999-12-31T00:00:00Z")
        return self._after

    def status_of(self, member: Member, new: TimeSeries) -> str:
        """What a series is beside what the vault held before."""
        if self.desk.offline or member.address in self.progress.before:
            return "unasked"
        if not self._fresh() & set(self.paths_of(member)):
            return "same"
        held = [self.desk.vault.latest(s, p, self.began) for s, p in self.paths_of(member)]
        if not any(held):
            return "new"
        if self._before is None:
            self._before = self.desk.at(self.began)
        try:
            known = {s.about.address or s.name: s for s in self._read(member, self._before)}
        except UltrumError:
            return "new"
        return status_of(known.get(new.about.address or new.name), new)

    def _fresh(self) -> set[tuple[str, str]]:
        """Sources and paths whose bytes are new in this pull."""
        seen, fresh = self._new
        used = self.desk.used
        fresh |= {(r.source, r.path) for r in used[seen:] if r.retrieved >= self.began}
        self._new = len(used), fresh
        return fresh
