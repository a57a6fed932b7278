"""Evidence carries a seal by the house's secret: who changes its numbers in the database alone is noticed."""

SQL = "alter table evidence add column seal text;"
