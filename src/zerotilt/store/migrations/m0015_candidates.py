"""Models that were trained here: what made them, what they were worth by fold, and who looked at the rows put aside."""

SQL = """
create table candidate (
    id uuid primary key,
    audit_id uuid not null references audit on delete cascade,
    model_id uuid not null unique references model_version on delete cascade,
    table_digest text not null,
    meaning text not null,
    recipe jsonb not null,
    validated jsonb not null,
    test jsonb,
    seconds double precision not null,
    bytes bigint not null,
    created timestamptz not null default now()
);
create index on candidate (audit_id);
create table test_look (
    id uuid primary key,
    candidate_id uuid not null references candidate on delete cascade,
    author text not null default '',
    created timestamptz not null default now()
);
"""
