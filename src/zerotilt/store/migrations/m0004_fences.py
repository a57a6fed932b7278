"""What keeps two writers apart: a version of the columns' meaning and of a note; and how many comparisons a report tested."""

SQL = """
alter table audit add column version integer not null default 0;
alter table kept add column noted integer not null default 0;
alter table report add column tested integer;
"""
