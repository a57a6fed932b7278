"""Reports are composed: a document with all its versions, a look at it before it is written, three readers, signatures."""

SQL = """
create table report_draft (
    id uuid primary key,
    audit_id uuid not null references audit on delete cascade,
    number integer not null,
    body jsonb not null,
    author text not null default '',
    created timestamptz not null default now(),
    unique (audit_id, number)
);
create table report_preview (
    audit_id uuid not null references audit on delete cascade,
    reader text not null,
    made_of text not null,
    files jsonb not null,
    lacking jsonb not null default '[]',
    created timestamptz not null default now(),
    primary key (audit_id, reader)
);
alter table report
    add column files jsonb not null default '{}',
    add column manifest text,
    add column title text not null default '';
create table report_form (
    report_id uuid not null references report on delete cascade,
    name text not null,
    file text not null,
    primary key (report_id, name)
);
create table signature (
    id uuid primary key,
    report_id uuid not null references report on delete cascade,
    number integer not null,
    name text not null,
    role text not null,
    note text not null default '',
    before text not null default '',
    file text not null,
    created timestamptz not null,
    unique (report_id, number)
);
create function signature_is_never_altered() returns trigger language plpgsql as
$$ begin raise exception 'a signature is never altered'; end $$;
create trigger signature_frozen before update on signature for each row execute function signature_is_never_altered();
"""
