"""Tables as text and HTML."""

from __future__ import annotations

import html
from typing import Any, Protocol

import pandas as pd

from ultrum.core.displayed_numbers import decimals, four_digits, p_in_words


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

    >>> print(table_text(pd.DataFrame({"beta": [0.5], "p": [1e-9]})))
        beta       p
    0 0.5000 < 0.001
    """
    shown: Any = {
        name: p_in_words if _holds_p(name) else number.format
        for name in table.columns
        if pd.api.types.is_float_dtype(table[name])
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

    >>> table_html(pd.DataFrame({"beta": [0.56425], "beta_p": [1.3e-7]})).count("&lt; 0.001")
    1
    """
    shown: Any = {
        name: p_in_words if _holds_p(name) else four_digits
        for name in table.columns
        if pd.api.types.is_float_dtype(table[name])
    }
    head = f"<pre>{html.escape(text)}</pre>" if text else ""
    return head + str(table.to_html(formatters=shown, max_rows=most, na_rep=""))


class _HasBasis(Protocol):
    """A result table with a statement of its basis."""

    @property
    def basis(self) -> str:
        """Sample, conventions, errors."""

    def to_frame(self) -> pd.DataFrame:
        """The table."""


class TableInNotebooks:
    """A result displayed in notebooks as its table under its basis."""

    def _repr_html_(self: _HasBasis) -> str:
        return table_html(self.to_frame(), self.basis)


class TextInNotebooks:
    """A result displayed in notebooks as its text."""

    def _repr_html_(self) -> str:
        return f"<pre>{html.escape(repr(self))}</pre>"
