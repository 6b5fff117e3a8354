"""Hosts of programs, by the protocol of docs/program-host.md."""
