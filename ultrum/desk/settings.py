"""Settings of sources: addresses, credentials, table formats."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, fields
from pathlib import Path
from typing import Any, Final

from ultrum.core.arguments import validate_arguments
from ultrum.errors import SourceError, one_of
from ultrum.file_access import path_of, read_regular, toml_of
from ultrum.sources.credentials import FILE as CREDENTIALS
from ultrum.sources.credentials import SECRETS, Credentials, config_folder, host_of, refuse_secret
from ultrum.sources.database import Query
from ultrum.sources.download_and_limits import Download
from ultrum.sources.sdmx.queries import FORMATS

KINDS: Final = ("sdmx", "table", "database")
Fetch = Callable[[str, str, Credentials | None], bytes | Download]
_ADDED: Final[dict[str, Fetch]] = {}
FILE: Final = "ultrum.toml"
LARGEST: Final = 1024 * 1024


@dataclass(frozen=True)
class SnapshotSettings:
    """A page that shows only the current value.

    Attributes
    ----------
    path : str
        Page below the source's address.
    figure : str
        Words next to the number.
    grain : str
        Grain of time within which two pulls are one observation: ``P1D``, ``PT30M``.
    """

    path: str
    figure: str
    grain: str = "P1D"
    title: str = ""
    options: Mapping[str, Any] = field(default_factory=dict)


@validate_arguments
def add_source_kind(kind: str, fetch: Fetch) -> None:
    r"""Register a function as a new kind of source, besides ``table`` and ``sdmx``.

    The function's output is treated like an HTTP response by the vault and the table reader, so vintages, offline
    runs, limits and provenance work as for every other source.

    Parameters
    ----------
    kind : str
        The value of ``kind`` in settings and studies.
    fetch : callable
        Called with ``url``, ``path`` and credentials or None; returns bytes, or a Download with its type and tag.
        Its exceptions are reported as errors of the source.

    Raises
    ------
    SourceError
        The kind is built in, or is not a single word.

    Examples
    --------
    >>> import tempfile, ultrum as ul
    >>> def from_archive(url, path, credentials):
    ...     return b"date,rate\n2024-01,1.5\n2024-02,2.5\n"
    >>> add_source_kind("archive", from_archive)
    >>> sources = {"rates": {"kind": "archive", "url": "local"}}
    >>> with tempfile.TemporaryDirectory() as folder, ul.Desk(folder, sources=sources) as desk:
    ...     desk.fetch("rates:monthly#rate").values.tolist()
    [1.5, 2.5]
    """
    if kind in KINDS or not kind.isidentifier():
        raise SourceError(f"The kind '{kind}' is built in, or is not a single word. Choose another name.")
    _ADDED[kind] = fetch


def custom_fetch(kind: str) -> Fetch | None:
    """The function of a registered kind."""
    return _ADDED.get(kind)


def kinds() -> list[str]:
    """Every kind of source."""
    return [*KINDS, *_ADDED]


@dataclass(frozen=True)
class SourceSettings:
    """Location of a source, and how it is read.

    Attributes
    ----------
    kind : {"sdmx", "table", "database"}, or one that was added
    url : str
        Entry point, address or folder of files, or address of a database.
    format, rest : str
        For a statistics service: preferred data format, version of its paths.
    tables : mapping
        Options of the table reader, by path.
    snapshots, queries : mapping
        Pages of the current value, and queries of a database, by name.
    catalogue : mapping
        A catalogue table of a source: ``path``, and ``address`` with column names in braces.
    """

    kind: str
    url: str
    format: str = "csv"
    rest: str = ""
    credentials: Credentials | str | None = None
    tables: Mapping[str, Mapping[str, object]] = field(default_factory=dict)
    snapshots: Mapping[str, SnapshotSettings] = field(default_factory=dict)
    queries: Mapping[str, Query] = field(default_factory=dict)
    catalogue: Mapping[str, str] = field(default_factory=dict)

    @property
    def is_local(self) -> bool:
        """Whether its files are in a local folder."""
        return self.kind == "table" and not self.url.startswith(("http://", "https://"))


def source_settings(name: str, settings: Mapping[str, Any]) -> SourceSettings:
    """Check the settings of one source.

    Raises
    ------
    SourceError
        If something is missing, unknown, or a secret is in them.
    """
    settings = _table(settings, f"Source '{name}'")
    for key, inner in {"tables": True, "snapshots": True, "queries": True, "catalogue": False}.items():
        part = _table(settings.get(key, {}), f"Source '{name}', {key}")
        for entry, value in part.items() if inner else ():
            _table(value, f"Source '{name}', {key}.{entry}")
    kind, url = str(settings.get("kind", "")), str(settings.get("url", ""))
    if kind not in kinds() or not url:
        raise SourceError(f"Source '{name}' needs a kind ({' or '.join(kinds())}) and a url.")
    if kind != "database":  # whose url may name its users
        refuse_secret(url, f"The url of source '{name}'")
    scheme = url.partition("://")[0].lower() if "://" in url else ""
    if kind in ("sdmx", "table") and scheme not in ("", "http", "https"):
        raise SourceError(
            f"Source '{name}': its url begins with {scheme}://; it must be an http or https address, or a folder."
        )
    keys = [f.name for f in fields(SourceSettings)]
    for key in settings:
        if key not in keys:
            raise SourceError(f"Source '{name}' has no setting '{key}'; {one_of(key, keys)}")
    form = str(settings.get("format", "csv"))
    if form not in FORMATS:
        raise SourceError(f"Source '{name}': format '{form}' is not known; {one_of(form, FORMATS)}")
    credentials = settings.get("credentials")
    return SourceSettings(
        kind,
        url,
        form,
        str(settings.get("rest", "")),
        _credentials(credentials, name),
        settings.get("tables", {}),
        {k: _snapshot(name, k, v) for k, v in settings.get("snapshots", {}).items()},
        {k: _query(name, k, v) for k, v in settings.get("queries", {}).items()},
        settings.get("catalogue", {}),
    )


def _table(value: object, what: str) -> Mapping[str, Any]:
    if not isinstance(value, Mapping):
        raise SourceError(f"{what} must be a table of settings; got '{str(value)[:40]}'.")
    return value


def _credentials(value: Any, source: str) -> Credentials | str | None:
    """Credentials from the program, or the name of the user's own."""
    if isinstance(value, str) or not value:
        return value or None
    if not isinstance(value, Mapping):
        raise SourceError(f"Source '{source}': credentials must be the name of one of your credentials.")
    return Credentials.of(value, source)


def _snapshot(source: str, name: str, settings: Mapping[str, Any]) -> SnapshotSettings:
    keys = [f.name for f in fields(SnapshotSettings)]
    unknown = [k for k in settings if k not in keys]
    if unknown or "path" not in settings or "figure" not in settings:
        wrong = f"'{unknown[0]}' is not known" if unknown else "path and figure are needed"
        raise SourceError(f"Source '{source}', snapshot '{name}': {wrong}; its keys are {', '.join(keys)}.")
    return SnapshotSettings(**settings)


def _query(source: str, name: str, settings: Mapping[str, Any]) -> Query:
    try:
        return Query(**{k: str(v) for k, v in settings.items()})
    except TypeError:
        raise SourceError(f"Source '{source}', query '{name}': its keys are sql, table, date and key.") from None


def load_settings(file: str | os.PathLike[str] | None = None) -> dict[str, object]:
    """The settings file: the given one, ``ultrum.toml`` here, or that of the user's folder.

    Returns
    -------
    dict
        Tables ``sources`` and ``groups``.

    Raises
    ------
    SourceError
        If there is none, or it is not TOML.
    """
    place = _settings_file(file)
    try:
        body = read_regular(place, LARGEST + 1)
        if len(body) > LARGEST:
            raise SourceError(
                f"{place} has more than {LARGEST:,} bytes, which is too large for a settings file. Check the "
                "path."
            )
        content = toml_of(body.decode("utf-8"))
    except OSError as error:
        raise SourceError(f"{place} cannot be read: {error.strerror}.") from error
    except ValueError as error:
        raise SourceError(f"{place} is not TOML: {error}.") from error
    if not isinstance(content.get("sources"), dict) or not content["sources"]:
        raise SourceError(f"{place} has no [sources.NAME] table. Add one for each source.")
    for name, codes in _table(content.get("groups", {}), f"{place}: [groups]").items():
        if not isinstance(codes, list):
            raise SourceError(f"{place}: [groups] {name} must be a list of codes.")
    folder = place.parent
    _refuse_credentials(content["sources"], place)
    for source in content["sources"].values():
        url = str(source.get("url", "")) if isinstance(source, dict) else ""
        if url and "://" not in url and not os.path.isabs(url):
            source["url"] = str(folder / url)  # folders are meant from the file's own place
    return content


def _refuse_credentials(sources: Mapping[str, Any], place: Path) -> None:
    """Settings in the working folder can come from others; they refer to credentials by name and do not define
    them.
    """
    if place.absolute().parent == config_folder().absolute():
        return
    for name, source in sources.items():
        credentials = source.get("credentials") if isinstance(source, Mapping) else None
        if isinstance(credentials, Mapping):
            raise SourceError(f"{place}: {how_to_define(name, credentials, str(source.get('url', '')))}")


def how_to_define(source: str, settings: Mapping[str, object], url: str) -> str:
    """What to write instead of credentials in the settings of the working folder."""
    written = [k for k in settings if k.lower() in SECRETS]
    if written:
        return (
            f"Source '{source}': credentials.{written[0]} would be a secret in a file. Define the credential in "
            "your own settings, with variable or keyring."
        )
    entry = ", ".join(f'{key} = "{value}"' for key, value in settings.items())
    return (
        f"Source '{source}' defines credentials, which only your own settings can define. Add to "
        f'{config_folder() / CREDENTIALS}: [{source}_key], {entry}, hosts = ["{host_of(url) or "HOST"}"]; '
        f'and name it here: credentials = "{source}_key".'
    )


def _settings_file(file: str | os.PathLike[str] | None) -> Path:
    if file is not None:
        return path_of(file)
    here = Path(FILE)
    if here.exists():
        return here
    user_file = config_folder() / FILE
    if user_file.exists():
        return user_file
    raise SourceError(
        f"No sources: there is no {FILE} here and none at {user_file}. Set sources= to a settings file, or use "
        "the practice data."
    )


def default_vault() -> Path:
    """Default folder of the vault."""
    import platformdirs

    return Path(platformdirs.user_data_dir("ultrum", appauthor=False)) / "vault"
