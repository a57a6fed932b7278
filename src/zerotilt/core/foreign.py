"""Files that are no table, known by how they begin: what they are, and what to give instead."""

from __future__ import annotations

import re

from zerotilt.core.refusal import Refused

BEGINNINGS: tuple[tuple[bytes, str, str], ...] = (
    (b"PK\x03\x04", "an archive or a workbook (.zip, .xlsx, .ods)", "Save the sheet as CSV, or give the file inside."),
    (b"\xd0\xcf\x11\xe0", "an older workbook (.xls)", "Save the sheet as CSV."),
    (b"\x1f\x8b", "a compressed file (.gz)", "Unpack it first."),
    (b"BZh", "a compressed file (.bz2)", "Unpack it first."),
    (b"\x28\xb5\x2f\xfd", "a compressed file (.zst)", "Unpack it first."),
    (b"\xfd7zXZ\x00", "a compressed file (.xz)", "Unpack it first."),
    (b"%PDF", "a PDF", "Export the table behind it as CSV."),
    (b"\x89PNG", "a picture", "Give the table itself."),
    (b"\xff\xd8\xff", "a picture", "Give the table itself."),
    (b"SQLite format 3", "a database file", "Export the table as CSV or Parquet."),
    (b"\x89HDF", "an HDF5 file", "Write the table as Parquet or CSV."),
    (b"Obj\x01", "an Avro file", "Write the table as Parquet or CSV."),
    (b"ORC", "an ORC file", "Write the table as Parquet or CSV."),
)
PICKLED = re.compile(rb"\x80[\x02-\x05]")
"""How a pickle of any protocol in use begins; none is ever loaded."""
JSON = re.compile(rb"(\xef\xbb\xbf)?\s*(\{\s*[\"}]|\[\s*[\[{\]])")
MARKUP = re.compile(rb"\s*<(!doctype|html|\?xml|table)", re.IGNORECASE)
PEEKED = 64
"""Bytes by which all of these are known."""


def refuse_foreign(start: bytes, name: str = "") -> None:
    """Refuse a file that is known to be something else than text in columns.

    Parameters
    ----------
    start : its first bytes, as many as are needed for that. name : what it is called; said in the refusal.

    Raises
    ------
    Refused : with what it is.
    """
    found = next(((what, todo) for begin, what, todo in BEGINNINGS if start.startswith(begin)), None)
    if found is None and PICKLED.match(start):
        found = ("a pickle, which is never opened here", "Write the frame as Parquet or CSV.")
    if found is None and JSON.match(start):
        found = ("JSON", "Write the table as CSV or Parquet.")
    if found is None and MARKUP.match(start):
        found = ("a page or XML", "Export the table as CSV.")
    if found is not None:
        raise Refused(f"This is {found[0]}, not a table in CSV, Parquet or Arrow.", where=name or None, todo=found[1])
