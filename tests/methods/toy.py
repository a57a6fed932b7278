"""A method in one file, as docs/development.md walks through it: how often a column's cells are written twice."""

from __future__ import annotations

from collections import Counter

from pydantic import Field

from zerotilt.core import words
from zerotilt.core.drawing import Bars
from zerotilt.core.findings import Finding
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Spec, Wording
from zerotilt.core.method import Method, Place
from zerotilt.core.reading import Reading, plain
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work


class EchoSettings(Frozen):
    column: str = Field(default="", description="A column of the table; its first one when empty")
    most: int = Field(default=5, ge=1, le=50, description="Values listed")


class Echo(Frozen):
    value: str
    rows: int


class EchoResult(Frozen):
    column: str
    rows: int
    echoes: tuple[Echo, ...]


def echoes(subject: Subject, settings: EchoSettings, seed: int, work: Work) -> EchoResult:
    """The commonest values of a column among the rows of the context."""
    name = settings.column or subject.table.names[0]
    cells = subject.table.texts(name)
    counts = Counter(cells[row] or "missing" for row in subject.rows.numbers)
    found = tuple(Echo(value=value, rows=rows) for value, rows in counts.most_common(settings.most))
    return EchoResult(column=name, rows=subject.n, echoes=found)


def say(result: EchoResult, wording: Wording, settings: EchoSettings) -> Reading:
    first = result.echoes[0]
    return plain(
        f"“{first.value}” stands in {words.count(first.rows)} of {words.count(result.rows)} {wording.rows}.",
        f"Column {words.title(result.column)}.",
    )


def repeated(result: EchoResult, spec: Spec) -> list[Finding]:
    """A value that stands in most of the rows."""
    return [
        Finding(
            name=f"echo: {result.column}",
            kind="concern",
            statement=f"“{one.value}” stands in most {spec.wording.rows}.",
            columns=(result.column,),
            rows=one.rows,
        )
        for one in result.echoes
        if one.rows > result.rows / 2
    ]


METHOD = Method(
    name="echo",
    area="intake",
    part="echo",
    title="Echoes",
    settings=EchoSettings,
    result=EchoResult,
    compute=echoes,
    say=say,
    note="The **commonest values** of one column, counted over the rows of the context.",
    main="echoes",
    needs=frozenset(),
    findings=repeated,
    unasked=lambda spec: {"column": "channel"},
    place=Place("Echoes", lambda subject, so_far, fewer: [({"column": "channel"}, "")]),
    picture=lambda result, spec: Bars(
        tuple(one.value for one in result.echoes), tuple(one.rows for one in result.echoes), "rows"
    ),
)
