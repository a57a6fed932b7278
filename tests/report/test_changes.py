"""Two reports set side by side: every number with the interval of its change, every sentence that is new, gone or otherwise."""

import json

import pytest
from tests.report.test_render import DIGESTS, HOSTILE, rendered, subject_of

from zerotilt.report.auditfile import audit_file
from zerotilt.report.changes import changes


def report(subject) -> tuple[str, dict]:
    bundle, html = rendered(subject)
    return html, json.loads(audit_file(bundle, subject, DIGESTS.table, subject.spec).to_json())


@pytest.fixture(scope="module")
def both():
    return report(subject_of(n=300)), report(subject_of(n=800))


def test_a_report_differs_in_nothing_from_itself(both):
    found = changes(both[0], both[0])
    assert (found.sentences, found.numbers, found.only_before, found.only_now) == ((), (), (), ())
    assert found.same > 20 and found.same_table


def test_every_number_that_changed_is_named_once_with_its_change(both):
    (_, before), (_, now) = both
    found = changes(*both)
    by_name = {one.name: one for one in found.numbers}
    assert len(by_name) == len(found.numbers)
    one = by_name["performance / accuracy"]
    was, is_ = before["performance"]["accuracy"], now["performance"]["accuracy"]
    assert (one.before.value, one.now.value) == (was["value"], is_["value"])
    assert one.change.value == pytest.approx(is_["value"] - was["value"])
    low = one.change.value - ((is_["value"] - is_["low"]) ** 2 + (was["high"] - was["value"]) ** 2) ** 0.5
    assert one.change.low == pytest.approx(low)  # Zou & Donner (2008), by hand
    ratio = next(one for one in found.numbers if one.scale == "ratio")
    assert ratio.change.value == pytest.approx(ratio.now.value / ratio.before.value)
    for one in found.numbers:
        none = 1 if one.scale == "ratio" else 0
        inside = one.change.low is None or one.change.low <= none <= one.change.high
        assert one.beyond == (not inside) and ("; not told apart." in one.sentence) == (
            inside and one.change.low is not None
        )
    assert [one.beyond for one in found.numbers] == sorted((one.beyond for one in found.numbers), reverse=True)


def test_sentences_are_set_beside_what_they_were(both):
    found = changes(*both)
    first = next(one for one in found.sentences if one.section == "In short" and one.before and one.now)
    assert "300 rows" in first.before and "800 rows" in first.now
    html, numbers = both[0]
    longer = html.replace(
        "</main>", '<section data-piece="own"><h2>Mine</h2><p>New one. And another.</p></section></main>'
    )
    added = changes((html, numbers), (longer, numbers))
    assert [(one.section, one.before, one.now) for one in added.sentences] == [
        ("Mine", "", "New one."),
        ("Mine", "", "And another."),
    ]
    gone = changes((longer, numbers), (html, numbers))
    assert [(one.before, one.now) for one in gone.sentences] == [("New one.", ""), ("And another.", "")]


def test_hostile_names_and_reports_of_earlier_releases_are_read(both):
    hostile = report(subject_of("x0", HOSTILE, n=200))
    found = changes(both[0], hostile)
    assert any("<b onmouseover" in name for name in found.only_now) and found.only_before
    older = {
        "format": "zerotilt-audit/1",
        "performance": {"a_metric_of_then": {"value": 1.0, "low": None, "high": None}},
    }
    found = changes(("<html><body><main><p>Old.</p></main></body></html>", older), both[0])
    assert found.only_before == ("performance / a metric of then",) and not found.same_table


@pytest.mark.parametrize("name", ["M. Tarn", "Dr. Tarn", "St. Abb", "e.g. Tarn", "No. 7"])
def test_a_name_is_not_cut_at_the_full_stop_within_it(name):
    page = "<section data-piece='x'><h2>T</h2><p>Asked by {}, who checked it. Nothing else.</p></section>"
    found = changes((page.format("Ana"), {}), (page.format(name), {}))
    assert [(one.before, one.now) for one in found.sentences] == [
        ("Asked by Ana, who checked it.", f"Asked by {name}, who checked it.")
    ]
