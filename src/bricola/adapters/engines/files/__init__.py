"""Folders of files."""
