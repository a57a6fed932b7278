"""What is answered and asked for about reports."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated

from pydantic import BaseModel, Field, StringConstraints

from zerotilt.api.views import TaskView
from zerotilt.report.changes import Changes
from zerotilt.report.document import Document, Reader
from zerotilt.store.records import Report, Signature

Name = Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=200)]
FILES = ("report.html", "summary.html", "public.html", "audit.json", "tables.zip", "evidence.json")


class SectionView(BaseModel):
    """A piece that is filled from evidence and findings."""

    name: str
    title: str
    readers: list[Reader] = Field(description="Who reads it at first")
    publishable: bool = Field(description="Whether it can leave out what would tell of few people")
    asks: str = Field(description="What only a person can write of it")


class DraftView(BaseModel):
    """The document that the next report is written from."""

    number: int = Field(description="Of its version; 0 while nobody has touched it")
    document: Document
    author: str
    changed: datetime | None
    together: bool = Field(
        default=False, description="Whether what somebody else wrote meanwhile was put together with it"
    )
    sections: list[SectionView]


class NewDraft(BaseModel):
    document: Document
    read: int = Field(ge=0, description="Number of the version that it was changed from")
    author: Annotated[str, StringConstraints(strip_whitespace=True, max_length=200)] = ""


class PreviewView(BaseModel):
    """A reader's page before it is written; what it is made from is computed by the task while there is none yet."""

    page: str | None = Field(description="Digest of the page, which names it; null while there is none of today")
    made_of: str | None = Field(
        description="Digest of what the page is made of, to be given back by who has the report written"
    )
    lacking: list[str] = Field(description="What is missing, in sentences")
    task: TaskView | None


class NumberView(BaseModel):
    name: str
    text: str
    more: str


class Prose(BaseModel):
    text: Annotated[str, StringConstraints(max_length=50_000)]


class ProseView(BaseModel):
    html: str
    unknown: list[str] = Field(description="Numbers that it names and that are not there")


class SignatureView(BaseModel):
    number: int
    name: str
    role: str
    note: str
    signed: datetime
    digest: str = Field(description="SHA-256 of what was signed, which names the signature before")

    @classmethod
    def of(cls, one: Signature) -> SignatureView:
        return cls(number=one.number, name=one.name, role=one.role, note=one.note, signed=one.created, digest=one.file)


class NewSignature(BaseModel):
    name: Name
    role: Name
    note: Annotated[str, StringConstraints(strip_whitespace=True, max_length=20_000)] = ""


class FormView(BaseModel):
    task: TaskView | None = Field(description="That makes it; null where it is there")


class ReportView(BaseModel):
    number: int
    title: str
    flagged: int
    tested: int | None = Field(description="Comparisons that could be tested; null in reports of earlier versions")
    digest: str = Field(description="SHA-256 of what was written: of the manifest that names every file")
    files: list[str]
    signatures: list[SignatureView]
    signable: bool
    created: datetime

    @classmethod
    def of(cls, report: Report) -> ReportView:
        return cls(
            number=report.number,
            title=report.title,
            flagged=report.flagged,
            tested=report.tested,
            digest=report.manifest or report.html_digest,
            files=[name for name in FILES if name in report.files] if report.files else ["report.html", "audit.json"],
            signatures=[SignatureView.of(one) for one in report.signatures.order_by(Signature.number)],
            signable=report.manifest is not None,
            created=report.created,
        )


class ChangesView(Changes):
    since: int = Field(description="Number of the earlier report")
