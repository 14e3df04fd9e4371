"""Options shared by several commands, the desk they configure, and local files as addresses."""

from __future__ import annotations

import contextlib
import re
import sys
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final, Literal, TypeVar

import click

from ultrum.cli.terminal_output import end_progress

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ultrum.core.transform.aggregation import How
    from ultrum.desk.addresses_and_local_tables import LocalTables
    from ultrum.desk.desk import Desk
    from ultrum.sources.credentials import CredentialStore


HERE = click.Path(path_type=Path)
F = TypeVar("F", bound=Callable[..., object])


class OutputFile(click.ParamType[Path]):
    """An output file, whose folder must exist; checked before anything is computed."""

    name = "file"

    def __init__(self, *endings: str) -> None:
        self.endings = endings

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Path:
        """The path, if a file can be written there."""
        path = Path(value)
        if not str(value) or "\0" in str(value):
            self.fail("an empty name is not a file.", param, ctx)
        if path.is_dir():
            self.fail(f"{path} is a folder. Name a file in it.", param, ctx)
        if self.endings and path.suffix.lower() not in self.endings:
            listed = ", ".join(self.endings)
            self.fail(f"{path} ends in none of {listed}, which give the format. Rename it.", param, ctx)
        if not path.parent.is_dir():
            self.fail(f"the folder {path.parent} does not exist. Create it, or choose another.", param, ctx)
        return path


class Folder(click.ParamType[Path]):
    """A folder that exists or will be created."""

    name = "folder"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Path:
        """The path, unless it is empty or a file."""
        if not str(value) or "\0" in str(value):
            self.fail("an empty name is not a folder.", param, ctx)
        if Path(value).is_file():
            self.fail(f"{value} is a file, not a folder.", param, ctx)
        return Path(value)


OUTPUT, PICTURE, FOLDER = OutputFile(), OutputFile(".png", ".svg", ".pdf"), Folder()
JSON = click.option("--json", "as_json", is_flag=True, help="Print JSON instead of a table.")
OFFLINE = click.option("--offline", is_flag=True, help="Use the vault only; download nothing.")
VAULT = click.option("--vault", type=FOLDER, envvar="ULTRUM_VAULT", help="Folder of the vault.")
SOURCES = click.option(
    "--sources",
    type=HERE,
    help="Settings file with [sources.NAME] tables; by default ultrum.toml here, or in your configuration.",
)
CREDENTIALS = click.option(
    "--credentials",
    "credentials_file",
    type=HERE,
    help="File of your credentials; by default credentials.toml in your configuration.",
)
BIND = click.option(
    "--bind",
    multiple=True,
    metavar="NAME=HOST",
    help="Let the credential NAME be sent to HOST in this run; may be repeated.",
)
PRACTICE = click.option(
    "--practice", "on_practice", is_flag=True, help="Use the practice (synthetic) data instead of --sources."
)


def together(*options: Callable[[F], F]) -> Callable[[F], F]:
    """Several options as one decorator, in their order in the help."""

    def _with_options(command: F) -> F:
        for option in reversed(options):
            command = option(command)
        return command

    return _with_options


FROM_SOURCES = together(SOURCES, CREDENTIALS, BIND, PRACTICE, VAULT, OFFLINE)


def _choice_check(kind: Callable[[str], object]) -> Callable[..., str]:
    """A check of an option's value before anything else runs."""

    def _check(_context: click.Context, _option: click.Parameter, word: str) -> str:
        from ultrum.errors import UltrumError

        try:
            if word:
                kind(word)
        except UltrumError as error:
            raise click.BadParameter(str(error)) from error
        return word

    return _check


def _instant(word: str) -> None:
    from datetime import date

    from ultrum.core.time.period_labels_and_relative_dates import resolve_instant

    resolve_instant(word, date.today())


def _period(word: str) -> None:
    from datetime import date

    from ultrum.core.time.period_labels_and_relative_dates import resolve_day

    resolve_day(word, date.today())


def _frequency(word: str) -> None:
    from ultrum.core.time.frequency import Frequency

    Frequency.parse(word)


INSTANT, PERIOD, FREQUENCY = map(_choice_check, (_instant, _period, _frequency))
AT = click.option(
    "--at", default="", callback=INSTANT, help="Point-in-time: data as downloaded up to this day or instant."
)


@contextlib.contextmanager
def desk_of(
    sources: Path | None,
    on_practice: bool,
    vault: Path | None,
    offline: bool,
    at: str = "",
    files: LocalFiles | None = None,
    credentials_file: Path | None = None,
    bind: tuple[str, ...] = (),
    keep_readings: bool = False,
) -> Iterator[Desk]:
    """A desk on the given sources, or on the practice data, with progress on stderr."""
    from ultrum.cli import terminal_output
    from ultrum.desk.desk import Desk

    with contextlib.ExitStack() as stack:
        tell = stack.enter_context(terminal_output.progress())
        named: object = sources
        if on_practice:
            from ultrum.practice import serve, sources_at

            service = stack.enter_context(serve())
            named, vault = sources_at(service.places), vault or Path("ultrum-demo/vault")
        if files is not None and (files or files.reading):
            named = _with_files(named, files)
        desk = stack.enter_context(
            _open_desk(Desk, vault, named, offline, tell, store_of(credentials_file, bind), keep_readings)
        )
        yield stack.enter_context(desk.at(at)) if at else desk


@contextlib.contextmanager
def tables_of(
    vault: Path | None, files: LocalFiles, texts: Sequence[str], *, kept: bool, **where: Any
) -> Iterator[Desk | LocalTables]:
    """A desk, or local files alone if nothing else is used.

    Parameters
    ----------
    vault : path, optional
    files : LocalFiles
    texts : sequence of str
        The files and addresses on the command line.
    kept : bool
        Whether a desk is needed, such as for a series of a source.
    **where
        Options of the desk.
    """
    if (
        files
        and len(files.addresses) == len(set(texts))
        and vault is None
        and not kept
        and not any(where.values())
    ):
        from ultrum.desk.addresses_and_local_tables import LocalTables

        yield LocalTables(files.settings)
        return
    with vault_for(vault, files, texts) as place, desk_of(vault=place, files=files, **where) as desk:
        yield desk


def _with_files(sources: Any, files: LocalFiles) -> dict[str, Any]:
    """Settings of sources, if there are any, with the source of local files and the options of --read."""
    from ultrum.desk.settings import load_settings
    from ultrum.errors import SourceError

    if sources is None:
        try:
            sources = load_settings(None)["sources"]
        except SourceError:
            sources = {}  # local files need no settings
    elif not isinstance(sources, dict):
        sources = load_settings(sources)["sources"]
    named = {**sources, SOURCE: dict(files.settings)} if files else dict(sources)
    for text, options in files.reading.items():
        _set_reading(named, text, options)
    return named


def _set_reading(sources: dict[str, Any], text: str, options: Mapping[str, object]) -> None:
    """Add the options of --read to the settings of the table with an address."""
    from ultrum.errors import SourceError
    from ultrum.sources.download_and_limits import Address

    try:
        wanted = Address.parse(text)
    except SourceError as error:
        raise click.UsageError(str(error)) from error
    if wanted.source not in sources:
        return  # the desk names the sources there are
    settings = sources[wanted.source]
    if settings.get("kind") != "table" or wanted.path in settings.get("snapshots", {}):
        raise click.UsageError(f"--read sets how a file or table is read; {text} is neither. Remove --read.")
    tables = settings.get("tables", {})
    tables = {**tables, wanted.path: {**tables.get(wanted.path, {}), **options}}
    sources[wanted.source] = {**settings, "tables": tables}


def store_of(file: Path | None, bind: tuple[str, ...]) -> CredentialStore:
    """The user's credentials; on a terminal the user is asked before one is sent to a new host."""
    from ultrum.errors import SourceError
    from ultrum.sources.credentials import CredentialStore

    person = sys.stdin.isatty() and sys.stderr.isatty()
    try:
        return CredentialStore.load(file, bind, _ask_to_bind if person else None)
    except SourceError as error:
        raise click.UsageError(str(error)) from error


def _ask_to_bind(name: str, host: str) -> bool:
    end_progress()
    return click.confirm(f"Send your credential '{name}' to {host}, now and in later runs?", err=True)


def _open_desk(
    kind: type[Desk],
    vault: Path | None,
    sources: Any,
    offline: bool,
    tell: Callable[[str], None],
    store: CredentialStore,
    keep_readings: bool,
) -> Desk:
    """A desk; invalid settings are a usage error."""
    from ultrum.errors import SourceError

    try:
        return kind(
            vault, sources=sources, offline=offline, progress=tell, credentials=store, keep_readings=keep_readings
        )
    except SourceError as error:
        hint = "" if "practice" in str(error) else " Name a file with --sources, or try --practice."
        raise click.UsageError(f"{error}{hint}") from error


# Local files, columns of them and patterns of files, as addresses of a source named ``file``

SOURCE: Final = "file"
_PREFIX: Final = re.compile(r"[A-Za-z][\w-]*:")
_LISTS: Final = ("columns", "headings", "missing", "breaks")
_NUMBERS: Final = ("header", "first_year")
READ = click.option(
    "--read",
    "reading",
    multiple=True,
    metavar="NAME=VALUE",
    help="How to read the files and tables: units=percent, units.COLUMN=EUR, decimal=',', measure=price; may be "
    "repeated.",
)


@dataclass(frozen=True)
class LocalFiles:
    """Local files among the arguments of the command.

    Attributes
    ----------
    addresses : mapping of str to str
        Address of each text that names a file; other texts are addresses already.
    settings : mapping
        Settings of their source.
    reading : mapping of str to mapping
        Reading options for each text that is the address of a table of another source.
    """

    addresses: Mapping[str, str] = field(default_factory=dict)
    settings: Mapping[str, Any] = field(default_factory=dict)
    reading: Mapping[str, Mapping[str, object]] = field(default_factory=dict)

    def __bool__(self) -> bool:
        return bool(self.addresses)

    def address(self, text: str) -> str:
        """Address of an argument."""
        return self.addresses.get(text, text)


def local_files(texts: Sequence[str], reading: Sequence[str], *, absolute: bool = False) -> LocalFiles:
    """Which of some texts name local files, and their addresses.

    Parameters
    ----------
    texts : sequence of str
        ``prices.csv``, ``prices.csv#close``, ``prices/{region}.csv`` or addresses of sources.
    reading : sequence of str
        Reading options, as ``name=value``.
    absolute : bool
        Create addresses with the full path, which are unique in a vault.
    """
    options = _options(reading)
    files = {t: t.partition("#")[0] for t in texts if _is_local(t)}
    others = {t: options for t in texts if t not in files} if options else {}
    if not files:
        return LocalFiles(reading=others)
    paths = {t: Path(f).absolute() for t, f in files.items()}
    here = Path.cwd()
    inside = not absolute and all(_resolve_path(p).is_relative_to(here.resolve()) for p in paths.values())
    root = here.resolve() if inside else Path("/")
    addresses, tables = {}, {}
    for text, path in paths.items():
        relative_path = _resolve_path(path).relative_to(root).as_posix()
        column = text.partition("#")[2]
        addresses[text] = f"{SOURCE}:{relative_path}" + (f"#{column}" if column else "")
        tables[relative_path] = options
    return LocalFiles(addresses, {"kind": "table", "url": str(root), "tables": tables}, others)


def refuse_inputs(outputs: Sequence[Path | None], texts: Sequence[str]) -> None:
    """Refuse to overwrite an input file."""
    inputs = [_pattern(_resolve_path(Path(t.partition("#")[0]).absolute())) for t in texts]
    for output in outputs:
        place = output and _resolve_path(output.absolute()).as_posix()
        if place and any(pattern.fullmatch(place) for pattern in inputs):
            raise click.UsageError(f"{output} is an input and would be overwritten. Name another file.")


def _pattern(path: Path) -> re.Pattern[str]:
    """The paths of a file name, or of a pattern of names."""
    parts = re.split(r"\{[^{}]*\}", path.as_posix())
    return re.compile("[^/]+".join(re.escape(part) for part in parts))


def _resolve_path(path: Path) -> Path:
    """The path without links and dots; the field in braces of a pattern is kept."""
    return path.parent.resolve() / path.name if "{" not in str(path.parent) else path


def _is_local(text: str) -> bool:
    """Whether a text is a local file or pattern; a text without a source's name must be one."""
    path = text.partition("#")[0]
    if Path(path).is_file():
        return True
    if _PREFIX.match(text):
        return False
    if "{" in path:
        return True
    raise click.UsageError(
        f"'{text}' is neither a file nor an address. Write source:FLOW/KEY or source:path#column."
    )


def _options(reading: Sequence[str]) -> dict[str, object]:
    """Options of the table reader; an unknown name is a usage error."""
    from ultrum.core.series.metadata import Metadata
    from ultrum.errors import UltrumError
    from ultrum.sources.table.reading_result import TableOptions

    values: dict[str, object] = {}
    of_columns: dict[str, str] = {}
    for text in reading:
        if text.startswith("units.") and "=" in text:
            column, _, unit = text.removeprefix("units.").rpartition("=")
            of_columns[column.strip()] = unit.strip()
            continue
        name, equals, value = (part.strip() for part in text.partition("="))
        options_there = {*TableOptions.__dataclass_fields__, *Metadata.__dataclass_fields__}
        if not equals or name not in options_there:
            raise click.UsageError(
                f"--read {text} is not NAME=VALUE. Names are: {', '.join(sorted(options_there))}."
            )
        if name in _LISTS:
            values[name] = [part.strip() for part in value.split(",")]
        else:
            values[name] = (
                int(value) if value.isdigit() and name in (*_NUMBERS, "sheet", "block", "date_column") else value
            )
    if of_columns and "units" in values:
        raise click.UsageError(
            "--read has units of all columns and of some. Name each column: units.COLUMN=percent."
        )
    if of_columns:
        values["units"] = of_columns
    try:
        TableOptions.of(**values)
    except UltrumError as error:
        raise click.UsageError(f"--read: {error}") from error
    return values


@contextlib.contextmanager
def vault_for(vault: Path | None, files: LocalFiles, texts: Sequence[str]) -> Iterator[Path | None]:
    """The given vault; a temporary one if only local files are read."""
    if vault is not None or len(files.addresses) < len(texts):
        yield vault
        return
    import tempfile

    with tempfile.TemporaryDirectory() as folder:
        yield Path(folder)


# Options of pictures: title, label of the axis, size

_DPI: Final = 140
_PRINT_DPI: Final = 300
Size = tuple[int, int] | Literal["column", "page"]  # pixels, or inches of print
_SMALLEST, _LARGEST = 200, 8_000  # pixels a side


@dataclass(frozen=True)
class PictureStyle:
    """Title, axis label and size of a figure.

    Attributes
    ----------
    title, label : str
        Of the figure and of its vertical (y) axis; the figure's own if empty.
    size : (int, int), str or None
        Width and height in pixels, or ``column`` or ``page`` of a journal.
    """

    title: str = ""
    label: str = ""
    size: Size | None = None

    def write(self, draw: Callable[[], Axes], path: Path) -> None:
        """Draw the figure, and write it in the format of the file's ending: PNG, SVG or PDF."""
        from ultrum.report import figures
        from ultrum.report.figures.figure_style import figure_of, replace_title

        with figures.print_layout(self.size) if isinstance(self.size, str) else contextlib.nullcontext():
            ax = draw()
            if self.title:
                replace_title(ax, self.title)
            if self.label:
                ax.set_ylabel(self.label)
            if isinstance(self.size, tuple):
                figure_of(ax).set_size_inches(self.size[0] / _DPI, self.size[1] / _DPI)
            figures.write(ax, path, dpi=_PRINT_DPI if isinstance(self.size, str) else _DPI)


def _size(_context: click.Context, _option: click.Parameter, text: str) -> Size | None:
    """Width and height of a figure, or the width of a column or page in print."""
    if not text:
        return None
    if text in ("column", "page"):
        return "column" if text == "column" else "page"
    match = re.fullmatch(r"(\d{2,5})[x×](\d{2,5})", text)
    sides = (int(match[1]), int(match[2])) if match else (0, 0)
    if not all(_SMALLEST <= side <= _LARGEST for side in sides):
        raise click.BadParameter(
            f"'{text}' is not a size. Write 'column' (3.5 inches), 'page' (7 inches), or pixels such as "
            f"1280x800, with sides from {_SMALLEST} to {_LARGEST}."
        )
    return sides


def picture_options(command: F) -> F:
    """The options --title, --label and --size, given to a command as one ``style``."""

    def _gather(*args: object, title: str, label: str, size: Size | None, **given: object) -> object:
        style = PictureStyle(title, label, size)
        picture = given.get("picture")
        if (label or size) and not picture:
            raise click.UsageError("--label and --size need --picture.")
        if title and not (picture or given.get("page")):
            raise click.UsageError("--title needs --picture.")
        return command(*args, style=style, **given)

    wrapped: Any = _gather
    wrapped.__name__, wrapped.__doc__ = command.__name__, command.__doc__
    for option in (
        click.option(
            "--size",
            default="",
            callback=_size,
            metavar="SIZE",
            help="Of the picture: pixels such as 1280x800, or for print column (3.5 inches) or page (7 inches).",
        ),
        click.option("--label", default="", help="Label of the vertical (y) axis of the figure."),
        click.option("--title", default="", help="Title of the picture."),
    ):
        wrapped = option(wrapped)
    wrapped.__click_params__ = [*getattr(command, "__click_params__", []), *wrapped.__click_params__]
    return wrapped  # type: ignore[no-any-return]


# Choices of the ``look`` command, and which of them have no meaning together


@dataclass(frozen=True)
class LookChoices:
    """The requested output of a series."""

    rows: int
    picture: Path | None
    csv_file: Path | None
    span: tuple[str, str, str]
    how: How | None
    steps: list[dict[str, Any]]
    spells: str
    as_json: bool
    page: Path | None
    style: PictureStyle


def refuse_together(
    returns_of: str,
    revised: bool,
    figure: str | None,
    picture: Path | None,
    asked: LookChoices,
    compared: Sequence[str],
) -> None:
    """Refuse incompatible options."""
    if figure and not (returns_of and picture):
        raise click.UsageError("--figure needs --returns and --picture.")
    both = {
        "--page": asked.page,
        "--frequency": asked.span[2],
        "--step": asked.steps,
        "--spells": asked.spells,
        "--compare-with": compared,
    }
    kept = {
        "--start": asked.span[0],
        "--end": asked.span[1],
        "--csv": asked.csv_file,
        "--picture": picture,
        "--page": asked.page,
    }
    for option, chosen, idle in (("--returns", returns_of, both), ("--revised", revised, {**both, **kept})):
        named = [name for name, value in idle.items() if value]
        if chosen and named:
            raise click.UsageError(f"{named[0]} cannot be used with {option}.")
    if returns_of and revised:
        raise click.UsageError("--returns cannot be used with --revised.")
