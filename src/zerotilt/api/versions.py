"""Where versions come from: their family, the code that made them, how two differ, and which was chosen."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from fastapi import APIRouter, HTTPException
from pydantic import BaseModel, Field

from zerotilt.api.desk import Seeing, connected, held, ready
from zerotilt.api.identity import Who, identifier
from zerotilt.api.meaning import Signed
from zerotilt.core.candidates.lines import RecipeLine, facts_of, lines_of
from zerotilt.core.candidates.recipe import Recipe
from zerotilt.core.candidates.remedied import sibling_of
from zerotilt.core.meaning import Spec
from zerotilt.core.predictors.made import Made
from zerotilt.core.refusal import Refused
from zerotilt.core.tasks import kind_of
from zerotilt.store.records import Audit, Candidate, ModelVersion, VersionChoice, VersionNote
from zerotilt.tasks.board import current_table
from zerotilt.tasks.candidates import standing

router = APIRouter(prefix="/api/audits/{audit_id}/versions", tags=["versions"])
Noted = Literal["script", "notebook cell", "git commit", "note"]


class NoteView(BaseModel):
    id: str
    kind: Noted
    text: str
    author: str
    created: datetime


class FamilyView(BaseModel):
    """A version in its family."""

    model: str
    name: str
    digest: str
    created: datetime
    parent: str | None = Field(description="The version that it came from")
    why: str = Field(description="Who says so: somebody, the recipe that was changed, or the same without its remedies")
    trained_here: bool
    remedies: tuple[str, ...]
    estimator: str
    script: str = Field(description="Code that made it, as its file says; empty where it does not")
    commit: str
    notes: list[NoteView]
    chosen: bool


class ChoiceView(BaseModel):
    model: str | None = Field(description="Null where the version was deleted since")
    name: str
    reason: str
    traded: str
    said: list[str] = Field(description="What was known of it when it was chosen")
    author: str
    created: datetime


class FamiliesView(BaseModel):
    versions: list[FamilyView] = Field(description="Each after the one that it came from")
    choices: list[ChoiceView] = Field(description="The newest, which holds, first")


class NewParent(BaseModel):
    parent: str | None = Field(description="None where it came from no other version")


class NewNote(Signed):
    kind: Noted
    text: str = Field(min_length=1, max_length=100_000)


class NewChoice(Signed):
    traded: str = Field(default="", max_length=20_000, description="What was given up for it")


def _made(model: ModelVersion) -> Made | None:
    told = model.card.get("made")
    return Made.model_validate(told) if told else None


def _version(audit: Audit, model_id: str) -> ModelVersion:
    found = ModelVersion.get_or_none((ModelVersion.id == identifier(model_id)) & (ModelVersion.audit == audit))
    if found is None:
        raise HTTPException(404, "There is no such model version.")
    return found


@router.get("")
@connected
def read_versions(audit: Audit) -> FamiliesView:
    """The audit's versions as a family, and which was chosen."""
    return _families(audit)


def _families(audit: Audit) -> FamiliesView:
    models = list(audit.models.order_by(ModelVersion.created, ModelVersion.id))
    recipes = {one.model_id: Recipe.model_validate(one.recipe) for one in audit.candidates}
    every = {recipe: str(key) for key, recipe in recipes.items()}
    choices = list(audit.choices.order_by(VersionChoice.created.desc()))
    parents: dict[str, tuple[str | None, str]] = {}
    for model in models:
        recipe = recipes.get(model.id)
        if model.parent_id is not None:
            why = "its recipe was changed into this one" if recipe else "somebody said so"
            parents[str(model.id)] = str(model.parent_id), why
        elif recipe is not None and recipe.remedies and (without := sibling_of(recipe, every)):
            parents[str(model.id)] = without, "the same without its remedies"
        else:
            parents[str(model.id)] = None, ""
    chosen = choices[0].model_id if choices else None
    views = {
        str(model.id): FamilyView(
            model=str(model.id),
            name=model.name,
            digest=model.digest,
            created=model.created,
            parent=parents[str(model.id)][0],
            why=parents[str(model.id)][1],
            trained_here=model.id in recipes,
            remedies=recipes[model.id].remedies if model.id in recipes else (),
            estimator=recipes[model.id].called if model.id in recipes else told.get("estimator", ""),
            script=told.get("script", ""),
            commit=told.get("commit", ""),
            notes=[_note(one) for one in model.notes.order_by(VersionNote.created)],
            chosen=model.id == chosen,
        )
        for model in models
        for told in [model.card.get("made") or {}]
    }
    return FamiliesView(versions=_in_families(views), choices=[_choice(one) for one in choices])


def _in_families(views: dict[str, FamilyView]) -> list[FamilyView]:
    """Each after the one that it came from, the oldest first."""
    children: dict[str | None, list[FamilyView]] = {}
    for one in views.values():
        children.setdefault(one.parent if one.parent in views else None, []).append(one)
    out: list[FamilyView] = []
    waiting = list(reversed(children.get(None, [])))
    while waiting:
        one = waiting.pop()
        out.append(one)
        waiting += reversed(children.get(one.model, []))
    return out


def _note(one: VersionNote) -> NoteView:
    return NoteView(id=str(one.id), kind=one.kind, text=one.text, author=one.author, created=one.created)


def _choice(one: VersionChoice) -> ChoiceView:
    return ChoiceView(
        model=str(one.model_id) if one.model_id else None,
        name=one.name,
        reason=one.reason,
        traded=one.traded,
        said=one.said,
        author=one.author,
        created=one.created,
    )


@router.put("/{model_id}/parent")
@connected
def set_parent(audit: Audit, model_id: str, saw: Seeing, wanted: NewParent) -> FamiliesView:
    """Say which version another came from."""
    saw.still(held(audit), "versions")
    model = _version(audit, model_id)
    parent = _version(audit, wanted.parent) if wanted.parent else None
    if parent is not None and (parent.created, str(parent.id)) >= (model.created, str(model.id)):
        raise Refused(
            f"“{parent.name}” was made after “{model.name}”, which cannot have come from it.",
            todo="Choose an older version.",
        )
    model.parent = parent
    model.save(only=[ModelVersion.parent])
    return _families(audit)


@router.post("/{model_id}/notes", status_code=201)
@connected
def add_note(audit: Audit, model_id: str, who: Who, wanted: NewNote) -> NoteView:
    """Note how a version was made: a script, a cell of a notebook, a git commit, or words."""
    held(audit)
    made = VersionNote.create(
        model=_version(audit, model_id), kind=wanted.kind, text=wanted.text, author=who.identity.signed(wanted.author)
    )
    return _note(VersionNote.get_by_id(made.id))


@router.delete("/{model_id}/notes/{note_id}", status_code=204)
@connected
def delete_note(audit: Audit, model_id: str, note_id: str) -> None:
    held(audit)
    model = _version(audit, model_id)
    if not VersionNote.delete().where((VersionNote.id == identifier(note_id)) & (VersionNote.model == model)).execute():
        raise HTTPException(404, "There is no such note.")


@router.get("/{model_id}/against/{other_id}")
@connected
def against(audit: Audit, model_id: str, other_id: str) -> list[RecipeLine]:
    """How two versions were made, line by line, what differs first."""
    return list(lines_of(*(_facts(_version(audit, one)) for one in (model_id, other_id))))


def _facts(model: ModelVersion) -> dict[str, str]:
    found = Candidate.get_or_none(Candidate.model == model)
    inputs = [one["name"] for one in model.card.get("inputs", [])]
    recipe = Recipe.model_validate(found.recipe) if found else None
    return facts_of(recipe, _made(model), found.table_digest if found else "", inputs)


@router.post("/{model_id}/choice", status_code=201)
@connected
def choose(audit: Audit, model_id: str, who: Who, seen: Seeing, wanted: NewChoice) -> ChoiceView:
    """Record that a version was chosen, why, and what was traded for it; what is known of it today is kept beside."""
    seen.still(held(audit), "meaning", "table", "versions", "rules")
    model = _version(audit, model_id)
    if not wanted.reason.strip():
        raise Refused("reason: a choice that nobody gives a reason for convinces nobody.", todo="Say why.")
    made = VersionChoice.create(
        audit=audit,
        model=model,
        name=model.name,
        digest=model.digest,
        reason=wanted.reason.strip(),
        traded=wanted.traded.strip(),
        said=_known_of(audit, model.name),
        author=who.identity.signed(wanted.author),
    )
    return _choice(VersionChoice.get_by_id(made.id))


def _known_of(audit: Audit, name: str) -> list[str]:
    """What stands of a version among the candidates: who leads, and what its remedies did to the gap."""
    spec = Spec.model_validate(ready(audit).spec)
    _, found = standing(audit, current_table(audit), spec, gap=kind_of(spec.task).headline)
    if name not in found.worth:
        return []
    own = [said for one, said in zip(found.remedied, found.remedies_said, strict=True) if one.name == name]
    return [*found.reading, *own]
