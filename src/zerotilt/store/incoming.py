"""Records that come in with an archive: each is looked at, as if an enemy had written it, before any is kept.

They own nothing but what they bring, start no work, name no path, and hold nothing that a list or page cannot be made of.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import UTC, date, datetime, timedelta
from typing import Any, get_args
from uuid import UUID

import peewee
from playhouse.postgres_ext import BinaryJSONField, DateTimeTZField
from pydantic import TypeAdapter, ValidationError

from zerotilt.core.candidates.recipe import Recipe
from zerotilt.core.evidence import Evidence
from zerotilt.core.findings import Decision
from zerotilt.core.inputs import INPUTS, InputCard
from zerotilt.core.meaning import PARTS, Context, Rule, Spec
from zerotilt.core.predictors.modelfile import ModelCard
from zerotilt.core.profiles import TableProfile
from zerotilt.core.refusal import Refused
from zerotilt.report.document import Document
from zerotilt.store.decided import Seen
from zerotilt.store.records import Audit, EvidenceRow, Task

Rows = Sequence[Mapping[str, Any]]
MOST_TEXT = 2_000_000
"""Characters of one text."""
DEEPEST = 64
EARLIEST, LATEST = datetime(2000, 1, 1, tzinfo=UTC), timedelta(days=2)
"""Nothing was written before the first, or later than so long after today."""
DIGEST = re.compile("[0-9a-f]{64}")
NAMED = re.compile(r"[\w][\w.\- ]{0,200}")
"""A file of a report: its name is part of an address, and of a path where somebody unpacks it."""
DIGESTS = frozenset({"raw_digest", "digest", "table_digest", "html_digest", "json_digest", "manifest", "file"})
DATED = frozenset({"due"})
"""Days that lie ahead."""
CHECKED = frozenset({"spec", "context", "seed", "table_digest", "uploaded_digest", "table_name", "model_digest", "model_name",
                     "alongside_digest", "alongside_name", "others", "left_out", "inputs"})  # fmt: skip
"""What the last step of Intake was asked with."""


class _Wrong(ValueError):
    """What is wrong with one value."""


def checked(records: Mapping[str, Rows], kinds: Iterable[type[peewee.Model]]) -> None:
    """Look at every record of an archive.

    Parameters
    ----------
    records : by the names of their tables, each as columns with values as JSON has them; of known tables and columns.

    Raises
    ------
    Refused : one cannot be; the message says of which table, which of its records, and which column.
    """
    every = list(kinds)
    held = {kind: {_name_of(kind, row) for row in records.get(kind._meta.table_name, [])} for kind in every}
    audit = str(records[Audit._meta.table_name][0].get("id"))
    for kind in every:
        table = kind._meta.table_name
        rows = records.get(table, [])
        if len(held[kind]) < len(rows):
            raise _refused(table, None, "", "two of them have one name")
        for place, row in enumerate(rows, 1):
            column = ""
            try:
                for field in kind._meta.sorted_fields:
                    column = field.column_name
                    _value(field, row, held, audit)
                column = ""
                _meaning(kind, row)
            except (_Wrong, ValidationError, ValueError, TypeError, KeyError, RecursionError) as problem:
                said = str(problem) if isinstance(problem, _Wrong) else "it is none of its kind"
                raise _refused(table, place, column, said) from None


def _refused(table: str, place: int | None, column: str, said: str) -> Refused:
    which = f"record {place} of {table}" if place else f"the records of {table}"
    return Refused(
        f"{which[:1].upper()}{which[1:]} cannot be read{f' at “{column}”' if column else ''}: {said[:200]}.",
        where="archive",
        todo="Export the audit again.",
    )


def _name_of(kind: type[peewee.Model], row: Mapping[str, Any]) -> str:
    """What one record is told from others by."""
    key: Any = kind._meta.primary_key
    names = key.field_names if isinstance(key, peewee.CompositeKey) else (key.name,)
    return "\n".join(str(row.get(kind._meta.fields[name].column_name)) for name in names)


def _value(field: Any, row: Mapping[str, Any], held: Mapping[type, set[str]], audit: str) -> None:
    column = field.column_name
    if column not in row:
        if field.null or field.default is not None or field.constraints:
            return
        raise _Wrong("it is missing")
    value = row[column]
    if value is None:
        if not field.null:
            raise _Wrong("it is empty")
        return
    if isinstance(field, peewee.ForeignKeyField):
        if str(value) not in held.get(field.rel_model, ()):
            raise _Wrong("it belongs to something that is not in the archive")
        if field.rel_model is Audit and str(value) != audit:
            raise _Wrong("it belongs to another audit")
        return
    reader = next((one for kind, one in READERS.items() if isinstance(field, kind)), None)
    if reader is None:
        raise _Wrong("it is of a kind that no record has")
    reader(value)
    if column in DIGESTS and not DIGEST.fullmatch(value):
        raise _Wrong("it is no digest")
    if isinstance(field, DateTimeTZField) and not EARLIEST <= _moment(value) <= datetime.now(UTC) + LATEST:
        raise _Wrong("it is no time at which something can have been written")


def _text(value: Any) -> None:
    if not isinstance(value, str):
        raise _Wrong("it is no text")
    if len(value) > MOST_TEXT:
        raise _Wrong("it is longer than any text that is written here")
    if "\0" in value:
        raise _Wrong("it holds a NUL")
    try:
        value.encode()
    except UnicodeEncodeError:
        raise _Wrong("it holds half of a character") from None


def _whole(bits: int) -> Callable[[Any], None]:
    def whole(value: Any) -> None:
        if isinstance(value, bool) or not isinstance(value, int) or not -(2 ** (bits - 1)) <= value < 2 ** (bits - 1):
            raise _Wrong("it is no whole number of a size that is counted here")

    return whole


def _number(value: Any) -> None:
    if isinstance(value, bool) or not isinstance(value, int | float) or not math.isfinite(value):
        raise _Wrong("it is no number")


def _yes_or_no(value: Any) -> None:
    if not isinstance(value, bool):
        raise _Wrong("it is neither true nor false")


def _moment(value: Any) -> datetime:
    _text(value)
    found = datetime.fromisoformat(value)
    if found.tzinfo is None:
        raise _Wrong("it is a time of no zone")
    return found


def _day(value: Any) -> None:
    _text(value)
    if not 1900 <= date.fromisoformat(value).year <= 2200:
        raise _Wrong("it is no day that anything is due")


def _name(value: Any) -> None:
    _text(value)
    UUID(value)


def _json(value: Any) -> None:
    """Of a bounded depth, without numbers and characters that cannot be stored."""
    left = [(value, 0)]
    while left:
        one, depth = left.pop()
        if depth > DEEPEST:
            raise _Wrong("it is nested too deeply")
        if isinstance(one, str):
            _text(one)
        elif isinstance(one, float):
            _number(one)
        elif isinstance(one, dict):
            left += [(name, depth + 1) for name in one]
            left += [(part, depth + 1) for part in one.values()]
        elif isinstance(one, list):
            left += [(part, depth + 1) for part in one]


# a kind of field comes before those that it is made of
READERS: dict[type, Callable[[Any], Any]] = {
    BinaryJSONField: _json,
    DateTimeTZField: _moment,
    peewee.DateField: _day,
    peewee.UUIDField: _name,
    peewee.BigIntegerField: _whole(64),
    peewee.IntegerField: _whole(32),
    peewee.DoubleField: _number,
    peewee.BooleanField: _yes_or_no,
    peewee.TextField: _text,
}


def _meaning(kind: type[peewee.Model], row: Mapping[str, Any]) -> None:
    """What is in a record, where pages are made of it."""
    reader = MEANINGS.get(kind._meta.table_name)
    if reader is not None:
        reader(row)


def _evidence(row: Mapping[str, Any]) -> None:
    found = Evidence.model_validate(row["body"])
    if (found.key, found.method) != (row["key"], row["method"]):
        raise _Wrong("it is another piece of evidence than it is called")
    _digests(TypeAdapter(list[str]).validate_python(row.get("files", [])))


def _kept(row: Mapping[str, Any]) -> None:
    Context.model_validate(row["context"])
    TypeAdapter(dict[str, Any]).validate_python(row.get("view", {}))
    if row.get("spec") is not None:
        Spec.model_validate(row["spec"])


def _meant(row: Mapping[str, Any]) -> None:
    if row["part"] not in PARTS:
        raise _Wrong("there is no such part of a meaning")
    PARTS[row["part"]].model_validate(row["body"])


def _judged(row: Mapping[str, Any]) -> None:
    if row.get("decision", "open") not in get_args(Decision):
        raise _Wrong("there is no such decision")
    if row.get("seen") is not None:
        Seen.model_validate(row["seen"])


def _report(row: Mapping[str, Any]) -> None:
    files = TypeAdapter(dict[str, str]).validate_python(row.get("files", {}))
    if not all(NAMED.fullmatch(name) for name in files):
        raise _Wrong("it has a file whose name could be a path")
    _digests(files.values())
    if row["number"] < 1:
        raise _Wrong("reports are numbered from 1")


def _given(row: Mapping[str, Any]) -> None:
    if row["input"] not in INPUTS:
        raise _Wrong("this release has no such input")
    InputCard.model_validate(row["card"])


def _task(row: Mapping[str, Any]) -> None:
    """Of all work only what Intake found when it was last finished; nothing that is still to be done."""
    if row["kind"] != "check" or row["state"] != "done" or row.get("finished") is None:
        raise _Wrong("it is work that is still to be done")
    payload, result = row["payload"], row["result"]
    if strange := sorted(set(payload) - CHECKED):
        raise _Wrong(f"it asks with “{strange[0]}”")
    Context.model_validate(payload["context"])
    Spec.model_validate(payload["spec"])
    TypeAdapter(dict[str, int]).validate_python(result["counts"])
    TypeAdapter(int).validate_python(result["unknown_outcomes"])
    TypeAdapter(list[str]).validate_python(result.get("classes", []))


def _digests(found: Iterable[Any]) -> None:
    if not all(isinstance(one, str) and DIGEST.fullmatch(one) for one in found):
        raise _Wrong("it names a file by something that is no digest")


def _of(column: str, kind: Any) -> Callable[[Mapping[str, Any]], None]:
    adapter = TypeAdapter(kind)

    def read(row: Mapping[str, Any]) -> None:
        adapter.validate_python(row.get(column))

    return read


MEANINGS: dict[str, Callable[[Mapping[str, Any]], None]] = {
    Audit._meta.table_name: _of("spec", Spec | None),
    "input_file": _given,
    "table_file": _of("profile", TableProfile),
    "model_version": _of("card", ModelCard),
    EvidenceRow._meta.table_name: _evidence,
    "kept": _kept,
    "raised": _of("context", Context),
    "meaning_version": _meant,
    "judgement": _judged,
    "remark": _of("changes", dict[str, Any]),
    "decision_rule": _of("rule", Rule | None),
    "candidate": _of("recipe", Recipe),
    "report_draft": _of("body", Document),
    "report": _report,
    "version_choice": _of("said", list[str] | None),
    Task._meta.table_name: _task,
}
