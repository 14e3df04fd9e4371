"""Choices of the ``look`` command, and which of them have no meaning together."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import click

from ultrum.cli.local_files import LocalFiles
from ultrum.cli.pictures import PictureStyle


@dataclass(frozen=True)
class LookChoices:
    """What is to be done with the series."""

    rows: int
    picture: Path | None
    csv_file: Path | None
    span: tuple[str, str, str]
    steps: list[dict[str, Any]]
    spells: str
    as_json: bool
    page: Path | None
    style: PictureStyle


def refuse_together(
    returns_of: str, revised: bool, figure: str | None, picture: Path | None, asked: LookChoices,
    beside: Sequence[str],
) -> None:  # fmt: skip
    """Refuse options that have no meaning together, before anything is done."""
    if figure and not (returns_of and picture):
        raise click.UsageError("--figure needs --returns and --picture.")
    both = {
        "--page": asked.page, "--frequency": asked.span[2], "--step": asked.steps, "--spells": asked.spells,
        "--beside": beside,
    }  # fmt: skip
    kept = {
        "--start": asked.span[0],
        "--end": asked.span[1],
        "--csv": asked.csv_file,
        "--picture": picture,
        "--page": asked.page,
    }
    for option, chosen, idle in (
        ("--returns", returns_of, both),
        ("--revised", revised, {**both, **kept}),
    ):
        named = [name for name, value in idle.items() if value]
        if chosen and named:
            raise click.UsageError(f"{named[0]} cannot be used with {option}.")
    if returns_of and revised:
        raise click.UsageError("--returns cannot be used with --revised.")


def refuse_for_files(files: LocalFiles, vault: Path | None, where: dict[str, Any], revised: bool) -> None:
    """A local file that is only looked at is not kept; options about what is kept need a vault."""
    kept = {"--revised": revised, "--at": where.get("at"), "--offline": where.get("offline")}
    named = [name for name, value in kept.items() if value]
    if files and vault is None and named:
        raise click.UsageError(f"{named[0]} needs --vault for a local file; pull keeps files in a vault.")
