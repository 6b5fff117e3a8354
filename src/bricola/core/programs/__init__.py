"""The protocol of program hosts (docs/program-host.md), without I/O."""
