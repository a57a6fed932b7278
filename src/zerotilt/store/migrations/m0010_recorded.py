"""What recorded decisions stand for and what scores run to: until now their own words, and 1."""

SQL = """
update meaning_version set body = '{"decision_means": {}, "score_top": 1.0}' || body
    where part = 'problem' and not body ? 'score_top';
update audit set spec = '{"decision_means": {}, "score_top": 1.0}' || spec
    where spec ? 'columns' and not spec ? 'score_top';
"""
