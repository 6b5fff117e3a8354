"""Packages: definitions to hand over, with what they need and what may be filled in."""
