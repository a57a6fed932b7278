"""Where versions come from: the version before, what was noted of how one was made, and which was chosen, and why."""

SQL = """
alter table model_version add column parent_id uuid references model_version on delete set null
    deferrable initially deferred;
create table version_note (
    id uuid primary key,
    model_id uuid not null references model_version on delete cascade,
    kind text not null,
    text text not null,
    author text not null default '',
    created timestamptz not null default now()
);
create index on version_note (model_id);
create table version_choice (
    id uuid primary key,
    audit_id uuid not null references audit on delete cascade,
    model_id uuid references model_version on delete set null,
    name text not null,
    digest text not null,
    reason text not null,
    traded text not null default '',
    said jsonb not null default '[]',
    author text not null default '',
    created timestamptz not null default now()
);
create index on version_choice (audit_id);
"""
