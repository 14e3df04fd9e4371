"""Checks of results: thin trading, structural breaks, short samples, and the number of specifications."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Final

import pandas as pd

from ultrum.core.executors import each_block
from ultrum.core.presentation import decimals, p_equals, percent, quantity
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.structural_breaks import break_test, chow_tests
from ultrum.core.returns.price_adjustment_and_errors import zero_volume_share
from ultrum.core.time.frequency import Frequency
from ultrum.errors import EstimationError
from ultrum.sources.table.price_and_event_columns import PriceTable
from ultrum.study.schema import Study
from ultrum.study.stages import digest

UNTRADED_LIMIT: Final = 0.10
BREAK_LEVEL: Final = 0.01  # of the company asked about, whose test was wanted beforehand
FALSE_SHARE: Final = 0.05  # of the others that are warned of, expected to be warned of for nothing
SHORT_SAMPLE: Final = 60
_DRAWS: Final = 499
_MOST_DRAWS: Final = 9_999


@dataclass(frozen=True)
class StudyWarning:
    """A warning for the reader of a result: its subject and text."""

    subject: str
    text: str


def check_assets(plan: Study, prices: PriceTable, betas: BetaTable) -> pd.DataFrame:
    """Share of days without trading, and a mid-sample break test, for every asset."""
    volume = prices.volumes
    idle = pd.Series(dtype=float)
    if volume is not None:
        frequency = Frequency.parse(plan.study.frequency)
        ends = frequency.ordinals_of(betas.response.index[[0, -1]])  # the days that the panel spans
        start, end = str(frequency.starts(ends)[0]), str(frequency.ends(ends)[1])
        close = prices.prices.select(volume.names)
        idle = zero_volume_share(close.sample(start, end), volume.sample(start, end))
    breaks = chow_tests(betas.unadjusted or betas) if plan.tests.breaks == "chow" else _sup_f_tests(betas)
    table = breaks.set_axis(["break_f", "break_p", "break_note"], axis=1).rename_axis("asset")
    table.insert(0, "zero_volume_share", idle.reindex(table.index).astype(float))
    return table


def _sup_f_tests(betas: BetaTable) -> pd.DataFrame:
    """Tests for breaks at unknown dates; small p values are simulated again with more draws for the
    multiple-testing adjustment.
    """
    fine = min(_MOST_DRAWS, 40 * len(betas.assets))
    break_rows = each_block(partial(_sup_f_row, betas, fine), betas.assets)
    rows = dict(zip(betas.assets, break_rows, strict=True))
    return pd.DataFrame.from_dict(rows, orient="index", columns=["statistic", "p_value", "note"])


def _sup_f_row(betas: BetaTable, fine: int, asset: str) -> tuple[float, float, str]:
    """Statistic, p value and note of the test of one asset."""
    try:
        fit = betas.fit(asset)
        test = break_test(fit, how="sup-f", draws=_DRAWS)
        if test.p_value <= 2 / (_DRAWS + 1) and fine > _DRAWS:
            test = break_test(fit, how="sup-f", draws=fine)
    except EstimationError as error:
        return float("nan"), float("nan"), str(error)
    return test.statistic, test.p_value, test.note


def standing_out(p_values: pd.Series, share: float) -> pd.Series:
    """P values that are small among all of them: at most a share of the selected is expected to be false.

    The largest p of rank k, of n, with p ≤ k/n times the share, and all below it (Benjamini and Hochberg 1995).
    """
    ordered = p_values.dropna().sort_values()
    ranks = pd.Series(range(1, len(ordered) + 1), ordered.index)
    small = ordered[ordered <= share * ranks / max(len(ordered), 1)]
    return p_values <= (small.iloc[-1] if len(small) else -1.0)


def study_warnings(plan: Study, company: str, checks: pd.DataFrame, betas: BetaTable) -> list[StudyWarning]:
    """Warnings that follow from the checks."""
    warnings = []
    standing = standing_out(checks["break_p"], FALSE_SHARE)
    for asset, row in ((str(name), row) for name, row in checks.iterrows()):
        of_company = asset == company and row["break_p"] < BREAK_LEVEL
        if row["zero_volume_share"] > UNTRADED_LIMIT:
            share = f"{percent(row['zero_volume_share'], 1)} % of its days had no trade"
            warnings.append(StudyWarning(asset, f"{share}; its beta is likely too low."))
        if of_company or standing[asset]:
            p = p_equals(row["break_p"])
            if plan.tests.breaks == "chow":
                finding = f"differ {row['break_note']} (Chow test, F = {decimals(row['break_f'], 1)}, {p})"
            else:
                finding = f"change {row['break_note']} (sup F = {decimals(row['break_f'], 1)}, {p})"
            text = f"alpha and beta {finding}"
            warnings.append(
                StudyWarning(
                    asset,
                    f"{text}; a single beta for the whole sample is misleading. Use a shorter span or "
                    "rolling betas.",
                )
            )
        if betas.nobs[asset] < SHORT_SAMPLE:
            warnings.append(StudyWarning(asset, f"only {quantity(betas.nobs[asset], 'row')}."))
    return warnings


# How many specifications have been run on the same returns: a search makes its smallest p value less telling

_FOLDER: Final = "specifications"
_SIZE: Final = 24  # letters of a checksum that name a file
_NAME: Final = re.compile(rf"[0-9a-f]{{{_SIZE}}}")
_MOST: Final = 10_000  # taken over from a bundle
_LEVEL: Final = 0.05  # of each test


def specification_of(plan: Study) -> str:
    """Checksum of every setting that an estimate depends on.

    Titles, the report, the addresses of sources and a restriction to a few assets do not matter.
    """
    settings = plan.model_dump(mode="json", exclude_defaults=True, exclude={"sources", "report"})
    for section, words in (("study", ("title", "question", "asset")), ("panel", ("only",))):
        settings[section] = {k: v for k, v in settings[section].items() if k not in words}
    return digest(_in_any_order(settings))[:_SIZE]


def _in_any_order(settings: object) -> object:
    """Settings whose lists of names are unordered; steps are lists of tables and keep their order."""
    if isinstance(settings, dict):
        return {key: _in_any_order(value) for key, value in settings.items()}
    if not isinstance(settings, list):
        return settings
    names = all(isinstance(value, str) for value in settings)
    return sorted(settings) if names else [_in_any_order(value) for value in settings]


def specifications_run(vault: Path, plan: Study, company: str) -> tuple[str, ...]:
    """Record a study's specification next to the vault; returns all specifications with the same returns.

    Parameters
    ----------
    vault : Path
        Folder of the vault.
    plan : Study
        Study that is run.
    company : str
        Asset of the study.

    Returns
    -------
    tuple of str
        Checksums of the distinct specifications with this asset and these prices, including this one.
    """
    specification = specification_of(plan)
    add_specifications(vault, plan.price_addresses, company, [specification])
    start = f"{_returns_of(plan.price_addresses, company)}-"
    try:
        files = [file.name.removeprefix(start) for file in (vault / _FOLDER).glob(f"{start}*")]
        noted = set(filter(_NAME.fullmatch, files))
    except OSError:
        noted = set()
    return tuple(sorted({specification, *noted}))


def add_specifications(vault: Path, prices: Sequence[str], company: str, names: Iterable[str]) -> None:
    """Record specifications, such as those of a bundle. Each is an empty file, so simultaneous runs do not
    conflict.
    """
    folder, start = vault / _FOLDER, _returns_of(prices, company)
    valid = [name for name in names if _NAME.fullmatch(name)][:_MOST]
    try:
        folder.mkdir(parents=True, exist_ok=True)
        for name in valid:
            (folder / f"{start}-{name}").touch()
    except OSError:  # a vault that cannot be written counts what it has and this run
        return


def search_in_words(specifications: Sequence[str], company: str) -> str:
    """Number of specifications on these returns, and its effect on a p value.

    Examples
    --------
    >>> print(search_in_words(["a", "b", "c"], "BRTW")[:80])
    The returns of BRTW have been estimated under 3 specifications with this vault,
    """
    count = len(specifications)
    if count < 2:
        first = f"This is the first specification estimated on the returns of {company} with this vault."
        return first if count else ""
    chance = percent(1.0 - (1.0 - _LEVEL) ** count, 0)
    return (
        f"The returns of {company} have been estimated under {count} specifications with this vault, "
        "including this one: each differs in sample, factors, models, tests or premia. A p value holds for one "
        f"specification chosen beforehand; the smallest of {count} independent ones is below 5 % by chance "
        f"{chance} % of the time."
    )


def _returns_of(prices: Sequence[str], company: str) -> str:
    """Checksum that identifies the returns: asset and addresses of its prices."""
    return digest([company, sorted(prices)])[:_SIZE]
