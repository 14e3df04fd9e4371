"""Files of results: report, tables, figures, the record of the run; and a study run with its report."""

from __future__ import annotations

import contextlib
import hashlib
import importlib.util
import os
import pickle
import sqlite3
import subprocess
import sys
import warnings
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from datetime import datetime
from importlib.metadata import version
from pathlib import Path
from typing import Final, Self

import pandas as pd

from ultrum.core.arguments import validate_arguments
from ultrum.core.executors import cores
from ultrum.core.presentation import quantity
from ultrum.core.time.period_labels_and_relative_dates import period_label
from ultrum.errors import UltrumError, reason, warn_user
from ultrum.file_access import path_of
from ultrum.report import figures
from ultrum.report.figures.figure_files import pdf_bytes, png_bytes, rename_png
from ultrum.report.figures.figure_style import figure_of
from ultrum.report.html_report import page, wants_lines
from ultrum.report.interactive_page import explorer
from ultrum.report.model_tables import model_table
from ultrum.report.result_tables_and_figures import (
    company_fits,
    drawn_figure,
    figure_key,
    figure_names,
    files_of,
    slug,
    tables,
)
from ultrum.report.table_files import (
    CsvForm,
    csv_with_metadata,
    flatten_index,
    to_parquet,
    whole_folder,
    write_workbook,
)
from ultrum.sources.credentials import CredentialStore
from ultrum.study.provenance import run_file
from ultrum.study.run import StudyResult, run
from ultrum.study.schema import Study
from ultrum.study.sections import Figure
from ultrum.study.stages import code_of_parts, digest

_NO_CLOCK: Final = datetime(1980, 1, 1)  # the same results are the same bytes
_WORTH_A_PROCESS: Final = 4  # figures
_DRAWN_HERE: Final = slice(1, None, 3)  # the other process has more of them, as this one also writes tables
_NO_RUN: Final = "0" * 64  # as long as the name of a run
_CORE: Final = ("dc:title", "dc:identifier", "dc:date")  # study, run, how far the data go
_SHEETS: Final = {
    "answer": ["cost_of_equity", "components", "variance_shares"],
    "models": [],
    "panel": ["excess_returns", "factors", "conditions", "coverage", "missing_log"],
    "notes": ["warnings", "downloads", "stages"],
}


def write_results(
    result: StudyResult, folder: str | os.PathLike[str], process: FigureProcess | None = None
) -> dict[str, Path]:
    """Write report, tables and figures of a study; returns their paths by name.

    Parameters
    ----------
    result : StudyResult
    folder : path
        The folder is created or replaced atomically.
    process : FigureProcess, optional
        A process that draws most figures, if it has been started; otherwise one is started where it pays.

    Raises
    ------
    PartlyWrittenError
        If an export cannot be written; all others are.
    """
    folder = path_of(folder)
    if _is_written(result, folder):
        return _places(folder, folder)
    result_tables = tables(result)
    pictures = _Pictures(result)
    with pictures.drawing(process), whole_folder(folder) as work:
        faults = _write_tables(result, result_tables, work)
        files, explored = pictures.drawn()
        texts = _write_figures(result, files, work / "figures")
        (work / "run.json").write_text(run_file(result), encoding="utf-8")
        (work / "report.html").write_text(page(result, texts, explored), encoding="utf-8")
        places = _places(work, folder)
    if faults:
        raise PartlyWrittenError("; ".join(faults), places)
    if result.store is not None:
        result.store.store(_results_key(result), _checksums(folder))
    return places


def _places(there: Path, folder: Path) -> dict[str, Path]:
    """Written files by name, as paths within the folder."""
    names = {
        "report": "report.html",
        "tables": "tables",
        "figures": "figures",
        "workbook": "results.xlsx",
        "database": "results.sqlite",
        "run": "run.json",
    }
    return {name: folder / place for name, place in names.items() if (there / place).exists()}


def _results_key(result: StudyResult) -> str:
    """Dependencies of all files of a result: the study, the run with its downloads, and the program."""
    run = hashlib.sha256(run_file(result).encode()).hexdigest()
    packages = [version(name) for name in ("matplotlib", "pandas", "pyarrow", "xlsxwriter")]
    study = result.study.model_dump(mode="json")
    bokeh = importlib.util.find_spec("bokeh") is not None
    return digest(["results", code_of_parts("report", "core"), packages, bokeh, study, run])


def _is_written(result: StudyResult, folder: Path) -> bool:
    """Whether a folder contains exactly these results, byte for byte."""
    if result.store is None or not (folder / ".ultrum").exists():
        return False
    checksums = result.store.load(_results_key(result))
    return checksums is not None and checksums == _checksums(folder)


def _checksums(folder: Path) -> dict[str, str]:
    """Checksum of every file in a folder."""
    return {
        file.relative_to(folder).as_posix(): hashlib.sha256(file.read_bytes()).hexdigest()
        for file in sorted(folder.rglob("*"))
        if file.is_file()
    }


class PartlyWrittenError(UltrumError):
    """Some export could not be written; everything else is in ``places``."""

    def __init__(self, text: str, places: Mapping[str, Path]) -> None:
        super().__init__(f"{text} Everything else is written.")
        self.places = dict(places)


def _write_figures(
    result: StudyResult, files: Mapping[Figure, Mapping[str, bytes]], place: Path
) -> dict[str, str]:
    """The files of each figure, and the SVG of each for the page."""
    place.mkdir()
    texts = {}
    for name, formats in files.items():
        file = slug(name)
        for ending, body in formats.items():
            if ending == "svg":
                texts[file] = body.decode()
            if ending != "svg" or "svg" in result.study.report.export:
                (place / f"{file}.{ending}").write_bytes(body)
    return texts


class _Pictures:
    """Every figure in every requested format, reused where no dependency has changed; the interactive chart.

    Stored figures have a run of zeros in their metadata, which the name of this run replaces.
    """

    def __init__(self, result: StudyResult) -> None:
        names, metadata = figure_names(result), about_run(result)
        facts = (metadata["study"], metadata["data_until"])
        self._keys = {n: digest([figure_key(result, n), *facts]) for n in names}
        self._result, store = result, result.store
        self._known = {n: None if store is None else store.load(k) for n, k in self._keys.items()}
        self._metadata = {**metadata, "run": _NO_RUN}
        self._second: FigureProcess | None = None

    @contextlib.contextmanager
    def drawing(self, process: FigureProcess | None) -> Iterator[None]:
        """Most figures are drawn by another process while this one writes tables and draws the others."""
        missing = [name for name, formats in self._known.items() if formats is None]
        if len(missing) < _WORTH_A_PROCESS:
            yield
            return
        with contextlib.nullcontext(process) if process else FigureProcess() as second:
            if second.is_started:
                here = missing[_DRAWN_HERE]
                second.send(self._result, self._metadata, [name for name in missing if name not in here])
                self._second = second
            yield

    def drawn(self) -> tuple[dict[Figure, dict[str, bytes]], dict[str, str] | None]:
        """The files of each figure by extension; the interactive chart, if requested."""
        store, run = self._result.store, self._result.run
        missing = [name for name, formats in self._known.items() if formats is None]
        elsewhere = () if self._second is None else self._second.names
        drawn = {name: _draw(self._result, self._metadata, name) for name in missing if name not in elsewhere}
        explored = explorer(self._result) if wants_lines(self._result) else None
        if self._second is not None:
            drawn |= self._second.drawn()
        if store is not None and len(run) == len(_NO_RUN):
            for name, formats in drawn.items():
                store.store(self._keys[name], formats)
        files = {n: _with_run(drawn.get(n) or self._known[n] or {}, run) for n in self._keys}
        return files, explored


def _core_is_free() -> bool:
    """Whether another process would not take its time from what runs here; unknown on some systems.

    The load of the last minute has what this process did, so one busy core is not too many.
    """
    return cores() > 1 and hasattr(os, "getloadavg") and os.getloadavg()[0] < cores()


class FigureProcess:
    """Another process of this program that draws figures; if that fails, they are drawn here.

    It is started only if a core is free, and loads its libraries until the figures are sent.
    """

    names: tuple[Figure, ...] = ()
    _process: subprocess.Popen[bytes] | None = None

    def __enter__(self) -> Self:
        self._thread = ThreadPoolExecutor(1)
        if _core_is_free():
            words = [
                sys.executable,
                "-P",
                "-c",
                "from ultrum.report.result_files import draw_for_parent as d; d()",
            ]
            self._process = subprocess.Popen(  # noqa: S603 - this program itself
                words, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL
            )
        return self

    @property
    def is_started(self) -> bool:
        """Whether there is a process."""
        return self._process is not None

    def send(self, result: StudyResult, metadata: Mapping[str, str], names: Sequence[Figure]) -> None:
        """Have it draw these figures."""
        if self._process is None:
            return
        self.names = tuple(names)
        self._work = (replace(result, store=None), dict(metadata), self.names)
        try:
            sent = pickle.dumps(self._work)
        except Exception:
            sent = b""  # the process fails on it, and the figures are drawn here
        self._answer = self._thread.submit(self._process.communicate, sent)

    def drawn(self) -> dict[Figure, dict[str, bytes]]:
        """The files of each figure by extension."""
        answer, _ = self._answer.result()
        if self._process is not None and self._process.returncode == 0:
            files, texts = pickle.loads(answer)  # noqa: S301 - what the process started above wrote
            for text in texts:
                warn_user(text)
            return dict(files)
        result, metadata, names = self._work
        return {name: _draw(result, metadata, name) for name in names}

    def __exit__(self, *_: object) -> None:
        if self._process is not None and self._process.poll() is None:
            self._process.kill()
            self._process.communicate()
        self._thread.shutdown()


def process_for(study: Study, folder: Path) -> contextlib.AbstractContextManager[FigureProcess | None]:
    """A process for the figures of a study that has not been written to a folder before."""
    first = not folder.exists() and len(study.report.figures) >= _WORTH_A_PROCESS
    return FigureProcess() if first else contextlib.nullcontext()


def draw_for_parent() -> None:
    """Draw the figures that the parent process sends, and send back their files and warnings."""
    from matplotlib.backends import backend_agg, backend_pdf, backend_svg  # noqa: F401 - loaded before the figures come

    result, metadata, names = pickle.load(sys.stdin.buffer)  # noqa: S301 - what the parent wrote
    with warnings.catch_warnings(record=True) as caught:
        files = {name: _draw(result, metadata, name) for name in names}
    sys.stdout.buffer.write(pickle.dumps((files, [str(w.message) for w in caught])))


def _with_run(formats: Mapping[str, bytes], run: str) -> dict[str, bytes]:
    """The files of a figure with the name of a run in their metadata."""
    old, new = _NO_RUN.encode(), run.encode()
    named = {e: body.replace(old, new) for e, body in formats.items() if e != "png"}
    return {**named, "png": rename_png(formats["png"], old, new)}


def _draw(result: StudyResult, metadata: Mapping[str, str], name: Figure) -> dict[str, bytes]:
    """A figure, with a single layout for all formats, independent of the user's drawing settings."""
    import matplotlib as mpl

    with mpl.rc_context():
        mpl.rcdefaults()
        ax = drawn_figure(result, name)
        formats = {"svg": figures.to_svg(ax, metadata).encode()}
        figure = figure_of(ax)
        figure.set_layout_engine("none")  # what has been laid out once stays
        formats["png"] = png_bytes(ax, metadata)
        if "pdf" in result.study.report.export:
            formats["pdf"] = pdf_bytes(ax, metadata)
    return formats


def _write_tables(result: StudyResult, tables: Mapping[str, pd.DataFrame], work: Path) -> list[str]:
    """Tables in every requested format; returns what could not be written, one sentence each."""
    wanted, report = result.study.report.export, result.study.report
    place = work / "tables"
    place.mkdir()
    metadata = about_run(result)
    form = CsvForm(report.separator, report.decimal_mark, report.dates)
    facts = dict(zip(_CORE, metadata.values(), strict=True))
    for name, table in tables.items():
        if "csv" in wanted:
            csv_with_metadata(table, place / f"{name}.csv", form, facts=facts)
        if "parquet" in wanted:
            to_parquet(table, place / f"{name}.parquet", metadata)
    comment = "; ".join(f"{k.replace('_', ' ')} {v}" for k, v in metadata.items())
    comment = " ".join(comment.replace("--", "- -").split())  # a title cannot end the comment it is in
    heads = {"latex": ("tex", f"% {comment}\n"), "markdown": ("md", f"<!-- {comment} -->\n")}
    for kind, (ending, head) in heads.items():
        if kind not in wanted:
            continue
        for name, text in journal_tables(result, f"to_{kind}").items():
            (place / f"{name}.{ending}").write_text(head + text, encoding="utf-8")
    faults = []
    writers = {"xlsx": ("results.xlsx", _write_workbook), "sql": ("results.sqlite", write_database)}
    for kind, (name, write) in writers.items():
        if kind in wanted:
            try:
                write(tables, work / name, metadata)
            except (UltrumError, OSError, ValueError) as error:
                (work / name).unlink(missing_ok=True)
                faults.append(f"{name} could not be written: {reason(error)}")
    return faults


def about_run(result: StudyResult) -> dict[str, str]:
    """Metadata of every file: the study, the run, and the end of the data."""
    until = period_label(result.panel.assets.index[-1])
    return {"study": result.study.study.title, "run": result.run, "data_until": until}


def journal_tables(result: StudyResult, write: str) -> dict[str, str]:
    """The company's models in one table, and each model's companies, in journal style."""
    company = result.company
    fits = company_fits(result)
    title = f"{result.names.get(company, company)}: {quantity(len(fits), 'model')}"
    texts = {"models_of_" + slug(company): getattr(model_table(fits, title=title), write)()}
    files = files_of("betas", result.models)
    for name, table in result.models.items():
        texts[files[name]] = getattr(model_table(table, title=f"Model {name}"), write)()
    if result.two_pass is not None:
        texts["two_pass"] = getattr(model_table(result.two_pass, title="Two-pass premia"), write)()
    return texts


def _write_workbook(tables: Mapping[str, pd.DataFrame], path: Path, metadata: Mapping[str, str]) -> None:
    """One workbook: a sheet of notes, then one sheet per table."""
    notes = pd.DataFrame({"what": list(metadata), "value": list(metadata.values())})
    facts = {"title": metadata["study"], "comments": f"run {metadata['run']}", "created": _NO_CLOCK}
    write_workbook({"notes": notes, **_order_sheets(tables)}, path, facts)


def _order_sheets(tables: Mapping[str, pd.DataFrame]) -> dict[str, pd.DataFrame]:
    """The answer first, then models and tests, then the panel and its sources."""
    first, last = _SHEETS["answer"], [*_SHEETS["panel"], *_SHEETS["notes"]]
    middle = [n for n in tables if n not in first and n not in last]
    return {n: tables[n] for n in [*first, *middle, *last] if n in tables}


def _apart(names: Sequence[object]) -> list[str]:
    """Names of columns; those that differ only by case are numbered, since databases ignore case."""
    taken: set[str] = set()
    distinct = []
    for name in map(str, names):
        candidate, number = name, 1
        while candidate.casefold() in taken:
            number += 1
            candidate = f"{name}_{number}"
        taken.add(candidate.casefold())
        distinct.append(candidate)
    return distinct


def write_database(tables: Mapping[str, pd.DataFrame], path: Path, metadata: Mapping[str, str]) -> None:
    """Every table in one SQLite file."""
    try:
        with contextlib.closing(sqlite3.connect(path)) as connection, connection:
            pd.DataFrame([metadata]).to_sql("metadata", connection, index=False)
            for name, table in tables.items():
                plain = flatten_index(table)
                plain.columns = _apart(list(plain.columns))
                plain.to_sql(name, connection, index=False)
    except (sqlite3.Error, pd.errors.DatabaseError) as error:
        raise UltrumError(f"{path} cannot be written: {error}.") from error


@validate_arguments
def run_study(
    study: Study | str | os.PathLike[str],
    *,
    to: str | os.PathLike[str] | None = None,
    vault: str | os.PathLike[str] | None = None,
    offline: bool = False,
    at: str | None = None,
    keep: bool = True,
    refresh: bool = False,
    progress: Callable[[str], None] | None = None,
    credentials: CredentialStore | str | os.PathLike[str] | None = None,
) -> StudyResult:
    """Run a study, from its file or as an object, and write its report if a folder is given.

    Parameters
    ----------
    study : Study or path
        The study; a file is checked completely before anything is downloaded.
    to : path, optional
        Folder for the report, tables and figures. An earlier report is replaced; without a folder nothing is
        written.
    vault : path, optional
        Folder of the vault.
    offline : bool
        Use the vault only; download nothing.
    at : str, optional
        Use the vault as of this day or instant (point-in-time); nothing is downloaded.
    keep : bool
        Store the result of each stage next to the vault, and compute only what has changed. The results are the
        same either way.
    refresh : bool
        Download everything again, even where the source reports no change.
    progress : callable, optional
        Called with a short text at the start of each step.
    credentials : CredentialStore or path, optional
        Credentials that the study's sources use; by default those of the user's configuration folder.

    Returns
    -------
    StudyResult
        Every result of the study.

    Raises
    ------
    StudyError
        If the study is not valid.
    SourceError, VaultError, UltrumError
        If needed data are unavailable or inconsistent.
    PartlyWrittenError
        If an export cannot be written; all others are.

    Examples
    --------
    >>> import tempfile, ultrum as ul
    >>> study = ul.Study.load(ul.practice.demo_study())
    >>> with tempfile.TemporaryDirectory() as folder, ul.practice.serve() as service:
    ...     result = run_study(study.with_sources_at(service.places), vault=folder)
    >>> result.company
    'BRTW'
    """
    plan = study if isinstance(study, Study) else Study.load(study)
    with contextlib.nullcontext() if to is None else process_for(plan, path_of(to)) as process:
        result = run(
            plan,
            vault=vault,
            offline=offline,
            at=at,
            keep=keep,
            refresh=refresh,
            progress=progress,
            credentials=credentials,
        )
        if to is not None:
            if progress is not None:
                progress("writing the report")
            write_results(result, to, process)
    return result
