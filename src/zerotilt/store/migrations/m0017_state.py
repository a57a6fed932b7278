"""What is told keeps its words: a kept figure knows the meaning that it was kept under, and what was found in a reading
stays until it is measured again; whether evidence gives rise to findings is known without looking into it.

``audit_state`` gives a tag of each part of an audit's state, made of the records themselves: of which there are, and of the
transaction that wrote each last (``xmin``). Whoever writes, by whatever way, changes it; nobody has to remember to. What
changes without meaning anything, as when an audit was opened, does not count.
"""

SQL = """
alter table kept add column spec jsonb;
create table found_before (
    audit_id uuid not null references audit on delete cascade,
    method text not null,
    frame text not null,
    evidence_key text not null,
    meant text not null,
    findings jsonb not null,
    primary key (audit_id, method, frame)
);
alter table audit_evidence add column finds boolean not null default false;
update audit_evidence set finds = true from evidence
where evidence.key = audit_evidence.evidence_key and evidence.method in ('tilt', 'pockets', 'expectations');
create index audit_evidence_finds on audit_evidence (audit_id) where finds;
create index on judgement (audit_id);
create index on raised (audit_id);
create index on kept (audit_id);
create index on table_file (audit_id);
create index on model_version (audit_id);
create index on meaning_version (audit_id);
create index on decision_rule (model_id);
create function audit_state(wanted uuid) returns jsonb stable language plpgsql as
$$ begin
return jsonb_build_object(
    'meaning', (select md5(string_agg(it, ',' order by it)) from (
        select concat('meaning_version', meaning_version.ctid, meaning_version.xmin) as it from meaning_version where audit_id = wanted
    ) as rows),
    'table', (select md5(string_agg(it, ',' order by it)) from (
        select concat('table_file', table_file.ctid, table_file.xmin) as it from table_file where audit_id = wanted
    ) as rows),
    'versions', (select md5(string_agg(it, ',' order by it)) from (
        select concat('model_version', model_version.ctid, model_version.xmin) as it from model_version where audit_id = wanted
        union all select concat('version_note', version_note.ctid, version_note.xmin) as it from version_note where model_id in (select id from model_version where audit_id = wanted)
        union all select concat('version_choice', version_choice.ctid, version_choice.xmin) as it from version_choice where audit_id = wanted
        union all select concat('candidate', candidate.ctid, candidate.xmin) as it from candidate where audit_id = wanted
        union all select concat('test_look', test_look.ctid, test_look.xmin) as it from test_look where candidate_id in (select id from candidate where audit_id = wanted)
    ) as rows),
    'rules', (select md5(string_agg(it, ',' order by it)) from (
        select concat('decision_rule', decision_rule.ctid, decision_rule.xmin) as it from decision_rule where model_id in (select id from model_version where audit_id = wanted)
    ) as rows),
    'decisions', (select md5(string_agg(it, ',' order by it)) from (
        select concat('judgement', judgement.ctid, judgement.xmin) as it from judgement where audit_id = wanted
        union all select concat('remark', remark.ctid, remark.xmin) as it from remark where audit_id = wanted
        union all select concat('taken_apart', taken_apart.ctid, taken_apart.xmin) as it from taken_apart where audit_id = wanted
        union all select concat('raised', raised.ctid, raised.xmin) as it from raised where audit_id = wanted
    ) as rows),
    'dossier', (select md5(string_agg(it, ',' order by it)) from (
        select concat('kept', kept.ctid, kept.xmin) as it from kept where audit_id = wanted
    ) as rows),
    'draft', (select md5(string_agg(it, ',' order by it)) from (
        select concat('report_draft', report_draft.ctid, report_draft.xmin) as it from report_draft where audit_id = wanted
    ) as rows),
    'reports', (select md5(string_agg(it, ',' order by it)) from (
        select concat('report', report.ctid, report.xmin) as it from report where audit_id = wanted
        union all select concat('signature', signature.ctid, signature.xmin) as it from signature where report_id in (select id from report where audit_id = wanted)
        union all select concat('report_form', report_form.ctid, report_form.xmin) as it from report_form where report_id in (select id from report where audit_id = wanted)
    ) as rows),
    'audit', (select md5(string_agg(it, ',' order by it)) from (
        select concat(title, archived, ready, deleted, spec is null) as it from audit where id = wanted
    ) as rows),
    'checked', (select md5(string_agg(it, ',' order by it)) from (
        select max(finished)::text as it from background_task where audit_id = wanted and kind = 'check' and state = 'done'
    ) as rows),
    'found', (select md5(string_agg(it, ',' order by it)) from (
        select count(*)::text as it from audit_evidence where audit_id = wanted and finds
    ) as rows)
);
end $$;
create function audits_state() returns jsonb stable language plpgsql as
$$ begin
return jsonb_build_object(
    'meaning', (select md5(string_agg(it, ',' order by it)) from (
        select concat('meaning_version', meaning_version.ctid, meaning_version.xmin) as it from meaning_version where true
    ) as rows),
    'table', (select md5(string_agg(it, ',' order by it)) from (
        select concat('table_file', table_file.ctid, table_file.xmin) as it from table_file where true
    ) as rows),
    'versions', (select md5(string_agg(it, ',' order by it)) from (
        select concat('model_version', model_version.ctid, model_version.xmin) as it from model_version where true
        union all select concat('version_note', version_note.ctid, version_note.xmin) as it from version_note where model_id in (select id from model_version where true)
        union all select concat('version_choice', version_choice.ctid, version_choice.xmin) as it from version_choice where true
        union all select concat('candidate', candidate.ctid, candidate.xmin) as it from candidate where true
        union all select concat('test_look', test_look.ctid, test_look.xmin) as it from test_look where candidate_id in (select id from candidate where true)
    ) as rows),
    'rules', (select md5(string_agg(it, ',' order by it)) from (
        select concat('decision_rule', decision_rule.ctid, decision_rule.xmin) as it from decision_rule where model_id in (select id from model_version where true)
    ) as rows),
    'decisions', (select md5(string_agg(it, ',' order by it)) from (
        select concat('judgement', judgement.ctid, judgement.xmin) as it from judgement where true
        union all select concat('remark', remark.ctid, remark.xmin) as it from remark where true
        union all select concat('taken_apart', taken_apart.ctid, taken_apart.xmin) as it from taken_apart where true
        union all select concat('raised', raised.ctid, raised.xmin) as it from raised where true
    ) as rows),
    'dossier', (select md5(string_agg(it, ',' order by it)) from (
        select concat('kept', kept.ctid, kept.xmin) as it from kept where true
    ) as rows),
    'draft', (select md5(string_agg(it, ',' order by it)) from (
        select concat('report_draft', report_draft.ctid, report_draft.xmin) as it from report_draft where true
    ) as rows),
    'reports', (select md5(string_agg(it, ',' order by it)) from (
        select concat('report', report.ctid, report.xmin) as it from report where true
        union all select concat('signature', signature.ctid, signature.xmin) as it from signature where report_id in (select id from report where true)
        union all select concat('report_form', report_form.ctid, report_form.xmin) as it from report_form where report_id in (select id from report where true)
    ) as rows),
    'audit', (select md5(string_agg(it, ',' order by it)) from (
        select concat(title, archived, ready, deleted, spec is null) as it from audit where true
    ) as rows),
    'checked', (select md5(string_agg(it, ',' order by it)) from (
        select max(finished)::text as it from background_task where true and kind = 'check' and state = 'done'
    ) as rows),
    'found', (select md5(string_agg(it, ',' order by it)) from (
        select count(*)::text as it from audit_evidence where true and finds
    ) as rows)
);
end $$;
"""
