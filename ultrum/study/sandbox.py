"""The sandbox of a study: it reads only its own folder, unless the user allows more."""

from __future__ import annotations

from pathlib import Path

from ultrum.errors import StudyError, missing_package

HINT = "move it into the folder, or allow it: ultrum run --anywhere, Study.load(..., anywhere=True)"


def inside(folder: Path, place: str, what: str, anywhere: bool) -> Path:
    """A path relative to a study's folder.

    Raises
    ------
    StudyError
        If it leaves the folder, by ``..``, an absolute path or a link, and this is not allowed.
    """
    root = folder.resolve()
    path = (root / place).resolve()
    if not anywhere and not path.is_relative_to(root):
        raise StudyError(f"{what} '{place}', which is outside the folder of the study; {HINT}.")
    return path


def source_place(folder: Path, name: str, url: str, anywhere: bool) -> str:
    """Address of a source: local folders and SQLite files are relative to the study's folder."""
    what = f"Source '{name}' reads"
    if "://" not in url:
        return str(inside(folder, url, what, anywhere))
    scheme = url.partition("://")[0].lower()
    if scheme in ("http", "https"):
        return url
    if not scheme.startswith("sqlite"):
        if not anywhere:
            raise StudyError(
                f"{what} '{scheme}://…'; a study reads http, https and files of its own folder. To allow others: "
                "ultrum run --anywhere, Study.load(..., anywhere=True)."
            )
        return url
    try:
        import sqlalchemy
    except ModuleNotFoundError as error:
        raise missing_package(error, f"{what} '{scheme}://…': a database", "sqlalchemy") from None

    url_parts = sqlalchemy.make_url(url)
    if not url_parts.database or url_parts.database == ":memory:":
        return url
    place = inside(folder, url_parts.database, what, anywhere)
    return url_parts.set(database=str(place)).render_as_string(hide_password=False)
