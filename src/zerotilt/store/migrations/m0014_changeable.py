"""What could be another value in a case: nothing was said about it in any audit until now."""

SQL = """
insert into meaning_version (audit_id, part, number, body, author, reason, created)
select distinct audit_id, 'changeable', 1, '{"allowed": []}'::jsonb, '', '', now() from meaning_version;
update audit set spec = spec || '{"allowed": []}' where spec ? 'columns' and not spec ? 'allowed';
"""
