"""The credential store: credentials by name, from the user's own settings, each bound to hosts.

A study or a settings file next to it names a credential; what it is, where its secret is kept and which
hosts may see it is in the user's configuration folder alone. A host that is not bound is refused
before anything is sent.
"""

from __future__ import annotations

import os
import tomllib
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Final
from urllib.parse import urlsplit

from ultrum.errors import SourceError, reason
from ultrum.file_access import path_of, toml_of
from ultrum.sources.credentials import Credentials

FILE: Final = "credentials.toml"
BOUND: Final = "bound_hosts.toml"
_DEFAULT_PORTS: Final = {"http": 80, "https": 443}
_LARGEST: Final = 1024 * 1024
Ask = Callable[[str, str], bool]


@dataclass(frozen=True)
class Credential:
    """A credential, and the hosts it may be sent to."""

    how: Credentials
    hosts: tuple[str, ...] = ()


@dataclass
class CredentialStore:
    """The user's credentials.

    Parameters
    ----------
    credentials : mapping of str to Credential
    bound : mapping of str to sequence of str
        Further hosts of each, from earlier answers or given for this run.
    ask : callable, optional
        Asks a person whether a credential may be sent to a host; without it, a host that is not bound is
        refused.
    folder : path, optional
        Where answers are remembered.

    Examples
    --------
    >>> key = Credentials.of({"kind": "bearer", "variable": "HARBOUR_KEY"}, "harbour")
    >>> store = CredentialStore({"harbour_key": Credential(key, ("harbour.example",))})
    >>> store.for_host("harbour_key", "https://harbour.example/files", "harbour").variable
    'HARBOUR_KEY'
    """

    credentials: Mapping[str, Credential] = field(default_factory=dict)
    bound: Mapping[str, Sequence[str]] = field(default_factory=dict)
    ask: Ask | None = None
    folder: Path | None = None

    @classmethod
    def load(
        cls,
        file: str | os.PathLike[str] | None = None,
        bind: Sequence[str] = (),
        ask: Ask | None = None,
    ) -> CredentialStore:
        """The credentials of a file, or of the user's configuration folder.

        Parameters
        ----------
        file : path, optional
        bind : sequence of str
            Hosts of this run, as ``name=host``.
        ask : callable, optional

        Raises
        ------
        SourceError
            If the file cannot be read, or an entry is not a credential.
        """
        folder = config_folder()
        place = path_of(file) if file is not None else folder / FILE
        content = _read(place, needed=file is not None)
        bound: dict[str, list[str]] = {k: list(v) for k, v in _read(folder / BOUND, needed=False).items()}
        for text in bind:
            name, equals, host = text.partition("=")
            if not equals or not name or not host:
                raise SourceError(f"'{text}' does not bind a credential; write NAME=HOST.")
            bound.setdefault(name, []).append(host)
        entries = {name: _credential(name, entry, place) for name, entry in content.items()}
        return cls(entries, bound, ask, folder)

    def for_host(self, name: str, url: str, source: str) -> Credentials:
        """The credential of a name, for the host of an address.

        Raises
        ------
        SourceError
            If there is none of that name, or the host is not bound to it; the message has the line that binds it.
        """
        if name not in self.credentials:
            names = ", ".join(self.credentials) or "none"
            where = (self.folder or config_folder()) / FILE
            raise SourceError(
                f"Source '{source}' names '{name}', a credential you have not defined; there are: {names}. "
                f'Define it in {where}: [{name}], kind = "bearer", variable = "NAME", '
                f'hosts = ["{host_of(url)}"].'
            )
        entry, host = self.credentials[name], host_of(url)
        if host in entry.hosts or host in self.bound.get(name, ()):
            return entry.how
        if self.ask is not None and self.ask(name, host):
            self._remember(name, host)
            return entry.how
        raise SourceError(
            f"Source '{source}': the credential '{name}' is not bound to the host {host}; nothing was sent. If "
            f'it is meant for that host, add --bind {name}={host}, or "{host}" to its hosts in {FILE}.'
        )

    def _remember(self, name: str, host: str) -> None:
        """Keep an answer for later runs."""
        self.bound = {**self.bound, name: [*self.bound.get(name, ()), host]}
        if self.folder is None:
            return
        import tomlkit

        kept = {k: list(v) for k, v in _read(self.folder / BOUND, needed=False).items()}
        kept.setdefault(name, []).append(host)
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            (self.folder / BOUND).write_text(tomlkit.dumps(kept), encoding="utf-8")
        except OSError as error:
            raise SourceError(f"{self.folder / BOUND} cannot be written: {error.strerror}.") from None


def config_folder() -> Path:
    """The user's configuration folder."""
    import platformdirs

    return Path(platformdirs.user_config_dir("ultrum", appauthor=False))


def host_of(url: str) -> str:
    """Host of an address, with its port where that is not the usual one.

    Examples
    --------
    >>> host_of("https://statistics.example/sdmx"), host_of("http://127.0.0.1:8765/x")
    ('statistics.example', '127.0.0.1:8765')
    """
    try:
        parts = urlsplit(url)
        host, port = (parts.hostname or "").lower(), parts.port
    except ValueError:
        raise SourceError(f"'{url}' is not an address with a host.") from None
    return host if port in (None, _DEFAULT_PORTS.get(parts.scheme)) else f"{host}:{port}"


def _read(place: Path, *, needed: bool) -> dict[str, Any]:
    """Tables of a TOML file; none if it is not there and need not be."""
    try:
        if place.stat().st_size > _LARGEST:
            raise SourceError(f"{place} has more than {_LARGEST:,} bytes; credentials are a short text.")
        return toml_of(place.read_text(encoding="utf-8"))
    except FileNotFoundError:
        if needed:
            raise SourceError(f"{place} cannot be read: there is no such file.") from None
        return {}
    except (OSError, tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise SourceError(f"{place} cannot be read: {reason(error)}.") from None


def _credential(name: str, entry: Any, place: Path) -> Credential:
    if not isinstance(entry, dict):
        raise SourceError(f"{place}: [{name}] is a table with kind, variable or keyring, and hosts.")
    hosts = entry.pop("hosts", [])
    if not isinstance(hosts, list) or not all(isinstance(h, str) and h for h in hosts):
        raise SourceError(f'{place}: [{name}] hosts is a list of hosts, such as ["statistics.example"].')
    return Credential(Credentials.of(entry, name), tuple(h.lower() for h in hosts))
