"""Conditions as people type them: ``channel=telephone|app and not (parcel_weight>10 or account_age=)``."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date
from typing import Literal, NoReturn

from zerotilt.core import words
from zerotilt.core.logic import All, Any, Node, Not, blocks_of, picks
from zerotilt.core.meaning import Block, Condition, Segment
from zerotilt.core.refusal import Refused

_SIGNS = {"<=": "up_to", ">=": "at_least", ">": "over", "<": "under", "!=": "", "=": ""}
_WRITTEN = re.compile(r"^(?P<column>.+?)\s*(?P<sign><=|>=|!=|<|>|=)\s*(?P<value>.*)$")
_DAY = re.compile(r"^\d{4}-\d{2}-\d{2}$")


def parsed(text: str, names: Sequence[str]) -> Condition:
    """One condition as it is typed: "channel=telephone|app", "parcel_weight>10", "parcel_weight<=20", "channel=" for missing.

    >>> parsed("parcel_weight > 10", ["parcel_weight"]).over
    10.0
    >>> parsed("channel=telephone|app", ["channel"]).levels
    ('telephone', 'app')

    Raises
    ------
    Refused : it cannot be read, or names no column.
    """
    # a column whose own name holds a sign is tried first
    own = next((name for name in sorted(names, key=len, reverse=True) if text.startswith(name)), None)
    found = _WRITTEN.match(f"c{text[len(own) :]}" if own else text)
    if own and found is not None and found["column"] != "c":
        found = None  # something stands between the column and the sign
    column = own or (found["column"] if found else text)
    if found is None or column not in names:
        raise Refused(
            f"“{text}” was given as a condition; it is written as column=level, column>number or column<=number, with a "
            f"column of the table.",
            where=f"column “{column}”" if found else None,
            todo="Check the spelling; quote it in a shell.",
        )
    return _condition(column, found["sign"], found["value"].strip().split("|"), text)


def _condition(column: str, sign: str, values: Sequence[str], text: str) -> Condition:
    if sign in ("=", "!="):
        levels = tuple(one for one in values if one)
        return Condition(column=column, levels=levels, missing=len(levels) < len(values), negated=sign == "!=")
    value = "|".join(values)
    if _DAY.match(value) and sign in ("<=", ">="):
        try:
            return Condition(column=column, **{"since" if sign == ">=" else "until": date.fromisoformat(value)})
        except ValueError:
            raise Refused(
                f"“{text}” was given as a condition; there is no day {value}.", where=f"column “{column}”"
            ) from None
    try:
        number = float(value)
    except ValueError:
        more = " Days are written 2031-02-28, after >= or <=." if re.search(r"\d[./-]\d", value) else ""
        raise Refused(
            f"“{text}” was given as a condition; “{value}” is no number.{more}", where=f"column “{column}”"
        ) from None
    return Condition(column=column, **{_SIGNS[sign]: number})


def read_aloud(text: str) -> str:
    """A condition as it is typed, in words; as it stands where it cannot be read.

    >>> read_aloud("channel=telephone|app"), read_aloud("parcel_weight>10"), read_aloud("account_age=")
    ('channel is telephone or app', 'parcel weight over 10', 'account age missing')
    """
    found = _WRITTEN.match(text)
    if found is None:
        return text
    column, value, sign = words.title(found["column"].strip()), found["value"].strip(), found["sign"]
    if sign in ("=", "!="):
        no = "not " if sign == "!=" else ""
        return f"{column} is {no}{' or '.join(value.split('|'))}" if value else f"{column} {no}missing"
    return f"{column} {({'>': 'over', '>=': 'from', '<': 'under', '<=': 'up to'})[sign]} {value}"


_WORD = re.compile(r"(and|or|not)(?=[\s(\"]|$)", re.IGNORECASE)
_NAMED = re.compile(r"segment\s*(?=\")", re.IGNORECASE)
_SIGN = re.compile(r"\s*(<=|>=|!=|<|>|=)\s*")
_BARE_END = re.compile(r"\s+(?:and|or)(?=[\s(\"]|$)|[|()]|\s*$", re.IGNORECASE)
MOST_DEEP = 40


@dataclass
class _Reader:
    """Goes through the text once, from the left."""

    text: str
    names: Sequence[str]
    known: Mapping[str, Segment] = field(default_factory=dict)
    at: int = 0
    deep: int = 0

    def whole(self) -> Node:
        found = self.either()
        self.space()
        if self.at < len(self.text):
            self.stop("“and” or “or” was expected")
        return found

    def either(self) -> Node:
        parts = [self.both()]
        while self.word("or"):
            parts.append(self.both())
        return parts[0] if len(parts) == 1 else Any(tuple(parts))

    def both(self) -> Node:
        parts = [self.one()]
        while self.word("and"):
            parts.append(self.one())
        return parts[0] if len(parts) == 1 else All(tuple(parts))

    def one(self) -> Node:
        self.deep += 1
        if self.deep > MOST_DEEP:
            self.stop("parentheses and “not” stand too deep in each other")
        try:
            if self.word("not"):
                return Not(self.one())
            self.space()
            if self.text.startswith("(", self.at):
                self.at += 1
                found = self.either()
                self.space()
                if not self.text.startswith(")", self.at):
                    self.stop("a parenthesis is not closed")
                self.at += 1
                return found
            return self.named() or self.condition()
        finally:
            self.deep -= 1

    def named(self) -> Segment | None:
        found = _NAMED.match(self.text, self.at)
        if found is None:
            return None
        self.at = found.end()
        name = self.quoted()
        if name not in self.known:
            has = f"; there is {words.listing([f'“{one}”' for one in list(self.known)[:6]])}" if self.known else ""
            self.stop(f"there is no segment “{name}”{has}")
        return self.known[name]

    def condition(self) -> Condition:
        start = self.at
        if self.text.startswith('"', self.at):
            column = self.quoted()
            if column not in self.names:
                self.stop(f"the table has no column “{column}”")
        else:
            left = self.text[self.at :]
            fitting = (name for name in self.names if name and left.startswith(name) and _SIGN.match(left, len(name)))
            column = max(fitting, key=len, default=None)
            if column is None:
                written = re.split(r"\s*[<>=!]|\s+(?:and|or)\s", left)[0].strip()
                self.stop(
                    f"the table has no column “{written}”" if re.search("[<>=]", left) else "a condition was expected"
                )
            self.at += len(column)
        sign = _SIGN.match(self.text, self.at)
        if sign is None:
            self.stop(f"after “{column}” one of = != > >= < <= was expected")
        self.at = sign.end()
        values = [self.value()]
        while self.text.startswith("|", self.at):
            self.at += 1
            values.append(self.value())
        return _condition(column, sign[1], values, self.text[start : self.at].strip())

    def value(self) -> str:
        while self.text.startswith(" ", self.at):
            self.at += 1
        if self.text.startswith('"', self.at):
            return self.quoted()
        # nothing written: "channel=" and what joins it to the next
        end = re.compile(r"(?:and|or)(?=[\s(\"])", re.IGNORECASE).match(self.text, self.at) or _BARE_END.search(
            self.text, self.at
        )
        stop = end.start() if end else len(self.text)
        found = self.text[self.at : stop].strip()
        self.at = stop
        return found

    def quoted(self) -> str:
        found = re.compile(r'"((?:[^"]|"")*)"').match(self.text, self.at)
        if found is None:
            self.stop("a quotation mark is not closed")
        self.at = found.end()
        return found[1].replace('""', '"')

    def word(self, wanted: Literal["and", "or", "not"]) -> bool:
        self.space()
        found = _WORD.match(self.text, self.at)
        if found is None or found[1].lower() != wanted:
            return False
        # a column may be called like one of these words
        if wanted == "not" and any(
            self.text.startswith(name, self.at) and _SIGN.match(self.text, self.at + len(name))
            for name in self.names
            if name.lower().startswith("not")
        ):
            return False
        self.at = found.end()
        return True

    def space(self) -> None:
        while self.at < len(self.text) and self.text[self.at].isspace():
            self.at += 1

    def stop(self, why: str) -> NoReturn:
        left = self.text[self.at :].strip()
        where = f" at “{left[:40]}{'…' if len(left) > 40 else ''}”" if left else " at its end"
        raise Refused(
            f"The conditions cannot be read{where}: {why}.",
            todo="They are written like channel=telephone|app and not (parcel_weight>10 or account_age=); a level with "
            '“and”, “or” or parentheses in it stands in "quotes".',
        )


def expression(text: str, names: Sequence[str], known: Sequence[Segment] = ()) -> Node:
    """Conditions joined by "and", "or", "not" and parentheses; ``segment "NAME"`` stands for the rows of a saved one.

    >>> expression('channel=app or not parcel_weight>10', ["channel", "parcel_weight"]).parts[1].part.over
    10.0

    Raises
    ------
    Refused : it cannot be read; the message says from where on.
    """
    return _Reader(text, names, {one.name: one for one in known}).whole()


def written(blocks: Sequence[Block]) -> str:
    """Lists of conditions as they would be typed; :func:`expression` reads the same rows from it."""
    if len(blocks) == 1:
        return " and ".join(_typed(one) for one in blocks[0])
    parts = (" and ".join(_typed(one) for one in block) for block in blocks)
    return " or ".join(f"({part})" if " and " in part else part for part in parts)


def _typed(one: Condition) -> str:
    column = _quoted(one.column) if not re.fullmatch(r"\w+", one.column) or _WORD.match(one.column) else one.column
    ends = [
        f"{column}{sign}{end if isinstance(end, date) else repr(end).removesuffix('.0')}"
        for sign, end in (
            (">", one.over), (">=", one.at_least), (">=", one.since), ("<", one.under), ("<=", one.up_to), ("<=", one.until),
        )
        if end is not None
    ]  # fmt: skip
    levels = "|".join([*(_level(level) for level in one.levels), *([""] if one.missing else [])])
    if not ends:
        return f"{column}{'!=' if one.negated else '='}{levels}"
    text = " and ".join(ends)
    if one.levels or one.missing:
        text = f"{column}={levels} or {text}"
        return f"not ({text})" if one.negated else f"({text})"
    return f"not ({text})" if one.negated else text


def _level(level: str) -> str:
    plain = re.fullmatch(r"[^\s\"()|](?:[^\"()|\n\r\t]*[^\s\"()|])?", level) and not re.search(
        r"(?:^|\s)(?:and|or)(?:\s|$)", level, re.IGNORECASE
    )
    return level if plain else _quoted(level)


def _quoted(text: str) -> str:
    return '"' + text.replace('"', '""') + '"'


def asked_for(
    conditions: Sequence[str],
    picked: Sequence[str],
    segment: str,
    names: Sequence[str],
    known: Sequence[Segment] = (),
    name: str = "",
) -> Segment:
    """Rows as a program or a shell asks for them: those that meet every condition, those picked, or those of a segment.

    Raises
    ------
    Refused : they cannot be read, or a segment is given besides conditions.
    """
    if segment and (conditions or picked):
        raise Refused("A segment was given besides conditions or picked rows.", todo="Join them in the segment by and.")
    if segment:
        return named(segment, names, known)
    return Segment(
        name=name or ", ".join(conditions) or "picked rows",
        conditions=tuple(parsed(one, names) for one in conditions),
        picked=tuple(picked),
    )


def named(text: str, names: Sequence[str], known: Sequence[Segment] = ()) -> Segment:
    """A segment as it is given on the command line: ``NAME: conditions``, or the name of a saved one.

    >>> named("heavy by telephone: channel=telephone and parcel_weight>10", ["channel", "parcel_weight"]).conditions[1].over
    10.0

    Raises
    ------
    Refused : it has no name, or its conditions cannot be read.
    """
    saved = next((one for one in known if one.name == text.strip()), None)
    if saved is not None:
        return saved
    name, colon, conditions = text.partition(":")
    if not (colon and name.strip() and conditions.strip()):
        raise Refused(
            f"“{text}” was given as a segment; it is written as NAME: conditions.",
            todo="For instance 'heavy: parcel_weight>10'.",
        )
    if len(name.strip()) > 120:
        raise Refused("The name of a segment has up to 120 characters.", todo="Give it a shorter one.")
    node = expression(conditions, names, known)
    if picks(node):
        raise Refused(
            "Rows that were picked one by one cannot be joined with conditions here.", todo="Make the segment in Data."
        )
    first, *rest = blocks_of(node)
    return Segment(name=name.strip(), conditions=first, alternatives=tuple(rest))
