"""What could be another value in a case: nothing was said about it in any audit until now."""

SQL = """
update audit set spec = spec || '{"allowed": []}' where spec ? 'columns' and not spec ? 'allowed';
insert into meaning_version (audit_id, part, number, body, author, reason, created)
select audit.id, 'changeable', 1, jsonb_build_object('allowed', audit.spec->'allowed'), '', '', now()
from audit
where audit.spec ? 'allowed' and exists (select 1 from meaning_version where meaning_version.audit_id = audit.id);
"""
