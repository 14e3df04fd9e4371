"""What a reader of a result must know: thin trading, breaks, short samples."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import pandas as pd

from ultrum.core.frequency import Frequency
from ultrum.core.labels import p_equals
from ultrum.core.prices import untraded_share
from ultrum.core.regression.results import BetaTable
from ultrum.core.regression.stability import break_test
from ultrum.errors import EstimationError
from ultrum.sources.table import Reading
from ultrum.study.schema import Study

UNTRADED_LIMIT: Final = 0.10
BREAK_LEVEL: Final = 0.01
SHORT_SAMPLE: Final = 60


@dataclass(frozen=True)
class Caution:
    """Something a reader of the result must know: about whom, and what."""

    subject: str
    text: str


def check_assets(plan: Study, prices: Reading, betas: BetaTable) -> pd.DataFrame:
    """Untraded share of days and a break at mid-sample, for every asset."""
    close = prices.fields[plan.panel.price_column]
    volume = prices.fields.get(plan.panel.volume_column)
    idle = pd.Series(dtype=float)
    if volume is not None:
        frequency = Frequency.parse(plan.study.frequency)
        ends = frequency.ordinals_of(betas.response.index[[0, -1]])  # the days that the panel spans
        start, end = str(frequency.starts(ends)[0]), str(frequency.ends(ends)[1])
        idle = untraded_share(close.sample(start, end), volume.sample(start, end))
    rows = {}
    for asset in betas.assets:
        try:
            test = break_test(betas.fit(asset), how=plan.tests.breaks, draws=499)
            broken: tuple[float, float, str] = (test.statistic, test.p_value, test.note)
        except EstimationError as error:
            broken = (float("nan"), float("nan"), str(error))
        rows[asset] = (float(idle.get(asset, float("nan"))), *broken)
    columns = ["untraded_share", "break_f", "break_p", "break_note"]
    return pd.DataFrame.from_dict(rows, orient="index", columns=columns).rename_axis("asset")


def check_cautions(plan: Study, checks: pd.DataFrame, betas: BetaTable) -> list[Caution]:
    """What the checks say that a reader must know."""
    found = []
    for asset, row in ((str(name), row) for name, row in checks.iterrows()):
        if row["untraded_share"] > UNTRADED_LIMIT:
            share = f"{100 * row['untraded_share']:.1f} % of its days saw no trade"
            found.append(Caution(asset, f"{share}; its beta is likely too low."))
        if row["break_p"] < BREAK_LEVEL:
            p = p_equals(row["break_p"])
            if plan.tests.breaks == "chow":
                said = f"differ {row['break_note']} (Chow test, F = {row['break_f']:.1f}, {p})"
            else:
                said = f"change {row['break_note']} (largest F = {row['break_f']:.1f}, {p})"
            text = f"alpha and beta {said}"
            found.append(Caution(asset, f"{text}; one beta for the whole sample misleads."))
        if betas.nobs[asset] < SHORT_SAMPLE:
            found.append(Caution(asset, f"only {betas.nobs[asset]} rows."))
    return found
