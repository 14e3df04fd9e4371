"""Labels of periods and spans in the text of results."""

from __future__ import annotations

from typing import Any

import pandas as pd

from ultrum.core.time.frequency_inference import _half_years


def span_of(index: pd.Index) -> str:
    """First to last, for people: ``2004-01 to 2024-12``."""
    if not len(index):
        return "empty"
    return f"{period_label(index[0])} to {period_label(index[-1])}"


def period_label(moment: Any) -> str:
    """SDMX name of a period or date; a dash for none."""
    if moment is None:
        return "—"
    if isinstance(moment, pd.Period):
        text = str(moment)
        if moment.freqstr == "6M":
            anchor = _half_years(pd.PeriodIndex([moment]))
            return anchor.labels(anchor.ordinals_of(pd.PeriodIndex([moment])))[0]
        if moment.freqstr.startswith("W"):
            end = moment.end_time
            year, week, _ = (end - pd.Timedelta(days=end.weekday() - 3)).isocalendar()
            return f"{year}-W{week:02d}"
        return f"{text[:4]}-{text[4:]}" if "Q" in text else text
    return str(moment)[:10]
