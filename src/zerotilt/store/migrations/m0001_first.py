"""The first schema."""

SQL = """
create table audit (
    id uuid primary key,
    title text not null,
    created timestamptz not null default now(),
    demo boolean not null default false,
    spec jsonb,
    ready boolean not null default false
);
create table table_file (
    id uuid primary key,
    audit_id uuid not null references audit on delete cascade,
    name text not null,
    raw_digest text not null,
    digest text not null,
    bytes bigint not null,
    profile jsonb not null,
    created timestamptz not null default now()
);
create table model_version (
    id uuid primary key,
    audit_id uuid not null references audit on delete cascade,
    name text not null,
    digest text not null,
    card jsonb not null,
    created timestamptz not null default now()
);
create table evidence (
    key text primary key,
    method text not null,
    body jsonb not null,
    created timestamptz not null default now()
);
create table background_task (
    id uuid primary key,
    audit_id uuid references audit on delete cascade,
    kind text not null,
    title text not null,
    key text,
    payload jsonb not null,
    state text not null check (state in ('queued', 'running', 'done', 'failed', 'cancelled')),
    done bigint not null default 0,
    total bigint not null default 0,
    what text not null default '',
    seconds_left double precision,
    cancel boolean not null default false,
    attempts integer not null default 0,
    error jsonb,
    result jsonb,
    created timestamptz not null default now(),
    queued timestamptz not null default now(),
    started timestamptz,
    heartbeat timestamptz,
    finished timestamptz
);
create index task_audit on background_task (audit_id, created);
create unique index task_active on background_task (key) where state in ('queued', 'running');
create table kept (
    id uuid primary key,
    audit_id uuid not null references audit on delete cascade,
    evidence_key text not null references evidence,
    context jsonb not null,
    note text not null default '',
    removed boolean not null default false,
    created timestamptz not null default now()
);
create table report (
    id uuid primary key,
    audit_id uuid not null references audit on delete cascade,
    number integer not null,
    html_digest text not null,
    json_digest text not null,
    flagged integer not null,
    created timestamptz not null default now(),
    unique (audit_id, number)
);
create function report_is_never_altered() returns trigger language plpgsql as
$$ begin raise exception 'a report is never altered'; end $$;
create trigger report_frozen before update on report for each row execute function report_is_never_altered();
"""
