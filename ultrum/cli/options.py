"""Options that several commands share, and the desk they configure."""

from __future__ import annotations

import contextlib
import sys
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ultrum.cli.verbosity import end_progress

if TYPE_CHECKING:
    from ultrum.cli.local_files import LocalFiles
    from ultrum.desk import Desk
    from ultrum.sources.credential_store import CredentialStore

HERE = click.Path(path_type=Path)


class OutputFile(click.ParamType[Path]):
    """A file to be written: its folder must be there, so that nothing is computed for nothing."""

    name = "file"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Path:
        """The path, if a file can be written there."""
        path = Path(value)
        if not str(value) or "\0" in str(value):
            self.fail("an empty name is not a file.", param, ctx)
        if path.is_dir():
            self.fail(f"{path} is a folder; name a file in it.", param, ctx)
        if not path.parent.is_dir():
            self.fail(
                f"the folder {path.parent} does not exist; create it, or choose another.",
                param,
                ctx,
            )
        return path


class Folder(click.ParamType[Path]):
    """A folder that is there or will be made."""

    name = "folder"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Path:
        """The path, unless it is empty or a file."""
        if not str(value) or "\0" in str(value):
            self.fail("an empty name is not a folder.", param, ctx)
        if Path(value).is_file():
            self.fail(f"{value} is a file, not a folder.", param, ctx)
        return Path(value)


OUTPUT, FOLDER = OutputFile(), Folder()
JSON = click.option("--json", "as_json", is_flag=True, help="Print JSON instead of a table.")
OFFLINE = click.option("--offline", is_flag=True, help="Take everything from the vault.")
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
    help="File of your credentials; by default the one in your configuration.",
)
BIND = click.option(
    "--bind",
    multiple=True,
    metavar="NAME=HOST",
    help="Let the credential NAME be sent to HOST in this run; may be repeated.",
)
PRACTICE = click.option(
    "--practice", "on_practice", is_flag=True, help="Use the practice world instead of --sources."
)


def _checked(kind: Callable[[str], object]) -> Callable[..., str]:
    """A check of an option's word before anything is tried."""

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

    from ultrum.core.time.date_parser import resolve_instant

    resolve_instant(word, date.today())


def _period(word: str) -> None:
    from datetime import date

    from ultrum.core.time.date_parser import resolve_day

    resolve_day(word, date.today())


def _frequency(word: str) -> None:
    from ultrum.core.time.frequency import Frequency

    Frequency.parse(word)


INSTANT, PERIOD, FREQUENCY = map(_checked, (_instant, _period, _frequency))
AT = click.option("--at", default="", callback=INSTANT, help="As the vault stood at this day or instant.")


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
    """A desk on the sources named, or on the practice world, with progress on stderr."""
    from ultrum.cli import terminal_output
    from ultrum.desk import Desk

    with contextlib.ExitStack() as stack:
        tell = stack.enter_context(terminal_output.progress())
        named: Any = sources
        if on_practice:
            from ultrum.practice import serve, sources_at

            service = stack.enter_context(serve())
            named, vault = sources_at(service.places), vault or Path("ultrum-demo/vault")
        if files:
            named = _with_files(named, files)
        desk = stack.enter_context(
            _opened(Desk, vault, named, offline, tell, store_of(credentials_file, bind), keep_readings)
        )
        yield stack.enter_context(desk.at(at)) if at else desk


def _with_files(sources: Any, files: LocalFiles) -> dict[str, Any]:
    """Settings of sources, if there are any, with the one that holds local files."""
    from ultrum.cli.local_files import SOURCE
    from ultrum.desk.settings import load_settings
    from ultrum.errors import SourceError

    if sources is None:
        try:
            sources = load_settings(None)["sources"]
        except SourceError:
            sources = {}  # local files need no settings
    elif not isinstance(sources, dict):
        sources = load_settings(sources)["sources"]
    return {**sources, SOURCE: dict(files.settings)}


def store_of(file: Path | None, bind: tuple[str, ...]) -> CredentialStore:
    """The user's credentials; on a terminal a person is asked before one is sent to a new host."""
    from ultrum.errors import SourceError
    from ultrum.sources.credential_store import CredentialStore

    person = sys.stdin.isatty() and sys.stderr.isatty()
    try:
        return CredentialStore.load(file, bind, _asked if person else None)
    except SourceError as error:
        raise click.UsageError(str(error)) from error


def _asked(name: str, host: str) -> bool:
    end_progress()
    return click.confirm(f"Send your credential '{name}' to {host}, now and in later runs?", err=True)


def _opened(
    kind: type[Desk],
    vault: Path | None,
    sources: Any,
    offline: bool,
    tell: Any,
    store: CredentialStore,
    keep_readings: bool,
) -> Desk:
    """A desk; settings that cannot be used are an error in the arguments."""
    from ultrum.errors import SourceError

    try:
        return kind(
            vault, sources=sources, offline=offline, progress=tell, credentials=store,
            keep_readings=keep_readings,
        )  # fmt: skip
    except SourceError as error:
        hint = "" if "practice" in str(error) else " Name a file with --sources, or try --practice."
        raise click.UsageError(f"{error}{hint}") from error
