"""Client stacks that generate code from a contract, each as a function that builds one and calls an operation with it.

What they are given is a message, and what they give back its answer, as XML: it goes through the types that they made of the contract, both ways, so
that every value that a stack cannot hold is seen.
"""
