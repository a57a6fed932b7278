"""The page for the person whom a case is about, from its evidence: HTML, and PDF made of it in a process of its own."""

from __future__ import annotations

import subprocess
import sys
from datetime import UTC, datetime
from threading import Semaphore
from typing import cast

from jinja2 import Environment, PackageLoader, StrictUndefined

from zerotilt.core import words
from zerotilt.core.case import person
from zerotilt.core.case.person import PersonResult
from zerotilt.core.evidence import Evidence
from zerotilt.core.meaning import Spec
from zerotilt.core.refusal import Refused
from zerotilt.report.letters import letters

ENVIRONMENT = Environment(
    loader=PackageLoader("zerotilt.report"),
    autoescape=True,
    undefined=StrictUndefined,
    trim_blocks=True,
    lstrip_blocks=True,
)
PRINT_SECONDS = 60
_PRESSES = Semaphore(2)
"""Pages printed at once; others wait their turn."""


def page(evidence: Evidence, spec: Spec, title: str, closing: str = "") -> str:
    """The page as one HTML document; nothing outside it is referred to.

    Parameters
    ----------
    title : of the audit.
    closing : what the sender adds: whom to ask, how to object. Plain text; an empty line begins a paragraph.

    Raises
    ------
    Refused : the evidence is of another method, or of an earlier version of it.
    """
    if evidence.method != person.METHOD.name or not evidence.readable:
        raise Refused("This result cannot be read as a page for a person.", todo="Open the case and compute it again.")
    result, wording = cast(PersonResult, evidence.typed), spec.wording
    widest = max((abs(one.contribution) for one in result.counted), default=0.0) or 1.0
    return ENVIRONMENT.get_template("person.html").render(
        result=result,
        wording=wording,
        words=words,
        fonts=letters(),
        title=title,
        made=f"{datetime.now(UTC):%d %B %Y}",
        about=list(person.about(result, wording)),
        facts=[
            (
                words.opening(words.title(one.feature)),
                one.value,
                person.moved(one, result, wording),
                one.contribution / widest,
            )
            for one in result.counted
        ],
        others=list(person.others(result, wording)),
        ways=[person.way(one, result, wording) for one in result.ways],
        kept=list(person.kept(result, wording)),
        no_cause=person.no_cause(result),
        closing=[part.strip() for part in closing.replace("\r\n", "\n").split("\n\n") if part.strip()],
        key=evidence.key[:12],
    )


def printed(html: str) -> bytes:
    """The page as a tagged PDF, made where nothing else runs.

    Raises
    ------
    Refused : it could not be made, or not in time.
    """
    with _PRESSES:
        try:
            made = subprocess.run(
                [sys.executable, "-m", "zerotilt.report.person"],
                input=html.encode(),
                capture_output=True,
                timeout=PRINT_SECONDS,
                check=True,
            )
        except subprocess.SubprocessError as failed:
            raise Refused("The page could not be printed.", todo="Open it as HTML, or try again.") from failed
    return made.stdout


if __name__ == "__main__":
    from zerotilt.report.forms import pdf

    sys.stdout.buffer.write(pdf(sys.stdin.buffer.read().decode()))
