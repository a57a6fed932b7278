"""After a change: what is answered is of now, or says that it is of before; what was decided keeps its own words."""

from __future__ import annotations

import re
import time

import psycopg2
import pytest
from tests.api import talk
from tests.api.test_findings import audit_of, listed, tilted

HERE = {"model": None, "rows": "all"}


@pytest.fixture
def own(client):
    """The address of a finished audit of recorded scores, with one flagged gap."""
    made = audit_of(client, tilted(1))
    address = f"/api/audits/{made}"
    talk.put_part(client, made, "wording", {"wording": NAMES})
    talk.read(client, made, "tilt", HERE)
    listed(client, address, HERE)
    yield address
    client.delete(f"{address}?for_good=true")


NAMES = {"row": "claim", "rows": "claims", "favourable": "settled at once", "unfavourable": "inspected"}


def view(client, own):
    return client.get(own).json()


def change(client, own, part: str, **changes):
    """One part of the meaning with something else in it; Intake is finished again where that is asked for."""
    spec = view(client, own)["spec"]
    names = talk.PARTS[part]
    answer = talk.put_part(client, own.rpartition("/")[2], part, {name: spec[name] for name in names} | changes)
    assert answer.status_code == 200, answer.text
    if not answer.json()["ready"]:
        assert talk.wait(client, client.post(f"{own}/finish", json={}).json())["state"] == "done"


def flip(client, own, favourable: str = "other") -> None:
    change(client, own, "problem", favourable=favourable)


def accepted(client, own, reason: str = "Explained by missing photographs.") -> dict:
    one = listed(client, own, HERE)[0]
    body = {"finding": one["name"], "evidence": one["evidence"], "read": one["number"], "author": "Ada"}
    answer = client.put(f"{own}/findings", json=body | {"decision": "accepted", "reason": reason})
    assert answer.status_code == 200, answer.text
    return one


def found_now(client, own) -> list[dict]:
    """Findings, once what is of before was measured again; which begins by itself."""
    for _ in range(200):
        found = client.post(f"{own}/findings", json=HERE).json()
        if not any(one["again"] and not one["author"] for one in found):
            return found
        time.sleep(0.05)
    raise AssertionError("it is still of before")


def by_name(found: list[dict], name: str) -> dict:
    return next(one for one in found if one["name"] == name)


def test_a_decision_does_not_survive_its_reversal_and_its_reason_is_told_as_of_then(client, own):
    one = accepted(client, own)
    assert by_name(listed(client, own, HERE), one["name"])["standing"]["decision"] == "accepted"
    flip(client, own)
    now = by_name(found_now(client, own), one["name"])
    assert now["standing"]["decision"] == "open" and now["statement"] != one["statement"]
    assert now["before"]["why"] == "the meaning of the columns"
    assert "accepted; reason: Explained by missing photographs" in now["before"]["said"]
    assert one["statement"] in now["before"]["said"]
    (before,) = client.post(f"{own}/findings/again", json=HERE).json()["findings"]
    assert (before["why"], before["verdict"], before["looked"]) == (
        "the meaning of the columns",
        "cannot be told",
        False,
    )
    assert before["statement"] == one["statement"] and "not of the same thing" in before["parts"][0]["sentence"]
    assert client.post(f"{own}/glance", json=HERE).json()["tilt"] >= 1
    # the report does not print it as decided
    done = talk.wait(client, client.post(f"{own}/reports", json=HERE).json())
    text = re.sub(r"<[^>]+>", "", client.get(f"{own}/reports/{done['result']['number']}/report.html").text)
    assert "Decision: accepted" not in text
    assert "Decided before, when the meaning of the columns was another: accepted" in text
    lacking = client.post(f"{own}/draft/preview", json=HERE).json()
    while lacking["task"]:
        talk.wait(client, lacking["task"])
        lacking = client.post(f"{own}/draft/preview", json=HERE).json()
    assert any("under another meaning" in said for said in lacking["lacking"])
    # back again, it holds as it did
    flip(client, own, "event")
    back = by_name(found_now(client, own), one["name"])
    assert back["standing"]["decision"] == "accepted" and back["before"] is None
    # decided again under the other meaning, it holds there
    flip(client, own)
    again = by_name(found_now(client, own), one["name"])
    body = {"finding": again["name"], "evidence": again["evidence"], "read": again["number"]}
    assert client.put(f"{own}/findings", json=body | {"decision": "to mend"}).status_code == 200
    assert by_name(found_now(client, own), one["name"])["standing"]["decision"] == "to mend"
    assert client.post(f"{own}/findings/again", json=HERE).json()["findings"] == []


def test_a_change_that_leaves_every_number_leaves_the_decision(client, own):
    one = accepted(client, own)
    change(client, own, "wording", wording=NAMES | {"rows": "parcels"})
    kept = by_name(found_now(client, own), one["name"])
    assert kept["standing"]["decision"] == "accepted" and kept["before"] is None
    columns = [
        column | ({"expected": None, "grouped": True, "cuts": [0.3, 0.6]} if column["name"] == "score" else {})
        for column in view(client, own)["spec"]["columns"]
    ]
    change(client, own, "schema", columns=columns)
    held = by_name(found_now(client, own), one["name"])
    # further comparisons adjust p-values; the gap, its interval and its rows are the same
    assert held["standing"]["decision"] == "accepted", held["before"]


def test_what_was_found_stays_marked_until_it_is_measured_again_by_itself(client, own):
    found = listed(client, own, HERE)
    open_before = client.post(f"{own}/glance", json=HERE).json()
    policy = view(client, own)["spec"]["policy"]
    change(client, own, "policy", policy=policy | {"ratio_low": 0.79})
    first = client.post(f"{own}/findings", json=HERE).json()
    assert [one["name"] for one in first] == [one["name"] for one in found]
    if first[0]["again"]:  # it may have been measured already
        assert first[0]["again"].endswith("is being measured again.")
        assert first[0]["statement"] == found[0]["statement"]
    assert client.post(f"{own}/glance", json=HERE).json() == open_before
    now = found_now(client, own)  # nobody opened a sheet
    assert [one["name"] for one in now] == [one["name"] for one in found]
    assert now[0]["evidence"] != found[0]["evidence"]
    # what is measured no more is not decided about
    body = {"finding": found[0]["name"], "evidence": found[0]["evidence"], "decision": "to mend", "read": 0}
    answer = client.put(f"{own}/findings", json=body)
    assert answer.status_code == 409 and "the flag policy changed since" in answer.json()["detail"]


def test_where_nothing_makes_groups_any_more_nothing_is_found_and_nothing_waits(client, own):
    columns = [
        one | ({"role": "ignored"} if one["name"] == "g" else {}) for one in view(client, own)["spec"]["columns"]
    ]
    change(client, own, "schema", columns=columns)
    assert client.post(f"{own}/findings", json=HERE).json() == []


def test_kept_figures_and_raised_findings_keep_their_words(client, own):
    key = talk.read(client, own.rpartition("/")[2], "tilt", HERE)["key"]
    kept = client.post(f"{own}/dossier", json={"key": key, "context": HERE}).json()
    said = "".join(span["text"] for span in kept["reading"]["headline"])
    assert "settled at once" in said or "claims" in said + kept["reading"]["detail"]
    body = {"statement": "Look at this.", "key": key, "context": HERE, "author": "Ada"}
    name = client.post(f"{own}/findings/raised", json=body).json()
    change(client, own, "wording", wording=NAMES | {"favourable": "inspected", "unfavourable": "settled at once"})
    (now,) = client.get(f"{own}/dossier").json()
    assert now["reading"] == kept["reading"] and now["changed"] == ["the wording"]
    open_sheet = talk.read(client, own.rpartition("/")[2], "tilt", HERE)
    assert open_sheet["key"] == key and open_sheet["reading"] != kept["reading"]  # the same numbers in the words of now
    flip(client, own)
    (now,) = client.get(f"{own}/dossier").json()
    assert now["reading"] == kept["reading"] and "the meaning of its columns" in now["changed"]
    raised = by_name(found_now(client, own), name)
    assert raised["again"].startswith("It was raised on a figure of before: the meaning of its columns")
    # decided under this meaning; not under the one before
    decided = {"finding": name, "evidence": raised["evidence"], "read": 0, "decision": "accepted", "reason": "Yes."}
    assert client.put(f"{own}/findings", json=decided).status_code == 200
    assert by_name(found_now(client, own), name)["standing"]["decision"] == "accepted"
    flip(client, own, "event")
    assert by_name(found_now(client, own), name)["standing"]["decision"] == "open"
    done = talk.wait(client, client.post(f"{own}/reports", json=HERE).json())
    text = client.get(f"{own}/reports/{done['result']['number']}/report.html").text
    piece = re.search('<section data-piece="kept".*?</section>', text, re.S)
    assert piece and said.split(".")[0] in re.sub(r"<[^>]+>", "", piece[0]).replace("&#39;", "'")


def test_the_same_figure_in_other_words_is_kept_beside_the_first(client, own):
    key = talk.read(client, own.rpartition("/")[2], "tilt", HERE)["key"]
    first = client.post(f"{own}/dossier", json={"key": key, "context": HERE}).json()
    assert client.post(f"{own}/dossier", json={"key": key, "context": HERE}).json()["id"] == first["id"]
    change(client, own, "wording", wording=NAMES | {"rows": "parcels"})
    second = client.post(f"{own}/dossier", json={"key": key, "context": HERE}).json()
    assert second["id"] != first["id"] and second["reading"] != first["reading"]


def test_a_renamed_segment_keeps_its_decisions_and_its_addresses(client, own):
    segment = {"name": "late (so) called", "conditions": [{"column": "g", "levels": ["a", "b"]}]}
    change(client, own, "comparisons", segments=[segment])
    there = HERE | {"segment": segment}
    talk.read(client, own.rpartition("/")[2], "tilt", there)
    one = next(each for each in listed(client, own, there) if each["kind"] == "disparity")
    assert "late (so) called" in one["name"]
    body = {"finding": one["name"], "evidence": one["evidence"], "read": 0, "decision": "accepted", "reason": "Known."}
    assert client.put(f"{own}/findings", json=body).status_code == 200
    renamed = segment | {"name": "a · b"}
    change(client, own, "comparisons", segments=[renamed])
    (now,) = view(client, own)["spec"]["segments"]
    assert (now["name"], now["formerly"]) == ("a · b", ["late (so) called"])
    talk.read(client, own.rpartition("/")[2], "tilt", HERE | {"segment": renamed})
    found = listed(client, own, HERE | {"segment": renamed})
    same = next(each for each in found if each["name"] == one["name"].replace("late (so) called", "a · b"))
    assert same["standing"]["decision"] == "accepted" and same["statement"].startswith("In a · b: ")
    # renamed again, both former names lead to it; a new segment of a former name is its own
    third = segment | {"name": "third"}
    change(client, own, "comparisons", segments=[third])
    assert view(client, own)["spec"]["segments"][0]["formerly"] == ["late (so) called", "a · b"]
    change(client, own, "comparisons", segments=[third, segment | {"conditions": [{"column": "g", "levels": ["a"]}]}])
    assert view(client, own)["spec"]["segments"][0]["formerly"] == ["a · b"]


def seen(audit: dict) -> dict[str, str]:
    return {"Audit-Seen": ";".join(f"{part}={tag}" for part, tag in audit["tags"].items())}


def test_what_was_decided_on_an_old_state_is_asked_again_with_what_has_changed(client, own):
    one = listed(client, own, HERE)[0]
    old = seen(view(client, own))
    key = one["evidence"]
    change(client, own, "policy", policy=view(client, own)["spec"]["policy"] | {"ratio_low": 0.78}, author="Bo")
    writes = [
        client.post(f"{own}/dossier", json={"key": key, "context": HERE}, headers=old),
        client.put(f"{own}/findings", json={"finding": one["name"], "decision": "to mend", "read": 0}, headers=old),
        client.post(f"{own}/findings/raised", json={"statement": "x", "key": key, "context": HERE}, headers=old),
        client.put(f"{own}/findings/gathering", json={"finding": one["parts"][0]["name"], "apart": True}, headers=old),
        client.post(f"{own}/candidates", json={}, headers=old),
        client.post(f"{own}/candidates/search", json={}, headers=old),
        client.post(f"{own}/finish", json={}, headers=old),
    ]
    for answer in writes:
        assert answer.status_code == 409 and "the flag policy was changed by Bo" in answer.json()["detail"]
    assert client.get(f"{own}/dossier").json() == []
    # what does not bear on it is no conflict
    now = seen(view(client, own))
    client.patch(own, json={"title": "Another name"})
    assert client.post(f"{own}/dossier", json={"key": key, "context": HERE}, headers=now).status_code == 201


def test_every_answer_says_in_which_state_it_was_read(client, own):
    audit = view(client, own)
    asked = [
        client.get(f"{own}/dossier"),
        client.post(f"{own}/findings", json=HERE),
        client.post(f"{own}/readings/performance", json={"context": HERE}),
        client.get(f"{own}/meaning/policy"),
        client.get(f"{own}/state"),
    ]
    told = {answer.headers["audit-state"] for answer in asked[1:]}
    assert len({one.split(" ")[0] for one in told}) == 1
    first = asked[0].headers["audit-state"].split(" ")
    assert first[:3] == [audit["basis"], audit["basis"], audit["state"]]
    parts = dict(one.split("=") for one in first[3].split(";"))
    assert {name: audit["tags"][name] for name in parts} == parts and "found" in parts
    before = view(client, own)
    now = client.get(f"{own}/state").json()
    assert (now["state"], now["basis"]) == (before["state"], before["basis"]) and now["tags"].items() <= before[
        "tags"
    ].items()
    for _ in range(2):  # to look changes nothing
        assert view(client, own)["state"] == before["state"]


def test_of_two_states_the_later_has_the_greater_clock_also_beside_who_is_still_writing(client, own, running):
    def clock(answer) -> int:
        return int(answer.headers["audit-state"].rpartition(" ")[2])

    clocks = [view(client, own)["clock"], client.get(f"{own}/state").json()["clock"]]
    with psycopg2.connect(**running.postgres.address) as slow:
        slow.cursor().execute("select pg_current_xact_id()")  # somebody who has begun to write before, and ends later
        for name in "abc":
            clocks.append(clock(client.patch(own, json={"title": name})))
            clocks.append(view(client, own)["clock"])
    clocks.append(clock(client.get(f"{own}/dossier")))
    assert clocks == sorted(clocks) and len({*clocks[2::2]}) == len(clocks[2::2])
    # what a writer tells of itself before it is written for all comes after what others saw, and before what they see then
    before = client.get(f"{own}/state").json()
    answer = talk.put_part(client, own.rpartition("/")[2], "wording", {"wording": NAMES | {"row": "case"}})
    assert before["clock"] < answer.json()["clock"] < clock(answer) <= client.get(f"{own}/state").json()["clock"]
    assert answer.json()["state"] == client.get(f"{own}/state").json()["state"]


def test_each_kind_of_write_changes_its_own_part_and_no_other(client, own):
    def tags():
        return view(client, own)["tags"]

    key = talk.read(client, own.rpartition("/")[2], "tilt", HERE)["key"]
    for part, write in {
        "dossier": lambda: client.post(f"{own}/dossier", json={"key": key, "context": HERE}),
        "decisions": lambda: client.post(f"{own}/findings/history", json={"finding": "x", "said": "Hm."}),
        "audit": lambda: client.patch(own, json={"title": "Yet another name"}),
        "draft": lambda: client.put(f"{own}/draft", json={"document": {"title": "T"}, "read": 0}),
        "expectations": lambda: talk.expect(client, own.rpartition("/")[2], "score", "rises"),
        "changeable": lambda: talk.put_part(
            client, own.rpartition("/")[2], "changeable", {"allowed": [{"feature": "score", "change": "none"}]}
        ),
        "wording": lambda: talk.put_part(client, own.rpartition("/")[2], "wording", {"wording": NAMES | {"row": "x"}}),
    }.items():
        before = tags()
        assert write().status_code < 300, part
        after = tags()
        changed = {name for name in after if before[name] != after[name]}
        assert part in changed and changed <= {part, "meaning"}, (part, changed)
    # taken back, what it holds is what it held
    before = tags()
    talk.put_part(client, own.rpartition("/")[2], "wording", {"wording": NAMES | {"row": "y"}})
    talk.put_part(client, own.rpartition("/")[2], "wording", {"wording": NAMES | {"row": "x"}})
    assert tags()["wording"] == before["wording"] and tags()["meaning"] != before["meaning"]


def test_the_report_that_is_written_is_the_page_that_was_shown(client, own):
    def page() -> dict:
        while True:
            found = client.post(f"{own}/draft/preview", json=HERE).json()
            if found["made_of"]:
                return found
            talk.wait(client, found["task"])

    shown = page()
    change(client, own, "policy", policy=view(client, own)["spec"]["policy"] | {"ratio_low": 0.77})
    write = {"shown": shown["made_of"], "reader": "full", "draft": 0}
    answer = client.post(f"{own}/reports", json=HERE, params=write)
    assert answer.status_code == 409 and "has changed since this page was shown" in answer.json()["detail"]
    assert client.get(f"{own}/reports").json() == []
    shown = page()
    client.put(f"{own}/draft", json={"document": {"title": "Written elsewhere"}, "read": 0, "author": "Bo"})
    answer = client.post(f"{own}/reports", json=HERE, params=write | {"shown": shown["made_of"]})
    assert answer.status_code == 409 and "written in another window since by Bo" in answer.json()["detail"]
    answer = client.post(f"{own}/reports", json=HERE, params=write | {"shown": page()["made_of"], "draft": 1})
    done = talk.wait(client, answer.json())
    assert done["state"] == "done", done
    preview = client.get(f"{own}/draft/preview/full").text
    report = client.get(f"{own}/reports/{done['result']['number']}/report.html").text

    # title and texts are the person's own, put into the page as they are typed; all else is compared
    for piece in ("flagged", "open", "short", "decided", "tilt", "performance", "unexamined"):
        sections = [re.search(f'<section data-piece="{piece}".*?</section>', html, re.S) for html in (preview, report)]
        assert all(sections), piece
        told = [re.sub(r"<[^>]+>", " ", found[0]) for found in sections if found]
        assert told[0] == told[1], piece


def test_the_version_that_was_checked_stays_until_somebody_chooses_another(client, audit):
    own = client.post(f"/api/audits/{audit['id']}/duplicate").json()["id"]
    address = f"/api/audits/{own}"
    checked = view(client, address)["checked_model"]
    spec = view(client, address)["spec"]
    columns = [
        one | ({"kind": "categorical"} if one["name"] == "claims_three_years" else {}) for one in spec["columns"]
    ]
    for wanted in (columns, spec["columns"]):
        talk.put_part(client, own, "schema", {"columns": wanted})
        now = view(client, address)
        assert (now["checked_model"], now["ready"]) == (checked, False)
    client.delete(f"{address}?for_good=true")
