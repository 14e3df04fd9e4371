"""A commented study file to begin with."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path
from typing import Final

from ultrum.errors import StudyError
from ultrum.file_access import path_of
from ultrum.study.schema import Study

_TEXT: Final = """# {title}
# Every key is explained in docs/study.md; every other key has its default.

[study]
title = {title_text}
frequency = {frequency_text}         # of the panel: "M", "Q", "W"
{currency}
span = ["earliest", "latest"]        # or ["2010-01", "2023-12"]

{places}[[models]]                           # as many as you like, each with a name
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


_PRACTICE: Final = """[sources.observatory]                # statistics, over SDMX
kind = "sdmx"
url = "http://127.0.0.1:8765/sdmx"   # the practice world: run `ultrum practice` next to it

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

"""
_CURRENCY: Final = {
    False: 'currency = "QML"                     # prices in others are converted to it',
    True: '# currency = "..."                   # of the prices, by its three letters',
}
_OWN: Final = """[sources.here]                       # files of this folder; look at one with: ultrum look FILE
kind = "table"
url = "."

# The reader reports its decisions; where one is wrong, set it:
# [sources.here.tables."prices.csv"]
# dates = "15/03/2024"

[panel]
assets = {prices_text}               # a column for each company, or a row for each company and day
# dividends = "here:dividends.csv"   # columns asset, date, amount; without it returns leave income out
factors = {table_text}
risk_free = {bill_text}

"""


def begin(
    path: str | os.PathLike[str],
    company: str,
    factors: Sequence[str],
    frequency: str = "M",
    title: str = "",
    prices: str = "",
    factor_table: str = "",
    bill: str = "bill",
) -> Path:
    """Write a study file that is valid as it stands.

    Parameters
    ----------
    path : path
    company, factors, frequency, title
        The text of the study.
    prices, factor_table : str, optional
        Files of your own, next to the study; without them it uses the practice world.
    bill : str
        Column of the factor table that holds the risk-free return.

    Raises
    ------
    StudyError
        If the file is there already, or what is asked for is not a valid study.

    Examples
    --------
    >>> import tempfile
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     Study.load(begin(Path(folder, "mine.toml"), "EBMK", ["market", "value"])).models[0].factors
    ['market', 'value']
    """
    target = path_of(path)
    if target.exists():
        raise StudyError(f"{target} is there already; choose another name.")
    name = title or f"Cost of equity of {company}"
    if bool(prices) != bool(factor_table):
        raise StudyError("A study on files of your own needs both: prices and a table of factors.")
    place = f"here:{factor_table}"
    texts = {"prices_text": f"here:{prices}", "table_text": place, "bill_text": f"{place}#{bill}"}
    own_text = _OWN.format(**{k: _quoted(v) for k, v in texts.items()})
    text = _TEXT.format(
        places=own_text if prices else _PRACTICE,
        currency=_CURRENCY[bool(prices)],
        title=" ".join(name.split()), title_text=_quoted(name), frequency_text=_quoted(frequency),
        factors_text="[" + ", ".join(map(_quoted, factors)) + "]", company_text=_quoted(company),
    )  # fmt: skip
    Study.parse(text, target.name, target.absolute().parent)
    try:
        target.write_text(text, encoding="utf-8")
    except OSError as error:
        raise StudyError(f"{target} cannot be written: {error.strerror}.") from error
    return target


def _quoted(text: str) -> str:
    """A TOML string."""
    escaped = text.replace("\\", "\\\\").replace('"', '\\"')
    return '"' + "".join(c if c.isprintable() else " " for c in escaped) + '"'
