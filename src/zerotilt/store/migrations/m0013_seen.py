"""A decision about a finding knows what was seen when it was made, so that the finding can be measured again."""

SQL = """
alter table judgement add column seen jsonb;
"""
