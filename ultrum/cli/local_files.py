"""Local files, columns of them and patterns of files, as addresses of a source named ``file``."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Final

import click

SOURCE: Final = "file"
_PREFIX: Final = re.compile(r"[A-Za-z][\w-]*:")
_LISTS: Final = ("columns", "headings", "missing", "breaks")
_NUMBERS: Final = ("header", "first_year")
READ = click.option(
    "--read", "reading", multiple=True, metavar="NAME=VALUE",
    help="How to read a local file: units=percent, decimal=',', measure=price; may be repeated.",
)  # fmt: skip


@dataclass(frozen=True)
class LocalFiles:
    """Local files among what was named on the command line.

    Attributes
    ----------
    addresses : mapping of str to str
        Address of each text that names a file; other texts are addresses already.
    settings : mapping
        Settings of the source that holds them.
    """

    addresses: Mapping[str, str] = field(default_factory=dict)
    settings: Mapping[str, Any] = field(default_factory=dict)

    def __bool__(self) -> bool:
        return bool(self.addresses)

    def address(self, text: str) -> str:
        """Address of what was named."""
        return self.addresses.get(text, text)


def local_files(texts: Sequence[str], reading: Sequence[str], *, absolute: bool = False) -> LocalFiles:
    """Which of some texts name local files, and their addresses.

    Parameters
    ----------
    texts : sequence of str
        ``prices.csv``, ``prices.csv#close``, ``prices/{region}.csv`` or addresses of sources.
    reading : sequence of str
        How to read them, as ``name=value``.
    absolute : bool
        Make addresses that hold the whole path, which a vault can keep apart from others.
    """
    options = _options(reading)
    files = {t: t.partition("#")[0] for t in texts if _is_local(t)}
    if options and len(files) < len(texts):
        other = next(t for t in texts if t not in files)
        raise click.UsageError(
            f"--read is for local files; how {other} is read is set in the settings of its source."
        )
    if not files:
        return LocalFiles()
    paths = {t: Path(f).absolute() for t, f in files.items()}
    here = Path.cwd()
    inside = not absolute and all(_resolved(p).is_relative_to(here.resolve()) for p in paths.values())
    root = here.resolve() if inside else Path("/")
    addresses, tables = {}, {}
    for text, path in paths.items():
        relative_path = _resolved(path).relative_to(root).as_posix()
        column = text.partition("#")[2]
        addresses[text] = f"{SOURCE}:{relative_path}" + (f"#{column}" if column else "")
        tables[relative_path] = options
    return LocalFiles(addresses, {"kind": "table", "url": str(root), "tables": tables})


def refuse_inputs(outputs: Sequence[Path | None], texts: Sequence[str]) -> None:
    """Refuse to write over a file that is read."""
    inputs = [_pattern(_resolved(Path(t.partition("#")[0]).absolute())) for t in texts]
    for output in outputs:
        place = output and _resolved(output.absolute()).as_posix()
        if place and any(pattern.fullmatch(place) for pattern in inputs):
            raise click.UsageError(f"{output} is read here and would be overwritten; name another file.")


def _pattern(path: Path) -> re.Pattern[str]:
    """The paths that a file's name, or a pattern of names, means."""
    parts = re.split(r"\{[^{}]*\}", path.as_posix())
    return re.compile("[^/]+".join(re.escape(part) for part in parts))


def _resolved(path: Path) -> Path:
    """The path without links and dots; the part in braces of a pattern stays."""
    return path.parent.resolve() / path.name if "{" not in str(path.parent) else path


def _is_local(text: str) -> bool:
    """Whether a text names a local file or pattern; one without a source's name must."""
    path = text.partition("#")[0]
    if Path(path).is_file():
        return True
    if _PREFIX.match(text):
        return False
    if "{" in path:
        return True
    raise click.UsageError(
        f"'{text}' is neither a file here nor an address; an address is source:FLOW/KEY or source:path#column."
    )


def _options(reading: Sequence[str]) -> dict[str, Any]:
    """Decisions of the table reader; a name that the reader does not know is an error in the arguments."""
    from ultrum.core.series.metadata import Metadata
    from ultrum.errors import UltrumError
    from ultrum.sources.table import TableOptions

    values: dict[str, Any] = {}
    for text in reading:
        name, equals, value = (part.strip() for part in text.partition("="))
        options_there = {*TableOptions.__dataclass_fields__, *Metadata.__dataclass_fields__}
        if not equals or name not in options_there:
            raise click.UsageError(
                f"--read {text}: write NAME=VALUE; names are: {', '.join(sorted(options_there))}."
            )
        if name in _LISTS:
            values[name] = [part.strip() for part in value.split(",")]
        else:
            values[name] = (
                int(value) if value.isdigit() and name in (*_NUMBERS, "sheet", "block", "date_column") else value
            )
    try:
        TableOptions.of(**values)
    except UltrumError as error:
        raise click.UsageError(f"--read: {error}") from error
    return values


@contextlib.contextmanager
def vault_for(vault: Path | None, files: LocalFiles, texts: Sequence[str]) -> Iterator[Path | None]:
    """The vault given; a passing one where only local files are looked at."""
    if vault is not None or len(files.addresses) < len(texts):
        yield vault
        return
    import tempfile

    with tempfile.TemporaryDirectory() as folder:
        yield Path(folder)
