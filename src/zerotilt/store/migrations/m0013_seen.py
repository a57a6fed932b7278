"""A decision about a finding knows what was seen when it was made, so that the finding can be measured again; a signature
goes with its report alone."""

SQL = """
alter table judgement add column seen jsonb;
create function signature_is_never_removed() returns trigger language plpgsql as
$$ begin
    if exists (select 1 from report where id = old.report_id) then
        raise exception 'a signature is never removed';
    end if;
    return old;
end $$;
create trigger signature_kept before delete on signature for each row execute function signature_is_never_removed();
"""
