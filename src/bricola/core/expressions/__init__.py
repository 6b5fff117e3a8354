"""The small safe language of conditions and maps.

Python's expression syntax, read with `ast`, held against a list of what is allowed, checked against the types of what it is about, and
compiled once into a Python function of its own text: `reading` makes the tree, `checking` and the tables of functions turn it into typed
terms, `compiling` into functions. A value is always one of `core/shapes/primitives`, a mapping for a record, or a list; absent is None.

What an expression may cost is bounded four times: its text and tree when it is read, the visits of its loops by a `Budget`, the size of
texts and numbers by guarded arithmetic (`arithmetic`), and time by whoever hands out the budget.
"""
