"""How results are shown: numbers and tables as text, tables as HTML and LaTeX, figures."""

from __future__ import annotations

import html
import importlib
import math
import textwrap
from typing import TYPE_CHECKING, Any, ClassVar, Final, Protocol

if TYPE_CHECKING:
    import pandas as pd

    from ultrum.core.array_types import Floats


MISSING: Final = "—"
_PLACES: Final = 8  # a number with no more decimals loses rounding: 0.055000000000000004 is 0.055
_SMALL_P: Final = 0.001
_WHOLE: Final = 10_000.0  # from here on a number shows no decimals


def decimals(value: float, places: int = 2, *, signed: bool = False, missing: str = MISSING) -> str:
    """A number with a fixed number of decimals, and no minus before zero.

    >>> decimals(0.5642), decimals(-0.0001), decimals(0.31, 1, signed=True), decimals(float("nan"))
    ('0.56', '0.00', '+0.3', '—')
    """
    if math.isnan(value):
        return missing
    rounded = round(float(value), places) + 0.0
    return f"{rounded:+.{places}f}" if signed else f"{rounded:.{places}f}"


def percent(value: float, places: int = 2, *, signed: bool = False) -> str:
    """A decimal number in percent, without the sign.

    >>> percent(0.0712), percent(-0.031, 1)
    ('7.12', '-3.1')
    """
    return decimals(100 * value, places, signed=signed)


def significant(value: float, digits: int = 6) -> str:
    """A number with a given number of significant digits; a dash for a missing one.

    >>> significant(0.055000000000000004), significant(123456.7)
    ('0.055', '123457')
    """
    return MISSING if math.isnan(value) else f"{value + 0.0:.{digits}g}"


def four_digits(value: float) -> str:
    """Four significant digits, large numbers as integers with thousands separators; empty for none.

    >>> four_digits(0.56425), four_digits(1234567.8)
    ('0.5643', '1,234,568')
    """
    if math.isnan(value):
        return ""
    return f"{value:,.0f}" if abs(value) >= _WHOLE else f"{value:.4g}"


def quantity(number: int, noun: str) -> str:
    """A count with its noun, in the plural unless it is one.

    >>> quantity(1, "row"), quantity(12000, "row"), quantity(0, "day"), quantity(2, "industry")
    ('1 row', '12,000 rows', '0 days', '2 industries')
    """
    if number == 1:
        return f"{number:,} {noun}"
    after_consonant = noun.endswith("y") and noun[-2:-1] not in set("aeiou")
    return f"{number:,} {noun[:-1]}ies" if after_consonant else f"{number:,} {noun}s"


def true_minus(text: str) -> str:
    """Text with typographic minus signs before numbers."""
    return text.replace("-", "−")


def p_in_words(value: float) -> str:
    """A formatted p value; empty for none.

    >>> p_in_words(0.0342), p_in_words(1e-9)
    ('0.034', '< 0.001')
    """
    return "" if math.isnan(value) else f"< {_SMALL_P}" if value < _SMALL_P else f"{value:.3f}"


def p_equals(value: float) -> str:
    """A formatted p value as an equation.

    >>> p_equals(0.0342), p_equals(1e-9)
    ('p = 0.034', 'p < 0.001')
    """
    return f"p {p_in_words(value)}" if value < _SMALL_P else f"p = {p_in_words(value)}"


def without_rounding(values: Floats) -> Floats:
    """Numbers rounded to remove the last bits of floating-point noise.

    >>> import numpy as np
    >>> without_rounding(np.array([0.1 + 0.2, 1 / 3])).tolist()
    [0.3, 0.3333333333333333]
    """
    import numpy as np

    short = np.round(values, _PLACES)
    with np.errstate(invalid="ignore"):
        near = np.abs(values - short) <= 4.0 * np.spacing(np.abs(values))
    return np.where(near, short, values)


# Tables as text and HTML


def capitalise(name: str) -> str:
    """A name with a capital first letter; the rest is unchanged.

    >>> capitalise("market"), capitalise("QSR")
    ('Market', 'QSR')
    """
    return name[:1].upper() + name[1:]


WIDTH = 100  # columns of a text table
_FEWEST_TERMS = 2  # of a table that is too wide


def table_text(table: pd.DataFrame, number: str = "{:.4f}") -> str:
    """A table as text within 100 columns; p values below 0.001 print as "<0.001".

    >>> import pandas as pd
    >>> print(table_text(pd.DataFrame({"beta": [0.5], "p": [1e-9]})))
        beta       p
    0 0.5000 < 0.001
    """
    shown: Any = {
        name: p_in_words if _holds_p(name) else number.format
        for name in table.columns
        if table[name].dtype.kind == "f"
    }
    return table.to_string(formatters=shown, line_width=WIDTH)


def estimates_text(values: pd.DataFrame, errors: pd.DataFrame, beside: pd.DataFrame, most: int = 30) -> str:
    """Estimates with standard errors in parentheses, one row per line within 100 columns.

    Decimals are removed first, then the standard errors; terms beyond the width are counted.

    Parameters
    ----------
    values, errors : DataFrame, shape (N, p)
    beside : DataFrame, shape (N, c)
        Further columns, unchanged.
    most : int
        Rows shown.

    Examples
    --------
    >>> import pandas as pd
    >>> one = pd.DataFrame({"market": [0.5642]}, ["BRTW"])
    >>> print(estimates_text(one, one / 5, pd.DataFrame({"rows": [251]}, ["BRTW"])))
                   market  rows
    BRTW  0.5642 (0.1128)   251
    """
    forms = [(4, True), (3, True), (2, True), (3, False), (2, False)]
    texts = (_estimates(values, errors, beside, *form, most) for form in forms)
    fitting = next((t for t in texts if max(map(len, t.splitlines())) <= WIDTH), "")
    if fitting or values.shape[1] <= _FEWEST_TERMS:
        return fitting or _estimates(values, errors, beside, 2, False, most)
    kept = next(
        (
            k
            for k in range(values.shape[1] - 1, _FEWEST_TERMS, -1)
            if _width(_estimates(values.iloc[:, :k], errors, beside, 2, False, most)) <= WIDTH
        ),
        _FEWEST_TERMS,
    )
    text = _estimates(values.iloc[:, :kept], errors, beside, 2, False, most)
    return f"{text}\n{values.shape[1] - kept} further terms: see .coefficients"


def _width(text: str) -> int:
    return max(map(len, text.splitlines()))


def _estimates(
    values: pd.DataFrame, errors: pd.DataFrame, beside: pd.DataFrame, digits: int, bracketed: bool, most: int
) -> str:
    """Estimates with a number of decimals, with or without standard errors."""
    shown = values.map(lambda v: decimals(v, digits, missing="nan"))
    if bracketed:
        shown = shown + " (" + errors[values.columns].map(lambda v: decimals(v, digits, missing="nan")) + ")"
    return shown.join(beside).to_string(max_rows=most)


def _holds_p(name: object) -> bool:
    return str(name) in ("p", "p_value") or str(name).endswith(("_p", " p"))


def table_html(table: pd.DataFrame, text: str = "", most: int = 60) -> str:
    """A table for notebooks under its text: four digits, formatted p values.

    >>> import pandas as pd
    >>> table_html(pd.DataFrame({"beta": [0.56425], "beta_p": [1.3e-7]})).count("&lt; 0.001")
    1
    """
    shown: Any = {
        name: p_in_words if _holds_p(name) else four_digits
        for name in table.columns
        if table[name].dtype.kind == "f"
    }
    head = f"<pre>{html.escape(text)}</pre>" if text else ""
    return head + str(table.to_html(formatters=shown, max_rows=most, na_rep=""))


class HasBasis(Protocol):
    """A result table with a statement of its basis."""

    _number: ClassVar[str]

    @property
    def basis(self) -> str:
        """Sample, conventions, errors."""

    def to_frame(self) -> pd.DataFrame:
        """The table."""


class TableInNotebooks:
    """A result shown as its table over its basis, in notebooks as its table under its basis."""

    _number: ClassVar[str] = "{:.4f}"  # the form of numbers in text

    def __repr__(self: HasBasis) -> str:
        return f"{table_text(self.to_frame(), self._number)}\n{textwrap.fill(self.basis, WIDTH)}"

    def _repr_html_(self: HasBasis) -> str:
        return table_html(self.to_frame(), self.basis)


class TextInNotebooks:
    """A result displayed in notebooks as its text."""

    def _repr_html_(self) -> str:
        return f"<pre>{html.escape(repr(self))}</pre>"


class MainTable(TextInNotebooks):
    """A result one of whose attributes is its main table."""

    _main: ClassVar[str] = "table"

    def to_frame(self) -> pd.DataFrame:
        """Main table of the result.

        Returns
        -------
        DataFrame
            A copy; its columns are described with the class.
        """
        table: pd.DataFrame = getattr(self, self._main)
        return table.copy()


def over_basis(basis: str, *parts: str) -> str:
    """Texts of a result over its basis; single lines are wrapped, tables are not.

    >>> over_basis("60 periods", "beta 1.1").splitlines()
    ['beta 1.1', '60 periods']
    """
    return "\n".join(part if "\n" in part else textwrap.fill(part, WIDTH) for part in (*parts, basis))


# Methods of results that the report layer carries out: tables for journals, and figures

_TABLES, _FIGURES = "ultrum.report.model_tables", "ultrum.report.figures"


class ToLatex:
    """A result that becomes a table of a paper."""

    def to_latex(self, *, caption: str = "", label: str = "", **options: object) -> str:
        r"""The estimates as a LaTeX table, with the rules of the package booktabs.

        Parameters
        ----------
        caption, label : str
            With one of them the table is a floating one, with its notes below; it then needs threeparttable too.
        **options
            As for :func:`ultrum.model_table`, such as ``below="t"`` or ``digits=2``.

        Returns
        -------
        str
            Text for ``\input``.

        Examples
        --------
        >>> import ultrum as ul
        >>> fit = ul.factor_betas(ul.practice.panel(), ["market"]).fit("BRTW")
        >>> print(fit.to_latex(caption="Beta of BRTW", label="tab:beta", below="t").splitlines()[4])
        \label{tab:beta}
        """
        table = importlib.import_module(_TABLES).model_table(self, **options)
        return str(table.to_latex(caption=caption, label=label))


class ToPlot:
    """A result with a figure of its own."""

    _figure: ClassVar[str]

    def plot(self, **options: object) -> Any:
        """The figure of the result; ``ultrum.figures`` has more.

        Parameters
        ----------
        **options
            Those of the figure, such as ``ax``.

        Returns
        -------
        Axes
            Axes with the drawing.

        Examples
        --------
        >>> import ultrum as ul
        >>> fit = ul.factor_betas(ul.practice.panel(), ["market"]).fit("BRTW")
        >>> fit.plot().get_xlabel()
        'market, excess return, % per month'
        """
        return getattr(importlib.import_module(_FIGURES), self._figure)(self, **options)
