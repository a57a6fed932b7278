"""How long work is expected to take, learnt from what it took on this machine; and work that nobody looks at any more."""

SQL = """
alter table background_task add column expected double precision, add column unwatched boolean not null default false;
alter table background_task drop constraint background_task_state_check;
alter table background_task add constraint background_task_state_check
    check (state in ('queued', 'running', 'done', 'failed', 'cancelled', 'dropped'));
create table timing (
    work text not null,
    basis text not null,
    cells bigint not null,
    seconds double precision not null,
    learnt timestamptz not null default now(),
    primary key (work, basis)
);
create index timing_work on timing (work, cells);
"""
