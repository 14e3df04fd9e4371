"""A study file to begin with, commented, on sources that answer at once."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path
from typing import Final

from ultrum.errors import StudyError
from ultrum.study.schema import Study

_TEXT: Final = """# {title}
# Every key is explained in docs/study.md; what is not said takes its default.

[study]
title = {title_text}
frequency = {frequency_text}         # of the panel: "M", "Q", "W"
currency = "QML"                     # prices in others are converted to it
span = ["earliest", "latest"]        # or ["2010-01", "2023-12"]

[sources.observatory]                # statistics, over SDMX
kind = "sdmx"
url = "http://127.0.0.1:8765/sdmx"   # the practice world: run `ultrum practice` beside it

[sources.exchange]                   # files: prices, dividends, splits
kind = "table"
url = "http://127.0.0.1:8765/exchange/"

[sources.college]                    # factor returns
kind = "table"
url = "http://127.0.0.1:8765/college/"

[panel]
assets = "exchange:prices.csv"
companies = "exchange:companies.csv"
dividends = "exchange:dividends.csv"
splits = "exchange:splits.csv"
final_payments = "exchange:final_payments.csv"
exchange_rates = ["observatory:FX/B.QSR.QML"]
factors = "college:factors_monthly.zip"
risk_free = "college:factors_monthly.zip#bill"

[[models]]                           # as many as you like, each with a name
name = "first"
factors = {factors_text}

[cost_of_equity]
company = {company_text}
model = "first"
# premium = {{ market = 0.055 }}       # by default the mean of each factor's history

[report]
figures = ["build-up", "line of fit", "betas"]
export = ["csv", "xlsx"]
"""


def begin(
    path: str | os.PathLike[str],
    company: str,
    factors: Sequence[str],
    frequency: str = "M",
    title: str = "",
) -> Path:
    """Write a study file that is valid as it stands.

    Raises
    ------
    StudyError
        If the file is there already, or what is asked for is no valid study.

    Examples
    --------
    >>> import tempfile
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     Study.load(begin(Path(folder, "mine.toml"), "EBMK", ["market", "value"])).models[0].factors
    ['market', 'value']
    """
    target = Path(path)
    if target.exists():
        raise StudyError(f"{target} is there already; choose another name.")
    name = title or f"Cost of equity of {company}"
    text = _TEXT.format(
        title=" ".join(name.split()), title_text=_quoted(name), frequency_text=_quoted(frequency),
        factors_text="[" + ", ".join(map(_quoted, factors)) + "]", company_text=_quoted(company),
    )  # fmt: skip
    Study.parse(text, target.name)
    try:
        target.write_text(text, encoding="utf-8")
    except OSError as error:
        raise StudyError(f"{target} cannot be written: {error.strerror}.") from None
    return target


def _quoted(text: str) -> str:
    """A TOML string."""
    escaped = text.replace("\\", "\\\\").replace('"', '\\"')
    return '"' + "".join(c if c.isprintable() else " " for c in escaped) + '"'
