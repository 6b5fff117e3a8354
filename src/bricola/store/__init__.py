"""Bricola's own records in SQLite, in plain SQL: numbered migrations, one module per subject.

`bricola.db` holds definitions, releases, deployments and people, and is durable; `calls.db` holds call records,
and losing it never hurts the first.
"""
