"""What Intake's last step found, and the model version that it was finished with."""

from __future__ import annotations

from zerotilt.store.records import Audit, ModelVersion, Task


def last_check(audit: Audit) -> Task | None:
    """The check that Intake was last finished with."""
    done = (Task.kind == "check") & (Task.state == "done")
    return audit.tasks.where(done).order_by(Task.finished.desc()).first()


def chosen_version(audit: Audit) -> str | None:
    """The version that Intake was last finished with, whether or not it is there still.

    An audit that is read before its first check has ended, as the demo's are, opens with the version that is being checked.
    """
    found = last_check(audit)
    if found is None and audit.ready:
        found = audit.tasks.where(Task.kind == "check").order_by(Task.created.desc()).first()
    return found.payload["context"]["model"] if found else None


def opens_with(audit: Audit) -> str | None:
    """The version that the pages of an audit open with: the one chosen, else the newest."""
    chosen = chosen_version(audit)
    if chosen is not None and chosen in {str(one.id) for one in audit.models}:
        return chosen
    newest = audit.models.order_by(ModelVersion.created.desc()).first()
    return str(newest.id) if newest else None
