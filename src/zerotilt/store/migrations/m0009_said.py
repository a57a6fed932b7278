"""That somebody said which decision is favourable: so it was in every audit until now."""

SQL = """
update meaning_version set body = body || '{"favourable_said": true}'
    where part = 'problem' and not body ? 'favourable_said';
update audit set spec = spec || '{"favourable_said": true}' where spec ? 'columns' and not spec ? 'favourable_said';
"""
