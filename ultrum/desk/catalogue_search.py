"""Catalogue search: listings of sources, and the hierarchy of their topics."""

from __future__ import annotations

import functools
import itertools
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from importlib.resources import files
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final

import pandas as pd

from ultrum.desk.repository import Repository
from ultrum.errors import SourceError, one_of
from ultrum.file_access import toml_of
from ultrum.sources.sdmx.csv_and_json_data import measure_of_unit, unit_of_facts
from ultrum.vault.search_index import Entry, Listings

if TYPE_CHECKING:
    from ultrum.sources.sdmx.client import Listing

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


# Catalogue search: listings of sources, and the hierarchy of their topics

BELOW: Final = " > "
WAYS: Final = ("topic", "region", "source")
_MOST: Final = 1_000_000
_MOST_FILES: Final = 20_000  # of a folder


def entries_of(repository: Repository, name: str) -> list[Entry]:
    """All listings of a source."""
    settings = repository.downloads.sources[name]
    if settings.kind == "sdmx":
        return list(_statistics(repository, name))
    entries = list(_from_table(repository, name)) if settings.catalogue else []
    entries += [
        Entry(name, f"{name}:{key}", s.title or s.figure, flow=s.path, topic="present values")
        for key, s in settings.snapshots.items()
    ]
    entries += [Entry(name, f"{name}:{key}", key, flow="query") for key in settings.queries]
    paths = {r.path for r in repository.downloads.vault.records() if r.source == name} | set(settings.tables)
    if settings.is_local:
        paths |= _files_in(Path(settings.url))
    entries += [Entry(name, f"{name}:{path}", path, flow="table") for path in sorted(paths)]
    return entries


def _files_in(folder: Path) -> set[str]:
    """Paths of the files of a local source, without hidden ones."""
    files = itertools.islice(folder.rglob("*"), _MOST_FILES)
    return {
        f.relative_to(folder).as_posix()
        for f in files
        if f.is_file() and not any(p.startswith(".") for p in f.relative_to(folder).parts)
    }


def _statistics(repository: Repository, name: str) -> Iterator[Entry]:
    """Series of a statistics service with their topics."""
    service = repository.service(name)
    topics = {flow: BELOW.join(c.path[1:] or c.path) for c in service.categories() for flow in c.flows}
    for listing in service.listings():
        flow = listing.address.partition(":")[2].partition("/")[0]
        yield _entry(name, listing, topics.get(flow, ""))


def _entry(name: str, listing: Listing, topic: str) -> Entry:
    facts = listing.facts
    region = next((facts[k] for k in ("REF_AREA", "GEO", "AREA", "COUNTRY", "LOCATION") if k in facts), "")
    pair = "/".join(facts[k] for k in ("BASE_CURRENCY", "QUOTE_CURRENCY") if k in facts)
    unit_facts = measure_of_unit(unit_of_facts(facts), listing.unit_name, "")
    currency = pair or unit_facts.get("currency", "")
    measure = "quote" if pair else unit_facts.get("measure", "")
    words = {str(i): label for i, label in enumerate(listing.labels)}
    return Entry(
        name,
        listing.address,
        listing.title,
        listing.frequency,
        listing.flow,
        topic,
        region,
        measure,
        currency,
        words,
    )


def _from_table(repository: Repository, name: str) -> Iterator[Entry]:
    """Listings from a catalogue table of a source, one per row."""
    settings = repository.downloads.sources[name].catalogue
    if not {"path", "address"} <= set(settings):
        raise SourceError(f"Source '{name}': catalogue needs path and address.")
    records = repository.table(f"{name}:{settings['path']}", records_only=True).records
    for row in records.to_dict("records"):
        facts = {str(k): str(v) for k, v in row.items()}
        try:
            address = settings["address"].format(**facts)
        except (KeyError, IndexError) as error:
            raise SourceError(
                f"Source '{name}': catalogue.address uses a column {error} that does not exist."
            ) from error
        title = ", ".join(facts[k] for k in ("name", "title", "asset", "market", "currency") if facts.get(k))
        yield Entry(
            name,
            f"{name}:{address}",
            title,
            settings.get("frequency", ""),
            settings["path"],
            facts.get("industry", ""),
            facts.get("region", ""),
            settings.get("measure", ""),
            facts.get("currency", ""),
            facts,
        )


def widen_groups(groups: Mapping[str, Sequence[str]], filters: Mapping[str, object]) -> dict[str, Any]:
    """Filters, with the name of a group of regions replaced by its codes."""
    group_codes = {name.lower().replace("_", " "): list(codes) for name, codes in groups.items()}
    region = str(filters.get("region", "")).lower().replace("_", " ")
    return {**filters, "region": group_codes[region]} if region in group_codes else dict(filters)


def why_nothing(
    listings: Listings, words: str, synonyms: Synonyms, filters: Mapping[str, object], sources: Sequence[str]
) -> str:
    """Why a search has no results: unmatched words, or filters that exclude everything."""
    named = ", ".join(sources) or "none"
    if not listings.count():
        return (
            f"No catalogue of these sources is stored: ({named}). Run 'ultrum find --refresh', or "
            "desk.search(refresh=True)."
        )
    unknown = listings.without_listing(words, synonyms)
    if unknown:
        listed = ", ".join(f"'{w}'" for w in unknown)
        return f"No listing of {named} contains {listed} or a synonym. Remove it, or use another word."
    if filters and listings.search(words, 1, synonyms):
        listed = ", ".join(f"{k} = {v}" for k, v in filters.items())
        return f"Listings contain '{words}', but none of them matches {listed}. Use fewer filters."
    return f"No listing contains all words of '{words}', though each word occurs in one. Use fewer words."


def browse(listings: Listings, path: Sequence[str], by: str, filters: Mapping[str, Any]) -> pd.DataFrame:
    """One level of the catalogue below a path."""
    if by not in WAYS:
        raise SourceError(f"hierarchy='{by}' is not known; {one_of(by, WAYS)}")
    entries = [e for e in listings.search("", _MOST, **filters) if _is_below(_levels(e, by), path)]
    if path and not entries:
        raise SourceError(f"Nothing is below {BELOW.join(path)}; start at the top with browse().")
    at = len(path)
    if entries and all(len(_levels(e, by)) == at for e in entries):
        listed = [(e.address, e.title, e.frequency) for e in entries]
        return pd.DataFrame(listed, columns=["address", "title", "frequency"])
    counts = Counter(_levels(e, by)[at] for e in entries if len(_levels(e, by)) > at)
    kinds = {
        _levels(e, by)[at]: "flow" if len(_levels(e, by)) == at + 1 else by
        for e in entries
        if len(_levels(e, by)) > at
    }
    rows = [(name, kinds[name], count) for name, count in counts.items()]
    return pd.DataFrame(rows, columns=["name", "kind", "series"])


def _levels(entry: Entry, by: str) -> tuple[str, ...]:
    """Names from the top level down to the dataflow of a listing."""
    if by == "topic":
        return (*(entry.topic.split(BELOW) if entry.topic else ("other",)), entry.flow or entry.source)
    return (getattr(entry, by) or "other", entry.flow or entry.source)


def _is_below(levels: Sequence[str], path: Sequence[str]) -> bool:
    return len(levels) >= len(path) and all(a.lower() == b.lower() for a, b in zip(path, levels, strict=False))
