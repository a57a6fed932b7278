"""Settings of an audit as a TOML file: what its columns are, what is predicted and compared, and how it is read."""

from __future__ import annotations

from typing import Any, Literal

import tomli_w
from pydantic import Field, ValidationError

from zerotilt.core import parsing
from zerotilt.core.frozen import Frozen, in_words
from zerotilt.core.meaning import PARTS, Rule, Spec
from zerotilt.core.refusal import Refused
from zerotilt.report.document import Document

HEAD = """\
# Settings of an audit by Zero Tilt.
# ./zt audit THIS_FILE reads them; Intake takes them for another table.
"""
MOST_BYTES = parsing.MOST_TOML


class HowRead(Frozen):
    """What the pages were reading when the file was written."""

    rows: Literal["hold-out", "training", "all"] = "hold-out"
    output: Literal["probability", "log-odds"] = "probability"
    read_class: str = ""
    rule: Rule | None = None


class SettingsFile(Frozen):
    """A file of settings, read."""

    spec: Spec
    table: str = Field(default="", description="Name of the table file, beside the settings")
    model: str = Field(
        default="", description="Name of the model file, beside the settings; empty for recorded predictions"
    )
    inputs: dict[str, str] = Field(
        default={}, max_length=50, description="Names of files that some methods read besides, by their inputs"
    )
    report: str = Field(default="report", description="Folder for the report, beside the settings")
    reading: HowRead = HowRead()
    document: Document | None = Field(
        default=None, description="The report's parts in their order; as at first when left out"
    )


def written(settings: SettingsFile) -> str:
    """The file's text. Of columns only what is not usual is written; nothing stands for what has no value."""
    body: dict[str, Any] = {"zerotilt": 1}
    body |= {name: getattr(settings, name) for name in ("table", "model", "report")}
    if settings.inputs:
        body["inputs"] = settings.inputs
    body["reading"] = _without_none(settings.reading.model_dump(mode="json"))
    for name in PARTS:
        if name == "schema":
            continue
        part = settings.spec.part(name)
        body |= part if set(part) == {name} else {name: part}
    if settings.document is not None:
        body["document"] = settings.document.model_dump(mode="json", exclude_defaults=True)
    usual = {"columns": {"__all__": {"expected"}}}
    body["columns"] = settings.spec.model_dump(mode="json", include={"columns"}, exclude=usual, exclude_defaults=True)[
        "columns"
    ]
    return HEAD + "\n" + tomli_w.dumps(_without_none(body))


def _without_none(value: Any) -> Any:
    if isinstance(value, dict):
        return {name: _without_none(one) for name, one in value.items() if one is not None}
    return [_without_none(one) for one in value] if isinstance(value, list) else value


def read(text: str) -> SettingsFile:
    """A settings file.

    Raises
    ------
    Refused : it is no TOML, no settings file, or holds what cannot be; the message says where.
    """
    body = parsing.toml(text)
    if body.pop("zerotilt", None) != 1:
        raise Refused(
            "This is no file of settings that is known here: it does not say zerotilt = 1.",
            todo="Give a file that Intake or the report wrote.",
        )
    parts: dict[str, Any] = {"schema": {"columns": body.pop("columns", [])}}
    for name, kind in PARTS.items():
        if name in body:
            part = body.pop(name)
            parts[name] = {name: part} if set(kind.model_fields) == {name} else part
    try:
        if not isinstance(parts["schema"]["columns"], list) or not all(
            isinstance(column, dict) and isinstance(column.get("name"), str) for column in parts["schema"]["columns"]
        ):
            raise Refused("columns: a list of tables is needed, each with a name.")
        for name, part in parts.items():
            _checked(name, part)
        return SettingsFile(spec=Spec.joined(parts), **body)
    except ValidationError as problem:
        raise _refusal(problem) from None


def _checked(name: str, part: Any) -> None:
    try:
        PARTS[name].model_validate(part)
    except ValidationError as problem:
        raise _refusal(problem, "" if name == "schema" else name) from None


def _refusal(problem: ValidationError, part: str = "") -> Refused:
    first = problem.errors()[0]
    place = [str(one + 1) if isinstance(one, int) else str(one) for one in first["loc"]]
    where = ".".join(place if place[:1] == [part] or not part else [part, *place]) or "settings"
    given = f" ({first['input']!r} was given)" if isinstance(first.get("input"), str | int | float | bool) else ""
    return Refused(f"{where}: {in_words(first)}{given}.", where="settings file", todo="Correct it there.")
