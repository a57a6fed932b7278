"""What people decided about findings. The findings themselves are read from the evidence."""

SQL = """
create table judgement (
    id uuid primary key,
    audit_id uuid not null references audit on delete cascade,
    finding text not null,
    decision text not null check (decision in ('open', 'accepted', 'to mend', 'no concern')),
    reason text not null default '',
    changed timestamptz not null default now(),
    unique (audit_id, finding)
);
"""
