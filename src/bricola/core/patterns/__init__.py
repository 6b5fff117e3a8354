"""Patterns of XML Schema, matched in time that grows no faster than the text (W3C XML Schema Part 2, appendix F)."""
