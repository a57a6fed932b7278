"""Choices that someone answers for: versions of the flag policy, and decision rules of model versions."""

SQL = """
create table policy_version (
    id uuid primary key,
    audit_id uuid not null references audit on delete cascade,
    number integer not null,
    policy jsonb not null,
    answers jsonb,
    author text not null,
    reason text not null default '',
    created timestamptz not null default now(),
    unique (audit_id, number)
);
create table decision_rule (
    id uuid primary key,
    model_id uuid not null references model_version on delete cascade,
    number integer not null,
    rule jsonb,
    author text not null,
    reason text not null default '',
    created timestamptz not null default now(),
    unique (model_id, number)
);
"""
