"""What people write: Markdown that stays text where it looks like markup, with numbers that are named and never typed."""

import re

import pytest
from tests.report.test_render import HOSTILE, rendered, subject_of

from zerotilt.core import words
from zerotilt.core.groups.metrics import label, metric_named
from zerotilt.report import prose
from zerotilt.report.numbers import Number, numbers

NUMBERS = {"a / b_c / *d*": Number("a / b_c / *d*", "12.3%", "10% to 14%; 30 rows", "k" * 64)}


def html(text: str) -> str:
    return str(prose.html(text, NUMBERS, lambda key: "E7"))


def test_a_number_stands_by_its_name_with_its_evidence():
    found = html("It is @{a / b_c / *d*} **now**.")
    assert '<span class="number" data-name="a / b_c / *d*" title="10% to 14%; 30 rows">12.3%</span>' in found
    assert '<a class="trace" href="#E7">[E7]</a> <strong>now</strong>.' in found
    assert prose.named("@{x} and @{ y }, not @z or @{}") == ["x", "y"]


def test_a_number_that_is_not_there_is_said_in_place():
    assert "no number is called “gone”" in html("@{gone}")
    assert prose.unknown("@{gone} @{a / b_c / *d*} @{gone}", NUMBERS) == ["gone"]


@pytest.mark.parametrize(
    "text",
    [
        "<script>alert(1)</script>",
        HOSTILE,
        "[x](javascript:alert(1))",
        "![x](http://elsewhere.example/p.png)",
        "<img src=x onerror=y>",
        "@{<script>}",
        "a ‮ b",
        "| a |\n|---|\n| <b>c</b> |",
        "```\n<script>\n```",
        "# <i>",
    ],
)
def test_what_looks_like_markup_is_text_and_nothing_is_fetched(text):
    found = html(text)
    for tag in re.findall(r"<(\w+)[^>]*>", found):
        assert tag in {
            "p",
            "h3",
            "table",
            "thead",
            "tbody",
            "tr",
            "th",
            "td",
            "pre",
            "code",
            "mark",
            "a",
            "strong",
            "em",
        }
    assert not re.search(r"<[^>]*(onerror|onmouseover|javascript:|src=)", found)


def test_headings_stand_below_those_of_the_report():
    assert html("# One\n\n#### Four") == "<h3>One</h3>\n<h6>Four</h6>\n"


def test_every_number_offered_is_the_one_in_the_evidence_as_the_report_prints_it():
    bundle, page = rendered(subject_of())
    found = numbers(bundle)
    performance = bundle.needed("performance").typed.sets[0]
    for metric, one in performance.metrics.items():
        if one.value is not None:
            own = found[f"performance / {performance.name} / {label(metric).lower()}"]
            shown = words.percent(one.value) if metric_named(metric).unit == "share" else words.decimal(one.value)
            assert own.text == shown and own.key == bundle.needed("performance").key
            assert f"<td>{shown}</td>" in page
    tilt = bundle.evidence_of("tilt").typed
    for one in tilt.disparities:
        if one.ratio.value is not None:
            name = f"{one.attribute} / {one.group} / {label(one.metric).lower()} / ratio"
            assert found[name].text == words.ratio(one.ratio.value)
    assert found["findings / all"].text == str(len(bundle.all_facts()))
    assert all(name == one.name and "{" not in name and "}" not in name for name, one in found.items())
    for name in found:
        assert prose.named(f"x @{{{name}}} y") == [name]
