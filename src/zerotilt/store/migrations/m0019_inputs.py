"""What an audit was given besides its table and models counts to the part of its state that the table is in."""

from zerotilt.store.migrations.m0017_state import SQL as STATE

BESIDE = """select concat('table_file', table_file.ctid, table_file.xmin) as it from table_file where {whose}"""
MORE = """
        union all select concat('input_file', input_file.ctid, input_file.xmin) as it from input_file where {whose}"""


def _functions() -> str:
    found = STATE[STATE.index("create function audit_state") :].replace("create function", "create or replace function")
    for whose in ("audit_id = wanted", "true"):
        found = found.replace(BESIDE.format(whose=whose), (BESIDE + MORE).format(whose=whose))
    return found


SQL = """
create table input_file (
    id uuid primary key,
    audit_id uuid not null references audit on delete cascade,
    input text not null,
    name text not null,
    digest text not null,
    bytes bigint not null,
    card jsonb not null,
    created timestamptz not null default now()
);
create index on input_file (audit_id);
""" + _functions()
