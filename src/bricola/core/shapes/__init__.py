"""Shapes: what callers see, resolved from definitions.

Everything that faces a caller (contract, decoder, encoder, sample, form, documentation) is made from a
`ServiceShape`, so that none of them can disagree with another.
"""
