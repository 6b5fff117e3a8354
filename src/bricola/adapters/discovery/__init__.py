"""Asking databases what they hold: a module an engine, all with the same two functions.

`tables(session)` gives every table and view with its columns, keys and references; `count(session, name)` its rows.
"""
