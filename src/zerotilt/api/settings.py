"""Settings of an audit as a file, and those of another audit or a file put to this one's table."""

from __future__ import annotations

import re
from typing import Annotated, Literal

from fastapi import APIRouter, Query
from fastapi.responses import Response
from pydantic import BaseModel, Field

from zerotilt import settings_file
from zerotilt.api.desk import connected, held
from zerotilt.api.identity import Who
from zerotilt.api.meaning import spec_of
from zerotilt.api.views import AuditView
from zerotilt.core.meaning import PARTS
from zerotilt.core.profiles import TableProfile
from zerotilt.core.refit import refit
from zerotilt.core.refusal import Refused
from zerotilt.settings_file import HowRead, SettingsFile
from zerotilt.store import meaning
from zerotilt.store.records import Audit, ModelVersion, given_to
from zerotilt.store.written import draft, write_draft
from zerotilt.tasks.board import current_table, rule_of, version_of

router = APIRouter(prefix="/api/audits/{audit_id}/settings", tags=["meaning"])


class Reading(BaseModel):
    """What the page is reading."""

    model: str | None = None
    rows: Literal["hold-out", "training", "all"] = "hold-out"
    output: Literal["probability", "log-odds"] = "probability"
    read_class: str = Field(default="", max_length=200)


class Taken(BaseModel):
    """Settings to be put to the audit's table: another audit's, or the text of a file."""

    audit: str | None = None
    file: str | None = Field(default=None, max_length=settings_file.MOST_BYTES)


class Fitted(BaseModel):
    audit: AuditView
    unfit: list[str] = Field(description="What did not fit the table, each in a sentence")


@router.get("", response_class=Response, responses={200: {"content": {"application/toml": {}}}})
@connected
def settings(audit: Audit, how: Annotated[Reading, Query()]) -> Response:
    """The audit's settings as TOML, which ``./zt audit`` and Intake read."""
    spec = spec_of(audit)
    model = version_of(audit, how.model)
    arranged, document = draft(audit)
    found = SettingsFile(
        spec=spec,
        table=current_table(audit).name,
        model=_file_name(model),
        inputs={one.input: one.name for one in given_to(audit)},
        document=document if arranged else None,
        reading=HowRead(rows=how.rows, output=how.output, read_class=how.read_class, rule=rule_of(model)),
    )
    name = re.sub(r"[^A-Za-z0-9]+", "-", audit.title).strip("-").lower()[:60] or "audit"
    return Response(
        settings_file.written(found),
        media_type="application/toml",
        headers={"Content-Disposition": f'attachment; filename="{name}.toml"'},
    )


def _file_name(model: ModelVersion | None) -> str:
    if model is None:
        return ""
    return model.name if model.name.endswith(".onnx") else f"{model.name}.onnx"


@router.post("")
@connected
def take_settings(audit: Audit, who: Who, wanted: Taken) -> Fitted:
    """Put the settings of another audit, or of a file, to this audit's table; what does not fit is named and left."""
    if (wanted.audit is None) == (wanted.file is None):
        raise Refused("Either another audit or a file is needed.", todo="Give one of the two.")
    # read before the audit is held: nobody else waits for it
    read = settings_file.read(wanted.file or "") if wanted.audit is None else None
    audit = held(audit)
    before = spec_of(audit)
    if wanted.audit is not None:
        other = who.audit(wanted.audit)
        given, reason = spec_of(other), f"as in “{other.title}”"
        number, document = draft(other)
        document = document if number else None
        ruled = any(rule_of(model) for model in other.models)
    else:
        assert read is not None
        given, reason, ruled = read.spec, "as in a file of settings", read.reading.rule is not None
        document = read.document
    spec, unfit = refit(given, TableProfile.model_validate(current_table(audit).profile), before)
    by = meaning.By(who.identity.signed(""), reason)
    # a policy's number says which of this audit's it is
    spec = spec.model_copy(update={"policy": spec.policy.model_copy(update={"number": before.policy.number})})
    for name, kind in PARTS.items():
        if spec.part(name) != before.part(name):
            meaning.write(audit, kind.model_validate(spec.part(name)), by)
    if document is not None:
        if draft(audit)[0]:  # what somebody has written here is not written over in passing
            unfit = (*unfit, "The report's parts are not taken: somebody has arranged this audit's own already.")
        else:
            write_draft(audit, document, 0, who.identity.signed(""))
    if ruled:  # somebody answers for a rule, for one version; so it is not carried to another in passing
        unfit = (
            *unfit,
            "A decision rule is not taken: it is put in force for a model version, in Tilt under Thresholds.",
        )
    return Fitted(audit=AuditView.whole(Audit.get_by_id(audit.id)), unfit=list(unfit))
