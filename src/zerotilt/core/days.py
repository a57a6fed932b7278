"""Days as people write them: 2026-02-01, 1.2.2026, 2/1/2026."""

from __future__ import annotations

from typing import Any

import pyarrow as pa
import pyarrow.compute

pc: Any = pyarrow.compute  # its functions are made when it is imported; no checker knows them

ORDERS = {
    "year first": (r"^(\d{4})[./-](\d{1,2})[./-](\d{1,2})$", r"\1-\2-\3"),
    "day first": (r"^(\d{1,2})[./-](\d{1,2})[./-](\d{4})$", r"\3-\2-\1"),
    "month first": (r"^(\d{1,2})[/-](\d{1,2})[/-](\d{4})$", r"\3-\1-\2"),
}
"""How a day is written in each order, and from it year-month-day."""
_ONE_MARK = r"^\d+(-\d+-|/\d+/|\.\d+\.)\d+$"
_NO_YEAR = r"(^|\D)0000($|\D)"


def are_days(values: pa.Array, order: str) -> bool:
    """Whether every value is a day that exists, written in an order of :data:`ORDERS`; 30.2.2026 is text."""
    if not pc.all(pc.match_substring_regex(values, ORDERS[order][0])).as_py():
        return False
    if not pc.all(pc.match_substring_regex(values, _ONE_MARK)).as_py():
        return False
    if pc.any(pc.match_substring_regex(values, _NO_YEAR)).as_py():
        return False
    try:
        as_days(values, order)
    except pa.ArrowInvalid:
        return False
    return True


def as_days(values: pa.Array, order: str) -> pa.Array:
    """Texts in an order as days; nulls stay.

    Raises
    ------
    pyarrow.ArrowInvalid : one is no day.
    """
    pattern, plain = ORDERS[order]
    spelt = pc.replace_substring_regex(values, pattern, plain)
    for short, padded in ((r"-(\d)-", r"-0\1-"), (r"-(\d)$", r"-0\1")):
        spelt = pc.replace_substring_regex(spelt, short, padded)
    return pc.cast(spelt, pa.date32())
