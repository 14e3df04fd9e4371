"""The data model of study files. Every error is found before anything is downloaded."""

from __future__ import annotations

import os
import tomllib
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Annotated, Any, Final

from pydantic import Field, PrivateAttr

from ultrum.errors import StudyError, missing_package
from ultrum.file_access import path_of, read_regular, toml_of
from ultrum.study.sections import (
    BetaForecastsSection,
    CostSection,
    ImpliedSection,
    Model,
    ModelComparisonSection,
    PanelSection,
    PortfolioSection,
    ReportSection,
    Section,
    SensitivitySection,
    Series,
    SetSection,
    Source,
    StudySection,
    TestsSection,
    TwoPassSection,
)
from ultrum.study.validation import Lines, meaning_faults, shape_faults

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


# The data model of study files. Every error is found before anything is downloaded

LARGEST: Final = 1024 * 1024
_DEEPEST: Final = 8  # studies that inherit from one another


class Study(Section):
    """A study, read from a file or built in Python.

    Examples
    --------
    >>> from ultrum.practice import demo_study
    >>> study = Study.load(demo_study())
    >>> study.cost_of_equity.company
    'BRTW'
    >>> Study.parse(study.to_toml()) == study
    True
    """

    study: StudySection
    sources: dict[str, Source]
    series: dict[str, Series] = Field(default={})
    sets: dict[str, SetSection] = Field(default={})
    panel: PanelSection
    portfolios: dict[str, PortfolioSection] = Field(default={})
    models: Annotated[list[Model], Field(min_length=1)]
    tests: TestsSection = TestsSection()
    two_pass: TwoPassSection | None = None
    cost_of_equity: CostSection | None = None
    sensitivity: SensitivitySection | None = None
    model_comparison: ModelComparisonSection | None = None
    beta_forecasts: BetaForecastsSection | None = None
    implied_cost: ImpliedSection | None = None
    report: ReportSection = ReportSection()
    _file: str = PrivateAttr(default="")

    def __eq__(self, other: object) -> bool:
        """Whether the content is the same, from whatever file."""
        return isinstance(other, Study) and dict(self) == dict(other)

    def __hash__(self) -> int:
        return hash((self.study.title, *(m.name for m in self.models)))

    @property
    def file_name(self) -> str:
        """Name of the file it was read from; empty for a study built in Python."""
        return self._file

    @property
    def asset(self) -> str:
        """The asset of the study; empty for the first of the panel."""
        return self.cost_of_equity.company if self.cost_of_equity else self.study.asset

    @property
    def model(self) -> Model:
        """The model of the cost of equity, or the first."""
        wanted = self.cost_of_equity.model if self.cost_of_equity else ""
        return next((m for m in self.models if m.name == wanted), self.models[0])

    @property
    def price_addresses(self) -> list[str]:
        """Addresses of the price tables."""
        assets = self.panel.assets
        return [assets] if isinstance(assets, str) else list(assets)

    @classmethod
    def load(cls, path: str | os.PathLike[str], *, anywhere: bool = False) -> Study:
        """Read and check a study file, and the studies it inherits from.

        Parameters
        ----------
        path : path
            File of the study.
        anywhere : bool
            Allow it to read folders, databases and studies outside its own folder.

        Raises
        ------
        StudyError
            With every error and its line.

        Examples
        --------
        >>> import ultrum as ul
        >>> ul.Study.load(ul.practice.demo_study()).model.name
        'one factor'
        """
        file = path_of(path)
        text = _text_of(file)
        study = cls.parse(text, file.name, file.parent, anywhere)._beside(file.parent, anywhere)
        study._file = file.name
        return study

    @classmethod
    def parse(cls, text: str, name: str = "study", folder: Path | None = None, anywhere: bool = False) -> Study:
        """Check the text of a study file; ``folder`` is the location of an inherited one.

        Parameters
        ----------
        text : str
            TOML of the study.
        name : str
            Name of the study, for messages.
        folder : Path, optional
            Folder of a study that it inherits from.
        anywhere : bool
            Allow it to read files outside its folder.

        Examples
        --------
        >>> import ultrum as ul
        >>> text = ul.practice.demo_study().read_text()
        >>> ul.Study.parse(text).model.factors
        ['market']
        """
        content = _with_ancestors(_toml(text, name), name, folder, anywhere)
        return cls._validate_content(content, Lines(text), name)

    @classmethod
    def of(cls, **sections: object) -> Study:
        """Build a study in Python, checked like a file.

        Parameters
        ----------
        **sections
            As the sections of a file: mappings, or a list of them for ``models``.

        Raises
        ------
        StudyError
            With every fault.
        """
        return cls._validate_content(sections, Lines(""), "The study")

    @classmethod
    def _validate_content(cls, content: dict[str, object], lines: Lines, name: str) -> Study:
        faults = sorted({*shape_faults(cls, content, lines), *meaning_faults(content, lines)})
        if faults:
            listed = "\n".join(f"  line {line}: {text}" for line, text in faults)
            noun = "fault" if len(faults) == 1 else "faults"
            raise StudyError(f"{name} has {len(faults)} {noun}; nothing was run.\n{listed}")
        return cls.model_validate(content)

    def to_toml(self) -> str:
        """The study as the text of a file: values other than the defaults, in the order of the sections.

        Returns
        -------
        str
            Text of the study file.

        Examples
        --------
        >>> import ultrum as ul
        >>> ul.Study.load(ul.practice.demo_study()).to_toml().splitlines()[0]
        '[study]'
        """
        import tomlkit

        content = self.model_dump(mode="json", exclude_defaults=True)
        document = tomlkit.document()
        for name, section in content.items():
            document.add(name, tomlkit.item(section))
        return tomlkit.dumps(document)

    def save(self, path: str | os.PathLike[str]) -> Path:
        """Write the study to a file for :meth:`load`.

        Parameters
        ----------
        path : str or path
            File to write or read.

        Returns
        -------
        Path
            The file written.

        Examples
        --------
        >>> import tempfile, ultrum as ul
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     saved = ul.Study.load(ul.practice.demo_study()).save(f"{folder}/copy.toml")
        ...     print(saved.name)
        copy.toml
        """
        target = path_of(path)
        try:
            target.write_text(self.to_toml(), encoding="utf-8")
        except OSError as error:
            raise StudyError(f"{target} cannot be written: {error.strerror}.") from error
        return target

    def for_assets(self, assets: Sequence[str]) -> Study:
        """The same study for a few assets, to try it out.

        Parameters
        ----------
        assets : sequence of str
            Names of the assets, in the given order.

        Returns
        -------
        Study
            Study of these assets.

        Examples
        --------
        >>> import ultrum as ul
        >>> ul.Study.load(ul.practice.demo_study()).for_assets(["MRWG"]).panel.only
        ['MRWG', 'BRTW']
        """
        wanted = list(dict.fromkeys([*assets, *([self.asset] if self.asset else [])]))
        return self.model_copy(update={"panel": self.panel.model_copy(update={"only": wanted})})

    def _beside(self, folder: Path, anywhere: bool) -> Study:
        """Local sources are relative to the study file's own folder."""
        return self.with_sources_at(
            {n: source_place(folder, n, s.url, anywhere) for n, s in self.sources.items()}
        )

    def with_sources_at(self, urls: Mapping[str, str]) -> Study:
        """Same study with other addresses of its sources.

        Parameters
        ----------
        urls : mapping of str to str
            Address of each source, by name.

        Returns
        -------
        Study
            Study with the changed addresses.

        Examples
        --------
        >>> import ultrum as ul
        >>> moved = ul.Study.load(ul.practice.demo_study()).with_sources_at({"college": "http://127.0.0.1:9/"})
        >>> moved.sources["college"].url
        'http://127.0.0.1:9/'
        """
        moved = {n: s.model_copy(update={"url": urls.get(n, s.url)}) for n, s in self.sources.items()}
        return self.model_copy(update={"sources": moved})


def _text_of(file: Path) -> str:
    try:
        body = read_regular(file, LARGEST + 1)
        if len(body) > LARGEST:
            raise StudyError(
                f"{file} has more than {LARGEST:,} bytes, which is too large for a study. Check the path."
            )
        return body.decode("utf-8")
    except OSError as error:
        raise StudyError(f"{file} cannot be read: {error.strerror}.") from error
    except UnicodeDecodeError:
        raise StudyError(f"{file} is not UTF-8 text.") from None


def _toml(text: str, name: str) -> dict[str, object]:
    try:
        return toml_of(text)
    except tomllib.TOMLDecodeError as error:
        raise StudyError(f"{name} is not TOML: {error}.") from error


def _with_ancestors(
    content: dict[str, object], name: str, folder: Path | None, anywhere: bool, depth: int = 0
) -> dict[str, object]:
    """The content of a study, merged over that of the studies it inherits from."""
    study = content.get("study")
    parent = study.get("inherits") if isinstance(study, dict) else None
    if not parent or not isinstance(parent, str):
        return content
    if folder is None:
        raise StudyError(
            f"{name} inherits from {parent}; load it from its file, so that the other study can be found."
        )
    file = inside(folder, parent, f"{name} inherits from", anywhere)
    if depth >= _DEEPEST:
        raise StudyError(f"{name} inherits through more than {_DEEPEST} studies. Check for a circular reference.")
    if not file.exists():
        raise StudyError(
            f"{name} inherits from {parent}, and there is no {file}. Put it next to the study, or remove "
            f'inherits = "{parent}" from [study].'
        )
    base = _with_ancestors(_toml(_text_of(file), file.name), file.name, folder, anywhere, depth + 1)
    merged = _merge(base, content)
    merged["study"] = {k: v for k, v in merged["study"].items() if k != "inherits"}  # it is in here now
    return merged


def _merge(base: dict[str, Any], content: dict[str, Any]) -> dict[str, Any]:
    """Merged tables; a value or list of the study itself replaces an inherited one."""
    merged = dict(base)
    for key, value in content.items():
        both = isinstance(value, dict) and isinstance(merged.get(key), dict)
        merged[key] = _merge(merged[key], value) if both else value
    return merged


def all_series(plan: Study) -> dict[str, Series]:
    """The study's series, including those of its sets."""
    members = {
        name: Series(address=address, steps=section.steps)
        for section in plan.sets.values()
        for name, address in section.series.items()
    }
    return {**plan.series, **members}
