"""A second audit that starts from what the first one holds."""

from __future__ import annotations

from zerotilt.core.meaning import Spec
from zerotilt.store import meaning
from zerotilt.store.checks import last_check
from zerotilt.store.records import Audit, DecisionRule, ModelVersion, TableFile, Task, given_to

MOST_TITLE = 200


def duplicate(audit: Audit) -> Audit:
    """The same table and what was given with it, meaning, model versions and their decision rules; nothing of what was kept,
    decided or reported.

    Files and evidence are shared by their content, so that nothing is stored or computed twice.
    """
    made = Audit.create(title=_title(audit.title))
    table = audit.tables.order_by(TableFile.created.desc()).first()
    if table is not None:
        _copied(table, made)
    for given in given_to(audit):
        _copied(given, made)
    versions: dict[str, ModelVersion] = {}
    for model in audit.models.order_by(ModelVersion.created):
        parent = versions.get(str(model.parent_id))
        versions[str(model.id)] = version = _copied(model, made, parent=parent)
        last = model.rules.order_by(DecisionRule.number.desc()).first()
        if last is not None:
            own = {name: value for name, value in last.__data__.items() if name != "id"}
            DecisionRule.create(**own | {"model": version, "number": 1})
    if audit.spec is not None:
        meaning.begin(made, Spec.model_validate(audit.spec))
        made.ready = audit.ready
        made.save(only=[Audit.ready])
        if audit.ready:
            _copy_check(audit, made, versions)
    return Audit.get_by_id(made.id)


def _copy_check(audit: Audit, made: Audit, versions: dict[str, ModelVersion]) -> None:
    """What Intake's last step found: rows of each set, classes."""
    done = last_check(audit)
    if done is None:
        return
    context = done.payload["context"]
    found = versions.get(context["model"] or "")
    payload = done.payload | {"context": context | {"model": str(found.id) if found else None}}
    own = {name: value for name, value in done.__data__.items() if name not in ("id", "audit", "key", "payload")}
    Task.create(**own, audit=made, payload=payload)


def _copied(record, audit: Audit, **more):
    own = {name: value for name, value in record.__data__.items() if name not in ("id", "audit")}
    return type(record).create(**own | {"audit": audit} | more)


def _title(title: str) -> str:
    """“Loans” becomes “Loans, copy”, that “Loans, copy 2”, and so on, for as long as there is one of this name."""
    number = 1
    while True:
        found = f"{title[: MOST_TITLE - 12]}, copy" + (f" {number}" if number > 1 else "")
        if not Audit.select().where(Audit.title == found).exists():
            return found
        number += 1
