"""How a text file is written: its characters, and the marks between columns and in numbers."""

from __future__ import annotations

import codecs
import csv
import io
import re
from collections import Counter
from typing import BinaryIO, Literal

import charset_normalizer
from pydantic import Field, field_validator, model_validator

from zerotilt.core.frozen import Frozen
from zerotilt.core.refusal import Refused

SAMPLE_BYTES = 256 * 1024


MISSING = ("NA", "N/A", "n/a", "na", "NaN", "nan", "null", "NULL", "None", "-")
"""Read as no value unless somebody says otherwise; a cell without a character always is."""
MAY_BE_MISSING = ("?", "??", ".", "..", "--", "---", "unknown", "Unknown", "UNKNOWN", "missing", "Missing", "MISSING", "#N/A",
                  "#NA", "<NA>", "NIL", "nil", "none", "(null)", "-99", "-999", "-9999", "k.A.", "keine Angabe")  # fmt: skip
"""Often written where there is no value; somebody is asked, since each may be one."""


SPACES = "[ \u00a0\u202f]"


class Dialect(Frozen):
    """How a CSV file is written. Every part can be corrected by the person."""

    encoding: str = "utf-8"
    delimiter: Literal[",", ";", "\t", "|"] = ","
    quote: Literal['"', "'"] = '"'
    decimal: Literal[".", ","] = "."
    thousands: Literal["", ",", ".", " ", "'"] = ""
    days: Literal["day first", "month first"] = "day first"
    """How 1/2/2026 is meant, where no day of its column tells; 2026-02-01 is read as it stands."""
    missing: tuple[str, ...] = Field(
        default=MISSING, max_length=60, description="What stands for no value, besides nothing"
    )

    @field_validator("missing")
    @classmethod
    def _short(cls, missing: tuple[str, ...]) -> tuple[str, ...]:
        found = tuple(dict.fromkeys(one.strip() for one in missing if one.strip()))
        if long := [one for one in found if len(one) > 60]:
            raise ValueError(f"“{long[0][:60]}…” is too long a mark for no value")
        return found

    @field_validator("encoding")
    @classmethod
    def _known(cls, encoding: str) -> str:
        try:
            "a".encode(encoding).decode(encoding)  # what turns bytes into bytes is no encoding of text
        except (LookupError, ValueError):
            raise ValueError(
                f"“{encoding[:60]}” is not an encoding known here; a name such as utf-8 or cp1252 is"
            ) from None
        return encoding

    @model_validator(mode="after")
    def _marks_differ(self) -> Dialect:
        if self.decimal == self.thousands:
            raise ValueError(f"decimal mark and thousands mark are both “{self.decimal}”")
        return self


def sniff(source: BinaryIO) -> Dialect:
    """Find out encoding, delimiter, quote, the marks in numbers and the order of days from the head of a file.

    Raises
    ------
    Refused : the file is empty or is not text.
    """
    source.seek(0)
    head = source.read(SAMPLE_BYTES)
    if not head.strip():
        raise Refused("The file is empty.", todo="Choose a file with a header line and rows.")
    encoding = _encoding(head, whole=len(head) < SAMPLE_BYTES)
    text = head.decode(encoding, errors="replace").lstrip("\ufeff")
    if not text.strip():
        raise Refused("The file is empty.", todo="Choose a file with a header line and rows.")
    if "\x00" in text:
        raise Refused("The file is not text, so it is not CSV.", todo="Upload CSV, Parquet, or Arrow/Feather.")
    if len(head) == SAMPLE_BYTES:  # the last line is probably cut
        text = text[: text.rfind("\n") + 1] or text
    quote, delimiter, rows = _shape(text)
    decimal, thousands = _marks(rows[1:200], delimiter)
    return Dialect(
        encoding=encoding, delimiter=delimiter, quote=quote, decimal=decimal, thousands=thousands, days=_days(rows[1:])
    )


def _encoding(head: bytes, whole: bool) -> str:
    for mark, name in (
        (codecs.BOM_UTF8, "utf-8-sig"),
        (codecs.BOM_UTF16_LE, "utf-16"),
        (codecs.BOM_UTF16_BE, "utf-16"),
    ):
        if head.startswith(mark):
            return name
    try:
        codecs.getincrementaldecoder("utf-8")().decode(head, final=whole)
        return "utf-8"
    except UnicodeDecodeError:
        return _likeliest(head)


def _likeliest(head: bytes) -> str:
    """The single-byte encoding under which the text is likeliest: letters stand in words, signs do not.

    Where most letters are beyond ASCII, as in Greek or Cyrillic, another script
    is meant; elsewhere the commonest encoding wins unless another reads better.
    """
    best = charset_normalizer.from_bytes(head[:32_768]).best()
    guessed = None if best is None or best.encoding in ("utf_8", "ascii") else best.encoding
    letters = sum(one in _ASCII_LETTERS for one in head)
    if guessed and sum(one >= 0x80 for one in head) > 0.4 * max(letters, 1):
        return guessed
    candidates = dict.fromkeys(
        ("cp1252", "cp1250", *([guessed] if guessed else []), "iso-8859-15", "cp1257", "mac_roman")
    )
    scored = {}
    for name in candidates:
        try:
            scored[name] = _plausible(head.decode(name))
        except (UnicodeDecodeError, LookupError):
            continue
    return max(scored, key=lambda name: scored[name]) if scored else "cp1252"


_ASCII_LETTERS = frozenset(b"abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ")


_COMMON = frozenset("äöüßéèêëáàâçñíóúåæøãõîïôûùÄÖÜÉÅØÆÑ€–—“”‘’°§")


_CENTRAL = frozenset("ąćęłńśźżčďěňřšťžůýőűăâîșțşţđĄĆĘŁŃŚŹŻČĎĚŇŘŠŤŽŮÝŐŰ")


def _plausible(text: str) -> float:
    """How well the characters beyond ASCII sit: letters that European words have, not signs and capitals inside words."""
    found = 0.0
    for place, one in enumerate(text):
        if one < "\x80":
            continue
        before, after = text[place - 1 : place], text[place + 1 : place + 2]
        inside = before.isalpha() or after.isalpha()
        if not one.isprintable() or one == "\xa0":
            found -= 2.0
        elif one.isalpha():
            found += 1.0 if one in _COMMON else 0.9 if one in _CENTRAL else 0.4
            found -= 1.0 if one.isupper() and before.islower() else 0.0
        else:
            found += -1.5 if inside and one not in "’‘“”–—°" else 0.5 if one in _COMMON else 0.0
    return found


def _shape(text: str) -> tuple[str, str, list[list[str]]]:
    """The quote and delimiter under which most leading rows have one and the same width above one."""
    best: tuple[float, str, str, list[list[str]]] | None = None
    for quote in ('"', "'"):
        for delimiter in (",", ";", "\t", "|"):
            reader = csv.reader(io.StringIO(text), delimiter=delimiter, quotechar=quote)
            rows: list[list[str]] = []
            try:
                for row in reader:
                    if row:
                        rows.append(row)
                    if len(rows) >= 200:
                        break
            except csv.Error:
                continue
            width, agreeing = Counter(len(row) for row in rows).most_common(1)[0]
            score = (agreeing / len(rows)) * (1 if width > 1 else 0) + min(width, 50) / 1000
            if quote == "'" and f"{delimiter}'" not in text:
                score -= 0.01
            if best is None or score > best[0] + 1e-9:
                best = (score, quote, delimiter, rows)
    if best is None:
        raise Refused("The file cannot be read as CSV.", todo="Check that it is a text table.")
    return best[1], best[2], best[3]


def number_pattern(decimal: str, thousands: str) -> str:
    d = re.escape(decimal)
    plain = rf"\d+({d}\d*)?|{d}\d+"
    if not thousands:
        return rf"^[+-]?({plain})([eE][+-]?\d+)?$"
    t = SPACES if thousands == " " else re.escape(thousands)
    return rf"^[+-]?({plain}|\d{{1,3}}({t}\d{{3}})+({d}\d*)?)([eE][+-]?\d+)?$"


def _marks(rows: list[list[str]], delimiter: str) -> tuple[str, str]:
    """Decimal and thousands marks that make most columns numeric; plainer marks win ties."""
    candidates = [(".", ""), (".", ","), (",", ""), (",", "."), (".", " "), (",", " "), (".", "'"), (",", "'")]
    if delimiter == ";":  # such files come from places that write 1,5
        candidates[1], candidates[2] = candidates[2], candidates[1]
    width = max((len(row) for row in rows), default=0)
    columns = [
        [row[i].strip() for row in rows if i < len(row) and row[i].strip() not in ("", *MISSING, *MAY_BE_MISSING)]
        for i in range(width)
    ]
    best, most = (".", ""), -1
    for decimal, thousands in candidates:
        if delimiter in (decimal, thousands) and delimiter != "," and delimiter != ";":
            continue
        pattern = re.compile(number_pattern(decimal, thousands))
        numeric = sum(1 for values in columns if values and all(pattern.match(value) for value in values))
        if numeric > most:
            best, most = (decimal, thousands), numeric
    return best


SPELT_DAY = re.compile(r"^(\d{1,2})([./-])(\d{1,2})\2(\d{4})$")


def _days(rows: list[list[str]]) -> Literal["day first", "month first"]:
    """Month first where some day tells so and none tells otherwise; most of the world puts the day first."""
    spelt = [found for row in rows for cell in row if (found := SPELT_DAY.match(cell.strip()))]
    day_first = any(int(found[1]) > 12 for found in spelt)
    month_first = any(int(found[3]) > 12 for found in spelt)
    return "month first" if month_first and not day_first else "day first"
