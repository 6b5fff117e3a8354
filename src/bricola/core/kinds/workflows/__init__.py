"""Workflows: steps that call, decide, repeat, map, catch, answer or fail.

`definition` is the text, `building` turns it into a `program` (checked, typed, with everything compiled that needs no pool), `running`
makes a handler of that when it is deployed.
"""
