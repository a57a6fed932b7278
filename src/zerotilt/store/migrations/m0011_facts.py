"""Findings have an owner, a date and a history; parts of one fact can be taken apart, and findings raised by hand."""

SQL = """
alter table judgement drop constraint judgement_decision_check;
update judgement set decision = 'accepted', reason = case reason when '' then 'No concern.' else reason end
    where decision = 'no concern';
update judgement set reason = 'No reason was given.' where decision = 'accepted' and reason = '';
alter table judgement add constraint judgement_decision_check
    check (decision in ('open', 'accepted', 'to mend', 'mended', 'watched'));
alter table judgement
    add column owner text not null default '',
    add column due date,
    add column version text not null default '',
    add column author text not null default '',
    add column number integer not null default 1;
create table remark (
    id uuid primary key,
    audit_id uuid not null references audit on delete cascade,
    finding text not null,
    changes jsonb not null default '{}',
    said text not null default '',
    author text not null default '',
    created timestamptz not null default now()
);
create index remark_finding on remark (audit_id, finding, created);
create table taken_apart (
    audit_id uuid not null references audit on delete cascade,
    finding text not null,
    author text not null default '',
    created timestamptz not null default now(),
    primary key (audit_id, finding)
);
create table raised (
    id uuid primary key,
    audit_id uuid not null references audit on delete cascade,
    statement text not null,
    evidence_key text not null references evidence,
    context jsonb not null,
    author text not null default '',
    created timestamptz not null default now()
);
"""
