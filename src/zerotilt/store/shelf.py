"""Large arrays of results: Arrow files beside the database, whose records say where they are."""

from __future__ import annotations

import hashlib
import io
import json
from typing import Any

import pyarrow as pa

from zerotilt.core.attached import digests_in
from zerotilt.store import ledger
from zerotilt.store.check import lock_file
from zerotilt.store.files import FileStore
from zerotilt.store.records import EvidenceRow

LARGE = 64 * 1024
"""Bytes, as JSON, from which on an array of records leaves the database."""
MARK = "arrow file"


def keep(files: FileStore, body: dict[str, Any]) -> None:
    """Write a piece of evidence, its large arrays as files; within a transaction. Files that go with it are there already."""
    result, digests = dict(body["result"]), list(digests_in(body["result"]).values())
    for digest in digests:
        lock_file(digest)
    for name, records in body["result"].items():
        data = _arrow(records)
        if data is None:
            continue
        digest = hashlib.sha256(data).hexdigest()
        lock_file(digest)  # nobody takes it away before the record names it
        files.put(data)
        result[name] = {MARK: digest}
        digests.append(digest)
    EvidenceRow.insert(
        key=body["key"], method=body["method"], body=body | {"result": result}, files=digests
    ).on_conflict_ignore().execute()
    ledger.seal(files, [body["key"]])


def whole(row: EvidenceRow, files: FileStore) -> dict[str, Any]:
    """A piece of evidence with its arrays in place.

    Raises
    ------
    Missing, Damaged : a file is not what the record says.
    """
    if not row.files:
        return row.body
    result = {name: _read(value, files) for name, value in row.body["result"].items()}
    return row.body | {"result": result}


def _arrow(records: Any) -> bytes | None:
    """Records as an Arrow file; None where they are few, or would not come back as they are."""
    if not (isinstance(records, list) and records and all(isinstance(one, dict) for one in records)):
        return None
    if len(json.dumps(records)) < LARGE:
        return None
    try:
        table = pa.Table.from_pylist(records)
    except (pa.ArrowInvalid, pa.ArrowTypeError, pa.ArrowNotImplementedError, OverflowError):
        return None  # values of several kinds in one column
    if table.to_pylist() != records:
        return None
    sink = io.BytesIO()
    with pa.ipc.new_file(sink, table.schema) as writer:
        writer.write_table(table)
    return sink.getvalue()


def _read(value: Any, files: FileStore) -> Any:
    if not (isinstance(value, dict) and set(value) == {MARK}):
        return value
    with pa.OSFile(str(files.verified(value[MARK]))) as source:
        return pa.ipc.open_file(source).read_all().to_pylist()
