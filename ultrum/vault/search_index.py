"""The search index: the catalogues of all sources, searched without a download."""

from __future__ import annotations

import difflib
import json
import os
import re
import sqlite3
import threading
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Final

from ultrum.errors import VaultError, one_of, reason

_SCHEMA: Final = """
CREATE TABLE IF NOT EXISTS listings (
    id INTEGER PRIMARY KEY, source TEXT, address TEXT, title TEXT, frequency TEXT, flow TEXT,
    topic TEXT, region TEXT, measure TEXT, currency TEXT, facts TEXT);
CREATE INDEX IF NOT EXISTS by_source ON listings (source);
CREATE VIRTUAL TABLE IF NOT EXISTS words USING fts5 (
    title, rest, content='', tokenize='unicode61 remove_diacritics 2', prefix='1 2 3');
CREATE VIRTUAL TABLE IF NOT EXISTS vocabulary USING fts5vocab (words, 'row');
CREATE TABLE IF NOT EXISTS refreshed (source TEXT PRIMARY KEY, at TEXT);
"""
FILTERS: Final = ("source", "region", "topic", "frequency", "measure", "currency")
_FIELDS: Final = (
    "source",
    "address",
    "title",
    "frequency",
    "flow",
    "topic",
    "region",
    "measure",
    "currency",
    "facts",
)
_COLUMNS: Final = ", ".join(f"l.{name}" for name in _FIELDS)
Filters = Mapping[str, str | Sequence[str]]
_WORD: Final = re.compile(r"\w+")
_SCORE: Final = "2 * (instr(' ' || lower(l.title), ?) > 0) + (instr(' ' || lower(l.flow), ?) > 0)"
Synonyms = Mapping[str, Sequence[str]]
_MOST_TERMS: Final = 24  # that count in the order of what is found
_MOST_RANKED: Final = 1500  # a search that finds more is ranked among the first of them


@dataclass(frozen=True)
class Entry:
    """One listing: an address and its description, known without fetching it."""

    source: str
    address: str
    title: str
    frequency: str = ""
    flow: str = ""
    topic: str = ""
    region: str = ""
    measure: str = ""
    currency: str = ""
    facts: Mapping[str, str] = field(default_factory=dict)


def _address(file: Path) -> str:
    """Mode of opening the file: read-only where the folder requires it, in memory if it does not exist."""
    if not file.parent.is_dir() or os.access(file.parent, os.W_OK):
        file.parent.mkdir(parents=True, exist_ok=True)
        return file.absolute().as_uri()
    return f"{file.absolute().as_uri()}?mode=ro&immutable=1" if file.exists() else "file::memory:"


class Listings:
    """Searchable listings of every source.

    Examples
    --------
    >>> listings = Listings(":memory:")
    >>> listings.replace("observatory", [Entry("observatory", "observatory:PRICES/M.QM.CPI",
    ...                                        "Consumer prices, Miravel")], "2025-01-06")
    >>> listings.search("consumr miravel")[0].address
    'observatory:PRICES/M.QM.CPI'
    """

    def __init__(self, file: str | os.PathLike[str]) -> None:
        self._lock = threading.RLock()
        self._file = file
        try:
            where = _address(Path(file)) if str(file) != ":memory:" else "file::memory:"
            self._connection = sqlite3.connect(where, timeout=60.0, check_same_thread=False, uri=True)
            if "immutable" not in where:
                self._connection.execute("PRAGMA journal_mode=WAL")
                self._connection.executescript(_SCHEMA)
        except (OSError, sqlite3.Error) as error:
            raise VaultError(f"The listings {file} cannot be used: {reason(error)}.") from error

    def close(self) -> None:
        """Let go of the file."""
        self._connection.close()

    def last_refresh(self, source: str) -> str:
        """Instant at which a source's listings were last downloaded; empty if never."""
        row = self._connection.execute("SELECT at FROM refreshed WHERE source = ?", (source,)).fetchone()
        return str(row[0]) if row else ""

    def replace(self, source: str, entries: Iterable[Entry], at: str) -> None:
        """Replace a source's listings atomically."""
        with self._lock, self._connection as catalogue:
            catalogue.execute("BEGIN IMMEDIATE")  # before other processes' listings are read
            others = catalogue.execute(
                "SELECT * FROM listings WHERE source <> ? ORDER BY id", (source,)
            ).fetchall()
            catalogue.execute("DELETE FROM listings")
            catalogue.execute("INSERT INTO words (words) VALUES ('delete-all')")
            rows = [tuple(row[1:]) for row in others] + [_row(e) for e in entries]
            catalogue.executemany(
                "INSERT INTO listings (source, address, title, frequency, flow, topic, region, measure, "
                "currency, facts) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                rows,
            )
            catalogue.execute(
                "INSERT INTO words (rowid, title, rest) SELECT id, title, address || ' ' || frequency || ' ' "
                "|| flow || ' ' || topic || ' ' || region || ' ' || measure || ' ' || currency || ' ' || facts "
                "FROM listings"
            )
            catalogue.execute("INSERT OR REPLACE INTO refreshed VALUES (?, ?)", (source, at))

    def search(
        self, words: str = "", limit: int = 200, synonyms: Synonyms | None = None, **filters: str | Sequence[str]
    ) -> list[Entry]:
        """Listings with every word; matches in the title come first.

        Parameters
        ----------
        words : str
            Words or prefixes of words, in any order.
        limit : int
            Most listings given.
        synonyms : mapping of str to sequence of str, optional
            Synonymous phrases of a word or phrase.
        **filters
            ``source region topic frequency measure currency``: a word that must occur, or several of which one
            must.
        """
        groups = self._groups(words, synonyms or {})
        if not all(groups):
            return []
        conditions, values = _conditions(filters)
        query = " AND ".join(_either(group) for group in groups)
        terms = list(dict.fromkeys(t for group in groups for phrase in group for t in phrase))[:_MOST_TERMS]
        if query:
            most = "" if conditions else f" LIMIT {_MOST_RANKED}"
            where = (
                f"FROM (SELECT rowid AS id FROM words WHERE words MATCH ?{most}) w "  # noqa: S608
                "JOIN listings l ON l.id = w.id WHERE 1"
            )
            score = " + ".join([_SCORE] * len(terms))
            order = f"ORDER BY {score} DESC, l.id LIMIT ?"
            values = [query, *values, *[f" {t}" for t in terms for _ in range(2)]]
        else:
            where, order = "FROM listings l WHERE 1", "ORDER BY l.id LIMIT ?"
        rows = self._query(f"SELECT {_COLUMNS} {where} {conditions} {order}", [*values, limit])
        return [Entry(**dict(zip(_FIELDS, row, strict=True)) | {"facts": json.loads(row[9])}) for row in rows]

    def count(self) -> int:
        """Number of listings."""
        return int(self._query("SELECT count(*) FROM listings", [])[0][0])

    def groups(self, by: str, **filters: str | Sequence[str]) -> list[tuple[str, int]]:
        """Values of a column with the number of listings of each, most frequent first."""
        conditions, values = _conditions(filters)
        sql = f"SELECT l.{by}, count(*) FROM listings l WHERE 1 {conditions} GROUP BY 1 ORDER BY 2 DESC, 1"  # noqa: S608
        return [(str(name), int(count)) for name, count in self._query(sql, values)]

    def without_listing(self, words: str, synonyms: Synonyms | None = None) -> list[str]:
        """Words of a search without a listing, under any synonym."""
        phrases = _phrases(words, synonyms or {})
        return [p for p in phrases if not self._alternatives(p, synonyms or {})]

    def _groups(self, words: str, synonyms: Synonyms) -> list[list[list[str]]]:
        """For each word or phrase of a search its alternatives, each a list of indexed words."""
        return [self._alternatives(p, synonyms) for p in _phrases(words, synonyms)]

    def _alternatives(self, phrase: str, synonyms: Synonyms) -> list[list[str]]:
        """The indexed words of a phrase, and those of its synonyms."""
        listed = [self._nearest_word(w) for w in _WORD.findall(phrase)]
        others = [
            words_found
            for text in synonyms.get(phrase, ())
            if all(words_found := [w if self._begins(w) else "" for w in _WORD.findall(text)])
        ]
        return [[w for w in listed if w], *others] if all(listed) else others

    def _begins(self, word: str) -> bool:
        """Whether a word of some listing has this prefix."""
        return bool(
            self._query("SELECT 1 FROM vocabulary WHERE term >= ? AND term < ? LIMIT 1", [word, word + "\uffff"])
        )

    def _nearest_word(self, word: str) -> str | None:
        """The word itself if it is an indexed prefix, otherwise the most similar word; None if there is none."""
        if self._begins(word):
            return word
        if len(word) < 4:
            return None
        like = self._query(
            "SELECT term FROM vocabulary WHERE term >= ? AND term < ? AND length(term) BETWEEN ? AND ?",
            [word[0], word[0] + "\uffff", len(word) - 2, len(word) + 2],
        )
        near = difflib.get_close_matches(word, [str(r[0]) for r in like], 1, 0.72)
        return near[0] if near else None

    def _query(self, query: str, values: Sequence[object]) -> list[tuple[str, ...]]:
        with self._lock:
            try:
                return self._connection.execute(query, list(values)).fetchall()
            except sqlite3.Error as error:
                raise VaultError(f"The listings {self._file} cannot be searched: {error}.") from error


def _phrases(words: str, synonyms: Synonyms) -> list[str]:
    """Words of a search; those that together have synonyms form one phrase."""
    words_left, phrases = _WORD.findall(words.lower()), []
    while words_left:
        length = next((n for n in (3, 2) if " ".join(words_left[:n]) in synonyms and len(words_left) >= n), 1)
        phrases.append(" ".join(words_left[:length]))
        words_left = words_left[length:]
    return phrases


def _either(group: Sequence[Sequence[str]]) -> str:
    """Condition of the full-text index: every word of one of several phrases, by prefix."""
    phrases = [" AND ".join(f'"{word}"*' for word in phrase) for phrase in group]
    return "(" + " OR ".join(f"({p})" for p in phrases) + ")"


def _row(entry: Entry) -> tuple[str, ...]:
    return (
        entry.source,
        entry.address,
        entry.title,
        entry.frequency,
        entry.flow,
        entry.topic,
        entry.region,
        entry.measure,
        entry.currency,
        json.dumps(dict(entry.facts), ensure_ascii=False),
    )


def _conditions(filters: Filters) -> tuple[str, list[str]]:
    """SQL conditions of the given filters; a column must contain one of a filter's values."""
    unknown = [k for k in filters if k not in FILTERS]
    if unknown:
        raise VaultError(f"'{unknown[0]}' is not a filter; {one_of(unknown[0], FILTERS)}")
    parts, values = [], []
    for name, value in filters.items():
        words = [value] if isinstance(value, str) else list(value)
        if any(words):
            either = " OR ".join([f"instr(lower(l.{name}), lower(?)) > 0"] * len(words))
            parts.append(f"AND ({either})")
            values += words
    return " ".join(parts), values
