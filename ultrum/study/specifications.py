"""How many specifications have been run on the same returns: a search makes its smallest p value less telling."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Any, Final

from ultrum.core.displayed_numbers import percent
from ultrum.study.schema import Study
from ultrum.study.stages import digest

_FOLDER: Final = "specifications"
_SIZE: Final = 24  # letters of a checksum that name a file
_NAME: Final = re.compile(rf"[0-9a-f]{{{_SIZE}}}")
_MOST: Final = 10_000  # taken over from a bundle
_LEVEL: Final = 0.05  # of each test


def specification_of(plan: Study) -> str:
    """Checksum of every setting that an estimate depends on.

    Titles, the report and the addresses of sources have no part in it, nor has a restriction to a few assets.
    """
    settings = plan.model_dump(mode="json", exclude_defaults=True, exclude={"sources", "report"})
    for section, words in (("study", ("title", "question", "asset")), ("panel", ("only",))):
        settings[section] = {k: v for k, v in settings[section].items() if k not in words}
    return digest(_in_any_order(settings))[:_SIZE]


def _in_any_order(settings: Any) -> Any:
    """Settings whose lists of names do not depend on their order; steps are lists of tables and keep it."""
    if isinstance(settings, dict):
        return {key: _in_any_order(value) for key, value in settings.items()}
    if not isinstance(settings, list):
        return settings
    names = all(isinstance(value, str) for value in settings)
    return sorted(settings) if names else [_in_any_order(value) for value in settings]


def specifications_run(vault: Path, plan: Study, company: str) -> tuple[str, ...]:
    """Note a study's specification beside the vault; all that were run on the same returns.

    Parameters
    ----------
    vault : Path
        Folder of the vault.
    plan : Study
        Study that is run.
    company : str
        Asset that the study asks about.

    Returns
    -------
    tuple of str
        Checksums of the distinct specifications with this asset and these prices, this one included.
    """
    own = specification_of(plan)
    add_specifications(vault, plan.price_addresses, company, [own])
    start = f"{_returns_of(plan.price_addresses, company)}-"
    try:
        files = [file.name.removeprefix(start) for file in (vault / _FOLDER).glob(f"{start}*")]
        noted = set(filter(_NAME.fullmatch, files))
    except OSError:
        noted = set()
    return tuple(sorted({own, *noted}))


def add_specifications(vault: Path, prices: Sequence[str], company: str, names: Iterable[str]) -> None:
    """Note specifications, such as those of a bundle. Each is an empty file, so that runs at once lose none."""
    folder, start = vault / _FOLDER, _returns_of(prices, company)
    known = [name for name in names if _NAME.fullmatch(name)][:_MOST]
    try:
        folder.mkdir(parents=True, exist_ok=True)
        for name in known:
            (folder / f"{start}-{name}").touch()
    except OSError:  # a vault that cannot be written counts what it has and this run
        return


def search_in_words(specifications: Sequence[str], company: str) -> str:
    """How often these returns have been used, and what that does to a p value.

    Examples
    --------
    >>> print(search_in_words(["a", "b", "c"], "BRTW")[:73])
    The returns of BRTW have been run with 3 specifications in this vault, th
    """
    count = len(specifications)
    if count < 2:
        first = f"This is the first specification that the returns of {company} have been run with in this vault."
        return first if count else ""
    chance = percent(1.0 - (1.0 - _LEVEL) ** count, 0)
    return (
        f"The returns of {company} have been run with {count} specifications in this vault, this one "
        "included: each differs in sample, factors, models, tests or premia. A p value holds for one "
        f"specification chosen beforehand; the smallest of {count} independent ones is below 5 % by chance "
        f"{chance} % of the time."
    )


def _returns_of(prices: Sequence[str], company: str) -> str:
    """Checksum of what names the returns: asset and addresses of its prices."""
    return digest([company, sorted(prices)])[:_SIZE]
