"""When an audit was opened last, whether it is archived, and when it was deleted, which can be undone for a while."""

SQL = """
alter table audit
    add column opened timestamptz,
    add column archived boolean not null default false,
    add column deleted timestamptz;
create index audit_deleted on audit (deleted) where deleted is not null;
"""
