"""Large arrays of results leave the database, come back exactly, and go when nothing needs them."""

from __future__ import annotations

import psycopg2
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.api import talk

from zerotilt.core.methods import METHODS
from zerotilt.store import shelf
from zerotilt.store.files import FileStore, Missing

NUMBERS = st.one_of(st.none(), st.floats(allow_nan=False), st.integers(-(2**60), 2**60), st.text(max_size=4))
RECORDS = st.lists(st.dictionaries(st.sampled_from("abc"), NUMBERS, max_size=3), max_size=6)


class Row:
    """An evidence row without a database."""

    def __init__(self, body, files):
        self.body, self.files = body, files


@given(RECORDS)
@settings(max_examples=80, deadline=None)
def test_what_is_written_as_arrow_comes_back_as_it_was(records):
    many = records * 3_000
    data = shelf._arrow(many)
    if data is None:  # kinds that one column cannot hold stay where they are
        return
    import pyarrow as pa

    assert pa.ipc.open_file(pa.BufferReader(data)).read_all().to_pylist() == many


def test_few_records_stay_and_so_do_values_of_several_kinds():
    assert shelf._arrow([{"a": 1.0}] * 10) is None
    assert shelf._arrow([{"a": 1.0}, {"a": "x"}] * 20_000) is None
    assert shelf._arrow([1.0] * 100_000) is None
    assert shelf._arrow([{"a": 1.5, "b": {"low": None, "high": 2.0}}] * 5_000) is not None


def test_a_missing_file_is_said_and_never_read_as_empty(tmp_path):
    row = Row({"result": {"groups": {shelf.MARK: "0" * 64}}}, ["0" * 64])
    with pytest.raises(Missing, match="is missing"):
        shelf.whole(row, FileStore(tmp_path))
    with pytest.raises(ValueError):  # nobody takes the mark for records
        METHODS["tilt"].result.model_validate(row.body["result"])


def test_the_tilt_of_an_audit_is_on_the_shelf_whole_in_every_answer_and_leaves_with_it(client, running, audit, context):
    found = talk.read(client, audit["id"], "tilt", context)
    with psycopg2.connect(**running.postgres.address) as connection, connection.cursor() as cursor:
        cursor.execute("select body->'result', files from evidence where key = %s", (found["key"],))
        slim, files = cursor.fetchone()
    connection.close()
    assert files and {shelf.MARK} == set(slim["disparities"]) and len(found["result"]["disparities"]) > 100
    assert all((running.home.files / digest[:2] / digest).exists() for digest in files)
    address = f"/api/audits/{audit['id']}/evidence/{found['key']}/arrays"
    assert len(client.get(f"{address}/disparities", params={"kind": "json"}).json()) == len(
        found["result"]["disparities"]
    )
    own = talk.new_audit(client, "Of its own")
    rows = 4_000
    import pyarrow as pa

    columns = {f"g{i}": [f"v{(row * (i + 3)) % 29}" for row in range(rows)] for i in range(6)}
    columns |= {"score": [(row * 37 % 1000) / 1000 for row in range(rows)], "y": [row % 3 == 0 for row in range(rows)]}
    table = pa.table(columns | {"y": ["yes" if one else "no" for one in columns["y"]]})
    assert talk.put_table(client, own, talk.csv_bytes(table))["state"] == "done"
    spec = client.get(f"/api/audits/{own}").json()["spec"]
    roles = dict.fromkeys((f"g{i}" for i in range(6)), "group") | {"score": "score", "y": "outcome"}
    talk.put_spec(client, own, talk.set_roles(spec, **roles) | {"event": "yes"})
    assert talk.wait(client, client.post(f"/api/audits/{own}/finish", json={}).json())["state"] == "done"
    read = talk.read(client, own, "tilt", {"rows": "all"})
    with psycopg2.connect(**running.postgres.address) as connection, connection.cursor() as cursor:
        cursor.execute("select files from evidence where key = %s", (read["key"],))
        (files,) = cursor.fetchone()
    connection.close()
    held = [running.home.files / digest[:2] / digest for digest in files]
    assert held and all(path.exists() for path in held)
    assert client.delete(f"/api/audits/{own}?for_good=true").status_code == 204
    assert not any(path.exists() for path in held)
