"""The meaning of an audit in parts: each with versions of its own, who answers for them, why and when.

What was there is the first version of its part; versions of the flag policy are as they were. And evidence names the files
that hold its large arrays.
"""

SQL = """
create table meaning_version (
    id uuid primary key default gen_random_uuid(),
    audit_id uuid not null references audit on delete cascade,
    part text not null,
    number integer not null,
    body jsonb not null,
    answers jsonb,
    author text not null,
    reason text not null default '',
    created timestamptz not null default now(),
    unique (audit_id, part, number)
);
insert into meaning_version (audit_id, part, number, body, answers, author, reason, created)
select audit_id, 'policy', number, jsonb_build_object('policy', policy), answers, author, reason, created
from policy_version;
insert into meaning_version (audit_id, part, number, body, author, created)
select id, 'policy', coalesce((spec->'policy'->>'number')::integer, 1), jsonb_build_object('policy', spec->'policy'),
    '', created
from audit
where spec ? 'policy' and not exists (select 1 from policy_version where policy_version.audit_id = audit.id);
insert into meaning_version (audit_id, part, number, body, author, created)
select audit.id, 'schema', 1, jsonb_build_object('columns', jsonb_agg(one.value - 'expected' order by one.place)), '',
    audit.created
from audit cross join lateral jsonb_array_elements(audit.spec->'columns') with ordinality as one (value, place)
group by audit.id;
insert into meaning_version (audit_id, part, number, body, author, created)
select audit.id, 'expectations', 1, jsonb_build_object('expectations', coalesce(jsonb_object_agg(
    one.value->>'name', one.value->'expected') filter (where one.value->>'expected' is not null), '{}'::jsonb)), '',
    audit.created
from audit cross join lateral jsonb_array_elements(audit.spec->'columns') as one (value)
group by audit.id;
insert into meaning_version (audit_id, part, number, body, author, created)
select audit.id, parts.part, 1, held.body, '', audit.created
from audit
cross join (values
    ('comparisons', array['intersections', 'segments']),
    ('wording', array['wording']),
    ('problem', array['task', 'event', 'favourable', 'favourable_classes', 'favourable_end', 'threshold',
        'holdout_values', 'training_values', 'holdout_share', 'seed', 'model_inputs', 'model_event_class',
        'model_readings'])
) as parts (part, names)
cross join lateral (
    select coalesce(jsonb_object_agg(one.key, one.value), '{}'::jsonb) as body
    from jsonb_each(audit.spec) as one
    where one.key = any (parts.names)
) as held
where audit.spec ? 'columns';
drop table policy_version;
alter table audit drop column version;
alter table evidence add column files jsonb not null default '[]';
"""
