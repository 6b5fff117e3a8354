"""Bricola publishes business objects, workflows, COBOL programs and legacy screens as SOAP operations."""

__version__ = "0.1.0"
