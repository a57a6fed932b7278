"""Whose a piece of evidence is: the audits that asked for it; and how a kept figure was looked at.

What was there belongs to the audits of its table and models.
"""

SQL = """
alter table kept add column view jsonb not null default '{}';
create table audit_evidence (
    audit_id uuid not null references audit (id) on delete cascade,
    evidence_key text not null references evidence (key) on delete cascade,
    primary key (audit_id, evidence_key)
);
create index on audit_evidence (evidence_key);
insert into audit_evidence (audit_id, evidence_key)
select audit_id, evidence_key from kept
union
select audit.id, evidence.key from audit, evidence
where exists (
    select 1 from table_file
    where table_file.audit_id = audit.id and table_file.digest = evidence.body->'digests'->>'table'
)
and (evidence.body->'digests'->>'model' is null or exists (
    select 1 from model_version
    where model_version.audit_id = audit.id and model_version.digest = evidence.body->'digests'->>'model'
))
and (evidence.body->'digests'->>'alongside' is null or exists (
    select 1 from model_version
    where model_version.audit_id = audit.id and model_version.digest = evidence.body->'digests'->>'alongside'
));
"""
