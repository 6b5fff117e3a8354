"""Bricola publishes business objects as SOAP operations."""

__version__ = "0.1.0"
