"""Synonyms for searches, from a data file that settings extend."""

from __future__ import annotations

import functools
from collections.abc import Mapping
from importlib.resources import files

from ultrum.errors import SourceError
from ultrum.file_access import toml_of

Synonyms = Mapping[str, tuple[str, ...]]


@functools.cache
def _default_synonyms() -> Synonyms:
    text = files("ultrum.desk").joinpath("synonyms.toml").read_text(encoding="utf-8")
    return _check_synonyms(toml_of(text), "synonyms.toml")


def synonyms_with(added: object) -> Synonyms:
    """The built-in synonyms and those of the settings; a word in the settings replaces the built-in one.

    Parameters
    ----------
    added : mapping of str to list of str
        Phrases for each word or phrase, such as ``{"dole": ["unemployment benefit"]}``.

    Raises
    ------
    SourceError
        If it is of another form.
    """
    return {**_default_synonyms(), **_check_synonyms(added, "the settings")}


def _check_synonyms(given: object, where: str) -> Synonyms:
    if not isinstance(given, Mapping) or not all(
        isinstance(phrases, list) and all(isinstance(p, str) for p in phrases) for phrases in given.values()
    ):
        raise SourceError(f'[synonyms] of {where}: write word = ["phrase", "phrase"] on each line.')
    return {str(word).lower(): tuple(p.lower() for p in phrases) for word, phrases in given.items()}
