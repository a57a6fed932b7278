"""Flag policy, metrics, what is compared, decision rules: kept with who chose them, and followed."""

import pytest
from tests.api import talk


def flagged(found):
    return {(d["group"], d["metric"]) for d in found["result"]["disparities"] if d["status"] == "flagged"}


def test_a_changed_policy_is_numbered_kept_and_followed_while_drivers_stand(client, audit, context, restored):
    before, drivers = (talk.read(client, audit["id"], name, context) for name in ("tilt", "performance"))
    policy = before["result"]["policy"] | {"metrics": ["selection_rate"], "ratio_low": 0.4}
    answers = {"effect": "gives something", "harmed": "wrongly unfavourable", "labels": "tilted"}
    body = {"policy": policy, "answers": answers, "author": "A. Reader", "reason": "Labels were shaped by refusals."}
    saved = talk.put_part(client, audit["id"], "policy", body)
    assert saved.status_code == 200
    number = saved.json()["spec"]["policy"]["number"]
    versions = client.get(f"{restored}/meaning/policy").json()
    assert versions[0]["number"] == number and versions[0]["author"] == "A. Reader"
    assert versions[0]["answers"]["labels"] == "tilted"
    assert versions[0]["body"]["policy"]["ratio_low"] == 0.4
    assert versions[-1]["number"] == 1 and versions[-1]["author"] == ""
    after = talk.read(client, audit["id"], "tilt", context)
    assert {d["metric"] for d in after["result"]["disparities"]} == {"selection_rate"}
    assert after["result"]["policy"]["number"] == number and f"flag policy {number}" in after["reading"]["detail"]
    assert ("outer isles", "selection_rate") in flagged(before) and not flagged(after)
    again = talk.read(client, audit["id"], "performance", context)
    assert again["key"] == drivers["key"]  # what no limit changes is not computed again
    assert client.get(restored).json()["ready"]


def test_a_choice_is_somebodys_and_of_metrics_that_are_defined(client, audit, context, restored):
    policy = client.get(restored).json()["spec"]["policy"]
    unsigned = talk.put_part(client, audit["id"], "policy", {"policy": policy | {"alpha": 0.04}, "author": " "})
    assert unsigned.json()["meaning"]["policy"]["author"] == "somebody unnamed"  # who asks, as long as nobody signs in
    wrong = talk.put_part(client, audit["id"], "policy", {"policy": policy | {"metrics": ["mae"]}})
    assert wrong.status_code == 422 and "not defined for binary" in wrong.json()["detail"]
    wrong = talk.put_part(client, audit["id"], "policy", {"policy": policy | {"ratio_low": 1.5}})
    assert wrong.status_code == 422


def test_the_guide_proposes_with_the_audits_own_words(client, restored):
    answers = {"effect": "gives something", "harmed": "wrongly unfavourable", "labels": "trusted"}
    found = client.post(f"{restored}/guide", json=answers).json()
    assert found[0]["metric"] == "true_positive_rate"
    assert "settled at once" in found[0]["reason"]


def test_crossings_and_segments_are_compared_at_once(client, audit, context, restored):
    spec = client.get(restored).json()["spec"]
    segment = {
        "name": "heavy by telephone",
        "conditions": [{"column": "channel", "levels": ["telephone"]}, {"column": "parcel_weight", "over": 10}],
    }
    body = {"intersections": [["home_area", "age_band"]], "segments": [segment]}
    assert talk.put_part(client, audit["id"], "comparisons", body).status_code == 200
    view = client.get(restored).json()
    assert view["ready"] and view["groupings"][-2:] == ["home_area · age_band", "(segments)"]
    found = talk.read(client, audit["id"], "tilt", context)["result"]
    mine = next(g for g in found["groups"] if g["group"] == "heavy by telephone")
    cases = talk.read(client, audit["id"], "cases", context, {"group": "(segments)", "member": "heavy by telephone"})
    assert cases["result"]["matching"] == mine["rows"] == 126
    assert spec["columns"] == client.get(restored).json()["spec"]["columns"]


def test_a_segment_is_read_by_every_sheet_and_named_in_its_evidence(client, audit, context):
    segment = {"name": "heavy by telephone", "conditions": [
        {"column": "channel", "levels": ["telephone"]}, {"column": "parcel_weight", "over": 10},
    ]}  # fmt: skip
    within = context | {"segment": segment}
    whole, part = (talk.read(client, audit["id"], "performance", one) for one in (context, within))
    assert part["rows"] == 126 < whole["rows"] and part["key"] != whole["key"]
    assert part["reading"]["headline"][0]["text"] == "In heavy by telephone: "
    assert "of these “heavy by telephone”: channel is telephone, parcel weight over 10" in part["rows_described"]
    cases = talk.read(client, audit["id"], "cases", within)["result"]
    assert cases["total"] == cases["matching"] == 126
    own = f"/api/audits/{audit['id']}"
    kept = client.post(f"{own}/dossier", json={"key": part["key"], "context": within}).json()
    assert kept["context"]["segment"]["name"] == "heavy by telephone" and kept["changed"] == []
    assert client.delete(f"{own}/dossier/{kept['id']}").status_code == 204
    none = context | {"segment": {"name": "nobody", "conditions": [{"column": "parcel_weight", "over": 1e9}]}}
    task = talk.wait(client, client.post(f"{own}/readings/performance", json={"context": none}).json()["task"])
    assert "There are no held-out rows with a known outcome in “nobody”" in task["error"]["message"]
    for wrong in ({"name": "", "conditions": segment["conditions"]}, {"name": "x", "conditions": []}):
        answer = client.post(f"{own}/readings/performance", json={"context": context | {"segment": wrong}})
        assert answer.status_code == 422


@pytest.mark.parametrize(
    ("body", "message"),
    [
        ({"intersections": [["home_area", "nowhere"]], "segments": []}, "no column “nowhere”"),
        ({"intersections": [["home_area"] * 4], "segments": []}, "takes two or three columns"),
        ({"intersections": [], "segments": [{"name": "s", "conditions": [{"column": "channel", "levels": ["app"]}]}] * 2}, "same name"),
        ({"intersections": [], "segments": [{"name": "s", "conditions": [{"column": "nowhere", "missing": True}]}]}, "not there"),
    ],
)  # fmt: skip
def test_what_cannot_be_compared_is_said(client, audit, restored, body, message):
    answer = talk.put_part(client, audit["id"], "comparisons", body)
    assert answer.status_code == 422 and message in answer.json()["detail"]


def test_a_rule_by_group_is_in_force_everywhere_and_taken_back(client, audit, context, restored):
    plain = talk.read(client, audit["id"], "tilt", context)
    rule = {"threshold": 0.5, "columns": ["home_area"], "thresholds": [{"group": "outer isles", "threshold": 0.25}]}
    address = f"{restored}/models/{context['model']}/rule"
    assert client.put(address, json={"rule": rule, "author": "A. Reader", "reason": "to see"}).status_code == 200
    assert client.get(restored).json()["models"][0]["rule"]["thresholds"][0]["threshold"] == 0.25
    ruled = talk.read(client, audit["id"], "tilt", context)
    assert ruled["key"] != plain["key"] and ruled["context"]["rule"] == rule

    def rate(found, group):
        return next(g for g in found["result"]["groups"] if g["group"] == group)["metrics"]["selection_rate"]["value"]

    assert rate(ruled, "outer isles") > rate(plain, "outer isles")
    assert rate(ruled, "uplands") == rate(plain, "uplands")
    query = {"which": "true positive", "group": "home_area", "member": "outer isles", "limit": 100}
    cases = talk.read(client, audit["id"], "cases", context, query)["result"]
    assert any(0.25 <= case["output"] < 0.5 for case in cases["cases"])
    low = next(case for case in cases["cases"] if case["output"] < 0.5)
    ladder = talk.read(client, audit["id"], "ladder", context | {"output": "log-odds"}, {"row": low["row"]})["result"]
    assert ladder["predicted"] and ladder["threshold"] == pytest.approx(-1.0986, abs=1e-3)
    assert client.put(address, json={"rule": None, "author": "A. Reader"}).status_code == 200
    assert talk.read(client, audit["id"], "tilt", context)["key"] == plain["key"]
    assert [one["rule"] is None for one in client.get(f"{address}s").json()][:2] == [True, False]


def test_two_versions_are_read_alongside_under_the_rule_of_each(client, audit, context, restored):
    other = client.get(restored).json()["models"][1]["id"]
    client.put(f"{restored}/models/{other}/rule", json={"rule": {"threshold": 0.7}, "author": "A. Reader"})
    found = talk.read(client, audit["id"], "tilt", context | {"alongside": {"model": other}})["result"]
    cost = next(one for one in found["beside"]["costs"] if one["metric"] == "selection_rate")
    assert cost["alongside"]["value"] < cost["here"]["value"] - 0.1
    assert found["beside"]["shared"]
    rows = talk.read(client, audit["id"], "tilt", context | {"alongside": {"rows": "training"}})["result"]
    assert not rows["beside"]["shared"] and rows["beside"]["rows"] == 6_000


@pytest.mark.parametrize(
    ("rule", "status"),
    [
        ({"threshold": 1.5}, 422),
        ({"threshold": 0.5, "columns": ["home_area"]}, 422),
        ({"threshold": 0.5, "columns": ["nowhere"], "thresholds": [{"group": "a", "threshold": 0.1}]}, 422),
    ],
)
def test_a_rule_that_says_nothing_is_refused(client, context, restored, rule, status):
    assert (
        client.put(f"{restored}/models/{context['model']}/rule", json={"rule": rule, "author": "a"}).status_code
        == status
    )


def test_a_version_that_is_not_there_has_no_rule(client, restored):
    nobody = "00000000-0000-0000-0000-000000000000"
    assert client.get(f"{restored}/models/{nobody}/rules").status_code == 404
