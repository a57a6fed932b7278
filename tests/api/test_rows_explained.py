"""Every row explained, through the API: kept as a file, read by the table of cases, taken away, gone with its audit."""

from __future__ import annotations

import io

import pyarrow.csv as pacsv
import pyarrow.parquet as pq
import pytest
from tests.api import talk

from zerotilt.store.holdings import files_named
from zerotilt.store.records import EvidenceRow


@pytest.fixture
def explained(client, audit, context):
    found = talk.read(client, audit["id"], "explained", context, {})
    return found, f"/api/audits/{audit['id']}/evidence/{found['key']}/attached/table"


def test_the_table_is_a_file_and_both_forms_hold_the_same(client, explained):
    found, at = explained
    parquet = pq.read_table(io.BytesIO(client.get(at).content))
    csv = pacsv.read_csv(io.BytesIO(client.get(at, params={"kind": "csv"}).content))
    assert parquet.column_names == csv.column_names == found["result"]["table"]["columns"]
    assert parquet.num_rows == csv.num_rows == found["rows"]
    for name in found["result"]["features"]:
        assert csv.column(name).to_pylist() == pytest.approx(parquet.column(name).to_pylist(), rel=1e-12)
    assert client.get(at.replace("table", "nothing")).status_code == 404
    assert client.get(at, params={"kind": "xlsx"}).status_code == 422


def test_cases_are_read_in_its_order_with_its_numbers(client, audit, context, explained):
    found, at = explained
    table = pq.read_table(io.BytesIO(client.get(at).content))
    settings = {"order": "contribution", "by": "missed_scans", "contributions": ["missed_scans"], "limit": 5}
    page = talk.read(client, audit["id"], "cases", context, settings)
    shown = [one["contributions"][0] for one in page["result"]["cases"]]
    assert shown == sorted(table.column("missed_scans").to_pylist())[:5]
    lowest = next(one for one in found["result"]["moved"] if one["feature"] == "missed_scans")
    assert page["result"]["cases"][0]["name"] == lowest["lowered_name"]


def test_the_order_is_computed_also_where_nothing_was_explained_before(client, audit, context):
    segment = {"name": "by app", "conditions": [{"column": "channel", "levels": ["app"]}]}
    settings = {"order": "contribution", "by": "ferry_legs", "contributions": ["ferry_legs"], "limit": 3}
    page = talk.read(client, audit["id"], "cases", context | {"segment": segment}, settings)
    shown = [one["contributions"][0] for one in page["result"]["cases"]]
    assert shown == sorted(shown) and len(shown) == 3


def test_the_file_is_known_to_what_checks_files(client, explained):
    row = EvidenceRow.get(EvidenceRow.key == explained[0]["key"])
    assert row.files == [explained[0]["result"]["table"]["digest"]]
    assert row.files[0] in files_named()


def test_what_is_no_file_of_this_result_is_not_served(client, audit, context):
    other = talk.read(client, audit["id"], "values", context, {"row": 5})
    assert client.get(f"/api/audits/{audit['id']}/evidence/{other['key']}/attached/values").status_code == 404
