"""One question in SQL, asked of one table in memory: read only, bounded, and out of reach of files, network and settings."""

from __future__ import annotations

import json
import os
import re
from collections.abc import Callable, Iterator, Mapping
from functools import partial
from typing import Any, BinaryIO, NamedTuple

import pyarrow as pa

from zerotilt.core import words
from zerotilt.core.bounded import bounded
from zerotilt.core.refusal import Refused

SECONDS = 30.0
MEMORY = "1GB"
GRANTED = 2**30
"""Bytes that a question may take, whatever the engine takes them for; the engine itself keeps to less."""
MOST_ROWS, MOST_COLUMNS, MOST_BYTES = 1_000_000, 1_000, 256 * 2**20
TABLE = "rows"
"""What the table is called in a question."""

_SHUT = {
    "enable_external_access": "false",
    "autoinstall_known_extensions": "false",
    "autoload_known_extensions": "false",
    "python_enable_replacements": "false",
    "allow_community_extensions": "false",
    "memory_limit": "600MB",
    "threads": "2",
    "max_temp_directory_size": "0B",
    "temp_directory": "",
}
_OF_TABLES = {"generate_series", "range", "unnest", "repeat", "repeat_row"}
"""Functions that may stand where a table stands; all others read files, settings or other questions."""
_OF_SETTINGS = re.compile(
    r"^(duckdb_|pragma_|current_setting|getenv|read_|write_|json_execute|json_serialize_sql|query|which_)"
)
HOW = f"It is one question that begins with SELECT or WITH, over the table {TABLE}."


class Answer(NamedTuple):
    table: pa.Table
    whole: bool
    """Whether these are all its rows."""


def _read(shut: Any, text: str) -> tuple[str, set[str]]:
    """The one statement of a question, and every name and text in it in small letters, "*" where it holds a star."""
    import duckdb  # here, so that nothing that asks no question loads it

    try:
        statements = shut.extract_statements(text)
    except duckdb.Error as error:
        raise _refused(error) from None
    if len(statements) != 1 or statements[0].type != duckdb.StatementType.SELECT:
        what = "This is empty." if not statements else "This changes something, or is more than one question."
        raise Refused(f"{what} {HOW}", where="question", todo="Ask one question that only reads.")
    query = statements[0].query
    ends = [
        place for place, kind in duckdb.tokenize(query) if kind == duckdb.token_type.operator and query[place] == ";"
    ]
    query = query[: ends[-1]] if ends else query  # what stands behind it are remarks
    ((found,),) = shut.execute("SELECT json_serialize_sql(?)", [query]).fetchall()
    tree: dict[str, Any] = json.loads(found)
    if tree.get("error", True):
        raise Refused(
            f"This cannot be read: {tree.get('error_message', 'it is no plain SELECT')}. {HOW}", where="question"
        )
    return query, _checked(tree)


def _checked(tree: Any) -> set[str]:
    names: set[str] = set()
    tables: set[str] = set()
    own: set[str] = {TABLE}
    called, whole = {TABLE}, set()  # what the table is called, and what stands where a column does
    for node in _nodes(tree):
        kind = node.get("type")
        if kind == "BASE_TABLE":
            if node.get("schema_name") or node.get("catalog_name"):
                raise Refused(
                    f"There is one table, {TABLE}; “{node['schema_name']}” is out of reach.", where="question"
                )
            tables.add(str(node.get("table_name", "")).lower())
        if "cte_map" in node:
            own |= {str(one.get("key", "")).lower() for one in node["cte_map"].get("map", [])}
        if (
            kind == "STAR"
            or node.get("class") == "STAR"
            or node.get("ref_type") == "NATURAL"
            or node.get("using_columns")
        ):
            names.add("*")
        if kind == "BASE_TABLE" and node.get("alias"):
            called.add(str(node["alias"]).lower())
        if kind == "COLUMN_REF":
            whole.update(str(one).lower() for one in node.get("column_names", [])[-1:])
        function = str(node.get("function_name", "")).lower()
        if kind == "TABLE_FUNCTION":
            function = str(node.get("function", {}).get("function_name", "")).lower()
            if function not in _OF_TABLES:
                raise Refused(
                    f"“{function}” is out of reach of a question: no files, network or settings.", where="question"
                )
        if function and _OF_SETTINGS.match(function):
            raise Refused(
                f"“{function}” is out of reach of a question: no files, network or settings.", where="question"
            )
        names |= {value.lower() for value in _texts(node)}
    if strange := sorted(tables - own):
        raise Refused(f"There is no table “{strange[0]}”. {HOW}", where="question")
    if called & whole:  # a row as one value holds all columns
        names.add("*")
    return names


def _nodes(tree: Any) -> Iterator[dict[str, Any]]:
    left = [tree]
    while left:
        one = left.pop()
        if isinstance(one, dict):
            yield one
            left.extend(one.values())
        elif isinstance(one, list):
            left.extend(one)


def _texts(node: Mapping[str, Any]) -> Iterator[str]:
    for value in node.values():
        for one in value if isinstance(value, list) else [value]:
            if isinstance(one, str):
                yield one


def ask(text: str, table: Callable[[set[str]], pa.Table], seconds: float = SECONDS) -> Answer:
    """The answer to one question.

    Parameters
    ----------
    table : makes the table, given all that the question could name of it in small letters; ``"*"`` for everything.

    Raises
    ------
    Refused : it is no single question, asks for something besides the one table or for what is not there, takes too long
        or too much memory, or has too many columns.
    """
    import duckdb

    with duckdb.connect(config=_SHUT) as shut:
        query, names = _read(shut, text)
    made = table(names)
    with os.fdopen(os.memfd_create("answer"), "w+b") as told:
        ended = bounded(partial(_answer, query, made, told), seconds, GRANTED, told)
        if ended == "late":
            raise Refused(
                f"The question took longer than {seconds:g} seconds and was ended.",
                where="question",
                todo="Ask for less: fewer rows, no joins of all with all.",
            )
        if ended != "done":
            raise Refused(
                f"The question needs more than {MEMORY} of memory and was ended.",
                where="question",
                todo="Ask for less: fewer rows, columns or groups.",
            )
        told.seek(0)
        kind, body = told.read(1), told.read()
    if kind == REFUSED:
        raise Refused(**json.loads(body))
    found = pa.ipc.open_stream(pa.py_buffer(body)).read_all()
    return Answer(found, kind == WHOLE)


REFUSED, WHOLE, PART = b"r", b"w", b"p"


def _answer(query: str, made: pa.Table, told: BinaryIO) -> None:
    """Answer in a process of its own, and write the answer, or why there is none, into a file."""
    try:
        found = _found(query, made)
    except Refused as problem:
        told.write(REFUSED + json.dumps(problem.as_dict()).encode())
    else:
        told.write(WHOLE if found.whole else PART)
        with pa.ipc.new_stream(told, found.table.schema) as stream:
            stream.write_table(found.table)
    told.flush()


def _found(query: str, made: pa.Table) -> Answer:
    """What the engine answers; it looks for no time and memory but its own."""
    import duckdb

    with duckdb.connect(config=_SHUT) as shut:
        shut.register(TABLE, made)
        shut.execute("SET lock_configuration = true")
        try:
            shut.execute(
                f"EXPLAIN {query}"
            ).fetchall()  # what is wrong in it is found here, where its lines are still its own
            bounded_by_rows = shut.sql(f"SELECT * FROM (\n{query}\n) AS asked LIMIT {MOST_ROWS + 1}")
            if len(bounded_by_rows.columns) > MOST_COLUMNS:
                raise Refused(
                    f"The answer would have {words.count(len(bounded_by_rows.columns))} columns; {words.count(MOST_COLUMNS)} can be shown.",
                    where="question", todo="Name the columns that are wanted.",
                )  # fmt: skip
            return _gathered(bounded_by_rows.to_arrow_reader(65_536))
        except duckdb.OutOfMemoryException:
            raise MemoryError from None
        except duckdb.Error as error:
            raise _refused(error) from None


def _gathered(reader: pa.RecordBatchReader) -> Answer:
    batches, rows, size, whole = [], 0, 0, True
    for batch in reader:
        if rows + batch.num_rows > MOST_ROWS:
            batch, whole = batch.slice(0, MOST_ROWS - rows), False
        batches.append(batch)
        rows, size = rows + batch.num_rows, size + batch.nbytes
        if size > MOST_BYTES or not whole:
            whole = False
            break
    return Answer(pa.Table.from_batches(batches, reader.schema), whole)


def _refused(error: Exception) -> Refused:
    """What the engine says, without its own words for kinds of errors."""
    said = re.sub(r"^[A-Za-z ]+ Error: ", "", str(error)).strip()
    said, _, place = said.partition("\n\n")
    line = re.match(r"LINE (\d+)", place)
    where = f"question, line {line[1]}" if line else "question"
    text = " ".join(said.split())
    return Refused(
        f"The question cannot be answered: {text[:1].lower()}{text[1:400].rstrip('.!')}.",
        where=where,
        todo="Mend it and ask again.",
    )
